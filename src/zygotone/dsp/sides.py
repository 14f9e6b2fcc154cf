"""Processing that works on one channel, for both sides of stereo audio."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Generic, TypeVar

import numpy as np
import numpy.typing as npt

from zygotone.dsp.compile import kernel
from zygotone.dsp.memory import Memory
from zygotone.dsp.types import FloatArray, Single, Stereo

T = TypeVar("T", bound=Memory)
_GLANCE = 997  # every so many frames are looked at first: what differs mostly differs there too


def are_alike(x: npt.NDArray[Any]) -> bool:
    """Whether the sides of x (1 or 2, n) are two and the same to the last bit."""
    return len(x) == 2 and np.array_equal(x[0, ::_GLANCE], x[1, ::_GLANCE]) and np.array_equal(x[0], x[1])


@kernel
def add_at(audio: Single, begin: int, gains: FloatArray, out: Stereo, first: int, last: int) -> None:
    """Adds to out (2, n), from frame first to last, what audio (1 or 2, n) holds from frame begin on, times gains (2, 1)."""
    for side in range(2):
        row, gain = audio[min(side, audio.shape[0] - 1)], gains[side, 0]
        here, there = out[side, first:last], row[begin : begin + last - first]
        for i in range(last - first):
            here[i] += gain * there[i]


@kernel
def both_from(audio: Stereo | Single, begin: int, out: Stereo) -> None:
    """Into out (2, n) what audio (1 or 2, frames) holds from frame begin on."""
    for side in range(2):
        row, here = audio[min(side, audio.shape[0] - 1)], out[side]
        there = row[begin : begin + here.shape[0]]
        for i in range(here.shape[0]):
            here[i] = there[i]


class Sides(Memory, Generic[T]):
    """Two of the same, one a side. As long as both sides have been given the same (a guitar before it is panned), one
    works for both."""

    remembers = ("_alike_state",)

    def __init__(self, left: Callable[[], T], right: Callable[[], T] | None = None) -> None:
        """How each side's is made; without ``right`` they are alike."""
        self._left, self._right = left(), (right or left)()
        self._same = right is None
        self._alike_state = np.array([self._same])

    def process(self, x: Stereo, work: Callable[[T, FloatArray], FloatArray]) -> FloatArray:
        """x (2, n) to (..., 2, n); ``work`` takes one side, (n,), to (..., n)."""
        if self._alike_state[0] and not are_alike(x):
            self._part()
        one = work(self._left, x[0])
        y = np.empty((*one.shape[:-1], 2, one.shape[-1]))
        y[..., 0, :] = one
        y[..., 1, :] = one if self._alike_state[0] else work(self._right, x[1])
        return y

    def each(self, work: Callable[[T], None]) -> None:
        """Do something to both."""
        work(self._left)
        work(self._right)

    def _part(self) -> None:
        """From here on the sides differ; what the right one remembers is what the left one does."""
        self._right.adopt(self._left)
        self._alike_state[0] = False

    def adopt(self, older: Any) -> bool:
        whole = super().adopt(older)
        if self._alike_state[0] and not self._same:
            self._part()
        return whole
