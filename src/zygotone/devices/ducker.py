"""Gives way along a curve drawn by hand, on every hit of another track or on the beat."""

from __future__ import annotations

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.dynamics import apply_gain_db, duck_curve
from zygotone.dsp.levels import smoothing
from zygotone.dsp.onsets import Onsets
from zygotone.dsp.types import FloatArray, IntArray, Stereo
from zygotone.music.tempo import note_value_to_seconds
from zygotone.session.catalogue import Entries, Kind, like_the_shown
from zygotone.session.params import Param, Values, choice, level, note_time, number, share

POINT = (
    share("at", "Point at", 0.0, "Where on the curve, 0 its start, 1 its end."),
    share("depth", "Point depth", 1.0, "How far down there: 0 not at all, 1 the whole depth."),
)
USUAL_POINTS = tuple(
    Values({"at": at, "depth": depth}) for at, depth in ((0.0, 1.0), (0.25, 0.85), (0.6, 0.3), (1.0, 0.0))
)

KIND = Kind(
    kind="ducker",
    purpose="dynamics",
    picture="duck",
    entries=Entries(new=like_the_shown),
    title="Ducker",
    summary="Turns down along a drawn curve, on each hit of the key or on each step of the tempo.",
    takes_key=True,
    params=(
        choice("trigger", "Trigger", ("key", "grid"), "key", "What sets it off: hits of the key, or the tempo.", ("hits of the key", "the tempo")),
        note_time("step", "Step", "ms", 20.0, 10000.0, "1/4", "With the tempo: how often, counted from the start of the song.", fixed=True),
        level("depth_db", "Depth", -60.0, 0.0, -9.0, "How far down a curve of depth 1 goes."),
        number("length_ms", "Length", "ms", 10.0, 4000.0, 260.0, "How long the whole curve takes.", scale="log"),
        Param(name="points", label="Curve", type="list", items=POINT, max_items=64, default=USUAL_POINTS, help="The curve, drawn as points joined by straight lines."),
    ),
)  # fmt: skip

_SETTLE_S = 0.0007  # takes the click out of a curve that begins at once


def curve_of(params: Values, at: FloatArray) -> FloatArray:
    """Depth 0 to 1 of the drawn curve at times 0 to 1."""
    points = sorted(params["points"], key=lambda p: p["at"])
    if not points:
        return np.zeros(len(at))
    return np.asarray(np.interp(at, [p["at"] for p in points], [p["depth"] for p in points]))


@device(KIND)
class Ducker(Processor):
    remembers = ("_duck_state",)

    def __init__(self, params: Values, host: Host) -> None:
        rate = host.rate_hz
        self._params = params
        frames = max(2, round(params["length_ms"] * 1e-3 * rate))
        table = curve_of(params, np.linspace(0.0, 1.0, frames)) * params["depth_db"]
        self._curve = np.ascontiguousarray(np.concatenate([table, [0.0]]))
        self._settle = smoothing(_SETTLE_S, sample_rate_hz=rate)
        step = params["step"]
        self._step = (note_value_to_seconds(step, bpm=host.bpm) if isinstance(step, str) else step * 1e-3) * rate
        self._rate = rate
        self._onsets = Onsets(rate)
        # Frames since the last hit, beyond the curve at first; gain now.
        self._duck_state = np.array([1e9, 0.0])

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        n = x.shape[1]
        if self._params["trigger"] == "grid":
            marks = self._beats(n)
        else:
            marks = self._onsets.process(x if key is None else key)
        gain_db = np.empty(n)
        duck_curve(marks, self._curve, self._settle, self._duck_state, gain_db)
        self.gain_db = gain_db
        y = np.empty_like(x)
        apply_gain_db(x, gain_db, y)
        return y

    def _beats(self, n: int) -> IntArray:
        """1 at each frame on which a step of the tempo begins."""
        marks = np.zeros(n, dtype=np.int64)
        first = int(np.ceil(max(0, self.position) / self._step - 1e-9))
        while (at := round(first * self._step)) < self.position + n:
            if at >= self.position:
                marks[at - self.position] = 1
            first += 1
        return marks
