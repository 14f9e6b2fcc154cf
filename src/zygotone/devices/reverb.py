"""Rooms, halls, plates, and a tail that stops short."""

from __future__ import annotations

import copy
import math
from typing import Any

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.convolution import Convolver
from zygotone.dsp.delays import DelayLine
from zygotone.dsp.filters import corner_of_low_cut
from zygotone.dsp.lines import add_taps, allpass_chain, disperse
from zygotone.dsp.reverberation import LINES, design_network, feedback_network, velvet_tail
from zygotone.dsp.sides import Sides
from zygotone.dsp.sweeping import svf_highpass, tangent
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, choice, frequency, note_time, number, percent, share

KIND = Kind(
    kind="reverb",
    purpose="time",
    picture="tail",
    title="Reverb",
    summary="A space around the sound: room, hall or plate, or a nonlinear tail that stops.",
    usual_mix=0.25,
    rings=True,
    params=(
        choice("space", "Space", ("room", "hall", "plate", "nonlinear"), "hall", "Its build: a nonlinear one stays level and then stops."),
        number("decay_s", "Decay", "s", 0.1, 20.0, 1.8, "Time in which it falls by 60 dB; of a nonlinear one, until it stops.", scale="log"),
        note_time("predelay", "Pre-delay", "ms", 0.0, 500.0, 12.0, "Before the space answers, in ms or as a note value.", scale="linear"),
        share("size", "Size", 0.5, "Of the space: how long all ways in it are, those of the first reflections too."),
        share("motion", "Motion", 0.4, "How far the ways sway, which keeps a tail from ringing; a lot of it is heard as chorus."),
        frequency("damping_hz", "Damping", 12000.0, "Where it decays twice as fast as below.", low=500.0),
        frequency("low_cut_hz", "Low cut", 20.0, "What lies below does not get into it; 20 Hz is off.", high=1000.0),
        percent("width_pct", "Width", 100.0, "0 is mono, 100 as wide as it comes.", high=150.0),
    ),
)  # fmt: skip

# Shortest and longest line in seconds at size 0.5, and how the input is thickened: all-pass delays in ms and their gain.
_SPACES = {
    "room": (0.008, 0.034, (1.31, 2.63, 4.19, 6.71), 0.62),
    "hall": (0.019, 0.078, (3.11, 5.23, 8.89, 13.37), 0.65),
    "plate": (0.004, 0.043, (0.37, 0.61, 0.97, 1.61, 2.71, 4.73), 0.74),
}
_MOST_ALLPASSES, _LONGEST_ALLPASS_S = 6, 0.016 * 1.2 * 1.5
_LONGEST_LINE_S, _LONGEST_PREDELAY_S = 0.078, 0.5
# First reflections of room and hall: time in ms at size 0.5, level, side (0 left to 1 right). Our own, by trial.
_EARLY = {
    "room": ((3.1, 0.62, 0.2), (5.3, 0.55, 0.85), (8.2, 0.45, 0.4), (11.9, 0.38, 0.7), (16.7, 0.3, 0.1), (21.1, 0.25, 0.95)),
    "hall": ((11.3, 0.5, 0.15), (17.9, 0.45, 0.9), (26.3, 0.4, 0.35), (37.1, 0.34, 0.75), (49.7, 0.28, 0.05), (66.1, 0.22, 1.0)),
    "plate": (),
}  # fmt: skip
_LONGEST_EARLY_S = 0.0661
_EARLY_SHARE = 0.35
_RINGS_ON = 2.0  # times its decay: −120 dB
_MOST_SWAY_S, _SWAY_HZ = 0.001, 1.1
# The damping takes a little from the middle too: with this the octaves of 500 and 1000 Hz decay in the time that is set.
_MIDDLE = 1.03
_VELVET_PARTITION = 512
_VELVET_HZ = 2400.0  # pulses a second: dense enough to be smooth (Karjalainen and Järveläinen 2007)
_DC_HZ = 8.0
# A plate carries high frequencies faster than low ones: so many all-passes make some 5 ms between them.
_DISPERSION, _DISPERSING = -0.75, 32


def _scale(size: float) -> float:
    """How much longer all ways in a space are than in one of size 0.5."""
    return float(2.0 ** (2.0 * size - 1.0))


_MOST_SCALE = _scale(1.0)


@device(KIND)
class Reverb(Processor):
    """Pre-delay, low cut, first reflections, and a network of lines behind all-passes.

    The lengths of the lines follow space and size alone, decay and damping are their losses, and all memory has the shape of
    the largest space. So whatever is moved, the tail that is there goes on.
    """

    remembers = (
        "_low_cut_state", "_ring_state", "_write_state", "_held_state", "_thick_state", "_thick_at_state", "_early_state",
        "_plate_state",
    )  # fmt: skip

    def __init__(self, params: Values, host: Host) -> None:
        rate = host.rate_hz
        self._params, self._rate = params, rate
        predelay_ms = KIND.param("predelay").number_of(params["predelay"], bpm=host.bpm)
        self._before = DelayLine(round(predelay_ms * 1e-3 * rate), longest=round(_LONGEST_PREDELAY_S * rate))
        self.tail_s = params["decay_s"] + predelay_ms * 1e-3
        self._low_cut = tangent(max(_DC_HZ, corner_of_low_cut(params["low_cut_hz"])) / rate)
        self._low_cut_state = np.zeros((2, 2))
        # What answers with a tail that stops, if anything; and what of such a one, or of the lines, only rings on since the space was
        # changed, with the frames that it has left.
        self._answering: list[Sides[Convolver]] = []
        self._gone: list[Sides[Convolver]] = []
        self._gone_left, self._lines_left = 0, 0
        if params["space"] == "nonlinear":
            self._velvet(params, rate)
        self._lines("hall" if params["space"] == "nonlinear" else params["space"], params, rate)

    def _velvet(self, params: Values, rate: int) -> None:
        """Each side answers on both, every time with a tail of its own."""
        tails = [
            velvet_tail(
                params["decay_s"], density_hz=_VELVET_HZ, fade_s=0.012, damping_hz=params["damping_hz"], seed=seed,
                sample_rate_hz=rate,
            ) * math.sqrt(0.5)
            for seed in (3, 4)
        ]  # fmt: skip
        self.latency = _VELVET_PARTITION
        left, right = (Convolver(tail, partition=self.latency) for tail in tails)
        self._answering = [Sides(lambda: left, lambda: right)]

    def _lines(self, space: str, params: Values, rate: int) -> None:
        shortest, longest, thick_ms, thick_gain = _SPACES[space]
        scale = _scale(params["size"])
        self._network = design_network(
            scale * shortest,
            scale * longest,
            decay_s=_MIDDLE * params["decay_s"],
            damping_hz=params["damping_hz"],
            sample_rate_hz=rate,
        )
        self._sway = min(params["motion"] * _MOST_SWAY_S * rate, 0.25 * float(self._network.delays.min()))
        self._sway_rate = _SWAY_HZ / rate
        self._ring_state = np.zeros(
            (LINES, math.ceil((_MOST_SCALE * _LONGEST_LINE_S + 4.0 * _MOST_SWAY_S) * rate) + 400),
            dtype=np.float32,
        )
        self._write_state = np.zeros(1, dtype=np.int64)
        self._held_state = np.zeros(LINES, dtype=np.float32)
        thick = np.array(thick_ms) * 1e-3 * rate * (0.75 + 0.5 * params["size"])
        self._thick = [np.maximum(1, np.round(thick * more)).astype(np.int64) for more in (1.0, 1.07)]
        # An all-pass rings too: no longer than half of the decay.
        self._thick_gains = np.minimum(thick_gain, 10.0 ** (-6.0 * thick / (rate * params["decay_s"])))
        self._thick_state = np.zeros((2, _MOST_ALLPASSES, math.ceil(_LONGEST_ALLPASS_S * rate) + 2))
        self._thick_at_state = np.zeros((2, 1), dtype=np.int64)
        self._plate = space == "plate"
        self._plate_state = np.zeros((2, _DISPERSING))
        early = np.array(_EARLY[space]).reshape(-1, 3)
        turn = 0.5 * np.pi * early[:, 2]
        self._early_frames = np.round(early[:, 0] * (scale * 1e-3 * rate)).astype(np.int64)
        share = _EARLY_SHARE * min(1.0, params["decay_s"] / 0.6)
        self._early_gains = 0.5 * share * early[:, 1] * np.array([np.cos(turn), np.sin(turn)])
        self._early_state = np.zeros(math.ceil(_MOST_SCALE * _LONGEST_EARLY_S * rate) + 2)

    def adopt(self, older: Any) -> bool:
        """A longer line reads again what was played before. In a tail that was louder, in a held sound as loud: half of the
        difference (in dB) is taken off. Between lines and a tail that stops, the old one rings on beside the new one."""
        other = len(self._answering) != len(older._answering)
        self._gone_left = round(older._params["decay_s"] * self._rate) + older.latency if other else older._gone_left
        self._gone = copy.deepcopy(older._answering if other else older._gone) if self._gone_left else []
        self._lines_left = round(_RINGS_ON * self._params["decay_s"] * self._rate) if other else older._lines_left
        super().adopt(older)  # all of it fits, but for what a longer tail that stops has not heard
        if other and older._gone:  # back again before it was over
            self._answering[0].adopt(older._gone[0])
        self._ring_state *= self._lengthened(older)[:, None].astype(np.float32)
        return True

    def _lengthened(self, older: Reverb) -> FloatArray:
        """Gain of what is in each line, for the frames by which it has become longer."""
        more = self._network.delays - older._network.delays
        return np.asarray(10.0 ** (-1.5 * more / (self._rate * self._params["decay_s"])))

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        x = self._before.process(x)
        cut = x
        if (
            not self._answering or self._params["low_cut_hz"] > 20.0
        ):  # a tail that stops has no loop for DC to pile up in
            cut = np.empty_like(x)
            svf_highpass(x, self._low_cut, self._low_cut_state, cut)
        if self._answering:
            y = _answered(self._answering[0], cut)
            n = min(self._lines_left, x.shape[1])
            if n:
                y[:, :n] += self._through_lines(np.zeros((2, n)))
                self._lines_left -= n
        else:
            y = self._through_lines(cut)
            n = min(self._gone_left, x.shape[1])
            if self._gone:
                y[:, :n] += _answered(self._gone[0], np.zeros((2, n)))
                self._gone_left -= n
                self._gone = self._gone if self._gone_left else []
        return self._widened(y)

    def _through_lines(self, x: Stereo) -> Stereo:
        """The first reflections of x, and what the network makes of it."""
        thick = np.empty(x.shape)
        for c in range(2):
            allpass_chain(
                x[c], self._thick[c], self._thick_gains, self._thick_state[c], self._thick_at_state[c], thick[c]
            )
        if self._plate:
            disperse(thick, _DISPERSION, self._plate_state, thick)
        net = self._network
        thick *= net.level
        y = np.empty(x.shape)
        feedback_network(
            thick, self.position, net.delays, net.gains, net.poles, self._sway, self._sway_rate, self._ring_state,
            self._write_state, self._held_state, y,
        )  # fmt: skip
        self._reflect(x, y)
        return y

    def _reflect(self, x: Stereo, y: Stereo) -> None:
        """In place: adds to y the first reflections of x."""
        past, n = self._early_state.shape[0], x.shape[1]
        joined = np.empty(past + n)
        joined[:past] = self._early_state
        np.add(x[0], x[1], out=joined[past:])
        self._early_state = joined[n:].copy()
        add_taps(joined, past - self._early_frames, self._early_gains, y)

    def _widened(self, y: Stereo) -> Stereo:
        width = self._params["width_pct"] / 100.0
        if width == 1.0:
            return y
        mid, side = 0.5 * (y[0] + y[1]), 0.5 * width * (y[0] - y[1])
        return np.stack([mid + side, mid - side])


def _answered(convolver: Sides[Convolver], x: Stereo) -> Stereo:
    """What both sides answer, (2, n), to x (2, n), late by a partition."""
    # (which response, which side it came in from, frames)
    return np.ascontiguousarray(convolver.process(x, Convolver.process).sum(axis=1))


def impulse_response(params: Values, seconds: float, rate_hz: int) -> FloatArray:
    """What a click gives, shape (2, frames), for pictures and tests."""
    processor = Reverb(params, Host(rate_hz))
    click = np.zeros((2, round(seconds * rate_hz)))
    click[:, 0] = 1.0
    return processor.process(click, None)
