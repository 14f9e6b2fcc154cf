"""The base of all models of a session."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from typing import Annotated, Any, ClassVar, Self

from pydantic import BaseModel, ConfigDict, Field

Name = Annotated[str, Field(min_length=1, max_length=120)]
Id = Annotated[str, Field(min_length=1, max_length=80, pattern=r"^[\w.-]+$")]


def digest_of(*parts: object) -> str:
    """A short digest of texts and numbers, in their order: 32 characters of BLAKE2b."""
    return hashlib.blake2b("\x1f".join(map(str, parts)).encode(), digest_size=16).hexdigest()


class Value(BaseModel):
    """Base of all models: frozen, nothing unknown, no NaN.

    A value works out its digest once and keeps it, and remembers that it was found sound. What ``replace`` makes keeps
    neither, but its parts do: so an edit costs what it changed, not what it left alone.
    """

    __slots__ = ("_digest", "_sound")

    # Of a small value that is held by the thousand, as a note is: its text is made anew rather than kept for each.
    by_the_thousand: ClassVar[bool] = False

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True, allow_inf_nan=False)

    def replace(self, **changes: Any) -> Self:
        """A copy with other fields, unchecked; ``ensure_sound`` checks it at the door."""
        return self.model_copy(update=changes)

    @property
    def digest(self) -> str:
        """Equal for equal values of one class, whatever file they are from."""
        try:
            kept: str = object.__getattribute__(self, "_digest")
            return kept
        except AttributeError:
            made = digest_of(type(self).__name__, *(f"{name}={as_text(held)}" for name, held in self.__dict__.items()))
            object.__setattr__(self, "_digest", made)
            return made

    def __eq__(self, other: object) -> bool:
        if self is other:
            return True
        if type(self) is not type(other) or self.by_the_thousand:
            return super().__eq__(other)
        return isinstance(other, Value) and self.digest == other.digest

    def __hash__(self) -> int:
        return hash(tuple(self.__dict__.values())) if self.by_the_thousand else hash(self.digest)

    @property
    def is_sound(self) -> bool:
        """Whether it was found so, with all its parts."""
        return getattr(self, "_sound", False)

    def verify(self) -> None:
        """Checks the fields of this value, its parts taken as sound.

        Raises
        ------
        pydantic.ValidationError, ParameterError : something is not as declared.
        """
        type(self).model_validate(self.__dict__)

    def held_values(self) -> Iterable[Value]:
        """The values that this one is made of."""
        for held in self.__dict__.values():
            if isinstance(held, Value):
                yield held
            elif isinstance(held, tuple):
                yield from (each for each in held if isinstance(each, Value))


def as_text(held: object) -> str:
    """Of a field: what goes into the digest of the value that holds it."""
    if isinstance(held, Value):
        return repr(held.__dict__) if held.by_the_thousand else held.digest
    if isinstance(held, tuple):
        return f"({','.join(map(as_text, held))})"
    kept: str | None = getattr(held, "digest", None)  # of parameter values
    return kept if kept is not None else repr(held)


def ensure_sound(value: Value) -> None:
    """Checks a value and all its parts as a file would be checked; what was found sound before is not asked again.

    Raises
    ------
    pydantic.ValidationError, ParameterError : something is not as declared.
    """
    if value.is_sound:
        return
    for part in value.held_values():
        ensure_sound(part)
    value.verify()
    object.__setattr__(value, "_sound", True)


def read_as_sound(value: Value) -> None:
    """Marks a value that a file was just checked into, with all its parts."""
    if value.is_sound:
        return
    for part in value.held_values():
        if not part.by_the_thousand:
            read_as_sound(part)
    object.__setattr__(value, "_sound", True)
