"""One bound for all that is kept."""

import threading
from itertools import chain

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.builders import tone_project
from zygotone.dsp.giving_up import Cancelled, given_up_when
from zygotone.engine.renderer import Renderer
from zygotone.session.held import Held, bytes_of


@given(st.lists(st.tuples(st.integers(0, 20), st.integers(1, 400)), max_size=60))
def test_the_bound_holds_and_the_newest_is_there(puts):
    held = Held(1000)
    for key, size in puts:
        held.put(key, np.zeros(size, dtype=np.int8))
        assert held.held_bytes <= 1000
        assert held.held_bytes == sum(each.size for grade in held._kept.values() for each in grade.values())
        assert held.get(key) is not None


def test_what_is_used_elsewhere_is_found_again_and_what_is_not_is_gone():
    held = Held(100)
    kept = np.zeros(80, dtype=np.int8)
    held.put("kept", kept)
    held.put("gone", np.zeros(60, dtype=np.int8))
    held.put("new", np.zeros(90, dtype=np.int8))
    assert held.get("kept") is kept
    assert held.get("gone") is None


def test_what_is_too_large_is_not_kept():
    held = Held(100)
    held.put("large", np.zeros(101, dtype=np.int8))
    assert held.get("large") is None
    assert held.remember("large", lambda: "made anew") == "made anew"


def test_threads_share_it():
    held = Held(10_000)

    def work(n: int) -> None:
        for i in range(300):
            held.put((n, i), np.zeros(100, dtype=np.int8))
            held.get((n - 1, i))

    threads = [threading.Thread(target=work, args=(n,)) for n in range(4)]
    for each in threads:
        each.start()
    for each in threads:
        each.join()
    assert held.held_bytes == sum(each.size for grade in held._kept.values() for each in grade.values()) <= 10_000


def test_what_another_thread_works_out_is_waited_for_and_worked_out_once():
    held, begun, go_on, times, found = Held(), threading.Event(), threading.Event(), [], []

    def work():
        times.append(1)
        begun.set()
        assert go_on.wait(10)
        return "made"

    threads = [threading.Thread(target=lambda: found.append(held.remember("it", work))) for _ in range(2)]
    threads[0].start()
    assert begun.wait(10)
    threads[1].start()
    threads[1].join(0.1)
    assert threads[1].is_alive()  # it waits
    assert held.remember("other", lambda: "another") == "another"  # and holds up nobody else
    go_on.set()
    for each in threads:
        each.join(10)
    assert (found, times) == (["made"] * 2, [1])


def test_where_it_fails_who_waits_works_it_out():
    held, begun, go_on, found = Held(), threading.Event(), threading.Event(), []

    def fails():
        begun.set()
        assert go_on.wait(10)
        raise Cancelled

    def first():
        with pytest.raises(Cancelled):
            held.remember("it", fails)

    threads = [
        threading.Thread(target=first),
        threading.Thread(target=lambda: found.append(held.remember("it", lambda: "made"))),
    ]
    threads[0].start()
    assert begun.wait(10)
    threads[1].start()
    go_on.set()
    for each in threads:
        each.join(10)
    assert found == ["made"]


def test_who_waits_and_is_not_wanted_any_more_gives_up():
    held, begun, go_on, unwanted = Held(), threading.Event(), threading.Event(), threading.Event()

    def slow():
        begun.set()
        assert go_on.wait(10)
        return "made"

    maker = threading.Thread(target=lambda: held.remember("it", slow))
    maker.start()
    assert begun.wait(10)
    unwanted.set()
    with given_up_when(unwanted.is_set), pytest.raises(Cancelled):
        held.remember("it", lambda: "never")
    go_on.set()
    maker.join(10)
    assert held.get("it") == "made"


def test_what_is_cheap_goes_first():
    held = Held(100)
    for name, grade in (("dear", "dear"), ("cheap", "cheap"), ("newer", "dear")):
        held.put(name, np.zeros(40, dtype=np.int8), grade=grade)
    assert held.get("dear") is not None
    assert held.get("newer") is not None
    assert held.get("cheap") is None
    assert held.held_bytes == 80


def test_what_has_long_not_been_asked_for_goes_before_what_is_cheap():
    """Version after version, each of two dear values and a cheap one: the cheap one of the present stays, and of the old ones those
    go that nobody asks for any more."""
    held = Held(1000)
    held.put("song", np.zeros(300, dtype=np.int8))  # which all of them need
    for version in range(30):
        for name, grade in (("before", "dear"), ("after", "dear"), ("mix", "cheap")):
            held.put((name, version), np.zeros(100, dtype=np.int8), grade=grade)
            assert held.held_bytes <= 1000
        for key in ("song", ("before", version), ("after", version), ("mix", version)):
            assert held.get(key) is not None, (key, version)


def test_room_is_made_before_it_is_needed():
    held = Held(1000)
    for n in range(10):
        held.put(n, np.zeros(100, dtype=np.int8), grade="cheap" if n % 2 else "dear")
    held.make_room(250)
    assert held.held_bytes == 700
    assert [held.get(n) is None for n in range(10)] == [n in (1, 3, 5) for n in range(10)]
    held.make_room(5000)
    assert held.held_bytes == 0


def test_facts_stay_while_there_is_audio_to_let_go_and_fill_at_most_a_third():
    """A fact is small and takes long; the audio that it was read from comes and goes."""
    held = Held(1000)
    for n in range(10):
        held.remember(("fact", n), lambda: np.zeros(30, dtype=np.int8))
    for n in range(30):
        held.put(("audio", n), np.zeros(100, dtype=np.int8))
    assert all(held.get(("fact", n)) is not None for n in range(10))
    assert [n for n in range(30) if held.get(("audio", n)) is not None] == list(range(23, 30))
    for n in range(10, 40):  # those of versions that are gone make room
        held.remember(("fact", n), lambda: np.zeros(30, dtype=np.int8))
        assert held.held_bytes <= 1000
    assert [n for n in range(40) if held.get(("fact", n)) is not None] == list(range(27, 40))
    assert held._bytes["fact"] <= 1000 / 3 + 100  # one piece of audio more where that still fits
    assert held.held_bytes > 900


def test_what_is_dear_leaves_room_for_what_is_cheap():
    held = Held(1000)
    for n in range(30):
        held.put(("dear", n), np.zeros(100, dtype=np.int8))
    for n in range(30):
        held.put(("cheap", n), np.zeros(100, dtype=np.int8), grade="cheap")
        assert held.get(("cheap", n)) is not None
    assert [n for n in range(30) if held.get(("dear", n)) is not None] == list(range(22, 30))


def test_clips_and_takes_share_one_bound(tmp_path):
    project = tone_project(tmp_path, Low=50.0, High=500.0)
    project.store.held.limit_bytes = 6_000_000
    renderer = Renderer(project.store, project.store.held)
    renderer.mix(project.session)
    assert 0 < project.store.held.held_bytes <= 6_000_000
    kinds = {key[0] for key in chain(*project.store.held._kept.values())}
    assert "clip" in kinds
    assert len(kinds) > 1


def test_sizes_are_counted_through():
    assert bytes_of(np.zeros(100)) == 800
    assert bytes_of((np.zeros(10), [np.zeros(10)])) >= 160
    assert bytes_of({"a": np.zeros(50)}) >= 400
