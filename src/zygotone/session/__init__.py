"""The session as a value: models, edits, history, trials, files."""
