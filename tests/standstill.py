"""How long the machine itself stood still, and how fast it was: one process on each core that comes before all others, looks at the
clock, and now and then times a little work that is always the same.

A shared machine takes its cores away now and then; what is not played meanwhile is nobody's fault who plays. And it shares each core
with others: it then works at half its speed, from one tenth of a second to the next.
"""

from __future__ import annotations

import json
import os
import select
import subprocess
import sys
import time
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path
from typing import Self

import numpy as np

from zygotone.engine import cores

_TICK_S, _COUNTS_S = 0.002, 0.02
_LATE_S = 0.001  # behind the tick: less than this is the system's usual waking up
_WORKS_EVERY, _WORK = 25, 1500  # ticks, and turns of a loop that take less than a tenth of a millisecond
_FASTEST_PCT = 2.0  # so much of the work was done still faster; that is chance


class Standstill:
    """Watches from ``__enter__`` on; ``found`` then has the longest standstill and the sum of those over 20 ms, in ms, of the core that
    stood longer, the time that all cores together were taken away (proc(5), stat, steal), and the mean speed, where 1 is the fastest of
    this time."""

    def __enter__(self) -> Self:
        self._stolen_ms = _stolen_ms()
        command = [sys.executable, "-m", "tests.standstill"]
        self._watching = [
            subprocess.Popen([*command, core], stdin=subprocess.PIPE, stdout=subprocess.PIPE)
            for core in cores.as_words().split(",")  # also those that whoever watches keeps off
        ]
        return self

    def __exit__(self, *problem: object) -> None:
        told = [json.loads(each.communicate()[0]) for each in self._watching]
        stood = [each["stood"] for each in told]
        self._sums = [_sums(each) for each in stood]
        fastest_s = float(np.percentile(np.concatenate([each["took_s"] for each in told]), _FASTEST_PCT))
        self._speeds = [(each["worked_at"], np.minimum(1.0, fastest_s / np.array(each["took_s"]))) for each in told]
        longest = (max((end - begin for begin, end in each), default=0.0) for each in stood)
        whole = (sum(end - begin for begin, end in each if end - begin > _COUNTS_S) for each in stood)
        self.found = {
            "stood_longest_ms": 1000.0 * max(longest),
            "stood_ms": 1000.0 * max(whole),
            "stolen_ms": _stolen_ms() - self._stolen_ms,
            "speed": float(np.mean([np.mean(speeds) for _, speeds in self._speeds])),
        }

    def between(self, begin: np.ndarray | float, end: np.ndarray | float) -> np.ndarray:
        """How long the machine stood still from ``begin`` to ``end``, of ``time.monotonic``, in s: the core that stood longer. Counts all
        that is over a millisecond."""
        return np.max([np.interp(end, *each) - np.interp(begin, *each) for each in self._sums], axis=0)

    def at_its_fastest(self, begin: np.ndarray, end: np.ndarray) -> np.ndarray:
        """How long the machine at its fastest of this time would have taken for what it could do from ``begin`` to ``end``, in s: the core
        that could do more of it."""
        there = end - begin - self.between(begin, end)
        middle = 0.5 * (begin + end)
        return there * np.max([np.interp(middle, *each) for each in self._speeds], axis=0)


def _sums(stood: Sequence[Sequence[float]]) -> tuple[np.ndarray, np.ndarray]:
    """Times, and how long one core had stood still by then; in between it goes in a straight line."""
    if not stood:
        return np.zeros(1), np.zeros(1)
    begins, ends = np.transpose(stood)
    after = np.cumsum(ends - begins)
    return np.ravel([begins, ends], order="F"), np.ravel([after - (ends - begins), after], order="F")


def _stolen_ms() -> float:
    return 1000.0 * int(Path("/proc/stat").read_text().split()[8]) / os.sysconf("SC_CLK_TCK")


def _work_s() -> float:
    start = time.perf_counter()
    for _ in range(_WORK):
        pass
    return time.perf_counter() - start


def main(core: int) -> None:
    """Until whoever started it closes the pipe; then it says when its core stood still, from and to, and how long the work took and when,
    in s."""
    os.sched_setaffinity(0, {core})
    with suppress(OSError):
        os.sched_setscheduler(0, os.SCHED_FIFO, os.sched_param(50))
    stood, worked_at, took_s = [], list[float](), list[float]()
    ticks, last = 0, time.monotonic()
    while not select.select([0], [], [], _TICK_S)[0]:
        now = time.monotonic()
        if now - last > _TICK_S + _LATE_S:
            stood.append((last + _TICK_S, now))
        if ticks % _WORKS_EVERY == 0:
            worked_at.append(now)
            took_s.append(min(_work_s(), _work_s()))  # the first also waits for its instructions to come
        ticks, last = ticks + 1, time.monotonic()
    print(json.dumps({"stood": stood, "worked_at": worked_at, "took_s": took_s}))


if __name__ == "__main__":
    main(int(sys.argv[1]))
