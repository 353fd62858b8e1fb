"""What a library refers to: a small reader an open format, and one place that says where each reference leads."""
