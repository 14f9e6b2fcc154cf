"""A process for test_child: takes the interpreter for itself, as a large library does that is loaded."""

import os
import sys
import time

from zygotone.engine.child import Served, SharedNumbers


class Loads(Served):
    def do_load(self, seconds: float) -> None:
        """One call that gives the interpreter to no other thread."""
        begun = time.process_time()
        sum(range(5_000_000))
        once = max(time.process_time() - begun, 1e-3)
        sum(range(int(5_000_000 * seconds / once)))

    def do_leave(self, code: int) -> None:
        os._exit(code)


if __name__ == "__main__":
    Loads.of_arguments(sys.argv[1:], SharedNumbers).serve()
