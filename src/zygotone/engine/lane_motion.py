"""Automation lanes at work."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from zygotone.dsp.types import FloatArray
from zygotone.engine.motion import by_path, moved
from zygotone.engine.nodes import Motion
from zygotone.session.automation import Lane, lane_values, offset_param, shifted
from zygotone.session.instruments import Layer, layer_value
from zygotone.session.value import digest_of
from zygotone.sources.modulation import Automation


@dataclass(frozen=True, slots=True, eq=False)
class LaneMotion(Motion):
    """A lane, and the beats of the song in which it plays. The last of several has its way; what relative ones add comes on top."""

    lane: Lane
    start_beat: float
    end_beat: float

    @property
    def digest(self) -> str:
        return digest_of(self.path, self.lane.digest, self.start_beat, self.end_beat)

    @property
    def rank(self) -> int:
        return 1 if self.lane.relative else 0

    def onto(self, values: FloatArray, beats: FloatArray) -> FloatArray:
        playing = (beats >= self.start_beat) & (beats < self.end_beat)
        if not playing.any():
            return values
        out, at = values.copy(), beats[playing] - self.start_beat
        if self.lane.relative:
            out[playing] = shifted(self.param, out[playing], lane_values(self.lane, offset_param(self.param), at))
        else:
            out[playing] = lane_values(self.lane, self.param, at)
        return out


def layer_automation(layer: Layer, motions: Sequence[Motion], *, bpm: float) -> Automation:
    """What lanes move on a layer: by path, its values at beats of the song (n,)."""

    def follow(path: str, mine: Sequence[Motion]) -> Callable[[FloatArray], FloatArray]:
        return lambda beats: moved(mine, layer_value(layer, path, bpm=bpm), beats)

    return {path: follow(path, mine) for path, mine in by_path(motions).items()}
