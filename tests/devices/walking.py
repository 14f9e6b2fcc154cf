"""Devices whose settings change while they run: what can be set, and a runner as playback has it."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from typing import Any

import numpy as np

from zygotone.devices import Host
from zygotone.engine.lane_motion import LaneMotion
from zygotone.engine.nodes import DeviceNode, SourceNode
from zygotone.engine.runners import DeviceRunner
from zygotone.session.automation import Lane, Point
from zygotone.session.catalogue import DEVICES
from zygotone.session.kinds import moving_params
from zygotone.session.models import Device
from zygotone.session.params import Param
from zygotone.session.paths import read_path

RATE = 48000
BPM = 120.0


def clip(name: str) -> np.ndarray:
    """Impulse files of two lengths, for devices that take one."""
    length = {"short": 900, "long": 30000}[name]
    t = np.arange(length)
    return np.random.default_rng(len(name)).standard_normal((2, length)) * np.exp(-t / (0.2 * length))


HOST = Host(RATE, BPM, clip)


def values_of(param: Param) -> list[Any]:
    """Settings from one end to the other."""
    if param.type == "bool":
        return [False, True]
    if param.type == "choice":
        return list(param.choices)
    if param.type == "file":
        return ["", "short", "long"]
    if param.type == "list":
        if param.entries == "plain":
            low, high = values_of(param.items[0])[0], values_of(param.items[0])[-1]
            return [[], [low], [high], [low, high]]
        if param.entries == "device":
            return [[]]
        return [
            [{p.name: values_of(p)[n % len(values_of(p))] for p in param.items}] * count
            for count in (1, 2, 3)
            for n in range(4)
        ]
    if param.type == "int":
        return sorted({int(param.low), int(param.default), int(param.high)})
    found = [param.value_at(place) for place in (0.0, 0.12, 0.5, 0.88, 1.0)]
    return [*found, "1/16t"] if param.type == "note_time" else found


def pairs(kind: str, busy: dict[str, Any]) -> Iterator[tuple[str, Device, Device]]:
    """Each parameter's name, and the device before and after it changes, for every pair of its values."""
    spec = DEVICES.find(kind)
    for param in spec.params:
        for one, other in itertools.permutations(values_of(param), 2):
            made = [Device.model_validate({"kind": kind, **busy, param.name: value}) for value in (one, other)]
            yield param.name, made[0], made[1]


def moving(device: Device, path: str, points: list[tuple[float, float]], *, steps: bool) -> DeviceRunner:
    """A device with one parameter automated: (second, value) of each point."""
    param = {**moving_params(device)}[path]
    made = tuple(Point(beat=s * BPM / 60.0, value=v) for s, v in points)
    lane = Lane(id="l", strip="s", device="d", param=path, shape="steps" if steps else "points", points=made)
    node = SourceNode("in", ("s", "source"), 0)
    motions = (LaneMotion(param, path, lane, 0.0, float("inf")),)
    return DeviceRunner(DeviceNode("d", ("s", "d"), 0, (node,), device=device, bpm=BPM, motions=motions), HOST)


def still(device: Device) -> DeviceRunner:
    node = SourceNode("in", ("s", "source"), 0)
    return DeviceRunner(DeviceNode("d", ("s", "d"), 0, (node,), device=device, bpm=BPM), HOST)


def run(runner: DeviceRunner, x: np.ndarray, *, block: int = 4096, start: int = 0) -> np.ndarray:
    """x (2, n) in blocks, the first of which is at ``start`` of the song."""
    parts = []
    for at in range(0, x.shape[1], block):
        here = np.ascontiguousarray(x[:, at : at + block])
        parts.append(runner.block(start + at, here.shape[1], [here]))
    return np.concatenate(parts, axis=1)


def value_of(device: Device, path: str) -> Any:
    return read_path(device.params, path)
