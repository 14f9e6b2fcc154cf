"""The key talks, the track sings."""

from __future__ import annotations

from typing import Any

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.filters import bandpass_sos
from zygotone.dsp.levels import smoothing
from zygotone.dsp.lfo import noise_curve
from zygotone.dsp.types import Stereo
from zygotone.dsp.voices import vocode
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, level, number, whole

KIND = Kind(
    kind="vocoder",
    title="Vocoder",
    summary="Bands of the key, which talks, open the same bands of the track, which sings.",
    takes_key=True,
    params=(
        whole("bands", "Bands", 8, 40, 20, "How many; more are clearer, fewer are stranger."),
        number("formant_semitones", "Formants", "st", -12.0, 12.0, 0.0, "Moves the voice's formants up or down against the track."),
        number("attack_ms", "Attack", "ms", 0.5, 100.0, 3.0, "How quickly the bands open.", scale="log"),
        number("release_ms", "Release", "ms", 5.0, 1000.0, 40.0, "How quickly they close.", scale="log"),
        level("noise_db", "Noise", -80.0, 0.0, -36.0, "Noise sung along above 3 kHz, for consonants; −80 dB is off."),
    ),
)  # fmt: skip

_LOW_HZ, _HIGH_HZ = 90.0, 11000.0
_CONSONANTS_HZ = 3000.0


@device(KIND)
class Vocoder(Processor):
    """Bands evenly apart by ratio, each of two band-passes in series that meet their neighbours at −6 dB."""

    settle_s = 0.05
    remembers = ("_heard_state", "_sung_state", "_levels_state")

    def __init__(self, params: Values, host: Host) -> None:
        rate, count = host.rate_hz, params["bands"]
        centres = np.geomspace(_LOW_HZ, min(_HIGH_HZ, 0.4 * rate), count)
        step = (centres[-1] / centres[0]) ** (1.0 / (count - 1))
        # Two sections at −3 dB each, half a step away: (r − 1/r)·Q = 1 for r = √step.
        q = 1.0 / (step**0.5 - step**-0.5)
        moved = np.clip(centres * 2.0 ** (params["formant_semitones"] / 12.0), 30.0, 0.45 * rate)
        self._hear = np.array([[bandpass_sos(f, q, sample_rate_hz=rate)] * 2 for f in centres])
        self._sing = np.array([[bandpass_sos(f, q, sample_rate_hz=rate)] * 2 for f in moved])
        self._hissing = np.where(moved > _CONSONANTS_HZ, 1.0, 0.0)
        self._noise = 10.0 ** (params["noise_db"] / 20.0) if params["noise_db"] > -80.0 else 0.0
        self._attack = smoothing(params["attack_ms"] * 1e-3, sample_rate_hz=rate)
        self._release = smoothing(params["release_ms"] * 1e-3, sample_rate_hz=rate)
        # A band of speech holds about its share of the voice: this brings the sum back near the track's level.
        self._gain = 4.0 * np.sqrt(count / 20.0)
        self._heard_state = np.zeros((count, 2, 2))
        self._sung_state = np.zeros((2, count, 2, 2))
        self._levels_state = np.zeros(count)

    def adopt(self, older: Any) -> bool:
        whole = super().adopt(older)
        if whole and not np.array_equal(self._sing, older._sing):
            self._sung_state[:] = 0.0  # in terms of other bands it would ring; see ``filters.moved_poles``
        return whole

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        voice = x if key is None else key
        talk = 0.5 * (voice[0] + voice[1])
        hiss = np.zeros(x.shape[1])
        if self._noise > 0.0:
            noise_curve(self.position, 23, hiss)
            hiss *= self._noise
        y = np.zeros_like(x)
        vocode(
            talk, x, hiss, self._hear, self._sing, self._hissing, self._attack, self._release, float(self._gain),
            self._heard_state, self._sung_state, self._levels_state, y,
        )  # fmt: skip
        return y
