"""Waiting for processes, and seeing that they go with whoever began them."""

from __future__ import annotations

import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path


def wait_for(what: Callable[[], object], *, seconds: float = 20.0) -> None:
    end = time.monotonic() + seconds
    while not what():
        assert time.monotonic() < end, "it did not come"
        time.sleep(0.01)


def runs(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/stat").read_text().split()[2] != "Z"
    except OSError:
        return False


def goes_with_its_parent(folder: Path, module: str, make: str) -> bool:
    """Whether what ``make`` makes of a ``renderer``, by what is in ``module``, ends when its parent is killed."""
    return goes_with_whoever_runs(
        "import sys, time\n"
        "from pathlib import Path\n"
        f"from {module} import *\n"
        "from zygotone.engine.renderer import Renderer\n"
        "from zygotone.session.audio_store import AudioStore\n"
        "from zygotone.session.mapped import MappedCache\n"
        "store = AudioStore()\n"
        "renderer = Renderer(store, store.held, mapped=MappedCache(Path(sys.argv[1])))\n"
        f"made = {make}\n"
        "end = time.monotonic() + 120.0\n"
        "while made.state['alive'] < 2.0: time.sleep(0.01); assert time.monotonic() < end\n"
        "print(made.pid, flush=True); time.sleep(60)\n",
        str(folder),
    )


def goes_with_whoever_runs(code: str, *arguments: str) -> bool:
    """Whether the process whose number ``code`` prints ends when the one that runs ``code`` is killed."""
    parent = subprocess.Popen([sys.executable, "-c", code, *arguments], stdout=subprocess.PIPE, text=True)
    assert parent.stdout is not None
    pid = int(parent.stdout.readline())
    assert runs(pid)
    parent.kill()
    parent.wait()
    parent.stdout.close()
    wait_for(lambda: not runs(pid), seconds=30.0)
    return not runs(pid)
