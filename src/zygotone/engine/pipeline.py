"""Steps that each work through the same blocks in order, on as many cores as there are.

A step may begin a block when it has ended the one before and its inputs have ended this one. So the first steps are
already at the next blocks while the last ones finish this; a chain that is one long line keeps two cores busy as well
as many short ones. What comes out does not depend on which thread did what.
"""

from __future__ import annotations

import heapq
import threading
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any, TypeVar

from zygotone.dsp.giving_up import Cancelled, asked_here, give_up_if_unwanted, given_up_when
from zygotone.dsp.tiny import tiny_as_zero

_T = TypeVar("_T")

THREADS = 2
# Blocks that the first step may be ahead of whoever takes them: enough to fill both cores, few enough to bound what is held.
AHEAD = 4

_pool_lock = threading.Lock()
_pool: ThreadPoolExecutor | None = None


def _shared_pool() -> ThreadPoolExecutor:
    """Threads that help whoever renders; made when first needed."""
    global _pool
    with _pool_lock:
        if _pool is None:
            _pool = ThreadPoolExecutor(THREADS - 1, thread_name_prefix="render")
        return _pool


def begin_helpers() -> None:
    """Makes the threads that help, with the priority of whoever calls, who is the first to need them."""
    _shared_pool().submit(int).result()


class Pipeline:
    """``work(step, block)`` for every step and block.

    ``inputs`` names, for each step, the steps it needs, which come before it in the list. The caller's thread works
    too; another joins when it is free, and nothing depends on it.
    """

    def __init__(
        self, inputs: Sequence[Sequence[int]], blocks: int, work: Callable[[int, int], None], *, ahead: int = AHEAD
    ) -> None:
        self._inputs, self._blocks, self._work, self._ahead = inputs, blocks, work, ahead
        self._unwanted = asked_here()  # what is done in the other thread is given up with this one's work
        self._consumers: list[list[int]] = [[] for _ in inputs]
        for step, needed in enumerate(inputs):
            for below in set(needed):
                self._consumers[below].append(step)
        self._done = [0] * len(inputs)  # how many blocks each step has ended
        self._taken = [0] * len(inputs)  # and begun, or put on the heap
        self._left = [len(inputs)] * blocks  # steps that have not ended a block
        self._finished = 0  # blocks that every step has ended
        self._consumed = 0  # blocks that whoever takes them is done with; what is ahead of that takes memory
        self._ready: list[tuple[int, int]] = []  # (block, step): the oldest block first
        self._changed = threading.Condition()
        self._failure: BaseException | None = None
        self._closed = False
        self._helper = 0  # the thread that helps

    def run(self) -> Iterator[int]:
        """The number of each block once all steps have ended it. Leaving the loop early ends the work.

        Raises whatever ``work`` raised, in either thread.
        """
        self._go_on(0)
        helper: Future[None] | None = None
        if len(self._inputs) > 1:
            helper = _shared_pool().submit(self._help)
        try:
            for block in range(self._blocks):
                self._go_on(block)
                self._work_until(block)
                yield block
        finally:
            with self._changed:
                self._closed = True
                self._changed.notify_all()
            # One that has not begun has nothing left to do; one that has must end before its memory is used again. A loop that
            # was left without an end is tidied away in any thread, and the helper does not wait for itself.
            if helper is not None and not helper.cancel() and self._helper != threading.get_ident():
                helper.result()

    def _go_on(self, consumed: int) -> None:
        """So many blocks have been given out and are done with: the first steps may go further."""
        with self._changed:
            self._consumed = consumed
            for step in range(len(self._inputs)):
                self._offer(step)
            self._changed.notify_all()

    def _offer(self, step: int) -> None:
        """Put a step's next block on the heap if it can begin. The lock is held."""
        block = self._taken[step]
        if block != self._done[step] or block >= min(self._blocks, self._consumed + self._ahead):
            return
        if all(self._done[below] > block for below in self._inputs[step]):
            self._taken[step] = block + 1
            heapq.heappush(self._ready, (block, step))

    def _ended(self, block: int, step: int) -> None:
        """The lock is held."""
        self._done[step] = block + 1
        self._left[block] -= 1
        while self._finished < self._blocks and not self._left[self._finished]:
            self._finished += 1
        self._offer(step)
        for above in self._consumers[step]:
            self._offer(above)
        self._changed.notify_all()

    def _one(self) -> None:
        """Take a task and do it. The lock is held before and after, not during the work."""
        block, step = heapq.heappop(self._ready)
        self._changed.release()
        try:
            with given_up_when(self._unwanted):
                give_up_if_unwanted()
                self._work(step, block)
        except BaseException as error:
            self._changed.acquire()
            # What is called off takes no frames with it: they hold all the audio that was worked on.
            self._failure = self._failure or (error.with_traceback(None) if isinstance(error, Cancelled) else error)
            self._changed.notify_all()
            return
        self._changed.acquire()
        self._ended(block, step)

    @tiny_as_zero()
    def _work_until(self, block: int) -> None:
        """Work, or wait for the other thread, until every step has ended ``block``."""
        with self._changed:
            while self._finished <= block and self._failure is None and self._inputs:
                if self._ready:
                    self._one()
                else:
                    self._changed.wait()
            if self._failure is not None:
                failure, self._failure, self._closed = self._failure, None, True
                try:
                    raise failure
                finally:
                    del failure  # with it in the frame that it goes through, neither would be let go

    @tiny_as_zero()
    def _help(self) -> None:
        self._helper = threading.get_ident()
        with self._changed:
            while not self._closed and self._failure is None and self._finished < self._blocks:
                if self._ready:
                    self._one()
                else:
                    self._changed.wait()


def at_once(works: Sequence[Callable[[], _T]]) -> list[_T]:
    """What each of ``works`` gives, in their order; none needs another. They are given up with the work of this thread."""
    results: list[Any] = [None] * len(works)

    def work(step: int, block: int) -> None:
        results[step] = works[step]()

    for _ in Pipeline([[] for _ in works], 1, work).run():
        pass
    return results
