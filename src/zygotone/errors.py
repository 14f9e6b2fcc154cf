"""The exceptions a caller can cause and act on; anything else is a bug and is let through."""

from __future__ import annotations

_LONGEST = 300  # characters of a refusal, whatever is in the file


def printable(text: str, most: int) -> str:
    """A text from outside as one line without control characters, and no longer than that."""
    clean = "".join(c if c.isprintable() else "�" for c in text)
    return clean if len(clean) <= most else f"{clean[: most - 1]}…"


class ZygotoneError(Exception):
    """Base of every error that Zygotone raises on purpose. Its text is one line for a person."""


class ParameterError(ZygotoneError, ValueError):
    """A caller's value broke a documented rule."""


class BadFileError(ZygotoneError):
    """A file cannot be used. Says which file, the place in it, and the reason."""

    def __init__(self, file: object, place: str, reason: str) -> None:
        self.file, self.place, self.reason = str(file), printable(place, 60), printable(reason, 200)
        where = printable(str(file), 1000)
        text = f"{where}: {self.place}: {self.reason}" if place else f"{where}: {self.reason}"
        super().__init__(text if len(text) <= _LONGEST else f"…{text[-_LONGEST + 1 :]}")


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
