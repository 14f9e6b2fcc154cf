"""Notes played by hand on their way out: cut into any blocks, faded into each other, held."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.signals import RATE
from zygotone.engine.live import LiveNotes

FADE = round(0.02 * RATE)


def ramp(frames: int, start: float = 0.0) -> np.ndarray:
    one = start + np.arange(frames, dtype=np.float64)
    return np.stack([one, -one])


def heard(live: LiveNotes, *blocks: int) -> np.ndarray:
    parts = []
    for n in blocks:
        out = np.zeros((2, n))
        live.mix_into(out)
        parts.append(out)
    return np.concatenate(parts, axis=1)


@settings(max_examples=40)
@given(st.lists(st.integers(1, 700), min_size=1, max_size=9))
def test_blocks_do_not_change_what_is_heard(blocks):
    live, whole = LiveNotes(RATE), LiveNotes(RATE)
    for each in (live, whole):
        each.add("a", ramp(900))
        each.add("b", ramp(400, 5.0))
    np.testing.assert_array_equal(heard(live, *blocks), heard(whole, sum(blocks)))


def test_a_note_that_is_over_is_gone():
    live = LiveNotes(RATE)
    live.add("a", ramp(100))
    assert live.heard_frames("a") == 0
    heard(live, 64)
    assert live.heard_frames("a") == 64
    heard(live, 64)
    assert live.heard_frames("a") is None
    assert live.idle


def test_another_rendering_of_the_same_note_goes_on_without_a_seam():
    # The second is the same as far as the first goes, as two of one note are; the cross-fade must not be heard.
    live = LiveNotes(RATE)
    live.add("a", ramp(3000))
    first = heard(live, 1000)
    live.replace("a", ramp(6000))
    np.testing.assert_allclose(np.concatenate([first, heard(live, 500, 3500)], axis=1), ramp(5000), atol=1e-9)


def test_two_renderings_fade_into_each_other_within_20_ms():
    live = LiveNotes(RATE)
    live.add("a", np.ones((2, 9000)))
    heard(live, 100)
    live.replace("a", np.full((2, 9000), 3.0))
    out = heard(live, 2 * FADE)[0]
    assert out[0] == pytest.approx(1.0, abs=0.01)
    assert np.all(np.diff(out) >= -1e-12)
    assert np.all(out[FADE + 1 :] == 3.0)


def test_a_held_note_waits_for_more_and_goes_on_where_it_would_be():
    live = LiveNotes(RATE)
    live.add("a", ramp(1000), held=True)
    heard(live, 1500)  # more was not there in time
    assert not live.idle
    assert live.heard_frames("a") == 1500
    live.replace("a", ramp(9000), held=True)
    np.testing.assert_allclose(heard(live, FADE + 500)[:, FADE:], ramp(500, 1500.0 + FADE))


def test_what_comes_too_late_is_not_begun_anew():
    live = LiveNotes(RATE)
    live.add("a", ramp(100))
    heard(live, 200)
    live.replace("a", ramp(500))
    assert live.idle
    assert not heard(live, 100).any()


def test_stopping_fades_everything_out():
    live = LiveNotes(RATE)
    live.add("a", np.ones((2, 9000)), held=True)
    live.add("b", np.ones((2, 9000)))
    heard(live, 10)
    live.stop()
    out = heard(live, FADE + 10)[0]
    assert out[0] == pytest.approx(2.0, abs=0.01)
    assert not out[FADE:].any()
    assert live.idle
