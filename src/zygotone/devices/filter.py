"""A filter that moves: by its own LFO, by the level of the signal, by automation."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.dynamics import Level
from zygotone.dsp.levels import gain_to_db, smoothing
from zygotone.dsp.lfo import SHAPE_LABELS, SHAPES, lfo_curve
from zygotone.dsp.memory import Memory
from zygotone.dsp.oversampling import Oversampler, latency_frames
from zygotone.dsp.sides import Sides
from zygotone.dsp.sweeping import (
    MODELS,
    MODES,
    SEED,
    cutoff_gains,
    follow,
    ladder_feedback,
    ladder_taps,
    singing,
    svf_damping,
    sweep_ladder,
    sweep_svf,
    tangent,
)
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, choice, frequency, level, note_time, number, share

KIND = Kind(
    kind="filter",
    purpose="tone",
    picture="response",
    title="Filter",
    summary="Low-pass, high-pass, band-pass or notch whose cutoff may move as fast as you like.",
    params=(
        choice("mode", "Mode", MODES, "lowpass", "What passes.", ("low-pass", "high-pass", "band-pass", "notch")),
        choice("model", "Model", MODELS, "svf", "State-variable, 12 dB per octave, or ladder, 24.", ("state-variable", "ladder")),
        frequency("cutoff_hz", "Cutoff", 20000.0, "Where it begins to act."),
        share("resonance", "Resonance", 0.1, "Emphasis at the cutoff; at 1 the filter sings by itself."),
        level("drive_db", "Drive", 0.0, 36.0, 0.0, "How hard the loop is driven; it bends inside and not after."),
        number("env_octaves", "Follow", "oct", -8.0, 8.0, 0.0, "How far a signal at full scale moves the cutoff."),
        number("env_attack_ms", "Follow attack", "ms", 0.1, 500.0, 5.0, "How quickly it follows a rise.", scale="log"),
        number("env_release_ms", "Follow release", "ms", 1.0, 3000.0, 150.0, "How quickly it follows a fall.", scale="log"),
        note_time("lfo_rate", "LFO rate", "Hz", 0.01, 40.0, "1/4", "How often the LFO comes round, in Hz or as a note value."),
        number("depth_octaves", "LFO depth", "oct", 0.0, 5.0, 0.0, "How far the LFO moves the cutoff, up and down."),
        choice("shape", "LFO shape", SHAPES, "sine", "How the LFO moves.", SHAPE_LABELS),
    ),
)  # fmt: skip


_FAR_OCTAVES = 1.0
_TIMES = 4  # the rate that the loops run at, so that what they bend does not fold back


class _Loop(Memory):
    """One side of the filter, at ``_TIMES`` the rate."""

    remembers = ("_state",)

    def __init__(self, params: Values) -> None:
        resonance, self._mode = params["resonance"], MODES.index(params["mode"])
        self._svf = params["model"] == "svf"
        self._damping, self._feedback = svf_damping(resonance), ladder_feedback(resonance)
        self._more, self._taps = ladder_taps(self._mode, resonance)
        self._seed = SEED if singing(resonance) else 0.0
        self._drive = 10.0 ** (params["drive_db"] / 20.0)
        self._over = Oversampler(_TIMES)
        self._state = np.zeros(2 if self._svf else 4)

    def process(self, x: FloatArray, g: FloatArray) -> FloatArray:
        """x (n,) and its integrator gains g (n,) to (n,)."""
        raised = np.ascontiguousarray(self._over.up(x).T).reshape(-1).astype(np.float64)
        raised = raised * self._drive + self._seed
        y = np.empty_like(raised)
        if self._svf:
            sweep_svf(raised, g, self._damping, self._mode, self._state, y)
        else:
            sweep_ladder(raised, g, self._feedback, self._more, self._taps, self._state, y)
        phases = np.ascontiguousarray((y / self._drive).reshape(-1, _TIMES).T, dtype=np.float32)
        return self._over.down(phases)

    def forget(self) -> None:
        self._state[:] = 0.0


@device(KIND)
class Filter(Processor):
    settle_s = 0.03
    remembers = ("_follow_state",)
    latency = latency_frames(_TIMES)

    def __init__(self, params: Values, host: Host) -> None:
        rate = host.rate_hz
        self._params = params
        self._loops = Sides(lambda: _Loop(params))
        self._cutoff = params["cutoff_hz"] / rate
        self._lfo_rate = KIND.param("lfo_rate").number_of(params["lfo_rate"], bpm=host.bpm) / rate
        self._shape = SHAPES.index(params["shape"])
        release_s = params["env_release_ms"] * 1e-3
        self._level = Level("peak", attack_s=0.0, release_s=release_s, sample_rate_hz=rate)
        self._attack = smoothing(params["env_attack_ms"] * 1e-3, sample_rate_hz=rate)
        self._release = smoothing(self._level.release_s, sample_rate_hz=rate)
        self._follow_state = np.zeros(1)

    def adopt(self, older: Any) -> bool:
        whole = super().adopt(older)
        moved = abs(math.log2(self._cutoff / older._cutoff)) + abs(
            self._params["env_octaves"] - older._params["env_octaves"]
        )
        if whole and moved > _FAR_OCTAVES:
            self._loops.each(_Loop.forget)  # what an open filter holds a closed one would let out slowly, as a thump
        return whole

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        p = self._params
        n = x.shape[1]
        g: FloatArray = np.empty(n)
        if p["env_octaves"] == 0.0 and p["depth_octaves"] == 0.0:
            g.fill(tangent(min(0.4167, self._cutoff) / _TIMES))
        else:
            octaves = np.zeros(n)
            if p["depth_octaves"]:
                lfo_curve(self._shape, self.position, self._lfo_rate, self.turns, 1, octaves)
                octaves *= p["depth_octaves"]
            if p["env_octaves"]:
                followed = np.empty(n)
                follow(self._level.process(x), self._attack, self._release, self._follow_state, followed)
                # −48 dB moves nothing, full scale all of it: the ear hears levels in dB.
                octaves += p["env_octaves"] * np.clip(1.0 + gain_to_db(followed) / 48.0, 0.0, 1.0)
            cutoff_gains(octaves, self._cutoff, _TIMES, g)
        return self._loops.process(x, lambda loop, side: loop.process(side, g))
