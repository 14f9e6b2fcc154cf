"""A session heard over a span: the facts that rules, fixes and pictures ask for, each worked out once.

Facts are remembered by the node they are of and the span, whatever session asks: an edit of one track leaves those of all
others as they were. What is remembered is bounded in bytes, by the renderer.
"""

from __future__ import annotations

import functools
import math
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, TypeVar

from zygotone.dsp.giving_up import IsUnwanted, give_up_if_unwanted, given_up_when
from zygotone.dsp.tiny import tiny_as_zero
from zygotone.dsp.types import FloatArray, Single, Stereo
from zygotone.engine.graph import Graph, compile_session, layer_node
from zygotone.engine.nodes import Node, SourceNode
from zygotone.engine.renderer import Renderer, Take
from zygotone.measure.dynamics import hits, pumping_db
from zygotone.measure.levels import Levels, levels, peak
from zygotone.measure.spectrum import Spectrum, spectrum
from zygotone.session.models import InstrumentSource, Section, Session, Strip, Track
from zygotone.session.value import as_text

_T = TypeVar("_T")
_SILENT = 1e-4


@dataclass
class Hearing:
    """``excerpt``: frames of the song, where only a part of the section is to be heard."""

    session: Session
    section: Section
    renderer: Renderer
    unwanted: IsUnwanted = lambda: False
    excerpt: tuple[int, int] | None = None
    compiled: Graph | None = None
    _layer_nodes: dict[tuple[str, str], Node] = field(default_factory=dict)
    _once: dict[str, Any] = field(default_factory=dict)

    @classmethod
    def of(cls, graph: Graph, section: Section, renderer: Renderer, unwanted: IsUnwanted = lambda: False) -> Hearing:
        """Of a version that is compiled already."""
        return cls(graph.session, section, renderer, unwanted, compiled=graph)

    @functools.cached_property
    def graph(self) -> Graph:
        return self.compiled if self.compiled is not None else compile_session(self.session)

    def with_session(self, session: Session) -> Hearing:
        """Another version over the same span."""
        graph = compile_session(session, self.graph)
        return Hearing(session, self.section, self.renderer, self.unwanted, self.excerpt, graph)

    def with_section(self, section: Section) -> Hearing:
        """The same version over another section."""
        return Hearing(self.session, section, self.renderer, self.unwanted, None, self.graph)

    def with_excerpt(self, first: int, last: int) -> Hearing:
        return Hearing(self.session, self.section, self.renderer, self.unwanted, (first, last), self.graph)

    @functools.cached_property
    def span(self) -> tuple[int, int]:
        return self.excerpt or self.session.section_span(self.section.id)

    @property
    def rate_hz(self) -> int:
        return self.session.rate_hz

    @functools.cached_property
    def first_bar(self) -> int:
        """Of the section, in the song, counted from 1."""
        return 1 + next(first for s, first, _ in self.session.song.spans() if s.id == self.section.id)

    def once(self, name: str, make: Callable[[], _T]) -> _T:
        """What ``make`` gives, made once for this hearing: what goes by the session as a whole and costs little, but is asked often."""
        if name not in self._once:
            self._once[name] = make()
        found: _T = self._once[name]
        return found

    def prepare(self) -> None:
        """Renders what the rules are going to hear in one pass: all strips, what comes into buses, and what goes into and out of
        devices that move a gain.

        Raises
        ------
        Cancelled : nobody waits for it any more.
        """
        strips = (*self.session.tracks, *self.session.buses, self.session.mix)
        nodes = [self.graph.strip[s.id] for s in strips if not s.mute]
        nodes += [self.graph.raw[s.id] for s in strips if not s.mute and not isinstance(s, Track)]
        nodes += [
            node for s in strips if not s.mute for d in s.chain if d.on and d.spec.work
            for node in self.graph.tap(s.id, d.id)
        ]  # fmt: skip
        unique = {node.key: node for node in nodes if not isinstance(node, SourceNode)}
        self.renderer.prepare(self.graph, unique.values(), self.span, cancelled=self.unwanted)

    # --- audio ---------------------------------------------------------------------------------------------

    def take(self, node: Node) -> Take:
        """What a node gives over the span.

        Raises
        ------
        Cancelled : nobody waits for it any more.
        """
        place = (node.key, self.span)
        take = self.renderer.recent.get(place)
        if take is None:
            take = self.renderer.take(self.graph, node, self.span, cancelled=self.unwanted)
            self.renderer.recent.put(place, take)
        return take

    def stem(self, strip_id: str) -> Stereo:
        """After chain, level and pan."""
        return self.take(self.graph.strip[strip_id]).audio

    def kept(self, node: Node) -> Single:
        """As ``take``, its audio as it is kept: in single precision, (1, n) where both sides are alike. For what works by windows in
        single precision anyway, nothing is copied. Not to be written to."""
        return self.renderer.kept(self.graph, node, self.span, cancelled=self.unwanted)

    def chain_out(self, strip_id: str) -> Stereo:
        """After the chain, before level and pan: what a key input hears."""
        return self.take(self.graph.chain[strip_id]).audio

    def raw(self, strip_id: str) -> Stereo:
        """Before the chain."""
        return self.take(self.graph.raw[strip_id]).audio

    def layer_node(self, track_id: str, layer_id: str) -> Node:
        """One layer of an instrument after its own chain, heard alone, muted or not."""
        place = (track_id, layer_id)
        if place not in self._layer_nodes:
            self._layer_nodes[place] = layer_node(self.session, track_id, layer_id)
        return self._layer_nodes[place]

    def layer(self, track_id: str, layer_id: str) -> Stereo:
        """One layer of an instrument after its own chain, before the track's."""
        node = self.layer_node(track_id, layer_id)
        if isinstance(node, SourceNode):  # which is there already, for the whole song
            start, end = self.span
            with given_up_when(self.unwanted):
                return self.renderer.source_reader(self.session)(node)(start, end - start)
        return self.take(node).audio

    # --- facts ---------------------------------------------------------------------------------------------

    def fact(self, name: str, of: str, work: Callable[[], _T]) -> _T:
        """What ``work`` gives, remembered for this span by ``name`` and ``of``, which must name everything it depends on
        (as a node's key does). A fact is numbers and arrays; whole audio is kept by the renderer.

        Raises
        ------
        Cancelled : nobody waits for it any more.
        """

        def asked() -> _T:
            with given_up_when(self.unwanted), tiny_as_zero():
                give_up_if_unwanted()
                return work()

        found: _T = self.renderer.held.remember((name, of, self.span, self.rate_hz), asked)
        return found

    def lufs(self, strip_id: str) -> float:
        """Integrated loudness of a stem."""
        return self.levels(strip_id).loudness.integrated_lufs

    def levels(self, strip_id: str) -> Levels:
        """All that concerns the level of a stem."""
        return self.fact("levels", self.graph.strip[strip_id].key, lambda: levels(self.stem(strip_id), self.rate_hz))

    def side_spectra(self, strip_id: str) -> tuple[Spectrum, Spectrum]:
        """Average spectra of the left and the right side of a stem."""
        key = self.graph.strip[strip_id].key

        def work() -> tuple[Spectrum, Spectrum]:
            found = [spectrum(side[None], self.rate_hz) for side in self.kept(self.graph.strip[strip_id])]
            return found[0], found[-1]

        return self.fact("side spectra", key, work)

    def spectrum(self, strip_id: str) -> Spectrum:
        """Average spectrum of a stem, the mean of both sides."""
        left, right = self.side_spectra(strip_id)
        return Spectrum(left.freqs_hz, 0.5 * (left.power + right.power))

    def band_db(self, strip_id: str, low_hz: float, high_hz: float) -> float:
        """Level of a stem between two frequencies, in dB re a mean square of 1; −140 and more in silence."""
        return 10.0 * math.log10(self.spectrum(strip_id).band_power(low_hz, high_hz) + 1e-14)

    def sounds(self, strip_id: str) -> bool:
        """Whether anything is heard of a strip."""
        return self.levels(strip_id).peak > _SILENT

    def hits(self, strip_id: str) -> tuple[int, ...]:
        """First frame of each percussive hit of a stem."""
        key = self.graph.strip[strip_id].key
        return self.fact("hits", key, lambda: tuple(hits(self.stem(strip_id), self.rate_hz)))

    def plays(self, strip_id: str) -> bool:
        """Whether a strip sounds by its own doing: what only rings out of the section before is not judged."""
        if not self.sounds(strip_id):
            return False
        strip = self.session.strip(strip_id)
        if not isinstance(strip, Track) or not isinstance(strip.source, InstrumentSource):
            return True
        first, end = self.session.song.beats_of(self.section.id)
        for part in strip.parts:
            start, stop = part.span_beats(self.session.song.beats_of(part.section))
            if start < end and stop > first:
                return True
        return False

    def pumping_db(self, strip_id: str, path: str) -> float:
        """How far the gain of a device moves with the beat; 0 for one whose gain stands still."""
        before, after = self.graph.tap(strip_id, path)
        if before is after:
            return 0.0

        def work() -> float:
            gain_db = self.take(after).gain_db
            return 0.0 if gain_db is None else pumping_db(gain_db, self.take(before).audio, self.rate_hz)

        return self.fact("pumping", after.key, work)

    def reads(self, strip: Strip) -> str:
        """All that a rule about a strip may ask of it: its own value, its signals, and the song it is in."""
        graph = self.graph
        keys = (graph.raw[strip.id].key, graph.chain[strip.id].key, graph.strip[strip.id].key)
        return ":".join((strip.digest, *keys, self.session.song.digest, self.section.digest))

    def reads_of_layers(self, track: Track) -> str:
        """All that a rule about a track's layers may ask: what is before the track's own chain and faders."""
        own = (track.id, track.name, track.role, track.source.digest, as_text(track.parts), str(track.nudge_ms))
        return ":".join((*own, self.graph.raw[track.id].key, self.session.song.digest, self.section.digest))


def sounds(audio: FloatArray, *, floor: float = _SILENT) -> bool:
    """Whether any sample of (channels, frames) is over ``floor``, linear: −80 dBFS, where nothing else is asked for."""
    return peak(audio) > floor
