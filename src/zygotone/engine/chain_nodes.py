"""Devices compiled into nodes; a split becomes parallel branches."""

from __future__ import annotations

import functools
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import TypeAlias, TypeVar

import numpy as np

from zygotone.devices import Host, make_processor
from zygotone.engine.nodes import BlendNode, DeviceNode, Motion, Node, StripNode, SumNode
from zygotone.session.kinds import Device, branches
from zygotone.session.params import Values
from zygotone.session.value import digest_of

_N = TypeVar("_N", bound=Node)
Place: TypeAlias = tuple[str, str]


class Kept:
    """The nodes of a compilation by their place, for the next one: what is made of the same things *is* the old node."""

    def __init__(self, before: Kept | None = None) -> None:
        self._before = before._nodes if before is not None else {}
        self._nodes: dict[Place, tuple[tuple[object, ...], Node]] = {}

    def node(self, place: Place, made_of: tuple[object, ...], make: Callable[[], _N]) -> _N:
        """The old node where ``made_of`` is what it was made of: the same objects, or equal numbers and texts."""
        old = self._before.get(place)
        if old is not None and len(old[0]) == len(made_of) and all(map(_same, old[0], made_of)):
            node = old[1]
        else:
            node = make()
        self._nodes[place] = (made_of, node)
        return node  # type: ignore[return-value]  # of one place and the same things: of one class

    def forget_before(self) -> None:
        """So that no row of old compilations is held."""
        self._before = {}


def _same(a: object, b: object) -> bool:
    return a is b or (isinstance(a, (str, float, int, tuple)) and a == b)


@functools.lru_cache(maxsize=2048)
def _latency(kind: str, params: Values, rate_hz: int, bpm: float) -> int:
    # A clip only decides what is heard; a moment of silence in its place has the same latency.
    device = Device.model_construct(kind=kind, params=params)
    return make_processor(device, Host(rate_hz, bpm, lambda name: np.zeros((2, 1)))).latency


@dataclass(slots=True)
class ChainCompiler:
    """Turns devices into nodes. ``key_node`` finds what a device listens to, None for its own signal."""

    rate_hz: int
    bpm: float
    key_node: Callable[[Device], Node | None]
    kept: Kept = field(default_factory=Kept)
    motions: Callable[[str, str], tuple[Motion, ...]] = lambda strip, path: ()
    # Signal before and after each device, by strip id and path.
    taps: dict[tuple[str, str], tuple[Node, Node]] = field(default_factory=dict)

    def chain(self, owner: str, devices: Sequence[Device], node: Node, prefix: str = "") -> Node:
        for device in devices:
            path = prefix + device.id
            before = node
            if device.spec.holds_chains:
                node = self._split(owner, device, node, path)
            elif device.on:
                node = self._device(owner, device, node, path)
            elif device.spec.rings:
                node = self._off(owner, device, node, path)
            self.taps[owner, path] = (before, node if device.on else before)
        return node

    def _off(self, owner: str, device: Device, node: Node, path: str) -> Node:
        def make() -> DeviceNode:
            key = digest_of("off", device.kind, path, node.key)
            return DeviceNode(key, (owner, path), node.latency, (node,), device=device, bpm=self.bpm)

        return self.kept.node((owner, path), (device, self.bpm, node), make)

    def _device(self, owner: str, device: Device, node: Node, path: str) -> Node:
        heard = self.key_node(device)
        inputs = (node,) if heard is None else (node, heard)
        motions = self.motions(owner, path)
        digests = tuple(m.digest for m in motions)

        def make() -> DeviceNode:
            latency = max(n.latency for n in inputs) + _latency(device.kind, device.params, self.rate_hz, self.bpm)
            key = digest_of(
                "device", self.rate_hz, self.bpm, device.kind, device.params.digest, device.mix, *digests,
                *(n.key for n in inputs), len(inputs),
            )  # fmt: skip
            return DeviceNode(key, (owner, path), latency, inputs, device=device, bpm=self.bpm, motions=motions)

        return self.kept.node((owner, path), (device, self.rate_hz, self.bpm, digests, *inputs), make)

    def _split(self, owner: str, device: Device, node: Node, path: str) -> Node:
        """Branches side by side, aligned and summed; no branch is a plain wire."""
        if not device.on or not branches(device):
            return node
        ends: list[Node] = []
        for n, branch in enumerate(branches(device)):
            motions = tuple(m for m in self.motions(owner, path) if m.path == f"branches.{n}.gain_db")
            end = self.chain(owner, branch["devices"], node, f"{path}/{n}/")
            ends.append(self.fader((owner, f"{path}/{n}"), end, branch["gain_db"], 0.0, motions))
        motions = tuple(m for m in self.motions(owner, path) if m.path == "mix")
        return self._blend((owner, path), node, self.summed((owner, f"{path}/sum"), ends), device.mix, motions)

    def fader(
        self, place: Place, node: Node, level_db: float, pan_pct: float, motions: tuple[Motion, ...] = ()
    ) -> Node:
        """``node`` at another level and place; itself where nothing would change."""
        if level_db == 0.0 and pan_pct == 0.0 and not motions:
            return node
        digests = tuple(m.digest for m in motions)

        def make() -> StripNode:
            key = digest_of("fader", level_db, pan_pct, self.bpm, *digests, node.key)
            return StripNode(
                key, place, node.latency, (node,), level_db=level_db, pan_pct=pan_pct, bpm=self.bpm, motions=motions
            )  # fmt: skip

        return self.kept.node(place, (level_db, pan_pct, self.bpm, digests, node), make)

    def summed(self, place: Place, members: Sequence[Node], *, always: bool = False) -> Node:
        """The sum of ``members``; of a single one itself, unless a sum is wanted ``always``."""
        if len(members) == 1 and not always:
            return members[0]

        def make() -> SumNode:
            latency = max((n.latency for n in members), default=0)
            return SumNode(digest_of("sum", *(n.key for n in members)), place, latency, tuple(members))

        return self.kept.node(place, tuple(members), make)

    def _blend(self, place: Place, dry: Node, wet: Node, mix: float, motions: tuple[Motion, ...]) -> Node:
        if mix == 1.0 and not motions:
            return wet
        digests = tuple(m.digest for m in motions)

        def make() -> BlendNode:
            key = digest_of("blend", mix, self.bpm, *digests, dry.key, wet.key)
            latency = max(dry.latency, wet.latency)
            return BlendNode(key, place, latency, (dry, wet), mix=mix, bpm=self.bpm, motions=motions)

        return self.kept.node(place, (mix, self.bpm, digests, dry, wet), make)
