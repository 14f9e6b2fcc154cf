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
from contextlib import suppress
from pathlib import Path
from typing import Self

_TICK_S, _COUNTS_S = 0.002, 0.02


class Standstill:
    """Watches from ``__enter__`` on; ``found`` then has the longest standstill and the sum of those over 20 ms, in ms, of the core that
    stood longer, and the time that all cores together were taken away (proc(5), stat, steal)."""

    def __enter__(self) -> Self:
        self._stolen_ms = _stolen_ms()
        command = [sys.executable, "-m", "tests.standstill"]
        self._watching = [
            subprocess.Popen([*command, str(core)], stdin=subprocess.PIPE, stdout=subprocess.PIPE)
            for core in sorted(os.sched_getaffinity(0))
        ]
        return self

    def __exit__(self, *problem: object) -> None:
        told = [json.loads(each.communicate()[0]) for each in self._watching]
        self.found = {name: max(each[name] for each in told) for name in told[0]}
        self.found["stolen_ms"] = _stolen_ms() - self._stolen_ms


def _stolen_ms() -> float:
    return 1000.0 * int(Path("/proc/stat").read_text().split()[8]) / os.sysconf("SC_CLK_TCK")


def main(core: int) -> None:
    """Until whoever started it closes the pipe."""
    os.sched_setaffinity(0, {core})
    with suppress(OSError):
        os.sched_setscheduler(0, os.SCHED_FIFO, os.sched_param(50))
    longest, whole, last = 0.0, 0.0, time.monotonic()
    while not select.select([0], [], [], _TICK_S)[0]:
        now = time.monotonic()
        gap, last = now - last - _TICK_S, now
        longest = max(longest, gap)
        whole += gap if gap > _COUNTS_S else 0.0
    print(json.dumps({"stood_longest_ms": 1000.0 * longest, "stood_ms": 1000.0 * whole}))


if __name__ == "__main__":
    main(int(sys.argv[1]))
