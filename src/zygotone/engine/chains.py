"""A chain applied to audio outside any session, as ``zygotone process`` does."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from zygotone.dsp.types import Stereo
from zygotone.engine.graph import DeviceNode, Node, SourceNode, device_latency
from zygotone.engine.runners import DeviceRunner
from zygotone.session.models import Device

# A tail is rendered until it has been silent for a while, and for this long at most.
MAX_TAIL_S = 30.0
_SILENT = 10.0 ** (-120.0 / 20.0)


def process_chain(
    audio: Stereo, devices: Sequence[Device], rate_hz: int, *, key: Stereo | None = None, block_frames: int = 4096
) -> Stereo:
    """``audio`` (2, frames) through ``devices``; the latency they cause is taken off, a tail may follow.

    ``key`` (2, any frames) feeds every device that takes a key; it begins with the audio.
    """
    key_node = SourceNode("key", ("key", "source"), 0)
    runners: list[DeviceRunner] = []
    node: Node = SourceNode("in", ("in", "source"), 0)
    for index, device in enumerate(devices):
        if not device.on:
            continue
        inputs = (node, key_node) if key is not None and device.spec.takes_key else (node,)
        latency = max(i.latency for i in inputs) + device_latency(device, rate_hz)
        node = DeviceNode(f"d{index}", ("in", f"d{index}"), latency, inputs, device=device)
        runners.append(DeviceRunner(node, rate_hz))
    frames, wanted = audio.shape[1], audio.shape[1] + node.latency
    out: list[Stereo] = []
    at = 0
    quiet = 0
    while at < wanted or (quiet < rate_hz // 4 and at < wanted + MAX_TAIL_S * rate_hz):
        n = min(block_frames, wanted - at) if at < wanted else block_frames
        block = _padded(audio, at, n)
        for runner in runners:
            inputs_now = [block] if len(runner.node.inputs) == 1 else [block, _padded(key, at, n)]
            block = runner.block(at, n, inputs_now)
        at += n
        if at > wanted:
            quiet = quiet + n if np.max(np.abs(block), initial=0.0) < _SILENT else 0
        out.append(block)
    whole = np.concatenate(out, axis=1)[:, node.latency :]
    loud = np.flatnonzero(np.max(np.abs(whole[:, frames:]), axis=0) >= _SILENT)
    tail = int(loud[-1]) + 1 if len(loud) else 0
    return np.ascontiguousarray(whole[:, : frames + tail])


def _padded(audio: Stereo | None, at: int, n: int) -> Stereo:
    if audio is None or at >= audio.shape[1]:
        return np.zeros((2, n))
    part = audio[:, at : at + n]
    if part.shape[1] < n:
        part = np.pad(part, ((0, 0), (0, n - part.shape[1])))
    return np.ascontiguousarray(part)
