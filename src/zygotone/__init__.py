"""Zygotone: a bench where kick, bass, guitars and leads are made to sit together."""

__version__ = "0.1.0"
