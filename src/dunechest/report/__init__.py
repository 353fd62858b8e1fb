"""Results in words and figures, from results alone."""
