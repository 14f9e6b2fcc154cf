"""A process for test_child: takes the interpreter for itself, as a large library does that is loaded."""

import os
import sys
import time

from zygotone.engine.child import Served, SharedNumbers


class Answers(SharedNumbers):
    NAMES = ("alive", "answered")


class Loads(Served):
    def do_load(self, seconds: float) -> None:
        """One call that gives the interpreter to no other thread."""
        begun = time.process_time()
        sum(range(5_000_000))
        once = max(time.process_time() - begun, 1e-3)
        sum(range(int(5_000_000 * seconds / once)))

    def do_open(self, seconds: float) -> None:
        """What waits for somebody else, without any processor."""
        self.patiently(lambda: time.sleep(seconds))
        self.state["answered"] += 1.0

    def do_wait(self, seconds: float) -> None:
        time.sleep(seconds)

    def do_leave(self, code: int) -> None:
        os._exit(code)


if __name__ == "__main__":
    Loads.of_arguments(sys.argv[1:], Answers).serve()
