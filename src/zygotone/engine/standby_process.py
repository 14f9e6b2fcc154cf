"""A process that has loaded what the player and the measurer work with, and waits to become one of them. Started by
``engine.standby``."""

from __future__ import annotations

import gc
import importlib
import os
import sys
import threading
from collections.abc import Sequence
from contextlib import suppress
from multiprocessing.connection import Connection
from multiprocessing.reduction import recv_handle

import numpy as np

from zygotone.dsp.delays import DelayLine
from zygotone.engine import cores
from zygotone.engine.child import go_with_parent, let_free_memory_go
from zygotone.engine.every_kernel import devices_that_reach_all
from zygotone.engine.graph import compile_session
from zygotone.engine.renderer import Renderer
from zygotone.engine.stream import Player, Version
from zygotone.session.audio_store import AudioStore
from zygotone.session.models import Section, Session, Song

_WHAT_IT_MAY_BECOME = ("zygotone.engine.player_process", "zygotone.engine.measurer_process")
_RATE_HZ, _BLOCK_FRAMES, _BLOCKS = 48000, 1024, 4


def play_silence() -> None:
    """Through every kind of device once: compiled code is read as it is first called, and takes as long as all else."""
    session = Session(song=Song(sections=(Section(id="a", name="A", bars=4),)))
    session = session.replace(rate_hz=_RATE_HZ, mix=session.mix.replace(chain=tuple(devices_that_reach_all())))
    store = AudioStore()
    player = Player(Renderer(store, store.held), _RATE_HZ)
    player.set_loop(0, _RATE_HZ)
    player.set_versions(Version(compile_session(session)), None)
    for _ in range(_BLOCKS):
        player.block(_BLOCK_FRAMES)
    late = np.zeros((2, _BLOCK_FRAMES))
    DelayLine(8).add_to(late, late.copy())  # what aligns tracks, of which there is none here


def _load(modules: Sequence[str]) -> None:
    """When nobody else wants the processor, and away from who plays."""
    with suppress(OSError, AttributeError):  # of this thread alone
        os.sched_setscheduler(0, os.SCHED_IDLE, os.sched_param(0))
    cores.keep_off_the_player()
    for name in (*_WHAT_IT_MAY_BECOME, *modules):
        importlib.import_module(name)
    play_silence()
    gc.collect()
    gc.freeze()  # none of it is looked through again
    let_free_memory_go()


def main(arguments: Sequence[str]) -> None:
    """``arguments``: the pipe's number, and names of modules that are loaded beside. What it becomes is said by that pipe."""
    go_with_parent()
    connection = Connection(int(arguments[0]))
    loading = threading.Thread(target=_load, args=(arguments[1:],), name="loads", daemon=True)
    loading.start()
    loading.join()
    with suppress(EOFError, OSError):
        connection.send("ready")
        module, further = connection.recv()
        state = recv_handle(connection)
        importlib.import_module(module).main([str(connection.fileno()), str(state), *further])
    os._exit(0)


if __name__ == "__main__":
    main(sys.argv[1:])
