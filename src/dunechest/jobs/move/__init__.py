"""Libraries go to drives and back, and originals go."""
