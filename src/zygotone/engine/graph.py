"""A session compiled into nodes in dependency order.

source → chain → level and pan → group bus → mix bus, with sends and key inputs as further edges; a split becomes
parallel branches. Each node has a *key*, a digest of everything its sound depends on; two nodes with one key sound the
same, whatever session they are from.
"""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import TypeAlias, TypeVar

import numpy as np

from zygotone.devices import Host, make_processor
from zygotone.errors import LoopError
from zygotone.session.automation import Lane
from zygotone.session.instruments import Route, routable
from zygotone.session.models import (
    Device,
    InstrumentSource,
    Layer,
    Send,
    Session,
    Song,
    Strip,
    Track,
    branches,
    chains_of,
)
from zygotone.session.params import Param, Values
from zygotone.session.value import Value, as_text, digest_of
from zygotone.sources.instrument import fader_paths, unfaded


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
        return digest_of(self.path, self.lane.digest, self.start_beat, self.end_beat)


@dataclass(frozen=True, slots=True, eq=False)
class RouteMotion:
    """A route of a layer to a device of its chain, made ready: the parameter it moves, and all that says how."""

    param: Param
    path: str
    route: Route
    layer: Layer
    track: Track
    song: Song
    rate_hz: int
    digest: str


AnyMotion: TypeAlias = Motion | RouteMotion


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
    motions: tuple[AnyMotion, ...] = ()


@dataclass(frozen=True, slots=True, eq=False)
class StripNode(Node):
    """Level and pan."""

    level_db: float = 0.0
    pan_pct: float = 0.0
    bpm: float = 120.0
    motions: tuple[AnyMotion, ...] = ()


@dataclass(frozen=True, slots=True, eq=False)
class SumNode(Node):
    pass


@dataclass(frozen=True, slots=True, eq=False)
class BlendNode(Node):
    """``inputs`` are dry and wet; of a split, since those of other devices blend inside."""

    mix: float = 1.0
    bpm: float = 120.0
    motions: tuple[AnyMotion, ...] = ()


_N = TypeVar("_N", bound=Node)


def nodes_below(nodes: Iterable[Node], *, known: Callable[[Node], bool] = lambda node: False) -> list[Node]:
    """``nodes`` and all that they need, each once, inputs before outputs; without those that are ``known`` and what only
    they need."""
    found: dict[str, Node] = {}
    for root in nodes:
        if root.key in found or known(root):
            continue
        open_nodes = [(root, iter(root.inputs))]
        while open_nodes:
            node, rest = open_nodes[-1]
            below = next((each for each in rest if each.key not in found and not known(each)), None)
            if below is None:
                found.setdefault(node.key, node)
                open_nodes.pop()
            else:
                open_nodes.append((below, iter(below.inputs)))
    return list(found.values())


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


@dataclass(slots=True)
class ChainCompiler:
    """Turns devices into nodes. ``key_node`` finds what a device listens to, None for its own signal."""

    rate_hz: int
    bpm: float
    key_node: Callable[[Device], Node | None]
    kept: Kept = field(default_factory=Kept)
    motions: Callable[[str, str], tuple[AnyMotion, ...]] = lambda strip, path: ()
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
        self, place: Place, node: Node, level_db: float, pan_pct: float, motions: tuple[AnyMotion, ...] = ()
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

    def _blend(self, place: Place, dry: Node, wet: Node, mix: float, motions: tuple[AnyMotion, ...]) -> Node:
        if mix == 1.0 and not motions:
            return wet
        digests = tuple(m.digest for m in motions)

        def make() -> BlendNode:
            key = digest_of("blend", mix, self.bpm, *digests, dry.key, wet.key)
            latency = max(dry.latency, wet.latency)
            return BlendNode(key, place, latency, (dry, wet), mix=mix, bpm=self.bpm, motions=motions)

        return self.kept.node(place, (mix, self.bpm, digests, dry, wet), make)


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
    kept: Kept

    @property
    def mix(self) -> Node:
        return self.strip[self.session.mix.id]

    def tap(self, strip_id: str, path: str, *, layer: str | None = None) -> tuple[Node, Node]:
        """The signal before and after one device of a chain, a strip's or that of one of its layers; both the same where it is
        switched off, or the layer is."""
        found = self.taps.get((strip_id if layer is None else _owner_of_layer(strip_id, layer), path))
        return found if found is not None else (self.raw[strip_id], self.raw[strip_id])


class _SessionCompiler:
    def __init__(self, session: Session, kept: Kept) -> None:
        self.session = session
        self.kept = kept
        self.raw: dict[str, Node] = {}
        self.chains: dict[str, Node] = {}
        self.strips: dict[str, Node] = {}
        self._song_digest = session.song.replace(title="", key="").digest
        self._lanes = _motions(session)
        self._routes = _route_motions(session, self._song_digest)
        self.chain_compiler = ChainCompiler(
            session.rate_hz, session.song.tempo_bpm, self._key, kept,
            motions=lambda strip, path: (*self._lanes.get((strip, path), ()), *self._routes.get((strip, path), ())),
        )  # fmt: skip
        self._leads = leads(session)

    def _key(self, device: Device) -> Node | None:
        if device.key is None:
            return None
        keyed = self.session.strip(device.key.track)
        return self.raw_of(keyed) if device.key.tap == "before" else self.chain_of(keyed)

    def raw_of(self, strip: Strip) -> Node:
        if strip.id not in self.raw:
            if isinstance(strip, Track):
                self.raw[strip.id] = self._played(strip, "chain")
            else:
                members = self._members(strip)
                self.raw[strip.id] = self.chain_compiler.summed((strip.id, "sum"), members, always=True)
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
            node = self.chain_compiler.chain(_owner_of_layer(track.id, layer.id), layer.chain, source)
            pan = layer.pan_pct if "pan_pct" in fader_paths(layer) else 0.0
            moving = self._fader_lanes(track, layer)
            place = (track.id, f"fader:{layer.id}")
            parts.append(self.chain_compiler.fader(place, node, layer.level_db, pan, moving))
        return self.chain_compiler.summed((track.id, f"layers:{output}"), parts)

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
        where = (track.id, "source" if place == "chain" else place)
        digests = tuple(m.digest for m in motions)

        def make() -> SourceNode:
            source: Value = track.source
            if isinstance(source, InstrumentSource):
                played = tuple(layer.replace(chain=(), routes=layer.note_routes) for layer in layers)
                source = source.replace(layers=played, macros=("",) * 4)
            key = digest_of(
                "source", faded, self.session.rate_hz, self._song_digest, source.digest, as_text(track.parts),
                track.nudge_ms, *digests,
            )  # fmt: skip
            ids = tuple(layer.id for layer in layers)
            return SourceNode(key, where, 0, track=track, motions=motions, layers=ids, faded=faded)

        made_of = (
            track.source,
            track.parts,
            track.nudge_ms,
            tuple(layer.digest for layer in layers),
            faded,
            self._song_digest,
            digests,
        )
        return self.kept.node(where, made_of, make)

    def chain_of(self, strip: Strip) -> Node:
        if strip.id not in self.chains:
            raw = self.raw_of(strip)
            node = self.chain_compiler.chain(strip.id, strip.chain, raw)
            if isinstance(strip, Track) and _has_direct(strip):
                node = self.chain_compiler.summed((strip.id, "direct"), [node, self._played(strip, "direct")])
            self.chains[strip.id] = node
        return self.chains[strip.id]

    def strip_of(self, strip: Strip) -> Node:
        if strip.id not in self.strips:
            motions = self._lanes.get((strip.id, ""), ())
            motions = tuple(m for m in motions if not m.path.startswith("send."))
            node = self.chain_of(strip)
            fader = self.chain_compiler.fader
            self.strips[strip.id] = fader((strip.id, "fader"), node, strip.level_db, strip.pan_pct, motions)
        return self.strips[strip.id]

    def _members(self, bus: Strip) -> list[Node]:
        """What goes into a bus: the tracks and groups that lead there, and the sends."""
        members = []
        for strip, send in self._leads.get(bus.id, ()):
            if send is None:
                node = self.strip_of(strip)
                # A bus that nothing plays into would only add silence.
                if isinstance(strip, Track) or self.raw_of(strip).inputs:
                    members.append(node)
            else:
                node = self.strip_of(strip) if send.tap == "after" else self.chain_of(strip)
                motions = tuple(m for m in self._lanes.get((strip.id, ""), ()) if m.path == f"send.{send.to}")
                place = (strip.id, f"send:{send.to}")
                members.append(self.chain_compiler.fader(place, node, send.level_db, 0.0, motions))
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


def _owner_of_layer(strip_id: str, layer_id: str) -> str:
    """Who owns the devices of a layer's chain, as a strip does those of its own."""
    return f"{strip_id}/layer:{layer_id}"


def _motions(session: Session) -> dict[tuple[str, str], tuple[Motion, ...]]:
    """Lanes that move something, by strip id and device path ("" for the strip, ``layer:id`` for a layer); those of devices
    of a layer's chain by who owns that."""
    spans = {
        s.id: (first * session.song.bar_beats, end * session.song.bar_beats) for s, first, end in session.song.spans()
    }
    found: dict[tuple[str, str], tuple[Motion, ...]] = {}
    for lane in session.lanes:
        if not lane.moves:
            continue
        start, end = spans[lane.section] if lane.section is not None else (0.0, float("inf"))
        place = (lane.strip, f"layer:{lane.layer}" if lane.layer is not None else lane.device or "")
        if lane.layer is not None and lane.device is not None:
            place = (_owner_of_layer(lane.strip, lane.layer), lane.device)
        motion = Motion(session.lane_target(lane), lane.param, lane, start, end)
        found[place] = (*found.get(place, ()), motion)
    return found


def _route_motions(session: Session, song_digest: str) -> dict[tuple[str, str], tuple[RouteMotion, ...]]:
    """Routes of layers to devices of their chains, by who owns the chain and the device's path."""
    found: dict[tuple[str, str], tuple[RouteMotion, ...]] = {}
    for track in session.tracks:
        if not isinstance(track.source, InstrumentSource):
            continue
        source = track.source
        for layer in source.sounding:
            if not layer.chain_routes:
                continue
            played = digest_of(
                layer.replace(chain=(), routes=()).digest, as_text(source.lfos), as_text(source.phrases), as_text(track.parts),
                track.nudge_ms, song_digest, session.rate_hz,
            )  # fmt: skip
            for route in layer.chain_routes:
                param = routable(layer, route.device)[route.target]
                digest = digest_of("route", route.digest, played)
                motion = RouteMotion(param, route.target, route, layer, track, session.song, session.rate_hz, digest)
                place = (_owner_of_layer(track.id, layer.id), route.device or "")
                found[place] = (*found.get(place, ()), motion)
    return found


def leads(session: Session) -> dict[str, list[tuple[Strip, Send | None]]]:
    """What sounds in each bus, by its id: strips that lead there (None) or send there, in the order of the session."""
    audible = _audible_edges(session)
    found: dict[str, list[tuple[Strip, Send | None]]] = {}
    for strip in session.strips():
        to = _target(session, strip)
        if to is not None and (strip.id, to) in audible:
            found.setdefault(to, []).append((strip, None))
        for send in strip.sends:
            if (strip.id, send.to) in audible:
                found.setdefault(send.to, []).append((strip, send))
    return found


def _needed_first(session: Session) -> list[Strip]:
    """All strips, each after those it hears: so that no strip is compiled from deep within another.

    Raises
    ------
    LoopError : strips feed or listen to each other in a circle, named.
    """
    leading, strips = leads(session), {s.id: s for s in session.strips()}

    def keys(chains: Iterable[tuple[Device, ...]]) -> list[tuple[str, bool]]:
        found = []
        for chain in chains:
            for device in _heard_devices(chain):
                if device.key is not None:
                    found.append((device.key.track, device.key.tap == "after"))
        return found

    def needs(step: tuple[str, bool]) -> list[tuple[str, bool]]:
        """Of a strip's raw signal (False) or its chain's output (True)."""
        strip = strips[step[0]]
        own, *of_layers = chains_of(strip)
        if step[1]:
            return [(strip.id, False), *keys([own])]
        if isinstance(strip, Track):
            return keys(of_layers)
        return [(each.id, True) for each, _ in leading.get(strip.id, ())]

    done: dict[tuple[str, bool], None] = {}
    for root in strips:
        path: list[tuple[str, bool]] = [(root, True)]
        rest = [iter(needs(path[0]))]
        while path:
            step = next((each for each in rest[-1] if each not in done), None)
            if step is None:
                done[path.pop()] = None
                rest.pop()
            elif step in path:
                names: list[str] = []
                for each, _ in [*path[path.index(step) :], step]:  # raw and chain of one strip are named once
                    if not names or names[-1] != strips[each].name:
                        names.append(strips[each].name)
                raise LoopError(f"these tracks listen to each other in a circle: {' → '.join(names)}")
            else:
                path.append(step)
                rest.append(iter(needs(step)))
    return [strips[strip_id] for strip_id, chained in done if chained]


def _heard_devices(chain: Sequence[Device]) -> Iterator[Device]:
    """The devices of a chain that are on, within splits too."""
    for device in chain:
        if device.on:
            yield device
            for branch in branches(device):
                yield from _heard_devices(branch["devices"])


def compile_session(session: Session, before: Graph | None = None) -> Graph:
    """The session as nodes. What *is* as it was in ``before`` keeps its nodes.

    Raises
    ------
    LoopError : strips feed or listen to each other in a circle; they are named.
    """
    if before is not None and before.session is session:
        return before
    made = _SessionCompiler(session, Kept(before.kept if before is not None else None))
    for strip in _needed_first(session):
        made.strip_of(strip)
    made.kept.forget_before()
    taps = made.chain_compiler.taps
    del made.chain_compiler  # each knows the other, and the player collects no circles
    return Graph(session, made.raw, made.chains, made.strips, taps, made.kept)


def layer_node(session: Session, track_id: str, layer_id: str) -> Node:
    """One layer of a track's instrument after its own chain, heard alone, muted or not."""
    track = session.track(track_id)
    assert isinstance(track.source, InstrumentSource)
    layer = next(each for each in track.source.layers if each.id == layer_id).replace(mute=False, output="chain")
    alone = track.replace(source=track.source.replace(layers=(layer,)))
    # The other tracks stay, as devices of the layer may listen to them.
    tracks = tuple(alone if each.id == track_id else each for each in session.tracks)
    lanes = tuple(lane for lane in session.lanes if lane.strip != track_id or lane.layer in (None, layer_id))
    return _SessionCompiler(session.replace(tracks=tracks, lanes=lanes), Kept()).raw_of(alone)
