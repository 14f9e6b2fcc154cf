"""A plucked string on a body."""

from __future__ import annotations

import math
from typing import TypedDict

import numpy as np

from zygotone.dsp.filters import bandpass_sos
from zygotone.dsp.oscillators import read_resampled
from zygotone.dsp.strings import plucked_string
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.dsp.voice_filters import add_resonances
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, at_start, number, share, switch
from zygotone.sources.base import C4_HZ, NoteRequest, source

KIND = Kind(
    kind="string",
    picture="string",
    title="Plucked string",
    summary="A string that is plucked and dies away, dark or bright by where and how hard, on a body that rings along.",
    params=(
        at_start(share("pick", "Pick position", 0.18, "Where it is plucked, from the bridge (0) to the middle (0.5).", low=0.02, high=0.5)),
        at_start(share("brightness", "Brightness", 0.7, "Of the pick: soft thumb (0) to hard nail (1).")),
        at_start(share("damping", "Damping", 0.35, "How much faster high partials die away.")),
        at_start(number("decay_s", "Decay", "s", 0.05, 30.0, 4.0, "Time of the fundamental to −60 dB, at C4; lower notes ring longer.", scale="log")),
        at_start(share("stiffness", "Stiffness", 0.0, "How far its partials are drawn apart upwards, as of thick or short strings.")),
        at_start(share("aftersound", "Aftersound", 0.0, "How much of the string's second plane is heard: it decays in two stages then, quickly and slowly.")),
        at_start(share("mute", "Mute", 0.0, "A palm on the bridge: 1 leaves a thud.")),
        share("body", "Body", 0.3, "How much of the body is heard."),
        at_start(number("body_hz", "Body size", "Hz", 60.0, 800.0, 110.0, "Its lowest resonance.", scale="log")),
        at_start(share("velocity", "Velocity to brightness", 0.5, "How much duller soft notes are.")),
        switch("varies", "Each pluck differs", True, "As no two plucks are alike."),
    ),
)  # fmt: skip

# Resonances of a body over its lowest, with their levels: of the order of measured guitar tops (common practice).
_BODY = ((1.0, 1.0), (1.96, 0.8), (2.42, 0.35), (3.9, 0.3), (5.3, 0.2))


class Losses(TypedDict):
    decay_s: float
    damping: float


def string_losses(params: Values, pitch_hz: float) -> Losses:
    """Decay and damping at a pitch: lower strings ring longer, a muting hand takes most of it and the highs first."""
    mute = params["mute"]
    return {
        "decay_s": params["decay_s"] * (C4_HZ / pitch_hz) ** 0.4 * (1.0 - 0.97 * mute),
        "damping": min(0.97, params["damping"] + (1.0 - params["damping"]) * 0.6 * mute),
    }


def pick_brightness(params: Values, velocity: float) -> float:
    return float(np.clip(params["brightness"] - params["velocity"] * (1.0 - velocity), 0.0, 1.0))


@source(KIND, varies=lambda params: bool(params["varies"]))
def render(params: Values, note: NoteRequest) -> Stereo:
    hz = float(note.hz[0])
    if hz > 0.2 * note.rate_hz:
        return np.zeros((1, note.frames))
    bends = note.hz / hz
    still = bool(np.ptp(bends) < 1e-9)
    needed = note.frames
    if not still:
        # A pitch that moves reads the plucked string faster or slower; it must be long enough for that.
        speed = note.by_frame(bends)
        needed = int(np.sum(speed)) + 16
    y = plucked_string(
        hz, needed, sample_rate_hz=note.rate_hz, **string_losses(params, hz), pick=params["pick"],
        brightness=pick_brightness(params, note.velocity), stiffness=params["stiffness"], aftersound=params["aftersound"],
        seed=1009 + 100 * note.seed + (note.number if params["varies"] else 0),
    )  # fmt: skip
    if not still:
        places = np.concatenate([[0.0], np.cumsum(speed)[:-1]])
        moved = np.empty(note.frames)
        read_resampled(y, places, moved)
        y = moved
    body = note.grid("body", params["body"])
    if np.max(body) > 0.0:
        sos, gains = body_resonances(params["body_hz"], note.rate_hz)
        if note.moves("body"):
            on_body = y.copy()
            add_resonances(on_body, sos, gains)
            y += note.by_frame(body) * (on_body - y)
        else:
            add_resonances(y, sos, params["body"] * gains)
    return 0.45 * y[None]


def body_resonances(lowest_hz: float, rate_hz: int) -> tuple[FloatArray, FloatArray]:
    """Band-passes (5, 6) of a body and how much of each is heard, (5,)."""
    hz = lowest_hz * np.array([ratio for ratio, _ in _BODY])
    sos = np.array(
        [
            bandpass_sos(f, 9.0 * math.sqrt(ratio), sample_rate_hz=rate_hz)
            for f, (ratio, _) in zip(hz, _BODY, strict=True)
        ]
    )
    return sos, np.where(hz < 0.45 * rate_hz, 2.0 * np.array([gain for _, gain in _BODY]), 0.0)
