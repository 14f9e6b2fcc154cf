"""Pulling blocks from a graph, one after the other: live playback, and rendering to a file.

The nodes and their runners are those of the offline renderer; only here all nodes of a block are worked out
before the next block, so that nothing is held but what the runners remember.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from zygotone.devices import Host
from zygotone.dsp.giving_up import IsUnwanted
from zygotone.dsp.types import OFFLINE_BLOCK_FRAMES, FloatArray, Stereo
from zygotone.engine.block_graph import BlockGraph, cut_span
from zygotone.engine.graph import Graph
from zygotone.engine.live import LiveNotes
from zygotone.engine.nodes import Node, SourceNode, nodes_below
from zygotone.engine.renderer import Renderer
from zygotone.engine.runners import LOOP_FADE_FRAMES, ReadSource
from zygotone.session.models import MOST_STRIPS

SWAP_S = 0.015  # length of the ramp from one version to another: no click, no jump
_PEAKS_FALL = 0.94  # of a strip's peak, in 512 frames
_MOST_HEARD = 3  # versions that wait or fade at a time, if that can be helped
_FADED_S = 0.1  # how long a version waits at most until the one before has faded


def stream_nodes(
    renderer: Renderer,
    graph: Graph,
    nodes: dict[str, Node],
    span: tuple[int, int],
    *,
    block_frames: int = OFFLINE_BLOCK_FRAMES,
    sink: Callable[[str, Stereo], None],
    progress: Callable[[float], None] = lambda share: None,
) -> None:
    """Render several nodes over a span of the song at once, from the song's start; ``sink`` gets each block by name, with the node's
    latency taken off: those of one name in their order, each in any thread. Memory does not grow with the length."""
    start, end = span
    blocks = BlockGraph(renderer.host(graph.session))
    blocks.show(list(nodes.values()), renderer.source_reader(graph.session))
    latest = max(node.latency for node in nodes.values())
    names: dict[str, list[str]] = {}
    for name, node in nodes.items():
        names.setdefault(node.key, []).append(name)

    def take(node: Node, at: int, audio: Stereo, gain_db: FloatArray | None) -> None:
        first, last = max(at, start + node.latency), min(at + audio.shape[1], end + node.latency)
        if last > first:
            for name in names[node.key]:
                sink(name, np.ascontiguousarray(audio[:, first - at : last - at]))

    for done in blocks.blocks(cut_span(0, end + latest, block_frames), take):
        progress(min(1.0, done / (end + latest)))


@dataclass(frozen=True, slots=True)
class Version:
    """A compiled session to play, and the gain that matches its loudness."""

    graph: Graph
    gain_db: float = 0.0


@dataclass(slots=True)
class _Heard:
    """A version that is heard: how many frames it waits, since when, and then how much is left of what it fades in over."""

    node: Node
    gain: float
    wait: int
    since: int
    left: float = 1.0


class Player:
    """The live side: versions A and B run together, so that a swap is only a short ramp between them.

    ``block`` is called by the audio thread, everything else by the interface's; a change is prepared by the
    caller and taken over between two blocks.
    """

    def __init__(self, renderer: Renderer, rate_hz: int) -> None:
        self._renderer = renderer
        self.rate_hz = rate_hz
        self._blocks = BlockGraph(Host(rate_hz, clip=renderer.clip_reader(rate_hz), live=True))
        self._lock = threading.Lock()
        self._swapped = threading.Condition(self._lock)  # what an edit replaced has faded
        self.live = LiveNotes(rate_hz)
        self.rolling = True  # whether the song moves; off, only notes played by hand are heard
        self._versions: list[Node] = []
        self._gains = [1.0, 1.0]
        self._choice = 0
        self._taken = 0  # frames that were worked out, in all
        self._settled: dict[str, int] = {}  # when nothing of another version is left in a version's delays, by its key
        self._heard: list[_Heard] = []  # what is heard now, the newest last: each fades over to the next
        self._staying: frozenset[str] = frozenset()  # keys of what is worked out once that has faded
        self._loop = (0, 1)
        self._sources: dict[str, ReadSource] = {}  # of the versions that play
        self._jump: tuple[int, BlockGraph | None] | None = (
            None  # where to go on next, with devices that remember nothing
        )
        self._bad_before = 0  # replaced in graphs that a jump has put away
        self.position = 0  # next frame of the song to be worked out
        self._strips: dict[str, list[str]] = {}  # of a version, by its mix's key: those of its strips, in their order
        self.strip_peaks = np.zeros(MOST_STRIPS)  # largest sample of each strip of what is heard; falls slowly
        self._taken_at = 0.0  # when the last block was asked for
        self._lead = round(SWAP_S * rate_hz)  # frames from where it begins to where it was sent
        self._landed = 0  # where it was sent
        self._pulled = 0  # frames since the last jump: no more than these can be underway
        self._held_back = 0  # frames until it rolls

    def is_ready_for(self, a: Version, b: Version | None) -> bool:
        """Whether no source of theirs would first have to be decoded or rendered."""
        return self._blocks.holds_sources([version.graph.mix for version in (a, b) if version is not None])

    def set_versions(self, a: Version, b: Version | None, *, unwanted: IsUnwanted = lambda: False) -> bool:
        """What plays as A and B; takes over edits without a gap. Nothing is done, and False returned, where these are ``unwanted`` by
        the time they are ready."""
        versions = [a] if b is None else [a, b]
        nodes = [version.graph.mix for version in versions]
        readers = [self._renderer.source_reader(version.graph.session) for version in versions]
        sources: dict[str, ReadSource] = {}

        for reader, mix in zip(readers, nodes, strict=True):
            for node in nodes_below([mix]):
                # Decoding a clip or rendering an instrument may take a while: here, not under the lock.
                if isinstance(node, SourceNode) and node.key not in sources:
                    sources[node.key] = self._sources.get(node.key) or reader(node)
        prepared = self._blocks.prepare(nodes, lambda node: sources.get(node.key, _silence))
        with self._swapped:
            # Each that waits or fades is worked out too. It takes a few blocks, where somebody takes them.
            if time.monotonic() - self._taken_at < _FADED_S:
                self._swapped.wait_for(lambda: not self.is_crowded or unwanted(), _FADED_S)
            if unwanted():
                return False
            self._versions, self._sources = nodes, sources
            if self._jump is not None:  # its devices are of the versions before
                self._jump = (self._jump[0], None)
            self._gains = [10.0 ** (v.gain_db / 20.0) for v in versions] + [1.0] * (2 - len(versions))
            self._choice = min(self._choice, len(nodes) - 1)
            for mix in nodes:
                self._settled.setdefault(mix.key, self._taken + self._delay_of_news(mix))
            self._fade_over()
            self._settled = {n.key: self._settled[n.key] for n in (*nodes, *(heard.node for heard in self._heard))}
            strips = {v.graph.mix.key: [v.graph.strip[s.id].key for s in v.graph.session.strips()] for v in versions}
            self._strips = {key: held for key, held in self._strips.items() if key in self._settled} | strips
            keep = nodes + [heard.node for heard in self._heard]
            self._blocks.show(keep, lambda node: sources.get(node.key, _silence), prepared)
            self._staying = frozenset(node.key for node in nodes_below(nodes))
        return True

    @property
    def is_crowded(self) -> bool:
        """Whether as many versions fade as may: one more waits."""
        return len(self._heard) >= _MOST_HEARD

    def _delay_of_news(self, mix: Node) -> int:
        """How long after an edit the end of the graph still hears, from what aligns its branches, what came before it: as long as
        that, there is a step within it. A filter that delays rings for as long again. The lock is held."""
        running = self._blocks.keys
        if not self._heard:
            return mix.latency
        if self._heard[-1].node.latency != mix.latency:  # then all that aligns begins anew
            return 2 * mix.latency

        def delay(node: Node) -> int:
            before = max((i.latency for i in node.inputs), default=0)
            return mix.latency + node.latency - 2 * before

        first = (n for n in nodes_below([mix]) if n.key not in running and all(i.key in running for i in n.inputs))
        return max(map(delay, first), default=0)

    def choose(self, index: int) -> None:
        """Hear A (0) or B (1)."""
        with self._lock:
            self._choice = min(index, max(0, len(self._versions) - 1))
            self._fade_over()

    def _fade_over(self) -> None:
        """From now on what is chosen of the versions fades in over what is heard. The lock is held."""
        if not self._versions:
            return
        node = self._versions[self._choice]
        wait = max(0, self._settled.get(node.key, 0) - self._taken)
        new = _Heard(node, self._gains[self._choice], wait, self._taken)
        top = self._heard[-1] if self._heard else None
        if top is not None and (top.node.key, top.gain) == (new.node.key, new.gain):
            top.node = new.node
            return
        if top is not None and top.since == self._taken:  # nobody has heard it yet
            self._heard.pop()
        self._heard.append(new)

    def set_loop(self, start: int, end: int) -> None:
        with self._lock:
            self._loop = (start, max(end, start + 1))
            self._blocks.go_round(*self._loop)
            inside = start <= self.position < end and self._jump is None
        if not inside:
            self.seek(start)

    def seek(self, frame: int) -> None:
        """Go on from another place of the song, at once, with nothing of this one in the devices: no echo of where one was."""
        with self._lock:
            versions, sources, loop = self._versions, self._sources, self._loop
        fresh = BlockGraph(Host(self.rate_hz, clip=self._renderer.clip_reader(self.rate_hz), live=True))
        fresh.go_round(*loop)
        fresh.show(versions, lambda node: sources.get(node.key, _silence))
        with self._lock:
            self._jump = (frame, fresh if versions is self._versions else None)
            self._held_back = 0
            if not self._heard:  # nothing that would have to fade
                self._land()

    def _land(self) -> None:
        """The lock is held."""
        assert self._jump is not None
        frame, fresh = self._jump
        self._jump = None
        if fresh is not None:
            self._bad_before += self._blocks.bad_samples
            self._blocks, self._heard = fresh, []  # it comes back by a ramp
            self._settled = {mix.key: self._taken + mix.latency for mix in self._versions}
            self._fade_over()
            self._swapped.notify_all()
        # It fades in over what comes before: the first beat keeps its attack.
        self._landed, self.position, self._pulled = frame, frame - self._lead, 0

    @property
    def bad_samples(self) -> int:
        return self._bad_before + self._blocks.bad_samples

    def heard_position(self) -> int:
        """The frame of the song that leaves the graph now."""
        jump = self._jump  # read once: the audio thread may land meanwhile
        if jump is not None:
            return jump[0]
        latency = self._latency
        start, end = self._loop
        at = self.position - min(latency, self._pulled)
        if self._pulled <= latency + self._lead:
            return max(at, self._landed)
        return at if at >= start else end - (start - at)

    def count_in(self, clicks: FloatArray) -> None:
        """The song waits for as long as clicks (n,) last, and is heard right after the last."""
        with self._lock:
            early = self._lead + self._latency
            self._held_back = max(0, len(clicks) - early)
        if len(clicks):
            self.live.add("count-in", np.array([np.pad(clicks, (max(0, early - len(clicks)), 0))] * 2))

    @property
    def _latency(self) -> int:
        return self._versions[self._choice].latency if self._versions else 0

    @property
    def heard_frame(self) -> int:
        """The frame of the song that leaves the graph next, before its start while the song waits: where it has not gone round."""
        return self.position - self._held_back - self._latency

    def read_ahead(self, frames: int, sent_to: int | None = None) -> None:
        """Reads the clips and instruments of the next frames of the song, or of those that come next once it is sent to a frame, as they
        will be read: what has to come from a disk is in memory then, and who plays does not wait for it."""
        with self._lock:
            sources, (start, end) = tuple(self._sources.values()), self._loop
            if sent_to is None and self._jump is not None:
                sent_to = self._jump[0]
            at = self.position if sent_to is None else sent_to - self._lead
        if not start - self._lead <= at < end:  # then it begins with the loop
            at = start
        first = (at, min(at + frames, end))
        left = at + frames - first[1]
        again = (start - LOOP_FADE_FRAMES, min(end, start + left)) if left else (0, 0)  # round the loop
        for read in sources:
            for begin, stop in (first, again):
                for piece in range(begin, stop, OFFLINE_BLOCK_FRAMES):
                    read(piece, min(OFFLINE_BLOCK_FRAMES, stop - piece))

    def block(self, frames: int) -> Stereo:
        """The next block, looped; silence without a version."""
        self._taken_at = time.monotonic()
        with self._lock:
            ending = None
            if self._jump is not None:
                if self.rolling and self._jump[1] is not None:
                    # What was heard until now fades within a block, at the longest in the time of a swap.
                    left = np.maximum(0.0, 1.0 - np.arange(1, frames + 1) / min(frames, SWAP_S * self.rate_hz))
                    ending = self._mixed(self.position, frames) * _rounded(left)
                self._land()
            out = self._rolled(frames)
            if ending is not None:
                out += ending
            self.live.mix_into(out)
            return out

    def _rolled(self, frames: int) -> Stereo:
        """The song's next frames, looped; silence where nothing rolls. The lock is held."""
        out = np.zeros((2, frames))
        done = min(frames, self._held_back) if self.rolling else 0
        self._held_back -= done
        while done < frames and self._versions and self.rolling:
            start, end = self._loop
            leads_in = self._pulled < self._lead and start - self._lead <= self.position < start
            if not start <= self.position < end and not leads_in:
                self.position = start  # round the loop; what was pulled before it is still underway
            n = min(frames - done, end - self.position)
            out[:, done : done + n] = self._mixed(self.position, n)
            self.position += n
            self._pulled += n
            done += n
        return out

    def _mixed(self, start: int, frames: int) -> Stereo:
        outputs = self._blocks.block(start, frames)
        ramp = np.arange(1, frames + 1)
        out = np.zeros((2, frames))
        for heard in self._heard:
            left = np.maximum(heard.left - np.maximum(ramp - heard.wait, 0) / (SWAP_S * self.rate_hz), 0.0)
            heard.wait = max(0, heard.wait - frames)
            out += (1.0 - _rounded(left)) * (outputs[heard.node.key] * heard.gain - out)
            heard.left = float(left[-1])
        self._read_peaks(outputs, frames)
        self._taken += frames
        done = max((n for n, heard in enumerate(self._heard) if heard.left == 0.0), default=0)
        if done:
            del self._heard[:done]
            if len(self._heard) == 1:
                self._blocks.keep(self._staying)
                self._settled = {mix.key: self._settled[mix.key] for mix in self._versions}
            self._swapped.notify_all()
        return out

    def _read_peaks(self, outputs: dict[str, Stereo], frames: int) -> None:
        """Of the strips of what is heard, after their faders."""
        self.strip_peaks *= _PEAKS_FALL ** (frames / 512.0)
        for n, key in enumerate(self._strips.get(self._heard[-1].node.key, ()) if self._heard else ()):
            audio = outputs.get(key)
            if audio is not None:
                self.strip_peaks[n] = max(self.strip_peaks[n], float(np.max(np.abs(audio), initial=0.0)))


def _rounded(ramp: FloatArray) -> FloatArray:
    """A straight ramp of 0 to 1 without its corners, which could be heard on a pure tone."""
    return np.asarray(0.5 - 0.5 * np.cos(np.pi * ramp))


def _silence(start: int, frames: int) -> Stereo:
    return np.zeros((2, frames))
