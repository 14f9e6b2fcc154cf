"""Rooms, halls, plates, and a tail that stops short."""

from __future__ import annotations

import math

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.convolution import Convolver, convolved_sides
from zygotone.dsp.delays import DelayLine
from zygotone.dsp.filters import BUTTERWORTH_Q, SosStereo, highpass_sos
from zygotone.dsp.lines import allpass_chain
from zygotone.dsp.reverberation import LINES, design_network, feedback_network, velvet_tail
from zygotone.dsp.sides import Sides
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, choice, frequency, note_time, number, percent, share

KIND = Kind(
    kind="reverb",
    title="Reverb",
    summary="A space around the sound: room, hall or plate, or a nonlinear tail that stops.",
    usual_mix=0.25,
    rings=True,
    params=(
        choice("space", "Space", ("room", "hall", "plate", "nonlinear"), "hall", "Its build: a nonlinear one stays level and then stops."),
        number("decay_s", "Decay", "s", 0.1, 20.0, 1.8, "Time in which it falls by 60 dB; of a nonlinear one, until it stops.", scale="log"),
        note_time("predelay", "Pre-delay", "ms", 0.0, 500.0, 12.0, "Before the space answers, in ms or as a note value.", scale="linear"),
        share("size", "Size", 0.5, "Of the space; a small one is dense at once."),
        frequency("damping_hz", "Damping", 12000.0, "Where it decays twice as fast as below.", low=500.0),
        frequency("low_cut_hz", "Low cut", 20.0, "What lies below does not get into it; 20 Hz is off.", high=1000.0),
        percent("width_pct", "Width", 100.0, "0 is mono, 100 as wide as it comes.", high=150.0),
    ),
)  # fmt: skip

# Shortest and longest line in seconds, and how the input is thickened: all-pass delays in ms and their gain.
_SPACES = {
    "room": (0.0065, 0.026, (1.31, 2.63, 4.19, 6.71), 0.62),
    "hall": (0.019, 0.078, (3.11, 5.23, 8.89, 13.37), 0.65),
    "plate": (0.0045, 0.031, (0.97, 1.93, 3.41, 5.87), 0.7),
}
# First reflections of room and hall: time in ms at size 0.5, level, side (0 left to 1 right). Our own, by trial.
_EARLY = {
    "room": ((3.1, 0.62, 0.2), (5.3, 0.55, 0.85), (8.2, 0.45, 0.4), (11.9, 0.38, 0.7), (16.7, 0.3, 0.1), (21.1, 0.25, 0.95)),
    "hall": ((11.3, 0.5, 0.15), (17.9, 0.45, 0.9), (26.3, 0.4, 0.35), (37.1, 0.34, 0.75), (49.7, 0.28, 0.05), (66.1, 0.22, 1.0)),
    "plate": (),
}  # fmt: skip
_EARLY_SHARE = 0.35
_SWAY_S, _SWAY_HZ = 0.0004, 1.1
# The damping takes a little from the middle too: with this the octaves of 500 and 1000 Hz decay in the time that is set.
_MIDDLE = 1.03
_MODES_S, _ROUND = 0.3, 0.09
_VELVET_HZ = 2400.0  # pulses a second: dense enough to be smooth (Karjalainen and Järveläinen 2007)


@device(KIND)
class Reverb(Processor):
    def __init__(self, params: Values, host: Host) -> None:
        rate = host.rate_hz
        self._params = params
        predelay_ms = KIND.param("predelay").number_of(params["predelay"], bpm=host.bpm)
        predelay = round(predelay_ms * 1e-3 * rate)
        self.tail_s = params["decay_s"] + predelay_ms * 1e-3
        self._low_cut: SosStereo | None = None
        if params["low_cut_hz"] > 20.0:
            self._low_cut = SosStereo(highpass_sos(params["low_cut_hz"], BUTTERWORTH_Q, sample_rate_hz=rate))
        self._convolved: Sides[Convolver] | None = None
        if params["space"] == "nonlinear":
            tail = velvet_tail(
                params["decay_s"], density_hz=_VELVET_HZ, fade_s=0.012, damping_hz=params["damping_hz"], seed=3,
                sample_rate_hz=rate,
            )  # fmt: skip
            self.latency = 256 if tail.shape[1] < 48000 else 1024
            self._convolved = convolved_sides(*tail, partition=self.latency)
            self._before = DelayLine(predelay)
            return
        shortest, longest, thick_ms, self._thick_gain = _SPACES[params["space"]]
        scale = 2.0 ** (2.0 * params["size"] - 1.0)
        # A sound must go round often while it decays, or there are echoes; and so long a decay needs so many modes,
        # which is so much line in all, or they are heard one by one.
        scale = min(
            max(scale, _MODES_S * params["decay_s"] / (LINES * math.sqrt(shortest * longest))),
            _ROUND * params["decay_s"] / longest,
        )
        self._network = design_network(
            scale * shortest,
            scale * longest,
            decay_s=_MIDDLE * params["decay_s"],
            damping_hz=params["damping_hz"],
            sample_rate_hz=rate,
        )
        self._sway = _SWAY_S * rate
        self._sway_rate = _SWAY_HZ / rate
        longest_frames = int(self._network.delays.max()) + 4 * math.ceil(self._sway) + 8
        self._ring_state = np.zeros((LINES, longest_frames))
        self._write_state = np.zeros(1, dtype=np.int64)
        self._held_state = np.zeros(LINES)
        self._before = DelayLine(predelay)
        thick = np.array(thick_ms) * 1e-3 * rate * min(0.6 + 0.8 * params["size"], _ROUND * params["decay_s"] / longest)
        self._thick = [np.round(thick), np.round(thick * 1.13)]
        self._thick_gains = np.full(len(thick), self._thick_gain)
        room = int(max(t.max() for t in self._thick)) + 2
        self._thick_state = np.zeros((2, len(thick), room))
        self._thick_at_state = np.zeros((2, len(thick)))
        self._early = [
            (
                round(ms * scale * 1e-3 * rate),
                level * math.cos(0.5 * math.pi * side),
                level * math.sin(0.5 * math.pi * side),
            )
            for ms, level, side in _EARLY[params["space"]]
        ]
        self._early_share = _EARLY_SHARE * min(1.0, params["decay_s"] / 0.6)
        self._early_state = np.zeros((2, max((frames for frames, _, _ in self._early), default=0)))

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        x = self._before.process(x)
        if self._low_cut is not None:
            x = self._low_cut.process(x)
        if self._convolved is not None:
            return self._widened(np.asarray(self._convolved.process(x, Convolver.process)[0]))
        thick = np.empty_like(x)
        for c in range(2):
            allpass_chain(
                x[c], self._thick[c], self._thick_gains, self._thick_state[c], self._thick_at_state[c], thick[c]
            )
        y = np.empty_like(x)
        net = self._network
        feedback_network(
            thick, self.position, net.delays, net.gains, net.poles, self._sway, self._sway_rate, self._ring_state,
            self._write_state, self._held_state, y,
        )  # fmt: skip
        y *= net.level
        if self._early:
            y += self._early_share * self._reflections(x)
        return self._widened(y)

    def _reflections(self, x: Stereo) -> Stereo:
        past = self._early_state.shape[1]
        joined = np.concatenate([self._early_state, x], axis=1)
        self._early_state = np.ascontiguousarray(joined[:, x.shape[1] :])
        y = np.zeros_like(x)
        mono = 0.5 * (joined[0] + joined[1])
        for frames, left, right in self._early:
            part = mono[past - frames : past - frames + x.shape[1]]
            y[0] += left * part
            y[1] += right * part
        return y

    def _widened(self, y: Stereo) -> Stereo:
        width = self._params["width_pct"] / 100.0
        if width == 1.0:
            return y
        mid, side = 0.5 * (y[0] + y[1]), 0.5 * width * (y[0] - y[1])
        return np.stack([mid + side, mid - side])


def impulse_response(params: Values, seconds: float, rate_hz: int) -> FloatArray:
    """What a click gives, shape (2, frames), for pictures and tests."""
    processor = Reverb(params, Host(rate_hz))
    click = np.zeros((2, round(seconds * rate_hz)))
    click[:, 0] = 1.0
    return processor.process(click, None)
