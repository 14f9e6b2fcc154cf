"""A session compiled into nodes in dependency order.

source → chain → level and pan → group bus → mix bus, with sends and key inputs as further edges.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from zygotone.engine.chain_nodes import ChainCompiler, Kept
from zygotone.engine.lane_motion import LaneMotion
from zygotone.engine.nodes import Node, SourceNode
from zygotone.engine.route_motion import RouteMotion
from zygotone.errors import LoopError
from zygotone.session.instruments import routable
from zygotone.session.models import (
    Device,
    InstrumentSource,
    Layer,
    Send,
    Session,
    Strip,
    Track,
    branches,
    chains_of,
)
from zygotone.session.value import Value, as_text, digest_of
from zygotone.sources.instrument import fader_paths, unfaded


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
        self._lanes = _lane_motions(session)
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

    def _layer_lanes(self, track: Track, layer: Layer) -> tuple[LaneMotion, ...]:
        return self._lanes.get((track.id, f"layer:{layer.id}"), ())

    def _fader_lanes(self, track: Track, layer: Layer) -> tuple[LaneMotion, ...]:
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


def _lane_motions(session: Session) -> dict[tuple[str, str], tuple[LaneMotion, ...]]:
    """Lanes that move something, by strip id and device path ("" for the strip, ``layer:id`` for a layer); those of devices
    of a layer's chain by who owns that."""
    spans = {
        s.id: (first * session.song.bar_beats, end * session.song.bar_beats) for s, first, end in session.song.spans()
    }
    found: dict[tuple[str, str], tuple[LaneMotion, ...]] = {}
    for lane in session.lanes:
        if not lane.moves:
            continue
        start, end = spans[lane.section] if lane.section is not None else (0.0, float("inf"))
        place = (lane.strip, f"layer:{lane.layer}" if lane.layer is not None else lane.device or "")
        if lane.layer is not None and lane.device is not None:
            place = (_owner_of_layer(lane.strip, lane.layer), lane.device)
        motion = LaneMotion(session.lane_target(lane), lane.param, lane, start, end)
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
                motion = RouteMotion(param, route.target, route, layer, track, session.song, session.rate_hz, played)
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
