"""Noise of several colours, in a band."""

from __future__ import annotations

import numpy as np

from zygotone.dsp.filters import BUTTERWORTH_Q, SosStereo, highpass_sos, lowpass_sos
from zygotone.dsp.types import Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, choice, frequency, percent, switch
from zygotone.sources.base import NoteRequest, source

KIND = Kind(
    kind="noise",
    title="Noise",
    summary="White, pink or brown noise, from one frequency to another, narrow or wide.",
    params=(
        choice("colour", "Colour", ("white", "pink", "brown"), "white", "Even per Hz, even per octave, or falling by 6 dB an octave."),
        frequency("low_hz", "From", 20.0, "Lower edge.", low=20.0, high=15000.0),
        frequency("high_hz", "To", 20000.0, "Upper edge.", low=100.0, high=20000.0),
        percent("width_pct", "Width", 100.0, "0 is the same on both sides, 100 has nothing in common."),
        switch("varies", "Each note differs", False, "Otherwise all notes are made of the same noise."),
    ),
)  # fmt: skip

_SLOPES = {"white": 0.0, "pink": -0.5, "brown": -1.0}  # of the magnitude, as a power of frequency


@source(KIND, varies=lambda params: bool(params["varies"]))
def render(params: Values, note: NoteRequest) -> Stereo:
    rng = np.random.default_rng(7919 + note.number if params["varies"] else 7919)
    size = max(16, 1 << int(np.ceil(np.log2(note.frames + 1))))
    spectrum = np.fft.rfft(rng.standard_normal((2, size)), axis=1)
    freqs = np.fft.rfftfreq(size, 1.0 / note.rate_hz)
    slope = _SLOPES[params["colour"]]
    if slope:
        # Level at 1 kHz as that of white noise; flat below 20 Hz, where nobody hears and the gain would be endless.
        spectrum *= (np.maximum(freqs, 20.0) / 1000.0) ** slope
    audio = 0.25 * np.fft.irfft(spectrum, size, axis=1)[:, : note.frames]
    width = params["width_pct"] / 100.0
    # Of two noises without anything in common: mid and side are such noises too, so a share of side is a width.
    side = width / np.sqrt(1.0 + width * width)
    mid = 1.0 / np.sqrt(1.0 + width * width)
    audio = np.stack([mid * audio[0] + side * audio[1], mid * audio[0] - side * audio[1]])
    edges = []
    if params["low_hz"] > 20.0:
        edges.append(highpass_sos(params["low_hz"], BUTTERWORTH_Q, sample_rate_hz=note.rate_hz))
    if params["high_hz"] < min(20000.0, 0.45 * note.rate_hz):
        edges.append(lowpass_sos(params["high_hz"], BUTTERWORTH_Q, sample_rate_hz=note.rate_hz))
    return SosStereo(np.array(edges)).process(np.ascontiguousarray(audio)) if edges else audio
