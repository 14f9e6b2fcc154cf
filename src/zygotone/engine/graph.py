"""A session compiled into nodes in dependency order.

source → chain → level and pan → group bus → mix bus, with sends and key inputs as further edges; a split becomes
parallel branches. Each node has a *key*, a digest of everything its sound depends on; two nodes with one key sound the
same, whatever session they are from.
"""

from __future__ import annotations

import functools
import hashlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np

from zygotone.devices import Host, make_processor
from zygotone.errors import LoopError
from zygotone.session.automation import Lane
from zygotone.session.models import Device, InstrumentSource, Layer, Session, Strip, Track, branches
from zygotone.session.params import Param, Values
from zygotone.session.value import Value
from zygotone.sources.instrument import fader_paths, unfaded


@functools.lru_cache(maxsize=4096)
def _value_digest(value: Value) -> str:
    return _digest(value.model_dump_json())


def _digest(*parts: object) -> str:
    return hashlib.blake2b("\x1f".join(map(str, parts)).encode(), digest_size=16).hexdigest()


@functools.lru_cache(maxsize=2048)
def _latency(kind: str, params: Values, rate_hz: int, bpm: float) -> int:
    # A clip only decides what is heard; a moment of silence in its place has the same latency.
    device = Device.model_construct(kind=kind, params=params)
    return make_processor(device, Host(rate_hz, bpm, lambda name: np.zeros((2, 1)))).latency


@dataclass(frozen=True, slots=True)
class Motion:
    """A lane made ready: the parameter it moves, and the beats of the song in which it does."""

    param: Param
    path: str
    lane: Lane
    start_beat: float
    end_beat: float

    @property
    def digest(self) -> str:
        return _digest(self.path, _value_digest(self.lane), self.start_beat, self.end_beat)


@dataclass(frozen=True, slots=True, eq=False)
class Node:
    """One step of the graph. ``latency`` is that of its output, in frames behind the song."""

    key: str
    place: tuple[str, str]  # strip id and device path (or what it is): whose memory a changed node takes over
    latency: int
    inputs: tuple[Node, ...] = ()


@dataclass(frozen=True, slots=True, eq=False)
class SourceNode(Node):
    track: Track | None = None
    motions: tuple[Motion, ...] = ()
    layers: tuple[str, ...] = ()  # of an instrument: which of its layers
    faded: bool = True  # whether their levels and pans are in it, or come later


@dataclass(frozen=True, slots=True, eq=False)
class DeviceNode(Node):
    """``inputs`` are the signal and, where one is connected, the key. One that is off only lets its tail ring out."""

    device: Device | None = None
    bpm: float = 120.0
    motions: tuple[Motion, ...] = ()


@dataclass(frozen=True, slots=True, eq=False)
class StripNode(Node):
    """Level and pan."""

    level_db: float = 0.0
    pan_pct: float = 0.0
    bpm: float = 120.0
    motions: tuple[Motion, ...] = ()


@dataclass(frozen=True, slots=True, eq=False)
class SumNode(Node):
    pass


@dataclass(frozen=True, slots=True, eq=False)
class BlendNode(Node):
    """``inputs`` are dry and wet; of a split, since those of other devices blend inside."""

    mix: float = 1.0
    bpm: float = 120.0
    motions: tuple[Motion, ...] = ()


@dataclass(slots=True)
class ChainCompiler:
    """Turns devices into nodes. ``key_node`` finds what a device listens to, None for its own signal."""

    rate_hz: int
    bpm: float
    key_node: Callable[[Device], Node | None]
    motions: Callable[[str, str], tuple[Motion, ...]] = lambda strip, path: ()
    # Signal before and after each device, by strip id and path.
    taps: dict[tuple[str, str], tuple[Node, Node]] = field(default_factory=dict)

    def chain(self, owner: str, devices: Sequence[Device], node: Node, prefix: str = "") -> Node:
        for device in devices:
            path = prefix + device.id
            before = node
            if device.kind == "split":
                node = self._split(owner, device, node, path)
            elif device.on:
                node = self._device(owner, device, node, path)
            elif device.spec.rings:
                key = _digest("off", device.kind, path, node.key)
                node = DeviceNode(key, (owner, path), node.latency, (node,), device=device, bpm=self.bpm)
            self.taps[owner, path] = (before, node if device.on else before)
        return node

    def _device(self, owner: str, device: Device, node: Node, path: str) -> Node:
        heard = self.key_node(device)
        inputs = (node,) if heard is None else (node, heard)
        motions = self.motions(owner, path)
        latency = max(n.latency for n in inputs) + _latency(device.kind, device.params, self.rate_hz, self.bpm)
        same_sound = device.replace(id="x", label="", key=None)
        key = _digest(
            "device", self.rate_hz, self.bpm, _value_digest(same_sound), *(m.digest for m in motions),
            *(n.key for n in inputs), len(inputs),
        )  # fmt: skip
        return DeviceNode(key, (owner, path), latency, inputs, device=device, bpm=self.bpm, motions=motions)

    def _split(self, owner: str, device: Device, node: Node, path: str) -> Node:
        """Branches side by side, aligned and summed; no branch is a plain wire."""
        if not device.on or not branches(device):
            return node
        ends: list[Node] = []
        for n, branch in enumerate(branches(device)):
            motions = tuple(m for m in self.motions(owner, path) if m.path == f"branches.{n}.gain_db")
            end = self.chain(owner, branch["devices"], node, f"{path}/{n}/")
            ends.append(fader((owner, f"{path}/{n}"), end, branch["gain_db"], 0.0, self.bpm, motions))
        motions = tuple(m for m in self.motions(owner, path) if m.path == "mix")
        return blend((owner, path), node, summed((owner, f"{path}/sum"), ends), device.mix, self.bpm, motions)


def fader(
    place: tuple[str, str], node: Node, level_db: float, pan_pct: float, bpm: float, motions: tuple[Motion, ...] = ()
) -> Node:
    """``node`` at another level and place; itself where nothing would change."""
    if level_db == 0.0 and pan_pct == 0.0 and not motions:
        return node
    key = _digest("fader", level_db, pan_pct, bpm, *(m.digest for m in motions), node.key)
    return StripNode(
        key, place, node.latency, (node,), level_db=level_db, pan_pct=pan_pct, bpm=bpm, motions=motions
    )  # fmt: skip


def summed(place: tuple[str, str], members: Sequence[Node]) -> Node:
    if len(members) == 1:
        return members[0]
    latency = max((n.latency for n in members), default=0)
    return SumNode(_digest("sum", *(n.key for n in members)), place, latency, tuple(members))


def blend(
    place: tuple[str, str], dry: Node, wet: Node, mix: float, bpm: float, motions: tuple[Motion, ...] = ()
) -> Node:
    if mix == 1.0 and not motions:
        return wet
    latency = max(dry.latency, wet.latency)
    key = _digest("blend", mix, bpm, *(m.digest for m in motions), dry.key, wet.key)
    return BlendNode(key, place, latency, (dry, wet), mix=mix, bpm=bpm, motions=motions)


@dataclass(frozen=True, slots=True)
class Graph:
    """The compiled session: for each strip its raw signal, its chain's output, and its output after level and pan.

    Muted tracks are compiled too, since they may be somebody's key; they are only left out of the sums.
    """

    session: Session
    raw: dict[str, Node]
    chain: dict[str, Node]
    strip: dict[str, Node]
    taps: dict[tuple[str, str], tuple[Node, Node]]

    @property
    def mix(self) -> Node:
        return self.strip[self.session.mix.id]

    def tap(self, strip_id: str, path: str) -> tuple[Node, Node]:
        """The signal before and after one device of a chain; both the same where it is switched off."""
        found = self.taps.get((strip_id, path))
        return found if found is not None else (self.raw[strip_id], self.raw[strip_id])


class _SessionCompiler:
    def __init__(self, session: Session) -> None:
        self.session = session
        self.raw: dict[str, Node] = {}
        self.chains: dict[str, Node] = {}
        self.strips: dict[str, Node] = {}
        self._open: list[str] = []
        self._song_digest = _value_digest(session.song.replace(title="", key=""))
        self._lanes = _motions(session)
        self.chain_compiler = ChainCompiler(
            session.rate_hz, session.song.tempo_bpm, self._key, lambda strip, path: self._lanes.get((strip, path), ())
        )
        self._audible = _audible_edges(session)

    def _key(self, device: Device) -> Node | None:
        if device.key is None:
            return None
        keyed = self.session.strip(device.key.track)
        return self.raw_of(keyed) if device.key.tap == "before" else self.chain_of(keyed)

    def raw_of(self, strip: Strip) -> Node:
        if strip.id not in self.raw:
            self._enter(strip)
            if isinstance(strip, Track):
                self.raw[strip.id] = self._played(strip, "chain")
            else:
                members = self._members(strip)
                latency = max((n.latency for n in members), default=0)
                key = _digest("sum", *(n.key for n in members))
                self.raw[strip.id] = SumNode(key, (strip.id, "sum"), latency, tuple(members))
            self._open.pop()
        return self.raw[strip.id]

    def _played(self, track: Track, output: str) -> Node:
        """What a track's source gives to its chain, or past it (``direct``): layers, those with a chain of their own or
        with faders that move through these."""
        if not isinstance(track.source, InstrumentSource):
            return self._source(track, ())
        layers = [layer for layer in track.source.sounding if layer.output == output]
        plain = [layer for layer in layers if not layer.chain and not self._fader_lanes(track, layer)]
        parts: list[Node] = []
        if plain or not layers:
            parts.append(self._source(track, tuple(plain), output))
        for layer in layers:
            if layer in plain:
                continue
            source = self._source(track, (unfaded(layer),), layer.id, faded=False)
            node = self.chain_compiler.chain(f"{track.id}/layer:{layer.id}", layer.chain, source)
            pan = layer.pan_pct if "pan_pct" in fader_paths(layer) else 0.0
            moving = self._fader_lanes(track, layer)
            place = (track.id, f"fader:{layer.id}")
            parts.append(fader(place, node, layer.level_db, pan, self.session.song.tempo_bpm, moving))
        return parts[0] if len(parts) == 1 else summed((track.id, f"layers:{output}"), parts)

    def _layer_lanes(self, track: Track, layer: Layer) -> tuple[Motion, ...]:
        return self._lanes.get((track.id, f"layer:{layer.id}"), ())

    def _fader_lanes(self, track: Track, layer: Layer) -> tuple[Motion, ...]:
        return tuple(m for m in self._layer_lanes(track, layer) if m.path in fader_paths(layer))

    def _source(
        self, track: Track, layers: tuple[Layer, ...], place: str = "source", *, faded: bool = True
    ) -> SourceNode:
        motions = tuple(
            m for layer in layers for m in self._layer_lanes(track, layer) if m.path not in fader_paths(layer)
        )
        source: Value = track.source
        if isinstance(source, InstrumentSource):
            source = source.replace(layers=tuple(layer.replace(chain=()) for layer in layers), macros=("",) * 4)
        key = _digest(
            "source", faded, self.session.rate_hz, self._song_digest, _value_digest(source), track.nudge_ms,
            *(m.digest for m in motions),
        )  # fmt: skip
        where = (track.id, "source" if place == "chain" else place)
        ids = tuple(layer.id for layer in layers)
        return SourceNode(key, where, 0, track=track, motions=motions, layers=ids, faded=faded)

    def _enter(self, strip: Strip) -> None:
        if strip.id in self._open:
            circle = [*self._open[self._open.index(strip.id) :], strip.id]
            names: list[str] = []
            for each in circle:  # a bus is entered for its sum and for its chain; it is named once
                name = self.session.strip(each).name
                if not names or names[-1] != name:
                    names.append(name)
            raise LoopError(f"these tracks listen to each other in a circle: {' → '.join(names)}")
        self._open.append(strip.id)

    def chain_of(self, strip: Strip) -> Node:
        if strip.id not in self.chains:
            raw = self.raw_of(strip)
            self._enter(strip)
            node = self.chain_compiler.chain(strip.id, strip.chain, raw)
            if isinstance(strip, Track) and _has_direct(strip):
                node = summed((strip.id, "direct"), [node, self._played(strip, "direct")])
            self.chains[strip.id] = node
            self._open.pop()
        return self.chains[strip.id]

    def strip_of(self, strip: Strip) -> Node:
        if strip.id not in self.strips:
            motions = self._lanes.get((strip.id, ""), ())
            motions = tuple(m for m in motions if not m.path.startswith("send."))
            bpm = self.session.song.tempo_bpm
            node = self.chain_of(strip)
            self.strips[strip.id] = fader((strip.id, "fader"), node, strip.level_db, strip.pan_pct, bpm, motions)
        return self.strips[strip.id]

    def _members(self, bus: Strip) -> list[Node]:
        """What goes into a bus: the tracks and groups that lead there, and the sends."""
        session, members = self.session, []
        for strip in session.strips():
            if (strip.id, bus.id) not in self._audible:
                continue
            if _target(session, strip) == bus.id:
                node = self.strip_of(strip)
                # A bus that nothing plays into would only add silence.
                if isinstance(strip, Track) or self.raw_of(strip).inputs:
                    members.append(node)
            for send in strip.sends:
                if send.to == bus.id:
                    node = self.strip_of(strip) if send.tap == "after" else self.chain_of(strip)
                    motions = tuple(
                        m for m in self._lanes.get((strip.id, ""), ()) if m.path == f"send.{send.to}"
                    )  # fmt: skip
                    place = (strip.id, f"send:{send.to}")
                    members.append(fader(place, node, send.level_db, 0.0, session.song.tempo_bpm, motions))
        return members


def _has_direct(track: Track) -> bool:
    source = track.source
    return isinstance(source, InstrumentSource) and any(layer.output == "direct" for layer in source.sounding)


def _target(session: Session, strip: Strip) -> str | None:
    """Where a strip leads: its group, the mix, or (of the mix) nowhere."""
    if strip.id == session.mix.id:
        return None
    return (strip.bus if isinstance(strip, Track) else None) or session.mix.id


def _audible_edges(session: Session) -> set[tuple[str, str]]:
    """The connections that sound, by the ids of their ends: nothing leaves a muted strip, and where something is on
    solo only what leads to or comes from it is heard."""
    edges = [
        (strip.id, to)
        for strip in session.strips()
        if not strip.mute
        for to in (_target(session, strip), *(send.to for send in strip.sends))
        if to is not None
    ]
    solo = {s.id for s in session.strips() if s.solo}
    if not solo:
        return set(edges)
    into, out_of = set(solo), set(solo)  # strips something soloed flows into; strips that flow into something soloed
    for _ in range(len(session.buses) + 2):
        into |= {b for a, b in edges if a in into}
        out_of |= {a for a, b in edges if b in out_of}
    return {(a, b) for a, b in edges if a in into or b in out_of}


def _motions(session: Session) -> dict[tuple[str, str], tuple[Motion, ...]]:
    """Lanes that move something, by strip id and device path ("" for the strip, ``layer:id`` for a layer)."""
    spans = {
        s.id: (first * session.song.bar_beats, end * session.song.bar_beats) for s, first, end in session.song.spans()
    }
    found: dict[tuple[str, str], tuple[Motion, ...]] = {}
    for lane in session.lanes:
        if not lane.moves:
            continue
        start, end = spans[lane.section] if lane.section is not None else (0.0, float("inf"))
        place = (lane.strip, f"layer:{lane.layer}" if lane.layer is not None else lane.device or "")
        motion = Motion(session.lane_param(lane), lane.param, lane, start, end)
        found[place] = (*found.get(place, ()), motion)
    return found


def compile_session(session: Session) -> Graph:
    """Raises LoopError where strips feed or listen to each other in a circle, naming them."""
    made = _SessionCompiler(session)
    for strip in session.strips():
        made.strip_of(strip)
    return Graph(session, made.raw, made.chains, made.strips, made.chain_compiler.taps)


def layer_node(session: Session, track_id: str, layer_id: str) -> Node:
    """One layer of a track's instrument after its own chain, heard alone, muted or not."""
    track = session.track(track_id)
    assert isinstance(track.source, InstrumentSource)
    layer = next(each for each in track.source.layers if each.id == layer_id).replace(mute=False, output="chain")
    alone = track.replace(source=track.source.replace(layers=(layer,)))
    # The other tracks stay, as devices of the layer may listen to them.
    tracks = tuple(alone if each.id == track_id else each for each in session.tracks)
    lanes = tuple(lane for lane in session.lanes if lane.strip != track_id or lane.layer in (None, layer_id))
    return _SessionCompiler(session.replace(tracks=tracks, lanes=lanes)).raw_of(alone)
