"""The key talks, the track sings."""

from __future__ import annotations

from typing import Any

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.filters import BUTTERWORTH_Q, SosStereo, bandpass_sos, highpass_sos, sos_powers
from zygotone.dsp.levels import db_to_gain, smoothing
from zygotone.dsp.lfo import noise_curve
from zygotone.dsp.types import Stereo
from zygotone.dsp.voices import vocode
from zygotone.dsp.weighting import k_weighting_sos
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, level, number, share, whole

KIND = Kind(
    kind="vocoder",
    purpose="colour",
    title="Vocoder",
    summary="Bands of the key, which talks, open the same bands of the track, which sings.",
    takes_key=True,
    params=(
        whole("bands", "Bands", 8, 40, 20, "How many; more are clearer, fewer are stranger."),
        number("formant_semitones", "Formants", "st", -12.0, 12.0, 0.0, "Moves the voice's formants up or down against the track."),
        number("attack_ms", "Attack", "ms", 0.5, 100.0, 3.0, "How quickly the bands open.", scale="log"),
        number("release_ms", "Release", "ms", 5.0, 1000.0, 40.0, "How quickly they close.", scale="log"),
        level("voice_db", "Voice level", -60.0, 0.0, -22.0, "How loud the voice is, as power, that gives the track its own loudness."),
        share("dynamics", "Dynamics", 0.5, "How much of the voice's loud and soft is kept; at 0 all that is spoken is sung alike."),
        level("noise_db", "Noise", -80.0, 6.0, -6.0, "Noise sung where the voice hisses, against the level of each band; −80 dB is off."),
        level("consonants_db", "Consonants", -80.0, 12.0, -12.0, "The voice's own hisses above 3 kHz, passed as they are; −80 dB is off."),
        level("level_db", "Level", -24.0, 24.0, 0.0, "Level of all of it."),
    ),
)  # fmt: skip

_LOW_HZ, _HIGH_HZ = 90.0, 11000.0
_VOICED_HZ, _HISSING_HZ, _NOISY_HZ = 1200.0, 3500.0, 2000.0
_CLOSING_DB = 28.0  # so far below its level a voice is taken for the room between its words
_CONSONANTS_HZ = 3000.0
_QUICK_S = 0.001  # a carrier's bands are followed at once, or its beginnings would be too loud
# A one-pole that rises in 3 ms and falls in 40 reads so much above the power of speech's bands (measured).
_ENVELOPE_OVER_POWER = 1.1


@device(KIND)
class Vocoder(Processor):
    """Bands evenly apart by ratio, each of two band-passes in series that meet their neighbours at −6 dB."""

    settle_s = 0.08
    remembers = ("_heard_state", "_sung_state", "_hissed_state", "_levels_state")

    def __init__(self, params: Values, host: Host) -> None:
        rate, count = host.rate_hz, params["bands"]
        centres = np.geomspace(_LOW_HZ, min(_HIGH_HZ, 0.4 * rate), count)
        step = (centres[-1] / centres[0]) ** (1.0 / (count - 1))
        # Two sections at −3 dB each, half a step away: (r − 1/r)·Q = 1 for r = √step.
        q = 1.0 / (step**0.5 - step**-0.5)
        moved = np.clip(centres * 2.0 ** (params["formant_semitones"] / 12.0), 30.0, 0.45 * rate)
        self._hear = np.array([bandpass_sos(f, q, sample_rate_hz=rate) for f in centres])
        self._sing = np.array([bandpass_sos(f, q, sample_rate_hz=rate) for f in moved])
        # Loudness by BS.1770 is power behind this filter.
        self._weights = sos_powers(k_weighting_sos(rate), moved, sample_rate_hz=rate)
        self._low = int(np.count_nonzero(centres < _VOICED_HZ))
        self._high = int(np.count_nonzero(centres < _HISSING_HZ))
        # White noise of ±1 has a power of ⅓ over half the rate; a band of two such sections passes 1.25·f/q of it (measured).
        noise_db = params["noise_db"]
        noise = db_to_gain(noise_db) if noise_db > -80.0 else 0.0
        self._noisy = np.where(moved > _NOISY_HZ, noise / np.sqrt((1.25 * moved / q) / (1.5 * rate)), 0.0)
        self._own = db_to_gain(params["consonants_db"]) if params["consonants_db"] > -80.0 else 0.0
        self._gain = db_to_gain(params["level_db"])
        self._full = _ENVELOPE_OVER_POWER * db_to_gain(params["voice_db"])
        self._closing = self._full * db_to_gain(-_CLOSING_DB)
        self._dynamics = params["dynamics"]
        self._attack = smoothing(params["attack_ms"] * 1e-3, sample_rate_hz=rate)
        self._release = smoothing(params["release_ms"] * 1e-3, sample_rate_hz=rate)
        self._quick = smoothing(min(_QUICK_S, params["attack_ms"] * 1e-3), sample_rate_hz=rate)
        self._consonants = SosStereo(np.array([highpass_sos(_CONSONANTS_HZ, BUTTERWORTH_Q, sample_rate_hz=rate)] * 2))
        self._heard_state = np.zeros((count, 2, 2))
        self._sung_state = np.zeros((2, count, 2, 2))
        self._hissed_state = np.zeros((count, 2, 2))
        self._levels_state = np.zeros((2, count))

    def adopt(self, older: Any) -> bool:
        whole = super().adopt(older)
        if whole and not np.array_equal(self._sing, older._sing):
            # In terms of other bands they would ring; see ``filters.moved_poles``.
            self._sung_state[:], self._hissed_state[:] = 0.0, 0.0
        return whole

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        voice = x if key is None else key
        talk = 0.5 * (voice[0] + voice[1])
        noise = np.zeros(x.shape[1])
        if np.any(self._noisy):
            noise_curve(self.position, 23, noise)
        consonants = self._consonants.process(np.stack([talk, talk]))[0]
        y = np.empty_like(x)
        vocode(
            talk, x, noise, self._hear, self._sing, self._weights, self._low, self._high, self._attack, self._release, self._quick, self._full,
            self._dynamics, self._closing, self._noisy, float(self._own), consonants, self._heard_state, self._sung_state,
            self._hissed_state, self._levels_state, y,
        )  # fmt: skip
        return np.asarray(self._gain * y)
