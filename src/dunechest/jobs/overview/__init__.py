"""What is safe, what to do next, how it grew, and what is where."""
