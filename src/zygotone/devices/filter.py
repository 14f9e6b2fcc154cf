"""A filter that moves: by its own LFO, by the level of the signal, by automation."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.dynamics import Level
from zygotone.dsp.levels import gain_to_db, smoothing
from zygotone.dsp.lfo import SHAPE_LABELS, SHAPES, lfo_curve
from zygotone.dsp.sweeping import MODELS, MODES, cutoff_gains, follow, sweep_ladder, sweep_svf, tangent
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, choice, frequency, level, note_time, number, share

KIND = Kind(
    kind="filter",
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


@device(KIND)
class Filter(Processor):
    settle_s = 0.03
    remembers = ("_filter_state", "_follow_state")

    def __init__(self, params: Values, host: Host) -> None:
        rate = host.rate_hz
        self._params = params
        self._mode = MODES.index(params["mode"])
        self._run = sweep_svf if params["model"] == "svf" else sweep_ladder
        self._filter_state = np.zeros((2, 2 if params["model"] == "svf" else 4))
        self._cutoff = params["cutoff_hz"] / rate
        self._drive = 10.0 ** (params["drive_db"] / 20.0)
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
            self._filter_state[:] = 0.0  # what an open filter holds a closed one would let out slowly, as a thump
        return whole

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        p = self._params
        n = x.shape[1]
        g: FloatArray = np.empty(n)
        if p["env_octaves"] == 0.0 and p["depth_octaves"] == 0.0:
            g.fill(tangent(min(0.4167, self._cutoff)))
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
            cutoff_gains(octaves, self._cutoff, g)
        y = np.empty_like(x)
        driven = x * self._drive
        self._run(driven, g, p["resonance"], self._mode, self._filter_state, y)
        return np.asarray(y / self._drive)
