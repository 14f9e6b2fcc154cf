"""Sounds that ship with the application, each with a line on how it works."""

from zygotone.factory.sounds import factory_sounds

__all__ = ["factory_sounds"]
