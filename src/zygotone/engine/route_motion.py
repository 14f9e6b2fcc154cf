"""Routes of a layer to devices of its chain, at work: what they add to a parameter over the song.

A device of the chain hears all voices of the layer at once, so a route goes by the note that began last, of a chord by its highest:
its envelopes, LFOs, velocity and key, on beyond its end, until the next one begins.
"""

from __future__ import annotations

import functools
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from zygotone.dsp.types import GRID_FRAMES, FloatArray
from zygotone.engine.nodes import Motion
from zygotone.session.automation import shifted
from zygotone.session.instruments import InstrumentSource, Layer, Route
from zygotone.session.models import Song, Track
from zygotone.session.value import digest_of
from zygotone.sources.instrument import felt_velocity, notes_in_frames, zone_gain
from zygotone.sources.modulation import Motions, Played
from zygotone.sources.voices import SongNote

_NOTES_KEPT = 16  # whose course is kept, once worked out
_LONGEST_S = 60.0  # for which the course of one note is followed; then it stays where it is


@dataclass(frozen=True, slots=True, eq=False)
class RouteMotion(Motion):
    """A route of a layer to a device of its chain, and all that says how it moves."""

    route: Route
    layer: Layer
    track: Track
    song: Song
    rate_hz: int
    played: str  # digest of what the layer plays

    @property
    def digest(self) -> str:
        return digest_of("route", self.route.digest, self.played)

    @property
    def rank(self) -> int:
        return 2

    def onto(self, values: FloatArray, beats: FloatArray) -> FloatArray:
        """With what it adds: octaves where the parameter lies on a ratio scale, else in its unit."""
        return shifted(self.param, values, _course(_Keyed(self))(beats))


class _Keyed:
    """A motion that is equal to another by its digest."""

    def __init__(self, motion: RouteMotion) -> None:
        self.motion = motion

    def __hash__(self) -> int:
        return hash(self.motion.digest)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Keyed) and other.motion.digest == self.motion.digest


@functools.lru_cache(maxsize=64)
def _course(keyed: _Keyed) -> Callable[[FloatArray], FloatArray]:
    motion = keyed.motion
    track, layer, rate = motion.track, motion.layer, motion.rate_hz
    source = track.source
    assert isinstance(source, InstrumentSource)
    nudge = round(track.nudge_ms * 1e-3 * rate)
    heard = [n for n in notes_in_frames(source, track.parts, motion.song, rate) if zone_gain(layer, n.note) > 0.0]
    last: dict[int, SongNote] = {}
    for note in sorted(heard, key=lambda n: (n.start, n.note.pitch)):
        last[note.start + nudge] = note
    starts = np.array(sorted(last), dtype=np.int64)
    bpm = motion.song.tempo_bpm

    @functools.lru_cache(maxsize=_NOTES_KEPT)
    def of_note(at: int) -> FloatArray:
        """What it adds at each boundary of the control grid from a note's start on."""
        begin = int(starts[at])
        end = int(starts[at + 1]) if at + 1 < len(starts) else begin + round(_LONGEST_S * rate)
        note = last[begin]
        velocity = felt_velocity(layer, note.note.velocity)
        played = Played(
            begin / rate, note.end - note.start, min(end - begin, round(_LONGEST_S * rate)), velocity, float(note.note.pitch),
            note.note.macros, note.note.wheel, at,
        )  # fmt: skip
        motions = Motions(layer, source.lfos, played, rate_hz=rate, bpm=bpm, automation={})
        by = motion.route.amount * motions.source(motion.route.source)
        return by if motion.route.scaled_by is None else by * motions.source(motion.route.scaled_by)

    def values(beats: FloatArray) -> FloatArray:
        out = np.zeros(len(beats))
        if not len(starts):
            return out
        frames = beats * (60.0 * rate / bpm)
        # Before the first note it stands where that begins.
        which = np.maximum(np.searchsorted(starts, frames + 0.5, side="right") - 1, 0)
        for at in np.unique(which):
            mine = which == at
            line = of_note(int(at))
            cell = np.clip((frames[mine] - starts[at]) / GRID_FRAMES, 0.0, len(line) - 1.0)
            low = np.minimum(cell.astype(np.int64), max(0, len(line) - 2))
            out[mine] = line[low] + (cell - low) * (line[np.minimum(low + 1, len(line) - 1)] - line[low])
        return out

    return values
