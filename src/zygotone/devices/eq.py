"""Parametric equalizer, analog-matched up to the top of hearing."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.filters import BUTTERWORTH_Q, SosStereo, butterworth_qs, moved_poles, sos_mono
from zygotone.dsp.matched import AnalogSection, matched_sections
from zygotone.dsp.memory import Memory
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.session.catalogue import Entries, HandCurve, Handle, Kind
from zygotone.session.params import Param, Values, choice, defaults, frequency, level, number, switch

SHAPES = ("bell", "low_shelf", "high_shelf", "low_cut", "high_cut", "notch", "tilt")

BAND = (
    choice("shape", "Shape", SHAPES, "bell", "What the band does."),
    frequency("freq_hz", "Frequency", 1000.0, "Centre of a bell or notch, corner of a shelf or cut, pivot of a tilt."),
    level("gain_db", "Gain", -24.0, 24.0, 0.0, "Boost or cut; no meaning for cuts and notches."),
    number("q", "Q", "", 0.1, 40.0, BUTTERWORTH_Q, "Narrowness; at a cut, above 0.71 it resonates.", scale="log"),
    choice("slope_db_oct", "Slope", (6, 12, 18, 24, 30, 36, 42, 48), 12, "Steepness of a cut, in dB per octave.", tuple(f"{n} dB an octave" for n in range(6, 49, 6))),
    choice("channel", "Channel", ("stereo", "mid", "side"), "stereo", "Both sides alike, only the middle, or only the difference."),
    switch("on", "On", True, "Whether the band is heard."),
)  # fmt: skip


def analog_sections(band: Values) -> list[AnalogSection]:
    """The prototype of a band (Audio EQ Cookbook, H(s) of each shape; cuts are Butterworth at Q 0.71)."""
    f, q, gain_db = band["freq_hz"], band["q"], band["gain_db"]
    a = 10.0 ** (gain_db / 40.0)
    shape = band["shape"]
    if shape in ("bell", "low_shelf", "high_shelf", "tilt") and gain_db == 0.0:
        return []  # exactly nothing
    if shape == "bell":
        return [AnalogSection(f, (1.0, a / q, 1.0), (1.0, 1.0 / (a * q), 1.0))]
    if shape in ("low_shelf", "high_shelf"):
        q = min(q, 2.0)  # a steeper shelf only overshoots
        r = math.sqrt(a) / q
        low = AnalogSection(f, (a, a * r, a * a), (a, r, 1.0))
        return [low if shape == "low_shelf" else AnalogSection(f, (a * a, a * r, a), (1.0, r, a))]
    if shape == "tilt":
        # First order: −gain at the bottom, +gain at the top, each reached far from the pivot.
        return [AnalogSection(f, (0.0, a * a, 1.0), (0.0, 1.0, a * a))]
    if shape == "notch":
        return [AnalogSection(f, (1.0, 0.0, 1.0), (1.0, 1.0 / q, 1.0))]
    order = band["slope_db_oct"] // 6
    qs = list(butterworth_qs(order))
    if qs:
        qs[-1] *= q / BUTTERWORTH_Q  # the sharpest section carries the resonance
    if shape == "low_cut":
        sections = [AnalogSection(f, (1.0, 0.0, 0.0), (1.0, 1.0 / section_q, 1.0)) for section_q in qs]
        first = AnalogSection(f, (0.0, 1.0, 0.0), (0.0, 1.0, 1.0))
    else:
        sections = [AnalogSection(f, (0.0, 0.0, 1.0), (1.0, 1.0 / section_q, 1.0)) for section_q in qs]
        first = AnalogSection(f, (0.0, 0.0, 1.0), (0.0, 1.0, 1.0))
    return [first, *sections] if order % 2 else sections


_LIFTS = ("bell", "low_shelf", "high_shelf", "tilt")
_WIRE = (1.0, 0.0, 0.0, 1.0, 0.0, 0.0)
_MOST_SECTIONS = 3  # that one analog section can need


def band_sos(band: Values, rate_hz: int, *, padded: bool = False) -> FloatArray:
    """Digital sections of a band, shape (k, 6); k is 0 for a band that does nothing. ``padded``: as many for any gain
    and frequency, so that the filter's memory fits while those move."""
    if not band["on"]:
        return np.zeros((0, 6))
    rows: list[tuple[float, ...]] = []
    for section in analog_sections(band):
        made = matched_sections(section, float(rate_hz))
        rows += [*made, *([_WIRE] * (_MOST_SECTIONS - len(made)))] if padded else made
    if padded and not rows:
        rows = [_WIRE] * _MOST_SECTIONS
    return np.array(rows).reshape(-1, 6)


def response_db(params: Values, freqs_hz: FloatArray, *, channel: str = "stereo") -> FloatArray:
    """Level change at each frequency, from the analog curves of the bands that act on ``channel``."""
    total = np.zeros(len(freqs_hz))
    for band in params["bands"]:
        if band["on"] and band["channel"] in ("stereo", channel):
            for section in analog_sections(band):
                total += 20.0 * np.log10(np.maximum(np.abs(section.response(freqs_hz)), 1e-9))
    return total


def _handles(params: Values) -> tuple[Handle, ...]:
    return tuple(
        Handle(band["freq_hz"], band["gain_db"] if band["shape"] in _LIFTS else 0.0, band["shape"] in _LIFTS)
        for band in params["bands"]
    )


def _moved(params: Values, at: int, freq_hz: float, level_db: float) -> dict[str, Any]:
    bands = list(params["bands"])
    lifted = {"gain_db": level_db} if bands[at]["shape"] in _LIFTS else {}
    bands[at] = bands[at].replace(freq_hz=freq_hz, **lifted)
    return {"bands": tuple(bands)}


def _idle(band: Values) -> frozenset[str]:
    """What a band of its shape does not have."""
    shape = band["shape"]
    gone = {"slope_db_oct"} if shape not in ("low_cut", "high_cut") else {"gain_db"}
    return frozenset(gone | ({"gain_db"} if shape == "notch" else {"q"} if shape == "tilt" else set()))


KIND = Kind(
    kind="eq",
    purpose="tone",
    title="EQ",
    summary="Up to twelve bands; follows the analog curve up to the top of hearing.",
    picture="curve",
    hand_curve=HandCurve(lambda params, freqs: response_db(params, freqs, channel="mid"), _handles, _moved),
    entries=Entries(
        words=lambda band: str(band["shape"]).replace("_", " "),
        idle=_idle,
        new=lambda items, bands, shown: defaults(items).replace(freq_hz=250.0),
    ),
    usual={"bands": [{"freq_hz": 250.0}]},
    params=(Param(name="bands", label="Bands", type="list", default=(), items=BAND, max_items=12, help="The bands."),),
)


class _SideOrMid(Memory):
    """Sections on the mid or the side alone: what they change is added back to both channels."""

    remembers = ("state",)

    def __init__(self, sos: FloatArray, side: bool) -> None:
        self.sos, self._sign = sos, -1.0 if side else 1.0
        self.state = np.zeros((len(sos), 2))

    def adopt(self, older: Any) -> bool:
        whole = super().adopt(older)
        if whole:
            self.state[moved_poles(self.sos, older.sos)] = 0.0
        return whole

    def process(self, x: Stereo) -> Stereo:
        part = 0.5 * (x[0] + self._sign * x[1])
        y = np.empty_like(part)
        sos_mono(self.sos, part, self.state, y)
        change = y - part
        return np.ascontiguousarray(np.stack([x[0] + change, x[1] + self._sign * change]))


@device(KIND)
class Eq(Processor):
    settle_s = 0.08

    def __init__(self, params: Values, host: Host) -> None:
        rate_hz = host.rate_hz
        self._stages: list[SosStereo | _SideOrMid] = []
        together: list[FloatArray] = []
        for band in params["bands"]:
            sos = band_sos(band, rate_hz, padded=host.automated)
            if not len(sos):
                continue
            if band["channel"] == "stereo":
                together.append(sos)
            else:
                self._stages.append(_SideOrMid(sos, band["channel"] == "side"))
        if together:  # all of this is linear, so the order is free; one kernel runs the stereo bands
            self._stages.insert(0, SosStereo(np.concatenate(together)))

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        for stage in self._stages:
            x = stage.process(x)
        return x
