"""What leaves the bench: rendered files, and trials reported."""
