"""What a sound source is: a kind, declared in the catalogue, and a function that renders one note.

Conventions
-----------
A note is rendered as a whole, from its own first frame. What moves within it (pitch, and parameters that routes or
automation move) is given at the boundaries of the control grid's cells, shape (cells + 1,), with cells enough for all
frames.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

import numpy as np

from zygotone.dsp.types import GRID_FRAMES, FloatArray, Stereo
from zygotone.errors import ParameterError
from zygotone.session.catalogue import SOURCES, Kind
from zygotone.session.params import Values

C4_HZ = 261.6255653005986


def _no_audio(name: str) -> Stereo:
    raise ParameterError(f"there is no clip {name!r} here")


ReadClip = Callable[[str], Stereo]


def cells_of(frames: int) -> int:
    return max(1, math.ceil(frames / GRID_FRAMES))


@dataclass(frozen=True, slots=True)
class NoteRequest:
    """One note to render: pitch in Hz on the grid, velocity 0 to 1, length in frames, and the sample rate.

    ``gate`` is how many of the frames the key is down. ``moving`` holds parameters that move, by path
    (``position``, ``operators.0.level``). ``number`` counts the layer's notes, for what alternates or is drawn by lot; ``seed`` is
    another for each layer, so that two layers of noise have nothing in common.
    """

    hz: FloatArray
    frames: int
    velocity: float
    rate_hz: int
    gate: int
    number: int = 0
    moving: Mapping[str, FloatArray] = field(default_factory=dict)
    clip: ReadClip = _no_audio
    seed: int = 0

    @property
    def cells(self) -> int:
        return cells_of(self.frames)

    @property
    def highest_hz(self) -> float:
        return float(np.max(self.hz))

    @property
    def first_hz(self) -> float:
        return float(self.hz[0])

    @property
    def steps(self) -> FloatArray:
        """Cycles a frame, on the grid."""
        return np.asarray(self.hz / self.rate_hz)

    def grid(self, path: str, value: float) -> FloatArray:
        """A parameter over the note, on the grid: ``value`` where nothing moves it."""
        found = self.moving.get(path)
        return np.full(self.cells + 1, float(value)) if found is None else found[: self.cells + 1]

    def moves(self, path: str) -> bool:
        return path in self.moving

    def by_frame(self, values: FloatArray) -> FloatArray:
        """What is given on the grid, (cells + 1,), for each frame of the note."""
        return np.asarray(np.interp(np.arange(self.frames) / GRID_FRAMES, np.arange(len(values)), values))

    def gain(self, path: str, level_db: float, *, off_db: float) -> FloatArray | float:
        """The gain of a level in dB for each frame where something moves it, else of the whole note; at ``off_db`` none."""
        found = self.moving.get(path)
        line: FloatArray = np.array([level_db]) if found is None else self.by_frame(found)
        gains = np.where(line > off_db, 10.0 ** (line / 20.0), 0.0)
        return float(gains[0]) if found is None else gains


def steady_note(pitch_hz: float, frames: int, rate_hz: int, *, velocity: float = 0.8) -> NoteRequest:
    """A note whose pitch stands still, held to its end; for pictures and tests."""
    return NoteRequest(np.full(cells_of(frames) + 1, pitch_hz), frames, velocity, rate_hz, frames)


RenderNote = Callable[[Values, NoteRequest], Stereo]


@dataclass(frozen=True, slots=True)
class SourceKind:
    """``ring_s``, of a source that rings as long as it rings, however short the note: for how long, from its parameters,
    the pitch in Hz, and the clips; 0 where the note decides. ``varies`` says whether two equal notes may differ, and
    ``variants`` after how many of them the first comes again (0: never)."""

    render: RenderNote
    ring_s: Callable[[Values, float, ReadClip, int], float] | None
    varies: Callable[[Values], bool]
    variants: int = 0


_KINDS: dict[str, SourceKind] = {}


def source(
    kind: Kind,
    *,
    ring_s: Callable[[Values, float, ReadClip, int], float] | None = None,
    varies: Callable[[Values], bool] = lambda params: False,
    variants: int = 0,
) -> Callable[[RenderNote], RenderNote]:
    """Enters a rendering function under its kind. The result has shape (1, frames), where both sides are alike, or
    (2, frames)."""
    SOURCES.enter(kind)

    def enter(render: RenderNote) -> RenderNote:
        _KINDS[kind.kind] = SourceKind(render, ring_s, varies, variants)
        return render

    return enter


def source_kind(kind: str) -> SourceKind:
    return _KINDS[kind]
