"""What a library refers to, and where each reference leads."""
