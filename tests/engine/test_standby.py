"""A process kept ready: whoever dies is followed by it at once, and it goes when nobody needs it."""

import json
import os
import signal
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from tests.builders import tone_project
from tests.processes import goes_with_whoever_runs, runs, wait_for
from tests.signals import RATE
from zygotone.engine import standby as module
from zygotone.engine.graph import compile_session
from zygotone.engine.measurer import Measurer
from zygotone.engine.nodes import SourceNode, nodes_below
from zygotone.engine.playing import MakeSources
from zygotone.engine.remote import RemotePlayer
from zygotone.engine.renderer import Renderer
from zygotone.engine.standby import Standby
from zygotone.engine.stream import Version
from zygotone.session.mapped import MappedCache


@pytest.fixture
def standby(monkeypatch):
    monkeypatch.setattr(module, "_AFTER_S", 0.0)
    made = Standby(("zygotone.advise.questions",))
    yield made
    made.close()


def made_ready(standby: Standby) -> int:
    """Its number."""

    def ready() -> bool:
        standby.look_after()
        return standby.ready

    wait_for(ready, seconds=60.0)
    assert standby.pid is not None
    return standby.pid


@pytest.fixture
def project(tmp_path):
    return tone_project(tmp_path, Low=100.0, High=1000.0)


@pytest.fixture
def renderer(project, tmp_path):
    return Renderer(project.store, project.store.held, mapped=MappedCache(tmp_path / "takes"))


@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGSTOP], ids=["killed", "hung"])
def test_it_becomes_the_player_and_plays_on(standby, project, renderer, how):
    player = RemotePlayer(renderer, RATE, standby=standby)
    try:
        player.set_versions(Version(compile_session(project.session)), None)
        player.set_loop(0, RATE)
        player.play()
        wait_for(lambda: player.played_s > 0.2)
        ready, old = made_ready(standby), player.pid
        os.kill(old, how)
        wait_for(player.look_after)
        assert player.pid == ready
        played = player.played_s
        wait_for(lambda: player.up_to_date and player.played_s > played + 0.2)
        assert player.playing
        assert np.max(player.peak) > 0.01
        assert not runs(old)
        assert made_ready(standby) != ready  # and for the next there is another
    finally:
        player.close()


def test_it_becomes_the_measurer_and_answers(standby, project, renderer, tmp_path):
    measurer = Measurer(renderer, held_bytes=1 << 20, modules=("zygotone.advise.questions",), standby=standby)
    graph = compile_session(project.session)
    keys = frozenset(node.key for node in nodes_below([graph.mix]) if isinstance(node, SourceNode))
    try:
        ready = made_ready(standby)
        os.kill(measurer.pid, signal.SIGKILL)
        wait_for(measurer.look_after)
        assert measurer.pid == ready
        measurer.answer(MakeSources(graph, keys), lambda: False)
        assert list((tmp_path / "takes").iterdir())
    finally:
        measurer.close()


def test_one_that_has_not_loaded_yet_is_not_waited_for(standby, project, renderer):
    standby.look_after()
    waiting = standby.pid
    player = RemotePlayer(renderer, RATE, standby=standby)
    try:
        assert player.pid != waiting
        assert standby.pid == waiting  # it loads on, for the next
    finally:
        player.close()


def test_one_that_died_is_replaced(standby, project, renderer):
    dead = made_ready(standby)
    os.kill(dead, signal.SIGKILL)
    wait_for(lambda: not runs(dead))
    player = RemotePlayer(renderer, RATE, standby=standby)
    player.close()
    assert player.pid != dead
    assert made_ready(standby) != dead


def test_it_is_gone_once_it_is_closed(standby):
    pid = made_ready(standby)
    standby.close()
    assert not runs(pid)
    assert standby.pid is None


@pytest.mark.parametrize("loaded", [False, True], ids=["while it loads", "once it waits"])
def test_it_goes_with_whoever_began_it(loaded):
    assert goes_with_whoever_runs(
        "import time\n"
        "from zygotone.engine import standby\n"
        "standby._AFTER_S = 0.0\n"
        "made = standby.Standby()\n"
        "made.look_after()\n"
        f"while {loaded} and not made.ready: time.sleep(0.01)\n"
        "print(made.pid, flush=True); time.sleep(60)\n"
    )


def test_a_version_finds_nothing_to_load():
    """Compiled code of every kind of device is there before it is needed."""
    done = subprocess.run(
        [sys.executable, "-m", "tests.engine.loaded_by_versions"], cwd=Path(__file__).parents[2], capture_output=True, text=True, check=False
    )  # fmt: skip
    assert done.returncode == 0, done.stderr[-2000:]
    assert json.loads(done.stdout) == []
