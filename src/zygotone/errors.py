"""The exceptions a caller can cause and act on; anything else is a bug and is let through."""

from __future__ import annotations


class ZygotoneError(Exception):
    """Base of every error that Zygotone raises on purpose. Its text is one line for a person."""


class ParameterError(ZygotoneError, ValueError):
    """A caller's value broke a documented rule."""


class BadFileError(ZygotoneError):
    """A file cannot be used. Says which file, the place in it, and the reason."""

    def __init__(self, file: object, place: str, reason: str) -> None:
        self.file, self.place, self.reason = str(file), place, reason
        super().__init__(f"{file}: {place}: {reason}" if place else f"{file}: {reason}")


class LoopError(ZygotoneError):
    """Tracks feed each other in a circle."""


def one_line(error: Exception) -> str:
    """An error as one line for a person. Of a failed model check only the first complaint is told."""
    if hasattr(error, "errors"):  # pydantic's ValidationError, by its shape: this module stands below every library
        first = error.errors()[0]
        place = ".".join(str(part) for part in first["loc"])
        reason = first["msg"].removeprefix("Value error, ")
        return f"{place}: {reason}" if place else str(reason)
    return " ".join(str(error).split())
