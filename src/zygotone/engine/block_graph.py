"""Many nodes worked out together, one block after the other."""

from __future__ import annotations

import collections
import threading
from collections.abc import Callable, Container, Iterator, Mapping, Sequence

import numpy as np

from zygotone.devices import Host
from zygotone.dsp.tiny import tiny_as_zero
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.engine.motion import smoothed
from zygotone.engine.nodes import DeviceNode, Node, SourceNode, nodes_below
from zygotone.engine.pipeline import Pipeline
from zygotone.engine.runners import GivenRunner, ReadSource, Runner, make_runner

_TRIAL_FRAMES = 512  # of silence, by which a runner is tried out


# What gets the blocks of the nodes that are shown: node, first frame, audio (2, n), and the gain in dB of a device whose gain moves.
Sink = Callable[[Node, int, Stereo, FloatArray | None], None]


def cut_span(start: int, end: int, frames: int) -> list[tuple[int, int]]:
    """Blocks of ``frames`` at most from ``start`` to ``end``: (first frame, frames) of each."""
    return [(at, min(frames, end - at)) for at in range(start, end, frames)]


def _kernels_of(node: Node) -> object:
    """Two nodes of one such kind call the same kernels: what they are, and their settings but for plain numbers."""
    device = node.device if isinstance(node, DeviceNode) else None
    moves = bool(getattr(node, "motions", ()))
    return (
        type(node),
        moves,
        len(node.inputs),
        len({each.latency for each in node.inputs}) > 1,
        None if device is None else (device.kind, device.on, _shape(device.params)),
    )


def _shape(held: object) -> object:
    if isinstance(held, Mapping):
        return tuple((name, _shape(value)) for name, value in held.items())
    if isinstance(held, tuple):
        return tuple(map(_shape, held))
    return None if isinstance(held, float) and held != 0.0 else str(held)


class BlockGraph:
    """Runners for nodes, shared between all graphs pulled from it; each node is worked out once a block.

    ``block`` works in the caller's thread, as playback needs it; ``blocks`` goes through known ones on several cores.
    """

    def __init__(self, host: Host) -> None:
        self._host = host
        self._wanted: list[Node] = []
        self._runners: dict[str, Runner] = {}  # inputs before outputs
        self._loop: tuple[int, int] | None = None
        self._tried: set[object] = set()  # of which nodes everything they call is loaded

    def prepare(self, nodes: list[Node], reader: Callable[[SourceNode], ReadSource]) -> dict[str, Runner]:
        """Runners of those nodes, and of what they need, that there are none of yet: made by whoever does not play, and
        tried out, so that everything they call is loaded."""
        made: dict[str, Runner] = {}
        for node in nodes_below(nodes):
            if node.key in self._runners or isinstance(node, SourceNode):
                continue
            made[node.key] = make_runner(node, self._host, reader)
            kind = _kernels_of(node)
            if kind not in self._tried:
                silence = [np.zeros((2, _TRIAL_FRAMES)) for _ in node.inputs]
                make_runner(node, self._host, reader).block(0, _TRIAL_FRAMES, silence)
                if getattr(node, "motions", ()):  # also what it calls where they stand still just there
                    smoothed(lambda frames: 1.0 * frames, 0, _TRIAL_FRAMES)
                self._tried.add(kind)
        return made

    def show(
        self,
        nodes: list[Node],
        reader: Callable[[SourceNode], ReadSource],
        prepared: Mapping[str, Runner] | None = None,
        given: Sequence[GivenRunner] = (),
    ) -> None:
        """From the next block on work out these nodes and what they need. Runners of nodes that stay keep
        their memory; one that takes an edited node's place takes over what fits. ``prepared`` are some of the new ones,
        ``given`` what need not be worked out."""
        old = self._runners
        by_place = {runner.node.place: runner for runner in old.values()}
        runners: dict[str, Runner] = {runner.node.key: runner for runner in given}

        for node in nodes_below(nodes, known=lambda node: node.key in runners):
            runner = old.get(node.key)
            if runner is None or len(runner.node.inputs) != len(node.inputs):
                runner = (prepared or {}).get(node.key) or make_runner(node, self._host, reader)
                if node.place in by_place:
                    runner.adopt(by_place[node.place])
            runner.loop = self._loop
            runners[node.key] = runner
        self._wanted, self._runners = nodes, runners

    def go_round(self, start: int, end: int) -> None:
        """Whoever takes blocks goes from ``end`` back to ``start``."""
        self._loop = (start, end)
        for runner in self._runners.values():
            runner.loop = self._loop

    def keep(self, keys: Container[str]) -> None:
        """Of what is shown, nothing but the nodes of these keys is worked out any more."""
        self._runners = {key: runner for key, runner in self._runners.items() if key in keys}
        self._wanted = [node for node in self._wanted if node.key in keys]

    @property
    def keys(self) -> Container[str]:
        """Of the nodes that are worked out."""
        return self._runners.keys()

    def runner(self, node: Node) -> Runner:
        return self._runners[node.key]

    def holds_sources(self, nodes: list[Node]) -> bool:
        """Whether every source that ``nodes`` need has its runner already."""
        sources = (node for node in nodes_below(nodes) if isinstance(node, SourceNode))
        return all(node.key in self._runners for node in sources)

    @tiny_as_zero()
    def block(self, start: int, frames: int) -> dict[str, Stereo]:
        """Output of every node for this block of the song, by node key."""
        outputs: dict[str, Stereo] = {}
        for key, runner in self._runners.items():
            outputs[key] = runner.block(start, frames, [outputs[i.key] for i in runner.needs])
        return outputs

    def blocks(self, spans: Sequence[tuple[int, int]], sink: Sink) -> Iterator[int]:
        """Consecutive blocks, each (first frame, frames), on several cores. ``sink`` gets those of the nodes that are shown, as soon as
        they are made: of one node one after the other, of several in any order and by any thread. The frame behind each block once
        all of it is done."""
        steps = _Steps(list(self._runners.values()), {node.key for node in self._wanted}, spans, sink)
        for block in Pipeline(steps.inputs, len(spans), steps.work).run():
            yield sum(spans[block])

    @property
    def bad_samples(self) -> int:
        return sum(runner.bad_samples for runner in self._runners.values())


class _Steps:
    """Runners as the steps of a pipeline. What takes next to no time is done within the one step that needs it, while it is at hand:
    to hand it over would take longer.

    Its functions call each other by ``self``: nested ones would be a ring of references, and all the audio that they reach would stay
    until Python looks for such rings.
    """

    def __init__(
        self, runners: Sequence[Runner], wanted: Container[str], spans: Sequence[tuple[int, int]], sink: Sink
    ) -> None:
        self._runners, self._spans, self._sink = runners, spans, sink
        place = {runner.node.key: n for n, runner in enumerate(runners)}
        self._below = [[place[i.key] for i in runner.needs] for runner in runners]
        self._shown = [runner.node.key in wanted for runner in runners]
        asked = collections.Counter(n for below in self._below for n in below)
        self._within = [runner.light and asked[n] == 1 and not self._shown[n] for n, runner in enumerate(runners)]
        self._steps = [n for n in range(len(runners)) if not self._within[n]]
        self._needed = {n: self._reached(n) for n in self._steps}
        self._users = collections.Counter(n for needed in self._needed.values() for n in needed)
        # What is underway, by runner and block, and how many still want it.
        self._made: dict[tuple[int, int], Stereo] = {}
        self._left: dict[tuple[int, int], int] = {}
        self._counting = threading.Lock()

    @property
    def inputs(self) -> list[list[int]]:
        """Which steps each step needs."""
        number = {n: step for step, n in enumerate(self._steps)}
        return [[number[i] for i in self._needed[n]] for n in self._steps]

    def work(self, step: int, block: int) -> None:
        n = self._steps[step]
        audio = self._block_of(n, block)
        if self._users[n]:
            self._left[n, block] = self._users[n]
            self._made[n, block] = audio
        if self._shown[n]:
            self._sink(self._runners[n].node, self._spans[block][0], audio, self._runners[n].gain_db)
        for below in self._needed[n]:
            with self._counting:
                self._left[below, block] -= 1
                if self._left[below, block] == 0:
                    del self._made[below, block], self._left[below, block]

    def _reached(self, n: int) -> set[int]:
        return set[int]().union(*(self._reached(i) if self._within[i] else {i} for i in self._below[n]))

    def _block_of(self, n: int, block: int) -> Stereo:
        parts = [self._block_of(i, block) if self._within[i] else self._made[i, block] for i in self._below[n]]
        return self._runners[n].block(*self._spans[block], parts)
