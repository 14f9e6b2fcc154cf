"""Noise of several colours, in a band."""

from __future__ import annotations

import numpy as np

from zygotone.dsp.filters import BUTTERWORTH_Q, filtered, highpass_sos, lowpass_sos
from zygotone.dsp.noises import COLOURS, endless_noise
from zygotone.dsp.types import Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, choice, frequency, percent, switch
from zygotone.sources.base import NoteRequest, source

KIND = Kind(
    kind="noise",
    title="Noise",
    summary="White, pink or brown noise, from one frequency to another, narrow or wide.",
    params=(
        choice("colour", "Colour", COLOURS, "white", "Even per Hz, even per octave, or falling by 6 dB an octave."),
        frequency("low_hz", "From", 20.0, "Lower edge.", low=20.0, high=15000.0),
        frequency("high_hz", "To", 20000.0, "Upper edge.", low=100.0, high=20000.0),
        percent("width_pct", "Width", 100.0, "0 is the same on both sides, 100 has nothing in common."),
        switch("varies", "Each note differs", False, "Otherwise all notes are made of the same noise."),
    ),
)  # fmt: skip


@source(KIND, varies=lambda params: bool(params["varies"]))
def render(params: Values, note: NoteRequest) -> Stereo:
    one, other = endless_noise(
        params["colour"], note.frames, sample_rate_hz=note.rate_hz, number=note.number if params["varies"] else 0
    )
    width = params["width_pct"] / 100.0
    if width == 0.0:
        audio = 0.25 * one[None]
    else:
        # Of two noises without anything in common: mid and side are such noises too, so a share of side is a width.
        mid, side = 0.25 / np.sqrt(1.0 + width * width), 0.25 * width / np.sqrt(1.0 + width * width)
        audio = np.stack([mid * one + side * other, mid * one - side * other])
    edges = []
    if params["low_hz"] > 20.0:
        edges.append(highpass_sos(params["low_hz"], BUTTERWORTH_Q, sample_rate_hz=note.rate_hz))
    if params["high_hz"] < min(20000.0, 0.45 * note.rate_hz):
        edges.append(lowpass_sos(params["high_hz"], BUTTERWORTH_Q, sample_rate_hz=note.rate_hz))
    return filtered(np.array(edges), audio) if edges else audio
