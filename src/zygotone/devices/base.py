"""What a device is to the engine: a kind, declared in the catalogue, and a processor of blocks."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

import numpy as np

from zygotone.dsp.types import FloatArray, Stereo
from zygotone.session.catalogue import DEVICES, Kind
from zygotone.session.models import Device
from zygotone.session.params import Values


class Processor:
    """Turns blocks into blocks; everything it remembers between blocks is its state.

    The output never depends on how the input was cut into blocks. ``key`` is None where the device has no key
    input or none is connected; a device that takes a key then hears its own signal.
    """

    latency = 0  # frames
    gain_db: FloatArray | None = None  # for devices whose gain moves: the gain over the last block, shape (n,)

    def __init__(self, params: Values, rate_hz: int) -> None:
        raise NotImplementedError

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        """x and the result (2, n); x is not written to."""
        raise NotImplementedError

    def adopt(self, older: Processor) -> None:
        """Take over the memory of a processor of this kind whose parameters differ, where it fits."""
        for name, value in vars(older).items():
            mine: Any = vars(self).get(name)
            if isinstance(value, np.ndarray) and isinstance(mine, np.ndarray) and name.endswith("state"):
                if mine.shape == value.shape:
                    vars(self)[name] = value.copy()
            elif type(mine) is type(value) and hasattr(value, "state") and mine.state.shape == value.state.shape:
                mine.state = value.state.copy()


_MAKERS: dict[str, Callable[[Values, int], Processor]] = {}
_P = TypeVar("_P", bound=type[Processor])


def device(kind: Kind) -> Callable[[_P], _P]:
    """Enters a processor class under its kind."""
    DEVICES.enter(kind)

    def enter(cls: _P) -> _P:
        _MAKERS[kind.kind] = cls
        return cls

    return enter


def make_processor(device: Device, rate_hz: int) -> Processor:
    return _MAKERS[device.kind](device.params, rate_hz)
