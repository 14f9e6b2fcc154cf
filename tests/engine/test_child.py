"""A process of our own is told from a dead or hung one by what it does, not by how soon it speaks."""

import threading
import time
from multiprocessing.connection import Pipe

import numpy as np
import pytest

from tests.builders import tone_project
from tests.engine.child_that_loads import Answers
from tests.processes import wait_for
from zygotone.engine import sent_versions
from zygotone.engine.child import HUNG_S, Child, Served
from zygotone.engine.graph import compile_session
from zygotone.engine.sent_versions import ServedVersions, VersionReceiver, VersionSender
from zygotone.session.edits import change_strip

AS_MODULE = "tests.engine.child_that_loads"


@pytest.fixture
def child():
    made = Child(AS_MODULE, Answers())
    yield made
    made.end()


def watch(child: Child, seconds: float) -> bool:
    """As the window does; whether it was taken for working all the time."""
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        if not child.works:
            return False
        time.sleep(0.03)
    return True


def test_one_that_loads_in_one_go_is_let_do_so_but_one_that_never_returns_is_seen(child):
    wait_for(lambda: child.state["alive"] > 1.0 or not child.works)
    child.send("load", 2.0)
    assert watch(child, 3.0)
    wait_for(lambda: child.state["alive"] > 10.0 or not child.works)
    child.started -= 60.0  # as if it had been at work for long
    child.send("load", 30.0)
    assert not watch(child, 20.0)
    assert child.how_it_ended() == "fell silent"


def test_one_that_waits_for_a_device_is_let_do_so(child):
    """A sound card that opens may take longer than a process may be silent."""
    wait_for(lambda: child.state["alive"] > 10.0)
    child.started -= 60.0  # as if it had been at work for long
    child.send("open", 2.0 * HUNG_S)
    assert watch(child, 2.5 * HUNG_S)
    assert child.state["answered"] == 1.0
    child.send("wait", 3.0 * HUNG_S)  # what says nothing meanwhile is taken for hung
    assert not watch(child, 2.5 * HUNG_S)


def test_what_is_done_at_length_gives_its_answer_whenever_it_is_done():
    """Also in the very moment in which it is looked at."""
    here, there = Pipe()
    with here, there:
        served = Served(there, Answers())
        lasts = np.random.default_rng(1).uniform(0.8, 1.2, 30) * Served.TELL_S
        for n, seconds in enumerate(lasts):

            def work(n=n, seconds=seconds):
                time.sleep(seconds)
                return n

            assert served.patiently(work) == n
        assert served.state["alive"] > 0.0


def test_one_that_ended_says_how(child):
    child.send("leave", 3)
    wait_for(lambda: not child.works)
    assert child.how_it_ended() == "ended with code 3"


def test_the_number_of_its_pipe_is_no_other_processes_while_somebody_may_still_write_to_it(child):
    pipe = child.connection
    number = pipe.fileno()
    child.end()
    others = Pipe()
    assert number not in {end.fileno() for end in others}
    with pytest.raises(OSError):
        pipe.send("what a slow thread was about to say")
    assert not any(end.poll() for end in others)


class SlowToTake:
    """Versions that are large."""

    def take_parts(self, lines):
        time.sleep(0.5)

    def take_clips(self, clips):
        time.sleep(0.5)


@pytest.mark.parametrize("command", ["parts", "clips"])
def test_who_is_told_of_a_large_version_is_not_silent_meanwhile(command):
    here, there = Pipe()
    with here, there:
        served = ServedVersions(there, Answers())
        served.received = SlowToTake()
        getattr(served, f"do_{command}")([])
    assert served.state["alive"] > 5.0  # it says so every 10 ms


def test_who_is_told_of_a_version_waits_for_no_other_that_is_made_ready(tmp_path, monkeypatch):
    project = tone_project(tmp_path, Low=100.0)
    received, sender = VersionReceiver(project.store, "test"), VersionSender(project.store)
    begun, may_end = threading.Event(), threading.Event()

    def slowly(session, last):
        begun.set()
        assert may_end.wait(20.0)
        return compile_session(session, last)

    monkeypatch.setattr(sent_versions, "compile_session", slowly)

    def tell(session) -> None:
        for kind, *rest in sender.news([session]):
            getattr(received, f"take_{kind}")(*rest)

    tell(project.session)
    making = threading.Thread(target=received.graph, args=(project.session.digest,))
    making.start()
    assert begun.wait(20.0)
    edited = change_strip(project.session, "low", level_db=-5.0)
    telling = threading.Thread(target=tell, args=(edited,))
    telling.start()
    telling.join(5.0)
    was_told = not telling.is_alive()
    may_end.set()
    making.join(20.0)
    telling.join(20.0)
    assert was_told
    assert received.session(edited.digest) == edited
