"""Runs a command on a machine that stands still now and then, as a shared one does: all of its processes at once.

``python -m tests.stalls EVERY_S LONGEST_S COMMAND …``, for instance ``python -m tests.stalls 3 0.25 .venv/bin/python -m pytest``.
"""

import os
import random
import signal
import subprocess
import sys
import time
from collections import defaultdict
from contextlib import suppress
from pathlib import Path


def running_below(pid: int) -> list[int]:
    """All processes that came of it, but those that are stopped already, and stay so."""
    children: dict[int, list[tuple[int, str]]] = defaultdict(list)
    for stat in Path("/proc").glob("[0-9]*/stat"):
        with suppress(OSError):
            state, parent = stat.read_text().rpartition(")")[2].split()[:2]
            children[int(parent)].append((int(stat.parent.name), state))
    found, look_at = [], [pid]
    while look_at:
        for child, state in children[look_at.pop()]:
            look_at.append(child)
            if state not in "TZ":
                found.append(child)
    return found


def send(number: signal.Signals, pids: list[int]) -> None:
    for pid in pids:
        with suppress(OSError):
            os.kill(pid, number)


def main(every_s: float, longest_s: float, command: list[str]) -> int:
    going = subprocess.Popen(command)
    while going.poll() is None:
        time.sleep(random.expovariate(1.0 / every_s))
        pids = running_below(going.pid)
        send(signal.SIGSTOP, pids)
        time.sleep(random.uniform(0.05, longest_s))
        send(signal.SIGCONT, pids)
    return going.returncode


if __name__ == "__main__":
    sys.exit(main(float(sys.argv[1]), float(sys.argv[2]), sys.argv[3:]))
