"""The stages, in the order people work."""
