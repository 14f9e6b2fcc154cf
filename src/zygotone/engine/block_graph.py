"""Many nodes worked out together, one block after the other."""

from __future__ import annotations

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
        runners = list(self._runners.values())
        place = {runner.node.key: n for n, runner in enumerate(runners)}
        inputs = [[place[i.key] for i in runner.needs] for runner in runners]
        wanted = {place[node.key] for node in self._wanted}
        asked = [sum(below.count(n) for below in inputs) for n in range(len(runners))]
        # What takes next to no time is done by the one step that needs it, while it is at hand: to hand it over would take longer.
        within = [runner.light and asked[n] == 1 and n not in wanted for n, runner in enumerate(runners)]
        steps = [n for n in range(len(runners)) if not within[n]]

        def reached(n: int) -> set[int]:
            return set().union(*(reached(i) if within[i] else {i} for i in inputs[n]))

        needed = {n: reached(n) for n in steps}
        number = {n: step for step, n in enumerate(steps)}
        users = {n: sum(n in needed[m] for m in steps) for n in steps}
        # What is underway, by runner and block, and how many still want it.
        made: dict[tuple[int, int], Stereo] = {}
        left: dict[tuple[int, int], int] = {}
        counting = threading.Lock()

        def block_of(n: int, block: int) -> Stereo:
            parts = [block_of(i, block) if within[i] else made[i, block] for i in inputs[n]]
            return runners[n].block(*spans[block], parts)

        def work(step: int, block: int) -> None:
            n = steps[step]
            audio = block_of(n, block)
            if users[n]:
                left[n, block] = users[n]
                made[n, block] = audio
            if n in wanted:
                sink(runners[n].node, spans[block][0], audio, runners[n].gain_db)
            for below in needed[n]:
                with counting:
                    left[below, block] -= 1
                    if left[below, block] == 0:
                        del made[below, block], left[below, block]

        for block in Pipeline([[number[i] for i in needed[n]] for n in steps], len(spans), work).run():
            yield sum(spans[block])

    @property
    def bad_samples(self) -> int:
        return sum(runner.bad_samples for runner in self._runners.values())
