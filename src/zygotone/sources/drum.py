"""Drum models: a tone that drops in pitch, a click, and shaped noise or metal."""

from __future__ import annotations

import math

import numpy as np

from zygotone.dsp.filters import BUTTERWORTH_Q, SosStereo, highpass_sos, lowpass_sos
from zygotone.dsp.levels import db_to_gain
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, choice, frequency, level, number
from zygotone.sources.base import NoteRequest, source

KIND = Kind(
    kind="drum",
    title="Drum",
    summary="Kick, snare or hat: a tone that drops in pitch, a click, and noise or metal.",
    params=(
        choice("model", "Model", ("kick", "snare", "hat"), "kick", "What rings: a sine, a drum head of two modes, or metal."),
        frequency("tune_hz", "Tune", 50.0, "Where the tone settles, when played at C4; it follows the note.", high=12000.0),
        number("drop_semitones", "Drop", "semitones", 0.0, 60.0, 24.0, "How far above that the tone begins."),
        number("drop_ms", "Drop time", "ms", 1.0, 200.0, 12.0, "How fast it falls: time to a third of the way.", scale="log"),
        number("decay_ms", "Tone decay", "ms", 5.0, 4000.0, 350.0, "Time for the tone to fall by 20 dB.", scale="log"),
        level("tone_db", "Tone", -60.0, 6.0, 0.0, "Level of the tone; −60 is off."),
        level("click_db", "Click", -60.0, 6.0, -18.0, "Level of the first two milliseconds' click; −60 is off."),
        frequency("click_hz", "Click colour", 3000.0, "Where the click lies.", low=500.0, high=12000.0),
        level("noise_db", "Noise", -60.0, 6.0, -60.0, "Level of the noise; −60 is off."),
        number("noise_decay_ms", "Noise decay", "ms", 2.0, 4000.0, 120.0, "Time for the noise to fall by 20 dB.", scale="log"),
        frequency("noise_low_hz", "Noise from", 1000.0, "Lower edge of the noise."),
        frequency("noise_high_hz", "Noise to", 12000.0, "Upper edge of the noise."),
        level("bend_db", "Bend", 0.0, 24.0, 0.0, "Drive of the tone into a soft curve, for a rounder body."),
    ),
)  # fmt: skip

# Ratios of the partials: a struck circular membrane's first modes (Rossing, "Science of Percussion
# Instruments", table of ideal membrane modes, from memory), and six partials of metal, ours, without order.
_PARTIALS = {
    "kick": ((1.0, 1.0),),
    "snare": ((1.0, 1.0), (1.594, 0.6), (2.136, 0.25)),
    "hat": ((1.0, 1.0), (1.342, 0.9), (1.672, 0.8), (2.043, 0.7), (2.531, 0.7), (3.087, 0.6)),
}
_QUIET_DB = -80.0
_OFF_DB = -60.0


def _decay(t: FloatArray, ms_to_minus_20: float) -> FloatArray:
    return np.asarray(10.0 ** (-t / (ms_to_minus_20 * 1e-3)))


def ring_s(params: Values) -> float:
    """How long a hit rings, down to −80 dB."""
    times = []
    if params["tone_db"] > _OFF_DB:
        times.append(params["decay_ms"])
    if params["noise_db"] > _OFF_DB:
        times.append(params["noise_decay_ms"])
    return float(min(8.0, max([5.0, *times]) * 1e-3 * _QUIET_DB / -20.0))


@source(KIND, one_shot=True)
def render(params: Values, note: NoteRequest) -> Stereo:
    n = round(ring_s(params) * note.rate_hz)
    t = np.arange(n) / note.rate_hz
    out = np.zeros(n)
    transposed = note.pitch_hz / 261.6255653005986  # C4, where "tune" holds
    if params["tone_db"] > _OFF_DB:
        f0 = params["tune_hz"] * transposed
        # f(t) = f0·2^(drop·exp(−t/τ)/12); its phase is the running sum.
        octaves = params["drop_semitones"] / 12.0 * np.exp(-t / (params["drop_ms"] * 1e-3))
        turns = np.concatenate([[0.0], np.cumsum(f0 * 2.0**octaves / note.rate_hz)[:-1]])
        tone = np.zeros(n)
        for ratio, gain in _PARTIALS[params["model"]]:
            top = f0 * ratio * 2.0 ** octaves[0]
            if f0 * ratio < 0.45 * note.rate_hz:
                # A partial that begins above the top of the band is faded in as it falls into it.
                fade = np.clip((0.45 * note.rate_hz - f0 * ratio * 2.0**octaves) / 1000.0, 0.0, 1.0)
                wave = gain * np.sin(2.0 * np.pi * ratio * turns) * _decay(t, params["decay_ms"] / math.sqrt(ratio))
                tone += wave * (fade if top > 0.43 * note.rate_hz else 1.0)
        if params["bend_db"] > 0.0:
            drive = db_to_gain(params["bend_db"])
            tone = np.tanh(drive * tone) / math.tanh(drive)
        out += db_to_gain(params["tone_db"]) * tone
    # Hits of one setting are alike, so that a render is the same every time.
    rng = np.random.default_rng(20240)
    if params["click_db"] > _OFF_DB:
        hz = min(params["click_hz"], 0.4 * note.rate_hz)
        out += db_to_gain(params["click_db"]) * np.sin(2.0 * np.pi * hz * t) * np.exp(-t / 0.0009)
    if params["noise_db"] > _OFF_DB:
        noise = rng.standard_normal(n) * 0.35
        edges = [
            highpass_sos(params["noise_low_hz"], BUTTERWORTH_Q, sample_rate_hz=note.rate_hz),
            lowpass_sos(params["noise_high_hz"], BUTTERWORTH_Q, sample_rate_hz=note.rate_hz),
        ]
        shaped = SosStereo(np.array(edges)).process(np.stack([noise, noise]))[0]
        out += db_to_gain(params["noise_db"]) * shaped * _decay(t, params["noise_decay_ms"])
    ramp = min(n, max(2, round(0.005 * note.rate_hz)))
    out[n - ramp :] *= np.linspace(1.0, 0.0, ramp)
    return np.stack([out, out])
