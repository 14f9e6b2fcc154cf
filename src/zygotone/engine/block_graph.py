"""Many nodes worked out together, one block after the other."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from zygotone.devices import Host
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.engine.graph import Node, SourceNode, nodes_below
from zygotone.engine.pipeline import Pipeline
from zygotone.engine.runners import ReadSource, Runner, make_runner


@dataclass(frozen=True, slots=True)
class Block:
    """One block of the nodes that were asked for, by node key: audio (2, n), and the gain of those whose gain moves."""

    start: int
    audio: dict[str, Stereo]
    gains_db: dict[str, FloatArray]


def cut_span(start: int, end: int, frames: int) -> list[tuple[int, int]]:
    """Blocks of ``frames`` at most from ``start`` to ``end``: (first frame, frames) of each."""
    return [(at, min(frames, end - at)) for at in range(start, end, frames)]


class BlockGraph:
    """Runners for nodes, shared between all graphs pulled from it; each node is worked out once a block.

    ``block`` works in the caller's thread, as playback needs it; ``blocks`` goes through known ones on several cores.
    """

    def __init__(self, host: Host) -> None:
        self._host = host
        self._wanted: list[Node] = []
        self._runners: dict[str, Runner] = {}  # inputs before outputs

    def show(self, nodes: list[Node], reader: Callable[[SourceNode], ReadSource]) -> None:
        """From the next block on work out these nodes and what they need. Runners of nodes that stay keep
        their memory; one that takes an edited node's place takes over what fits."""
        old = self._runners
        by_place = {runner.node.place: runner for runner in old.values()}
        runners: dict[str, Runner] = {}

        for node in nodes_below(nodes):
            runner = old.get(node.key)
            if runner is None or len(runner.node.inputs) != len(node.inputs):
                runner = make_runner(node, self._host, reader)
                if node.place in by_place:
                    runner.adopt(by_place[node.place])
            runners[node.key] = runner
        self._wanted, self._runners = nodes, runners

    def runner(self, node: Node) -> Runner:
        return self._runners[node.key]

    def holds_sources(self, nodes: list[Node]) -> bool:
        """Whether every source that ``nodes`` need has its runner already."""
        sources = (node for node in nodes_below(nodes) if isinstance(node, SourceNode))
        return all(node.key in self._runners for node in sources)

    def block(self, start: int, frames: int) -> dict[str, Stereo]:
        """Output of every node for this block of the song, by node key."""
        outputs: dict[str, Stereo] = {}
        for key, runner in self._runners.items():
            outputs[key] = runner.block(start, frames, [outputs[i.key] for i in runner.node.inputs])
        return outputs

    def blocks(self, spans: Sequence[tuple[int, int]]) -> Iterator[Block]:
        """Consecutive blocks, each (first frame, frames), of the nodes that are shown; on several cores."""
        runners = list(self._runners.values())
        place = {runner.node.key: n for n, runner in enumerate(runners)}
        inputs = [[place[i.key] for i in runner.node.inputs] for runner in runners]
        wanted = {node.key for node in self._wanted}
        users = [sum(n in below for below in inputs) + (runners[n].node.key in wanted) for n in range(len(runners))]
        # What is underway, by step and block, and how many still want it.
        made: dict[tuple[int, int], Stereo] = {}
        left: dict[tuple[int, int], int] = {}
        gains: dict[tuple[int, int], FloatArray] = {}
        counting = threading.Lock()

        def work(step: int, block: int) -> None:
            runner = runners[step]
            start, frames = spans[block]
            parts = [made[below, block] for below in inputs[step]]
            left[step, block] = users[step]
            made[step, block] = runner.block(start, frames, parts)
            if runner.gain_db is not None and runner.node.key in wanted:
                gains[step, block] = runner.gain_db
            for below in set(inputs[step]):
                drop(below, block)

        def drop(step: int, block: int) -> None:
            with counting:
                left[step, block] -= 1
                if left[step, block] == 0:
                    del made[step, block], left[step, block]

        for block in Pipeline(inputs, len(spans), work).run():
            shown = [place[key] for key in wanted]
            yield Block(
                spans[block][0],
                {runners[n].node.key: made[n, block] for n in shown},
                {runners[n].node.key: gains.pop((n, block)) for n in shown if (n, block) in gains},
            )
            for n in shown:
                drop(n, block)

    @property
    def bad_samples(self) -> int:
        return sum(runner.bad_samples for runner in self._runners.values())
