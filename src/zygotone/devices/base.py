"""What a device is to the engine: a kind, declared in the catalogue, and a processor of blocks."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, TypeVar

from zygotone.dsp.memory import Memory
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.errors import ParameterError
from zygotone.session.catalogue import DEVICES, Kind
from zygotone.session.kinds import Device
from zygotone.session.params import Values


def _no_audio(name: str) -> Stereo:
    raise ParameterError(f"there is no clip {name!r} here")


@dataclass(frozen=True, slots=True)
class Host:
    """What surrounds a device: sample rate, tempo, and the clips it may ask for by name, shape (2, frames)."""

    rate_hz: int
    bpm: float = 120.0
    clip: Callable[[str], Stereo] = _no_audio
    automated: bool = False  # whether parameters will move while it runs
    live: bool = False  # whether somebody listens meanwhile, so that the time it takes counts


class Processor(Memory):
    """Turns blocks into blocks; what it remembers between blocks is its memory.

    The output never depends on how the input was cut into blocks. ``key`` is None where the device has no key
    input or none is connected; a device that takes a key then hears its own signal. Whatever repeats by itself (an LFO,
    noise) goes by ``position``, so that a section sounds alone as it does within the song.
    """

    latency = 0  # frames
    gain_db: FloatArray | None = None  # for devices whose gain moves: the gain over the last block, shape (n,)
    tail_s = 0.0  # how long it rings on after its input, to −60 dB
    # For devices whose memory is made of their input of late (filters): how much of it brings one up to date that goes on with
    # other parameters.
    settle_s = 0.0
    # Cycles to be added to position·rate, where the rate has moved on the way here.
    turns = 0.0
    position = 0  # frame of the song that the next input frame belongs to; set before each block

    def __init__(self, params: Values, host: Host) -> None:
        raise NotImplementedError

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        """x and the result (2, n); x is not written to."""
        raise NotImplementedError

    def settle(self, x: Stereo, key: Stereo | None, position: int) -> None:
        """Hear what came before ``position``, so as to go on from there as one that had always been there. x (2, n)."""
        self.position = position - x.shape[1]
        self.process(x, key)


_MAKERS: dict[str, Callable[[Values, Host], Processor]] = {}
_P = TypeVar("_P", bound=type[Processor])


def device(kind: Kind) -> Callable[[_P], _P]:
    """Enters a processor class under its kind."""
    DEVICES.enter(kind)

    def enter(cls: _P) -> _P:
        _MAKERS[kind.kind] = cls
        return cls

    return enter


def make_processor(device: Device, host: Host | int, params: Values | None = None) -> Processor:
    """The processor of a device, with ``params`` instead of its own where some are given. ``host`` may be a bare
    sample rate."""
    DEVICES.find(device.kind)
    made: Any = host if isinstance(host, Host) else Host(host)
    return _MAKERS[device.kind](device.params if params is None else params, made)
