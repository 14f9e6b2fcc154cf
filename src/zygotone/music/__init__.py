"""Tempo, note values, pitch, keys and intervals: pure functions, no audio."""
