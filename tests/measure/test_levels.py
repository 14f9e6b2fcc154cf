"""Levels by 100 ms, clicks, and how alike two sounds are; against plain NumPy and SciPy."""

import tracemalloc

import numpy as np
import pytest
import scipy.signal

from tests.signals import RATE, noise, sine
from zygotone.measure.layers import likeness, lowered
from zygotone.measure.levels import clicks, levels, peak, spread_lu


def material(seconds: float = 3.37) -> np.ndarray:
    """A tone that swells on the left, noise off centre on the right."""
    swell = np.linspace(0.1, 1.0, round(seconds * RATE))
    return np.stack([swell * sine(170.0, seconds, level_db=-6)[0], noise(seconds, level=0.1)[1] + 0.05])


def test_levels_are_those_of_numpy():
    x = material()
    found = levels(x, RATE)
    whole = x[:, : 33 * 4800].reshape(2, 33, 4800)
    np.testing.assert_allclose(found.means, whole.mean(axis=2), atol=1e-12)
    np.testing.assert_allclose(found.powers, (whole**2).mean(axis=2), rtol=1e-12)
    np.testing.assert_array_equal(found.peaks, np.abs(whole).max(axis=2))
    assert found.peak == np.abs(x).max() == peak(x)
    assert found.rms == pytest.approx(np.sqrt(np.mean(x**2)), rel=1e-12)
    assert found.offset == pytest.approx(0.05, abs=2e-3)


def test_the_largest_is_found_wherever_it_is():
    for at in (0, 7, 4799, 4800, 9599, 9600, 9606):
        x = np.zeros((2, 9607))
        x[at % 2, at] = -0.7
        assert levels(x, RATE).peak == 0.7
    nothing = levels(np.zeros((2, 0)), RATE)
    assert (nothing.peak, nothing.offset) == (0.0, 0.0)
    assert np.isnan(nothing.crest_db)


def test_crest_is_that_of_what_sounds():
    # A tone has 3 dB, over both sides of which one is silent 6; the silence between two of them is none of it.
    tone = sine(200.0, 2.0)
    gap = np.concatenate([tone, np.zeros_like(tone), tone], axis=1)
    for x in (tone, gap):
        assert levels(x, RATE).crest_db == pytest.approx(3.01, abs=0.05)


def test_what_varies_is_told_by_its_loudness():
    steady, swelling = noise(6.0, level=0.1), noise(6.0, level=0.1) * np.linspace(0.2, 1.0, 6 * RATE)
    spreads = [spread_lu(levels(x, RATE).loudness.steps_lufs) for x in (steady, swelling)]
    assert spreads[0] < 1.0
    assert spreads[1] == pytest.approx(20 * np.log10(0.92 / 0.28), abs=1.0)


@pytest.mark.parametrize("at", [300, 20_000, 70_000])
@pytest.mark.parametrize("side", [0, 1])
def test_a_cut_clicks_and_a_beginning_does_not(at, side):
    x = sine(111.3, 2.0, level_db=-12)
    assert clicks(x, RATE) == []
    x[side, at:] = -x[side, at:]
    found = clicks(x, RATE)
    assert len(found) == 1
    assert abs(found[0] - at) <= 3
    saw = 0.3 * scipy.signal.sawtooth(2 * np.pi * 90.0 * np.arange(2 * RATE) / RATE)
    assert clicks(np.stack([saw, saw]), RATE) == []
    begins = np.zeros((2, RATE))
    begins[:, -170:] = saw[:170]  # what goes on in the next section
    assert clicks(begins, RATE) == []


def test_clicks_are_found_wherever_pieces_meet(monkeypatch):
    """Near the ends of pieces and away from them, two to a piece and none: as in one go."""
    rng = np.random.default_rng(4)
    x = noise(4.0, level=0.002, seed=8) + sine(87.0, 4.0, level_db=-12)
    cuts = [
        *(12_000 * n + off for n, off in ((1, -1), (3, 0), (5, 2), (7, -300), (9, 400))),
        *rng.integers(9_000, 180_000, 6),
    ]
    for at in cuts:
        x[at % 2, at:] += 0.2
    whole = clicks(x, RATE)
    monkeypatch.setattr("zygotone.measure.levels._PIECE_S", 0.25)
    assert clicks(x, RATE) == whole
    assert len(whole) >= 8


def test_clicks_of_a_long_sound_take_no_more_memory_than_of_a_short_one():
    most = []
    for seconds in (25.0, 100.0):
        x = noise(seconds, level=0.1)
        clicks(x[:, :RATE], RATE)
        tracemalloc.start()
        clicks(x, RATE)
        most.append(tracemalloc.get_traced_memory()[1])
        tracemalloc.stop()
    assert most[1] < 1.1 * most[0]
    assert most[1] < 32 << 20


@pytest.mark.parametrize("later", [-402, 0, 330])
def test_likeness_finds_the_offset(later):
    x = noise(4.0, seed=3)
    y = -0.2 * np.roll(x, later, axis=1) + noise(4.0, level=0.002, seed=9)
    one, other = lowered(x, RATE), lowered(y, RATE)
    whole = scipy.signal.correlate(one.astype(float), other.astype(float))
    near = whole[len(one) - 1 - 120 : len(one) + 120]
    wanted = np.max(np.abs(near)) / np.sqrt(np.sum(one.astype(float) ** 2) * np.sum(other.astype(float) ** 2))
    assert likeness(one, other, RATE) == pytest.approx(wanted, abs=1e-4)
    assert likeness(one, other, RATE) > 0.9
    assert likeness(one, lowered(noise(4.0, seed=11), RATE), RATE) < 0.1
    assert likeness(one, np.zeros_like(one), RATE) == 0.0
