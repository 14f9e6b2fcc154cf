"""A chain applied to audio outside any session, as ``zygotone process`` does."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence

import numpy as np

from zygotone.devices import Host
from zygotone.dsp.types import OFFLINE_BLOCK_FRAMES, Stereo
from zygotone.engine.block_graph import BlockGraph
from zygotone.engine.chain_nodes import ChainCompiler
from zygotone.engine.nodes import SourceNode
from zygotone.engine.runners import ReadSource
from zygotone.session.kinds import Device, walk

# A tail is rendered until it has been silent for a while, and for this long at most.
MAX_TAIL_S = 30.0
_QUIET_S, _QUIET_RINGING_S = 0.3, 4.5  # an echo may be seconds away
_TAIL_BLOCK = 4096
_SILENT = 10.0 ** (-120.0 / 20.0)


class _Feed:
    """Blocks as they come, read again in the order of the song."""

    def __init__(self) -> None:
        self.block = np.zeros((2, 0))

    def read(self, start: int, frames: int) -> Stereo:
        return self.block


def chain_blocks(
    blocks: Iterable[tuple[Stereo, Stereo | None]],
    devices: Sequence[Device],
    host: Host,
    *,
    keyed: bool = False,
    max_tail_s: float = MAX_TAIL_S,
) -> Iterator[Stereo]:
    """Blocks of (signal, key), each (2, n), through ``devices``: as many frames as went in, then the tail.

    The latency they cause is taken off. With ``keyed`` every device that takes a key hears the second of each pair.
    Memory does not grow with the length.
    """
    signal, key = _Feed(), _Feed()
    signal_node, key_node = SourceNode("in", ("in", "source"), 0), SourceNode("key", ("key", "source"), 0)
    compiler = ChainCompiler(
        host.rate_hz, host.bpm, lambda device: key_node if keyed and device.spec.takes_key else None
    )
    end = compiler.chain("in", devices, signal_node)
    graph = BlockGraph(host)

    def reader(node: SourceNode) -> ReadSource:
        return signal.read if node is signal_node else key.read

    graph.show([end], reader)
    at, given = 0, 0

    def pull(x: Stereo, k: Stereo | None) -> Stereo:
        nonlocal at
        signal.block = x
        if keyed:
            key.block = np.zeros_like(x) if k is None else k
        y = graph.block(at, x.shape[1])[end.key]
        skip = min(x.shape[1], max(0, end.latency - at))
        at += x.shape[1]
        return y[:, skip:] if skip else y

    for x, k in blocks:
        given += x.shape[1]
        yield pull(x, k)
    rings = any(device.spec.rings for _, device in walk(devices) if device.on)
    enough = (_QUIET_RINGING_S if rings else _QUIET_S) * host.rate_hz
    owed, quiet, tail = end.latency, 0, 0
    while owed > 0:
        n = min(_TAIL_BLOCK, owed)
        owed -= n
        yield pull(np.zeros((2, n)), None)
    silence: list[Stereo] = []  # held back: it belongs to the tail only if something follows it
    while given and quiet < enough and tail < max_tail_s * host.rate_hz:
        n = min(_TAIL_BLOCK, round(max_tail_s * host.rate_hz) - tail)
        y = pull(np.zeros((2, n)), None)
        tail += n
        loud = np.flatnonzero(np.max(np.abs(y), axis=0) >= _SILENT)
        if not len(loud):
            quiet += n
            silence.append(y)
            continue
        yield from silence
        last = int(loud[-1]) + 1
        yield y[:, :last]
        silence, quiet = [y[:, last:]], n - last


def process_chain(
    audio: Stereo,
    devices: Sequence[Device],
    rate_hz: int,
    *,
    key: Stereo | None = None,
    block_frames: int = OFFLINE_BLOCK_FRAMES,
    bpm: float = 120.0,
    clip: Callable[[str], Stereo] | None = None,
    max_tail_s: float = MAX_TAIL_S,
) -> Stereo:
    """``audio`` (2, frames) through ``devices``; see ``chain_blocks``. ``key`` (2, any frames) begins with the audio."""
    host = Host(rate_hz, bpm) if clip is None else Host(rate_hz, bpm, clip)

    def cut() -> Iterator[tuple[Stereo, Stereo | None]]:
        for at in range(0, audio.shape[1], block_frames):
            n = min(block_frames, audio.shape[1] - at)
            yield np.ascontiguousarray(audio[:, at : at + n]), None if key is None else _padded(key, at, n)

    parts = list(chain_blocks(cut(), devices, host, keyed=key is not None, max_tail_s=max_tail_s))
    return np.ascontiguousarray(np.concatenate(parts, axis=1)) if parts else np.zeros((2, 0))


def _padded(audio: Stereo, at: int, n: int) -> Stereo:
    part = audio[:, at : at + n]
    if part.shape[1] < n:
        part = np.pad(part, ((0, 0), (0, n - part.shape[1])))
    return np.ascontiguousarray(part)
