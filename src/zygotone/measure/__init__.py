"""Measuring: audio in, numbers out. Nothing here knows a session."""
