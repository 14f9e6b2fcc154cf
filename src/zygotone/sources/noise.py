"""Noise of several colours, in a band."""

from __future__ import annotations

import numpy as np

from zygotone.dsp.filters import BUTTERWORTH_Q, filtered, highpass_sos, lowpass_sos
from zygotone.dsp.noises import COLOURS, endless_noise
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.dsp.voice_filters import band_between
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
        params["colour"],
        note.frames,
        sample_rate_hz=note.rate_hz,
        number=note.seed + (note.number if params["varies"] else 0),
    )
    width = note.grid("width_pct", params["width_pct"]) / 100.0
    if np.max(width) == 0.0:
        audio: FloatArray = 0.25 * one[None]
    else:
        # Of two noises without anything in common: mid and side are such noises too, so a share of side is a width.
        spread = note.by_frame(width) if note.moves("width_pct") else width[:1]
        mid, side = 0.25 / np.sqrt(1.0 + spread * spread), 0.25 * spread / np.sqrt(1.0 + spread * spread)
        audio = np.stack([mid * one + side * other, mid * one - side * other])
    if note.moves("low_hz") or note.moves("high_hz"):
        low_hz, high_hz = note.grid("low_hz", params["low_hz"]), note.grid("high_hz", params["high_hz"])
        band_between(audio, low_hz, high_hz, sample_rate_hz=note.rate_hz)
        return audio
    edges = []
    if params["low_hz"] > 20.0:
        edges.append(highpass_sos(params["low_hz"], BUTTERWORTH_Q, sample_rate_hz=note.rate_hz))
    if params["high_hz"] < min(20000.0, 0.45 * note.rate_hz):
        edges.append(lowpass_sos(params["high_hz"], BUTTERWORTH_Q, sample_rate_hz=note.rate_hz))
    return filtered(np.array(edges), audio) if edges else audio
