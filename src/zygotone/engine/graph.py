"""A session compiled into nodes in dependency order.

source → chain → level and pan → group bus → mix bus, with key inputs as further edges. Each node has a *key*, a
digest of everything its sound depends on; two nodes with one key sound the same, whatever session they are from.
"""

from __future__ import annotations

import functools
import hashlib
from dataclasses import dataclass

from zygotone.devices import make_processor
from zygotone.errors import LoopError
from zygotone.session.models import Device, Session, Strip, Track, Value


@functools.lru_cache(maxsize=4096)
def _value_digest(value: Value) -> str:
    return _digest(value.model_dump_json())


def _digest(*parts: object) -> str:
    return hashlib.blake2b("\x1f".join(map(str, parts)).encode(), digest_size=16).hexdigest()


@functools.lru_cache(maxsize=1024)
def device_latency(device: Device, rate_hz: int) -> int:
    return make_processor(device, rate_hz).latency


@dataclass(frozen=True, slots=True, eq=False)
class Node:
    """One step of the graph. ``latency`` is that of its output, in frames behind the song."""

    key: str
    place: tuple[str, str]  # strip id and device id (or what it is): whose memory a changed node takes over
    latency: int
    inputs: tuple[Node, ...] = ()


@dataclass(frozen=True, slots=True, eq=False)
class SourceNode(Node):
    track: Track | None = None


@dataclass(frozen=True, slots=True, eq=False)
class DeviceNode(Node):
    """``inputs`` are the signal and, where one is connected, the key."""

    device: Device | None = None


@dataclass(frozen=True, slots=True, eq=False)
class StripNode(Node):
    level_db: float = 0.0
    pan_pct: float = 0.0


@dataclass(frozen=True, slots=True, eq=False)
class SumNode(Node):
    pass


@dataclass(frozen=True, slots=True)
class Graph:
    """The compiled session: for each strip its raw signal, its chain's output, and its output after level and pan.

    Muted tracks are compiled too, since they may be somebody's key; they are only left out of the sums.
    """

    session: Session
    raw: dict[str, Node]
    chain: dict[str, Node]
    strip: dict[str, Node]

    @property
    def mix(self) -> Node:
        return self.strip[self.session.mix.id]

    def tap(self, strip_id: str, device_id: str) -> tuple[Node, Node]:
        """The signal before and after one device of a chain; both the same where it is switched off."""
        before = self.raw[strip_id]
        node = self.chain[strip_id]
        while node.place != (strip_id, device_id):
            if not isinstance(node, DeviceNode):
                return before, before
            node = node.inputs[0]
        return node.inputs[0], node


def compile_session(session: Session) -> Graph:
    """Raises LoopError where tracks listen to each other in a circle, naming them."""
    raw: dict[str, Node] = {}
    chain: dict[str, Node] = {}
    strip_out: dict[str, Node] = {}
    open_: list[str] = []
    rate = session.rate_hz
    solo = any(t.solo for t in session.tracks) or any(b.solo for b in session.buses)

    song_digest = _value_digest(session.song.replace(title="", key="C major"))

    def source(track: Track) -> Node:
        if track.id not in raw:
            key = _digest("source", rate, song_digest, _value_digest(track.source), track.nudge_ms)
            raw[track.id] = SourceNode(key, (track.id, "source"), 0, track=track)
        return raw[track.id]

    def through_chain(strip: Strip, node: Node) -> Node:
        for device in strip.chain:
            if not device.on:
                continue
            inputs = [node]
            if device.key is not None:
                keyed = session.track(device.key.track)
                inputs.append(source(keyed) if device.key.tap == "before" else track_chain(keyed))
            latency = max(n.latency for n in inputs) + device_latency(device, rate)
            same_sound = device.replace(id="x", label="", key=None)
            key = _digest("device", rate, _value_digest(same_sound), *(n.key for n in inputs), len(inputs))
            node = DeviceNode(key, (strip.id, device.id), latency, tuple(inputs), device=device)
        return node

    def track_chain(track: Track) -> Node:
        if track.id in chain:
            return chain[track.id]
        if track.id in open_:
            circle = [*open_[open_.index(track.id) :], track.id]
            names = " → ".join(session.track(i).name for i in circle)
            raise LoopError(f"these tracks listen to each other in a circle: {names}")
        open_.append(track.id)
        chain[track.id] = through_chain(track, source(track))
        open_.pop()
        return chain[track.id]

    def fader(strip: Strip, node: Node) -> Node:
        if strip.level_db == 0.0 and strip.pan_pct == 0.0:
            return node
        key = _digest("strip", strip.level_db, strip.pan_pct, node.key)
        return StripNode(
            key, (strip.id, "fader"), node.latency, (node,), level_db=strip.level_db, pan_pct=strip.pan_pct
        )

    def bus(strip: Strip, members: list[Node]) -> None:
        latency = max((n.latency for n in members), default=0)
        node: Node = SumNode(_digest("sum", *(n.key for n in members)), (strip.id, "sum"), latency, tuple(members))
        raw[strip.id] = node
        chain[strip.id] = through_chain(strip, node)
        strip_out[strip.id] = fader(strip, chain[strip.id])

    into: dict[str, list[Node]] = {b.id: [] for b in (*session.buses, session.mix)}
    for track in session.tracks:
        strip_out[track.id] = fader(track, track_chain(track))
        bus_solo = track.bus is not None and any(b.solo for b in session.buses if b.id == track.bus)
        if not track.mute and (track.solo or bus_solo or not solo):
            into[track.bus or session.mix.id].append(strip_out[track.id])
    for group in session.buses:
        bus(group, into[group.id])
        if not group.mute and into[group.id]:
            into[session.mix.id].append(strip_out[group.id])
    bus(session.mix, into[session.mix.id])
    return Graph(session, raw, chain, strip_out)
