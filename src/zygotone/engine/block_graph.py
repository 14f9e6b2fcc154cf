"""Many nodes worked out together, one block after the other."""

from __future__ import annotations

import threading
from collections.abc import Callable, Container, Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from zygotone.devices import Host
from zygotone.dsp.tiny import tiny_as_zero
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.engine.motion import smoothed
from zygotone.engine.nodes import DeviceNode, Node, SourceNode, nodes_below
from zygotone.engine.pipeline import Pipeline
from zygotone.engine.runners import GivenRunner, ReadSource, Runner, make_runner

_TRIAL_FRAMES = 512  # of silence, by which a runner is tried out


@dataclass(frozen=True, slots=True)
class Block:
    """One block of the nodes that were asked for, by node key: audio (2, n), and the gain of those whose gain moves."""

    start: int
    audio: dict[str, Stereo]
    gains_db: dict[str, FloatArray]


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

    def blocks(self, spans: Sequence[tuple[int, int]]) -> Iterator[Block]:
        """Consecutive blocks, each (first frame, frames), of the nodes that are shown; on several cores."""
        runners = list(self._runners.values())
        place = {runner.node.key: n for n, runner in enumerate(runners)}
        inputs = [[place[i.key] for i in runner.needs] for runner in runners]
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
