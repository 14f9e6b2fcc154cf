"""The application: the only package that knows Qt."""
