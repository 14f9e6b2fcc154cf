"""Offline rendering, cached by value.

Conventions
-----------
A *span* is half-open, in frames of the song. Rendering begins a little before it (the pre-roll), so that
compressors and filters have settled as they would have in the song, and the latency of the graph is taken off.
"""

from __future__ import annotations

import functools
import itertools
import math
import threading
from collections import OrderedDict
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt

from zygotone.devices import Host, make_processor
from zygotone.dsp.giving_up import IsUnwanted, asked_here, given_up_when
from zygotone.dsp.sides import add_at, are_alike
from zygotone.dsp.types import OFFLINE_BLOCK_FRAMES, FloatArray, Single, Stereo
from zygotone.engine.block_graph import BlockGraph, cut_span
from zygotone.engine.chains import process_chain
from zygotone.engine.graph import Graph, compile_session
from zygotone.engine.lane_motion import LaneMotion, layer_automation
from zygotone.engine.nodes import DeviceNode, Node, SourceNode, nodes_below
from zygotone.engine.pipeline import at_once
from zygotone.engine.runners import GivenRunner, ReadSource
from zygotone.session.audio_files import resample
from zygotone.session.audio_store import AudioStore, Clip, HeldClip
from zygotone.session.held import Grade, Held
from zygotone.session.laid_aside import LaidAside
from zygotone.session.mapped import MappedCache, Stretches, sounds, stretches, takes_below, user_cache
from zygotone.session.models import (
    ClipSource,
    Device,
    InstrumentSource,
    Layer,
    Section,
    Session,
    Track,
    chains_of,
    walk,
)
from zygotone.session.value import as_text, digest_of
from zygotone.sources import ClipReader, render_layer
from zygotone.sources.clip import ClipOf
from zygotone.sources.instrument import fader_paths, layer_gains, unfaded

MAX_TAIL_S = 30.0
PREROLL_S = 3.2
# Rendered past the span's end, so that the graph's latency can be taken off without rendering anew whenever
# some device's latency changes.
_MARGIN_FRAMES = 8192
_READ_BLOCKS = 8  # after which what was read of what is laid aside is given back
_UNITY = np.ones((2, 1))


@dataclass(slots=True, weakref_slot=True)
class Take:
    """What rendering one node gave: audio and, for a device whose gain moves, the gain in dB for each frame."""

    audio: Stereo
    gain_db: FloatArray | None = None
    bad_samples: int = 0

    @property
    def nbytes(self) -> int:
        return int(self.audio.nbytes + (self.gain_db.nbytes if self.gain_db is not None else 0))


@dataclass(slots=True, weakref_slot=True)
class KeptTake:
    """A take as it is kept: in single precision, whose rounding lies 150 dB under the sound, it takes half of the room; (1, n) where
    both sides are alike."""

    audio: Single
    gain_db: Single | None = None
    bad_samples: int = 0
    sounding: Stretches | None = None  # outside of them it is silent; None where that is not known

    @classmethod
    def of(cls, take: Take) -> KeptTake:
        gain_db = None if take.gain_db is None else take.gain_db.astype(np.float32, copy=False)
        audio = take.audio.astype(np.float32, copy=False)
        if are_alike(audio):
            audio = audio[:1].copy()
        return cls(audio, gain_db, take.bad_samples)

    @property
    def nbytes(self) -> int:
        return int(self.audio.nbytes + (self.gain_db.nbytes if self.gain_db is not None else 0))


_RECENT_BYTES = 48 << 20  # three takes of half a minute


class Recent:
    """The takes that were asked for last, as they are worked with: one rule after the other hears the same tracks. Few, whoever asks."""

    def __init__(self) -> None:
        self._takes: OrderedDict[object, Take] = OrderedDict()
        self._bytes = 0
        self._lock = threading.Lock()

    def get(self, key: object) -> Take | None:
        with self._lock:
            if key in self._takes:
                self._takes.move_to_end(key)
            return self._takes.get(key)

    def put(self, key: object, take: Take) -> None:
        with self._lock:
            if key in self._takes:
                return
            self._takes[key] = take
            self._bytes += take.nbytes
            while self._bytes > _RECENT_BYTES:
                self._bytes -= self._takes.popitem(last=False)[1].nbytes

    def forget(self) -> None:
        with self._lock:
            self._takes.clear()
            self._bytes = 0


@dataclass
class Renderer:
    """Renders nodes of any number of sessions that share one audio store; whatever two sessions have in common
    is rendered once."""

    store: AudioStore
    # Where all that can be worked out again is kept; with that of the store, one bound holds for both.
    held: Held = field(default_factory=Held)
    devices_run: int = 0  # how many had to be, rather than found there
    mapped: MappedCache | None = None  # where layers are kept that other processes read too
    recent: Recent = field(default_factory=Recent)

    def __post_init__(self) -> None:
        if self.mapped is not None:
            self.store.mapped = self.mapped

    @classmethod
    def to_judge(cls, store: AudioStore) -> Renderer:
        """For who asks many things of the same tracks, one after the other: what memory has no room for is laid aside."""
        return cls(store, Held(aside=LaidAside(takes_below(user_cache()))))

    # --- sources -------------------------------------------------------------------------------------------

    def source_reader(self, session: Session) -> Callable[[SourceNode], ReadSource]:
        """For a source node, the function that reads any stretch of the song from it."""

        def reader(node: SourceNode) -> ReadSource:
            track = node.track
            assert track is not None
            nudge = round(track.nudge_ms * 1e-3 * session.rate_hz)
            if isinstance(track.source, ClipSource):
                read = self.clips_of(session, track).read
                return lambda start, frames: read(start - nudge, frames)
            wanted = [layer for layer in track.source.sounding if layer.id in node.layers]
            parts = [self._layer(track, track.source, layer, session, node.motions) for layer in wanted]
            gains = [layer_gains(layer) if node.faded else _UNITY for layer in wanted]
            # Tried out on nothing: who plays waits for no code to load.
            for part, gain in zip(parts, gains, strict=True):
                add_at(part.audio, 0, gain, np.zeros((2, 0)), 0, 0)
            return lambda start, frames: _cut(parts, gains, start - nudge, frames)

        return reader

    def clips_of(self, session: Session, track: Track) -> ClipReader:
        """What a track's clips give, before its nudge."""
        assert isinstance(track.source, ClipSource)
        return ClipReader(self._clip_of(session), track.source, track.parts, session.song, session.rate_hz)

    def _clip_of(self, session: Session) -> ClipOf:
        """A track's clips, moved to another pitch or length where a part wants that."""

        def clip_of(asset_id: str, semitones: int, stretch: float) -> Clip:
            clip = self.store.clip(session.asset(asset_id), session.rate_hz)
            if semitones == 0 and stretch == 1.0:
                return clip
            key = ("moved", asset_id, semitones, stretch, session.rate_hz)
            take = self.held.get(key)
            if take is None:
                take = Take(moved_clip(clip, semitones, stretch, session.rate_hz).astype(np.float32))
                self._keep(key, take)
            return HeldClip(take.audio)

        return clip_of

    def host(self, session: Session) -> Host:
        return Host(session.rate_hz, session.song.tempo_bpm, self.clip_reader(session.rate_hz))

    def clip_reader(self, rate_hz: int) -> Callable[[str], Stereo]:
        """How devices get at the project's clips, by asset id."""
        return lambda asset_id: self.store.audio_of(asset_id, rate_hz)

    def _layer(
        self,
        track: Track,
        source: InstrumentSource,
        layer: Layer,
        session: Session,
        motions: tuple[LaneMotion, ...] = (),
    ) -> KeptTake:
        """A layer over the whole song, before its chain and its faders; audio (1, n) where both sides are alike."""
        mine = tuple(m for m in motions if m.lane.layer == layer.id and m.path not in fader_paths(layer))
        # What other layers are matters only where they decide how long a voice takes room.
        releases = max(each.envelope.release_ms for each in source.layers)
        alone: dict[str, Any] = {"name": "", "chain": (), "output": "chain", "mute": False, "solo": False}
        sound = unfaded(layer).replace(**alone, routes=layer.note_routes)
        key = digest_of(
            "layer", sound.digest, source.voices.digest, as_text(source.lfos), as_text(source.phrases), as_text(track.parts), releases,
            session.song.replace(title="", key="").digest, session.rate_hz, *(m.digest for m in mine),
        )  # fmt: skip
        take: KeptTake | None = self.held.get(key)
        if take is None and self.mapped is not None and (mapped := self.mapped.get(key)) is not None:
            return KeptTake(_to_read(mapped), sounding=self.mapped.sounding(key))
        if take is None:
            audio = render_layer(
                source, layer, track.parts, session.song, session.rate_hz, automation=layer_automation(layer, mine, bpm=session.song.tempo_bpm),
                clip=self.clip_reader(session.rate_hz),
            )  # fmt: skip
            if self.mapped is not None:
                return KeptTake(_to_read(self.mapped.put(key, audio)), sounding=self.mapped.sounding(key))
            take = KeptTake(audio.astype(np.float32), sounding=stretches(audio))
            self._keep(key, take)
        return take

    def make_sources(self, nodes: Sequence[SourceNode], session: Session) -> None:
        """Decodes and renders what these sources read, so that whoever reads them next need not wait."""
        reader = self.source_reader(session)
        at_once([functools.partial(reader, node) for node in nodes])

    def tail_frames(self, session: Session) -> int:
        """How long notes, echoes and spaces ring on after the song's last bar; half a minute at most."""
        end = round(session.song.length_s * session.rate_hz)
        rings = [
            chain_tail_s(session, own) + max((chain_tail_s(session, chain) for chain in of_layers), default=0.0)
            for own, *of_layers in (chains_of(strip) for strip in session.strips())
        ]
        ring = round(
            min(MAX_TAIL_S, max(rings[: len(session.tracks)], default=0.0) + sum(rings[len(session.tracks) :]))
            * session.rate_hz
        )
        layers = [
            (t, t.source, layer)
            for t in session.tracks
            if isinstance(t.source, InstrumentSource)
            for layer in t.source.sounding
        ]
        lengths = at_once([functools.partial(self._layer, *each, session) for each in layers])
        return max((take.audio.shape[1] - end for take in lengths), default=0) + ring

    # --- rendering -----------------------------------------------------------------------------------------

    def take(
        self,
        graph: Graph,
        node: Node,
        span: tuple[int, int],
        *,
        preroll_s: float = PREROLL_S,
        block_frames: int = OFFLINE_BLOCK_FRAMES,
        progress: Callable[[float], None] | None = None,
        cancelled: IsUnwanted | None = None,
    ) -> Take:
        """One node over ``span``: audio (2, frames), latency taken off.

        Raises
        ------
        Cancelled : ``cancelled`` said so.
        """
        with given_up_when(cancelled if cancelled is not None else asked_here()):
            return self._taken(graph, node, span, preroll_s, block_frames, progress)

    def kept(self, graph: Graph, node: Node, span: tuple[int, int], *, cancelled: IsUnwanted | None = None) -> Single:
        """The audio of ``take`` as it is kept, in single precision: (1, frames) where both sides are alike. Not to be written to.

        Raises
        ------
        Cancelled : ``cancelled`` said so.
        """
        with given_up_when(cancelled if cancelled is not None else asked_here()):
            first, total = self._stretch(graph, node, span, PREROLL_S)
            kept = self._remembered(node, first, total)
            if kept is None:
                kept = self._work(graph, first, total, OFFLINE_BLOCK_FRAMES).render_rounded(node)
            audio = kept.audio[:, span[0] - first + node.latency : span[1] - first + node.latency]
            audio.setflags(write=False)
            return audio

    def prepare(
        self, graph: Graph, nodes: Iterable[Node], span: tuple[int, int], *, cancelled: IsUnwanted | None = None
    ) -> None:
        """Renders several nodes over ``span`` in one pass, so that what they share is worked out once; whoever then takes
        one finds it, as far as all of them fit. What was made ready once is not again, though it may have been let go since:
        mostly all that was to be known of it is known by then.

        Raises
        ------
        Cancelled : ``cancelled`` said so.
        """
        with given_up_when(cancelled if cancelled is not None else asked_here()):
            by_work: dict[tuple[int, int], list[Node]] = {}
            for node in nodes:
                stretch = self._stretch(graph, node, span, PREROLL_S)
                if ("made ready", node.key, *stretch) not in self.held and (node.key, *stretch) not in self.held:
                    by_work.setdefault(stretch, []).append(node)
            for stretch, some in by_work.items():
                self._work(graph, *stretch, OFFLINE_BLOCK_FRAMES).render(some)
                for node in some:
                    self.held.put(("made ready", node.key, *stretch), True, grade="fact")

    def _stretch(self, graph: Graph, node: Node, span: tuple[int, int], preroll_s: float) -> tuple[int, int]:
        """What is rendered for a node over ``span``: the first frame, and how many."""
        first = max(0, span[0] - round(preroll_s * graph.session.rate_hz))
        return first, span[1] - first + _MARGIN_FRAMES * (1 + node.latency // _MARGIN_FRAMES)

    def _work(self, graph: Graph, first: int, total: int, block_frames: int) -> _Work:
        return _Work(self, self.host(graph.session), self.source_reader(graph.session), first, total, block_frames)

    def _taken(
        self, graph: Graph, node: Node, span: tuple[int, int], preroll_s: float, block_frames: int,
        progress: Callable[[float], None] | None,
    ) -> Take:  # fmt: skip
        start, end = span
        first, total = self._stretch(graph, node, span, preroll_s)
        whole: Take | KeptTake | None = self._remembered(node, first, total)
        if whole is None:
            whole = self._work(graph, first, total, block_frames).render_exactly(node, progress)
        audio = whole.audio[:, start - first + node.latency : end - first + node.latency]
        return Take(
            np.ascontiguousarray(np.broadcast_to(audio, (2, audio.shape[1])), dtype=np.float64),
            None if whole.gain_db is None else whole.gain_db[start - first : end - first].astype(np.float64),
            whole.bad_samples,
        )

    def _remembered(self, node: Node, first: int, total: int) -> KeptTake | None:
        return self.held.get((node.key, first, total))

    def _keep(self, key: object, take: Take | KeptTake, *, grade: Grade = "dear") -> None:
        take.audio.setflags(write=False)
        self.held.put(key, take, grade=grade)

    def _put(self, node: Node, first: int, total: int, take: KeptTake) -> None:
        self._keep((node.key, first, total), take, grade="dear" if isinstance(node, DeviceNode) else "cheap")

    # --- shortcuts -----------------------------------------------------------------------------------------

    def mix(self, session: Session, section: Section | None = None, **options: Any) -> Stereo:
        """The mix of a section or of the whole song, shape (2, frames)."""
        graph = compile_session(session)
        return self.take(
            graph, graph.mix, session.section_span(section.id if section is not None else None), **options
        ).audio

    def stem(self, session: Session, strip_id: str, section: Section | None = None, **options: Any) -> Stereo:
        """One track after its chain, level and pan; heard alone, muted or not."""
        graph = compile_session(session)
        return self.take(
            graph, graph.strip[strip_id], session.section_span(section.id if section is not None else None), **options
        ).audio


def _to_read(mapped: FloatArray) -> Single:
    """A plain view, since slices of a map take their time; never to be written to, also where it is no map."""
    plain = np.asarray(mapped, dtype=np.float32).view()
    plain.setflags(write=False)
    return plain


def moved_clip(clip: Clip, semitones: int, stretch: float, rate_hz: int) -> Stereo:
    """A clip at another pitch and ``stretch`` times as long: resampled to its new length, and its pitch moved by what that
    changed and by ``semitones``."""
    audio = np.ascontiguousarray(clip.read(0, clip.frames))
    frames = max(1, round(clip.frames * stretch))
    if stretch != 1.0:
        audio = resample(audio, rate_hz, round(rate_hz * stretch))
    shift = semitones + 12.0 * math.log2(stretch)
    if abs(shift) > 1e-6:
        device = Device.model_validate({"id": "move", "kind": "pitch", "semitones": shift, "formants": "leave"})
        audio = process_chain(audio, [device], rate_hz, max_tail_s=0.0)
    out = np.zeros((2, frames))
    out[:, : min(frames, audio.shape[1])] = audio[:, :frames]
    return out


@dataclass(slots=True)
class _Work:
    """One rendering: which frames, by which means, and whether it is still wanted."""

    renderer: Renderer
    host: Host
    reader: Callable[[SourceNode], ReadSource]
    first: int
    total: int
    block_frames: int

    def render(self, nodes: Sequence[Node]) -> None:
        """``nodes`` over the span, from what is held of what they need, as far as there is room: first the ends of chains, then
        what is asked for within them; faders and sums, which are soon worked out again from those, last, what comes last first.
        What can be laid aside has room in any case."""
        self._render(nodes)

    def render_exactly(self, node: Node, progress: Callable[[float], None] | None) -> Take:
        """One node, which is kept like the rest, as it was before that rounded it."""
        take = self._render([node], exact=node, progress=progress)
        assert isinstance(take, Take)
        return take

    def render_rounded(self, node: Node) -> KeptTake:
        """One node as it is kept."""
        take = self._render([node])
        assert isinstance(take, KeptTake)
        return take

    def _render(
        self, nodes: Sequence[Node], *, exact: Node | None = None, progress: Callable[[float], None] | None = None
    ) -> Take | KeptTake | None:
        """What is given is that of the first of ``nodes``, if it was rendered."""
        for some in self._to_be_laid_aside(nodes):
            self._pass(some)
        return self._pass(nodes, exact=exact, progress=progress)

    def _to_be_laid_aside(self, nodes: Sequence[Node]) -> Iterator[list[Node]]:
        """What is made before ``nodes``, where not all of it fits and what is let go can be laid aside: chains, whole, some at a time."""
        held = self.renderer.held
        if held.aside is None:
            return
        todo = nodes_below(nodes, known=lambda each: (each.key, self.first, self.total) in held)
        to_keep = self._dearest_first(todo, nodes)
        if sum(map(self._bytes_of, to_keep)) <= held.limit_bytes:
            return
        keys = {each.key for each in to_keep if isinstance(each, DeviceNode)}
        if len(nodes) == 1:  # which has a pass of its own
            keys.discard(nodes[0].key)
        some, filled = list[Node](), 0
        for each in (each for each in todo if each.key in keys):  # in this order, what is of one chain stands together
            filled += self._bytes_of(each)
            if some and filled > held.limit_bytes // 2:
                yield some
                some, filled = [], self._bytes_of(each)
            some.append(each)
        if some:
            yield some

    def _pass(
        self, nodes: Sequence[Node], *, exact: Node | None = None, progress: Callable[[float], None] | None = None
    ) -> Take | KeptTake | None:
        given: dict[str, GivenRunner] = {}

        def known(each: Node) -> bool:
            if len(nodes) == 1 and each is nodes[0]:  # another thread may have put it away just now
                return False
            if each.key not in given and (take := self.renderer._remembered(each, self.first, self.total)) is not None:
                given[each.key] = GivenRunner(each, take.audio, self.first)
            return each.key in given

        todo = nodes_below(nodes, known=known)
        wanted = self._that_fit(todo, nodes)
        self.renderer.held.make_room(sum(map(self._bytes_of, wanted)))
        blocks = BlockGraph(self.host)
        blocks.show(wanted, self.reader, given=tuple(given.values()))
        self.renderer.devices_run += sum(isinstance(each, DeviceNode) and each.key in blocks.keys for each in todo)
        coming = {each.key: _Coming(self.total, exact=each is exact) for each in wanted}

        def take_in(node: Node, start: int, part: Stereo, gain_db: FloatArray | None) -> None:
            at = start - self.first
            coming[node.key].add(at, part)
            if gain_db is not None and isinstance(node, DeviceNode):
                # The gain belongs to the input, so as a function of the song it is early by the input's latency.
                coming[node.key].add_gain(at - max(i.latency for i in node.inputs), gain_db)

        held = self.renderer.held
        for n, done in enumerate(
            blocks.blocks(cut_span(self.first, self.first + self.total, self.block_frames), take_in)
        ):
            if n % _READ_BLOCKS == 0 and held.aside is not None:
                held.aside.let_pages_go()
            if progress is not None:
                progress(min(1.0, (done - self.first) / self.total))
        found: Take | KeptTake | None = None
        for each in reversed(wanted):  # what is put away last stays longest
            came = coming.pop(each.key)
            bad_samples = blocks.runner(each).bad_samples
            whole = Take(came.audio, came.gain_db, bad_samples) if each is exact else None
            kept = KeptTake(came.audio, came.gain_db, bad_samples) if whole is None else KeptTake.of(whole)
            self.renderer._put(each, self.first, self.total, kept)
            if each is nodes[0]:
                found = kept if whole is None else whole
        return found

    def _that_fit(self, todo: Sequence[Node], nodes: Sequence[Node]) -> list[Node]:
        """What is kept of ``todo``, which has to be made for ``nodes``; the dearest first. One by itself is among it, fit or not."""
        in_order = self._dearest_first(todo, nodes)
        room = self.renderer.held.limit_bytes
        filled = itertools.accumulate(map(self._bytes_of, in_order))
        return [each for n, (each, size) in enumerate(zip(in_order, filled, strict=True)) if size <= room or n == 0]

    def _dearest_first(self, todo: Sequence[Node], nodes: Sequence[Node]) -> list[Node]:
        """What is worth being kept of ``todo``; before all else one that is asked for by itself."""
        leads_on = {i.key for each in todo if not isinstance(each, DeviceNode) for i in each.inputs}
        asked = {node.key for node in nodes}

        def rank(place: int) -> tuple[int, int]:
            each = todo[place]
            if isinstance(each, DeviceNode):
                return (1, place) if each.key in leads_on else (2, place)
            return 3, -place

        ends = {each.key for each in todo if isinstance(each, DeviceNode)} & leads_on
        places = sorted((n for n, each in enumerate(todo) if each.key in asked | ends), key=rank)
        in_order = [todo[n] for n in places]
        if len(nodes) == 1:
            in_order.sort(key=lambda each: each is not nodes[0])
        return in_order

    def _bytes_of(self, node: Node) -> int:
        """Of what is kept of it, at most: both sides and, where a gain moves, that."""
        moves = isinstance(node, DeviceNode) and node.device is not None and node.device.spec.work
        return self.total * (12 if moves else 8)


class _Coming:
    """What comes of a node, block by block. What is only kept is rounded as it comes, and takes one row as long as both sides are
    alike: there are many at once, each as long as the span."""

    def __init__(self, total: int, *, exact: bool) -> None:
        self._kind = np.float64 if exact else np.float32
        self.audio: npt.NDArray[Any] = np.empty((2 if exact else 1, total), dtype=self._kind)
        self.gain_db: npt.NDArray[Any] | None = None

    def add(self, at: int, part: Stereo) -> None:
        part = part.astype(self._kind, copy=False)
        if len(self.audio) == 1 and not are_alike(part):
            one, self.audio = self.audio, np.empty((2, self.audio.shape[1]), dtype=self._kind)
            self.audio[:, :at] = one[:, :at]
        self.audio[:, at : at + part.shape[1]] = part[: len(self.audio)]

    def add_gain(self, at: int, gain_db: FloatArray) -> None:
        """What begins before the span is left out."""
        late = gain_db[max(0, -at) :]
        if self.gain_db is None:
            self.gain_db = np.zeros(self.audio.shape[1], dtype=self._kind)
        self.gain_db[max(0, at) : max(0, at) + len(late)] = late


def chain_tail_s(session: Session, chain: tuple[Device, ...]) -> float:
    """How long the devices of a chain ring on, one after the other."""
    host = Host(session.rate_hz, session.song.tempo_bpm)
    return sum(make_processor(d, host).tail_s for _, d in walk(chain) if d.on and d.spec.rings)


def _cut(parts: Sequence[KeptTake], gains: Sequence[FloatArray], start: int, frames: int) -> Stereo:
    """Frames ``start`` to ``start + frames`` of the sum of ``parts``, (1 or 2, n) each, at their ``gains`` (2, 1); silence
    outside of them."""
    out = np.zeros((2, frames))
    for take, gain in zip(parts, gains, strict=True):
        first, last = max(0, -start), min(frames, take.audio.shape[1] - start)
        if last > first and sounds(take.sounding, start + first, start + last):  # what is not read takes no memory
            add_at(take.audio, start + first, gain, out, first, last)
    return out
