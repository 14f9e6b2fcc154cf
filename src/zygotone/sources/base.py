"""What a sound source is: a kind, declared in the catalogue, and a function that renders one note."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from zygotone.dsp.types import Stereo
from zygotone.session.catalogue import SOURCES, Kind
from zygotone.session.params import Values


@dataclass(frozen=True, slots=True)
class NoteRequest:
    """One note to render: its pitch in Hz, velocity 0 to 1, length in frames, and the sample rate."""

    pitch_hz: float
    velocity: float
    frames: int
    rate_hz: int


RenderNote = Callable[[Values, NoteRequest], Stereo]


@dataclass(frozen=True, slots=True)
class SourceKind:
    render: RenderNote
    one_shot: bool  # rings as long as it rings, however short the note


_KINDS: dict[str, SourceKind] = {}


def source(kind: Kind, *, one_shot: bool = False) -> Callable[[RenderNote], RenderNote]:
    """Enters a rendering function under its kind. The result is stereo, shape (2, frames)."""
    SOURCES.enter(kind)

    def enter(render: RenderNote) -> RenderNote:
        _KINDS[kind.kind] = SourceKind(render, one_shot)
        return render

    return enter


def source_kind(kind: str) -> SourceKind:
    return _KINDS[kind]
