"""Steps through blocks on several threads: the order that must hold, and what happens when one fails."""

import threading
import time

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from zygotone.engine.pipeline import Pipeline, at_once


@st.composite
def graphs(draw):
    """For each step, which of the steps before it it needs."""
    steps = draw(st.integers(0, 12))
    return [draw(st.lists(st.integers(0, n - 1), max_size=3)) if n else [] for n in range(steps)]


@settings(deadline=None)
@given(inputs=graphs(), blocks=st.integers(0, 9), ahead=st.integers(1, 4))
def test_every_step_does_every_block_once_and_after_what_it_needs(inputs, blocks, ahead):
    done: set[tuple[int, int]] = set()
    lock = threading.Lock()

    def work(step: int, block: int) -> None:
        with lock:
            assert (step, block) not in done
            assert block == 0 or (step, block - 1) in done
            assert all((below, block) in done for below in inputs[step])
            done.add((step, block))

    given_out = []
    for block in Pipeline(inputs, blocks, work, ahead=ahead).run():
        with lock:
            assert all((step, block) in done for step in range(len(inputs)))
            furthest = max((b for _, b in done), default=0)
        assert furthest < block + ahead
        given_out.append(block)
    assert given_out == list(range(blocks))
    assert len(done) == len(inputs) * blocks


def test_one_long_line_keeps_two_threads_busy():
    # Four steps in a row: side by side in the same block there is nothing to do, in different blocks there is.
    seen = set()

    def work(step: int, block: int) -> None:
        seen.add(threading.get_ident())
        time.sleep(0.002)

    list(Pipeline([[], [0], [1], [2]], 30, work).run())
    assert len(seen) == 2


@pytest.mark.parametrize("where", [(0, 0), (2, 3)])
def test_a_failure_in_either_thread_reaches_the_caller(where):
    def work(step: int, block: int) -> None:
        time.sleep(0.001)
        if (step, block) == where:
            raise ZeroDivisionError

    with pytest.raises(ZeroDivisionError):
        list(Pipeline([[], [], [0, 1]], 8, work).run())
    # And the shared thread is free again for the next.
    assert list(Pipeline([[], []], 2, lambda step, block: None).run()) == [0, 1]


def test_leaving_early_ends_the_work():
    done = []
    for block in Pipeline([[], [0]], 1000, lambda step, block: done.append(block), ahead=2).run():
        if block == 3:
            break
    count = len(done)
    time.sleep(0.02)
    assert len(done) == count < 20


def test_two_renders_at_once_do_not_wait_for_each_other():
    inner = []

    def work(step: int, block: int) -> None:
        if step == 0 and block == 0:
            inner.extend(Pipeline([[], []], 3, lambda s, b: time.sleep(0.001)).run())

    assert list(Pipeline([[], [0]], 2, work).run()) == [0, 1]
    assert inner == [0, 1, 2]


def test_what_is_done_at_once_comes_back_in_order():
    assert at_once([lambda n=n: n * n for n in range(20)]) == [n * n for n in range(20)]
    assert at_once([]) == []


def test_what_fails_at_once_is_raised():
    def fail() -> int:
        raise ValueError("no")

    with pytest.raises(ValueError, match="no"):
        at_once([lambda: 1, fail, lambda: 2])
