"""How long the machine itself stood still: one process on each core that comes before all others and only looks at the clock.

A shared machine takes its cores away now and then; what is not played meanwhile is nobody's fault who plays.
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


class Standstill:
    """Watches from ``__enter__`` on; ``found`` then has the longest standstill and the sum of those over 20 ms, in ms, of the core that
    stood longer, and the time that all cores together were taken away (proc(5), stat, steal)."""

    def __enter__(self) -> Self:
        self._stolen_ms = _stolen_ms()
        command = [sys.executable, "-m", "tests.standstill"]
        self._watching = [
            subprocess.Popen([*command, core], stdin=subprocess.PIPE, stdout=subprocess.PIPE)
            for core in cores.as_words().split(",")  # also those that whoever watches keeps off
        ]
        return self

    def __exit__(self, *problem: object) -> None:
        stood = [json.loads(each.communicate()[0]) for each in self._watching]
        self._sums = [_sums(each) for each in stood]
        longest = (max((end - begin for begin, end in each), default=0.0) for each in stood)
        whole = (sum(end - begin for begin, end in each if end - begin > _COUNTS_S) for each in stood)
        self.found = {
            "stood_longest_ms": 1000.0 * max(longest),
            "stood_ms": 1000.0 * max(whole),
            "stolen_ms": _stolen_ms() - self._stolen_ms,
        }

    def between(self, begin: np.ndarray | float, end: np.ndarray | float) -> np.ndarray:
        """How long the machine stood still from ``begin`` to ``end``, of ``time.monotonic``, in s: the core that stood longer. Counts all
        that is over a millisecond."""
        return np.max([np.interp(end, *each) - np.interp(begin, *each) for each in self._sums], axis=0)


def _sums(stood: Sequence[Sequence[float]]) -> tuple[np.ndarray, np.ndarray]:
    """Times, and how long one core had stood still by then; in between it goes in a straight line."""
    if not stood:
        return np.zeros(1), np.zeros(1)
    begins, ends = np.transpose(stood)
    after = np.cumsum(ends - begins)
    return np.ravel([begins, ends], order="F"), np.ravel([after - (ends - begins), after], order="F")


def _stolen_ms() -> float:
    return 1000.0 * int(Path("/proc/stat").read_text().split()[8]) / os.sysconf("SC_CLK_TCK")


def main(core: int) -> None:
    """Until whoever started it closes the pipe; then it says when its core stood still, from and to, in s."""
    os.sched_setaffinity(0, {core})
    with suppress(OSError):
        os.sched_setscheduler(0, os.SCHED_FIFO, os.sched_param(50))
    stood, last = [], time.monotonic()
    while not select.select([0], [], [], _TICK_S)[0]:
        now = time.monotonic()
        if now - last > _TICK_S + _LATE_S:
            stood.append((last + _TICK_S, now))
        last = now
    print(json.dumps(stood))


if __name__ == "__main__":
    main(int(sys.argv[1]))
