"""What is remembered of chests, libraries and computers, and what a person means by a name."""
