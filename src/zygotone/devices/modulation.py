"""What chorus, doubler and vibrato share: copies of the signal at moving delays."""

from __future__ import annotations

import numpy as np

from zygotone.devices.base import Host, Processor
from zygotone.dsp.lfo import SHAPES
from zygotone.dsp.moving import balanced_places
from zygotone.dsp.moving_lines import NEAREST_IN_BLOCKS, TAPS, modulated_voices, sinc_branches
from zygotone.dsp.types import Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values


class MovingVoices(Processor):
    """Subclasses say in ``_setting`` where the voices are and how they move."""

    remembers = ("_past_state", "_ring_state", "_write_state", "_held_state")

    def __init__(self, params: Values, host: Host) -> None:
        rate = host.rate_hz
        self._params = params
        self._base, self._apart, self._depth, voices, self._spread, self._feedback = self._setting(params, rate)
        self._depth = min(self._depth, self._base - NEAREST_IN_BLOCKS)
        self._places = np.array(balanced_places(voices))
        self._rate = self._cycles_a_second(params, host.bpm) / rate
        self._shape = SHAPES.index(self._shape_name(params))
        self._past_state = np.zeros((2, TAPS - 1))
        self._ring_state = np.zeros((2, self._longest(rate), 8))
        self._write_state = np.zeros(1)
        self._held_state = np.zeros(2)

    def _setting(self, params: Values, rate_hz: int) -> tuple[float, float, float, int, float, float]:
        """First delay, distance between voices and depth in frames; voices; spread 0 to 1; feedback."""
        raise NotImplementedError

    def _cycles_a_second(self, params: Values, bpm: float) -> float:
        return self._kind().param("rate").number_of(params["rate"], bpm=bpm)

    def _kind(self) -> Kind:
        raise NotImplementedError

    def _shape_name(self, params: Values) -> str:
        return "sine"

    def _longest(self, rate_hz: int) -> int:
        """Room in the line, the same for all settings, so that it can be taken over after an edit."""
        return round(0.16 * rate_hz) + TAPS

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        y = np.empty_like(x)
        modulated_voices(
            x, self._past_state, self._ring_state, self._write_state, self._held_state, self.position, self.turns, self._rate, self._shape, self._base,
            self._apart, self._depth, self._places, self._spread, self._feedback, sinc_branches(), y,
        )  # fmt: skip
        return y
