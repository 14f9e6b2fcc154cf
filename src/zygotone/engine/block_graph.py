"""Many nodes worked out together, one block after the other, on as many cores as there are."""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

from zygotone.devices import Host
from zygotone.dsp.types import Stereo
from zygotone.engine.graph import Node, SourceNode
from zygotone.engine.runners import ReadSource, Runner, make_runner

THREADS = 2
# Handing work to another thread costs time at each depth; measured on the demo, shorter blocks are done sooner by one.
_LEAST_FRAMES = 4096

_pool_lock = threading.Lock()
_pool: ThreadPoolExecutor | None = None


def shared_pool() -> ThreadPoolExecutor:
    """Threads that help whoever renders; made when first needed. Work given to it never waits for other work."""
    global _pool
    with _pool_lock:
        if _pool is None:
            _pool = ThreadPoolExecutor(THREADS - 1, thread_name_prefix="render")
        return _pool


class BlockGraph:
    """Runners for nodes, shared between all graphs pulled from it; each node is worked out once a block.

    Nodes of one depth do not need each other, so they are shared out between threads; the result does not depend on
    which thread did what.
    """

    def __init__(self, host: Host, *, parallel: bool = False) -> None:
        self._host = host
        self._parallel = parallel
        self._runners: dict[str, Runner] = {}
        self._levels: list[list[Runner]] = []

    def show(self, nodes: list[Node], reader: Callable[[SourceNode], ReadSource]) -> None:
        """From the next block on work out these nodes and what they need. Runners of nodes that stay keep
        their memory; one that takes an edited node's place takes over what fits."""
        old = self._runners
        by_place = {runner.node.place: runner for runner in old.values()}
        runners: dict[str, Runner] = {}
        depths: dict[str, int] = {}
        levels: list[list[Runner]] = []

        def visit(node: Node) -> int:
            if node.key in depths:
                return depths[node.key]
            depth = max((visit(below) + 1 for below in node.inputs), default=0)
            runner = old.get(node.key)
            if runner is None or len(runner.node.inputs) != len(node.inputs):
                runner = make_runner(node, self._host, reader)
                if node.place in by_place:
                    runner.adopt(by_place[node.place])
            runners[node.key] = runner
            depths[node.key] = depth
            while len(levels) <= depth:
                levels.append([])
            levels[depth].append(runner)
            return depth

        for node in nodes:
            visit(node)
        self._runners, self._levels = runners, levels

    def runner(self, node: Node) -> Runner:
        return self._runners[node.key]

    def holds_sources(self, nodes: list[Node]) -> bool:
        """Whether every source that ``nodes`` need has its runner already."""
        if any(isinstance(node, SourceNode) and node.key not in self._runners for node in nodes):
            return False
        return all(self.holds_sources(list(node.inputs)) for node in nodes)

    def block(self, start: int, frames: int) -> dict[str, Stereo]:
        """Output of every node for this block of the song, by node key."""
        outputs: dict[str, Stereo] = {}

        def work(todo: deque[Runner]) -> None:
            while True:
                try:
                    runner = todo.popleft()
                except IndexError:
                    return
                inputs = [outputs[i.key] for i in runner.node.inputs]
                outputs[runner.node.key] = runner.block(start, frames, inputs)

        for level in self._levels:
            todo = deque(level)
            if self._parallel and len(level) > 1 and frames >= _LEAST_FRAMES:
                helpers = [shared_pool().submit(work, todo) for _ in range(THREADS - 1)]
                work(todo)
                for helper in helpers:
                    # One that has not begun has nothing left to do; one that has must end before the next depth.
                    if not helper.cancel():
                        helper.result()
            else:
                work(todo)
        return outputs

    @property
    def bad_samples(self) -> int:
        return sum(runner.bad_samples for runner in self._runners.values())
