"""A session heard over a span: the facts that rules, fixes and pictures ask for, each worked out once.

Facts are remembered by the node they are of and the span, whatever session asks: an edit of one track leaves those of all
others as they were. What is remembered is bounded in bytes, by the renderer.
"""

from __future__ import annotations

import functools
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TypeVar

from zygotone.dsp.giving_up import IsUnwanted, give_up_if_unwanted, given_up_when
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.engine.graph import Graph, Node, SourceNode, compile_session, layer_node
from zygotone.engine.renderer import Renderer, Take
from zygotone.measure.dynamics import pumping_db
from zygotone.measure.loudness import integrated_lufs
from zygotone.session.models import Section, Session, Strip, Track
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

    def with_excerpt(self, first: int, last: int) -> Hearing:
        return Hearing(self.session, self.section, self.renderer, self.unwanted, (first, last), self.graph)

    @functools.cached_property
    def span(self) -> tuple[int, int]:
        return self.excerpt or self.session.section_span(self.section.id)

    @property
    def rate_hz(self) -> int:
        return self.session.rate_hz

    # --- audio ---------------------------------------------------------------------------------------------

    def take(self, node: Node) -> Take:
        """What a node gives over the span.

        Raises
        ------
        Cancelled : nobody waits for it any more.
        """
        return self.renderer.take(self.graph, node, self.span, cancelled=self.unwanted)

    def stem(self, strip_id: str) -> Stereo:
        """After chain, level and pan."""
        return self.take(self.graph.strip[strip_id]).audio

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
            with given_up_when(self.unwanted):
                give_up_if_unwanted()
                return work()

        found: _T = self.renderer.held.remember((name, of, self.span, self.rate_hz), asked)
        return found

    def lufs(self, strip_id: str) -> float:
        """Integrated loudness of a stem."""
        key = self.graph.strip[strip_id].key
        return self.fact("lufs", key, lambda: integrated_lufs(self.stem(strip_id), self.rate_hz))

    def sounds(self, strip_id: str) -> bool:
        """Whether anything is heard of a strip."""
        return self.fact("sounds", self.graph.strip[strip_id].key, lambda: sounds(self.stem(strip_id)))

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
    return bool(audio.size) and float(abs(audio).max()) > floor
