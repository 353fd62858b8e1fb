"""One package a verb. A job that changes anything makes a plan first; carrying it out decides nothing."""
