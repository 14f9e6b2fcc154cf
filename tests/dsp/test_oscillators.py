"""Oscillators, operators and readers against plain arithmetic in NumPy."""

import numpy as np
import pytest
import scipy.signal
from hypothesis import given
from hypothesis import strategies as st

from tests.signals import RATE
from zygotone.dsp.noises import COLOURS, endless_noise
from zygotone.dsp.oscillators import add_sine, bend_phases, read_resampled
from zygotone.dsp.oversampling import bent, lowered
from zygotone.dsp.types import GRID_FRAMES

FRAMES = 1600
CELLS = FRAMES // GRID_FRAMES


def phases(steps: np.ndarray) -> np.ndarray:
    """Cycles at each frame where steps (cells + 1,) move in straight lines within a cell."""
    along = np.interp(np.arange(FRAMES) / GRID_FRAMES, np.arange(len(steps)), steps)
    return np.concatenate([[0.0], np.cumsum(along)[:-1]])


@given(st.lists(st.floats(0.0005, 0.4), min_size=CELLS + 1, max_size=CELLS + 1), st.floats(0, 1), st.floats(0.1, 2))
def test_a_sine_is_a_sine_however_its_pitch_moves(steps, phase, gain):
    y = np.ones(FRAMES)
    add_sine(np.array(steps), 1.0, phase, gain, y)
    # −160 dB: what rounding leaves of a phase of some hundred cycles.
    np.testing.assert_allclose(y, 1.0 + gain * np.sin(2 * np.pi * (phases(np.array(steps)) + phase)), atol=1e-8)


def bent_by_hand(steps, levels, matrix, reaches, outputs):
    """The four operators frame by frame, in plain Python."""
    at = np.arange(FRAMES) / GRID_FRAMES
    phase = np.array([phases(row) for row in steps])
    level, reach, heard = (np.array([np.interp(at, np.arange(CELLS + 1), row) for row in lines]) for lines in (levels, reaches, outputs))  # fmt: skip
    last, before, y = np.zeros(4), np.zeros(4), np.zeros(FRAMES)
    for i in range(FRAMES):
        for k in (3, 2, 1, 0):
            turn = phase[k, i] + matrix[k, k] * 0.5 * (last[k] + before[k]) / (2 * np.pi)
            turn += sum(matrix[j, k] * reach[j, i] * last[j] for j in range(4) if j != k) / (2 * np.pi)
            before[k] = last[k]
            last[k] = level[k, i] * np.sin(2 * np.pi * turn)
        y[i] = heard[:, i] @ last
    return y


FEEDBACK, BACKWARDS = np.zeros((4, 4)), np.zeros((4, 4))
FEEDBACK[3, 3], FEEDBACK[3, 2], FEEDBACK[2, 0] = 1.1, 2.0, 1.5
BACKWARDS[0, 3], BACKWARDS[3, 1] = 0.8, 1.7
FORWARDS = np.zeros((4, 4))
FORWARDS[1, 0], FORWARDS[3, 0], FORWARDS[3, 2] = 3.0, 0.5, 5.0


@pytest.mark.parametrize("matrix", [FORWARDS, FEEDBACK, BACKWARDS], ids=["forwards", "feedback", "backwards"])
def test_operators_bend_each_other_as_the_formula_says(matrix):
    # Chowning 1973: sin(2π·f·t + I·sin(…)). The table that serves where operators wait for each other is good to −130 dB,
    # and feedback lets that add up.
    rng = np.random.default_rng(5)
    steps = np.array([0.004, 0.0081, 0.004, 0.056])[:, None] * np.linspace(1.0, 1.2, CELLS + 1)
    levels, reaches = rng.uniform(0.2, 1.0, (2, 4, CELLS + 1))
    outputs = np.array([1.0, 0.4, 0.7, 0.0])[:, None] * np.linspace(1.0, 0.3, CELLS + 1)
    y = np.empty(FRAMES)
    bend_phases(steps, levels, matrix, reaches, outputs, 1, y)
    tolerance = 1e-8 if matrix is FORWARDS else 1e-5
    np.testing.assert_allclose(y, bent_by_hand(steps, levels, matrix, reaches, outputs), atol=tolerance)


@pytest.mark.parametrize("factor", [2, 4])
@pytest.mark.parametrize("hz", [100.0, 5000.0, 18000.0])
def test_lowering_the_rate_keeps_level_and_time(factor, hz):
    n = 8000
    raised = np.sin(2 * np.pi * hz * np.arange(n * factor) / (factor * RATE))
    y = lowered(raised, factor)
    assert len(y) == n
    inside = slice(200, -200)
    # Flat to 0.42 of the rate within 0.01 dB.
    np.testing.assert_allclose(y[inside], np.sin(2 * np.pi * hz * np.arange(n) / RATE)[inside], atol=1.2e-3)


@pytest.mark.parametrize("factor", [2, 4])
def test_what_would_fold_is_gone_when_the_rate_is_lowered(factor):
    n = 8000
    raised = np.sin(2 * np.pi * 30000.0 * np.arange(n * factor) / (factor * RATE))
    assert 20 * np.log10(np.max(np.abs(lowered(raised, factor)[200:-200]))) < -95.0


def test_a_curve_at_a_higher_rate_is_the_curve_where_nothing_folds():
    x = 0.8 * np.sin(2 * np.pi * 200.0 * np.arange(9600) / RATE)
    np.testing.assert_allclose(bent(x, np.tanh)[100:-100], np.tanh(x)[100:-100], atol=1e-4)


# --- reading at any speed ----------------------------------------------------------------------------------------------


@pytest.mark.parametrize("speed", [0.37, 0.98, 1.05, 1.6, 2.3])
def test_reading_at_another_speed_is_resampling(speed):
    # A tone that stays below 20 kHz at its new pitch is that tone, within 0.01 dB and to −80 dB.
    hz = 3000.0
    x = np.sin(2 * np.pi * hz * np.arange(24000) / RATE)
    places = 100.0 + speed * np.arange(8000)
    y = np.empty(8000)
    read_resampled(x, places, y)
    np.testing.assert_allclose(y, np.sin(2 * np.pi * hz * places / RATE), atol=1.2e-3)


def test_reading_fast_lets_nothing_fold():
    # 15 kHz read 1.9 times as fast would be 28.5 kHz, which folds to 19.5 kHz.
    x = np.sin(2 * np.pi * 15000.0 * np.arange(24000) / RATE)
    y = np.empty(8000)
    read_resampled(x, 100.0 + 1.9 * np.arange(8000), y)
    assert 20 * np.log10(np.max(np.abs(y))) < -70.0


def test_reading_agrees_with_scipy():
    x = (
        scipy.signal.firwin(301, 0.7)
        @ np.lib.stride_tricks.sliding_window_view(np.random.default_rng(2).standard_normal(4300), 301).T
    )  # noise without a top octave
    y = np.empty(7000)
    read_resampled(x, 200.0 + np.arange(7000) / 2.0, y)
    wanted = scipy.signal.resample_poly(x, 2, 1, window=("kaiser", 12.0))[400:7400]
    assert 20 * np.log10(np.std(y - wanted) / np.std(wanted)) < -55.0


def test_outside_of_what_there_is_lies_silence():
    y = np.ones(100)
    read_resampled(np.ones(50), np.linspace(-500.0, -100.0, 100), y)
    assert not y.any()


# --- noise ---------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("colour", "per_octave_db"), [("white", 0.0), ("pink", -3.01), ("brown", -6.02)])
def test_noise_falls_by_its_colour(colour, per_octave_db):
    noise = endless_noise(colour, 1 << 19, sample_rate_hz=RATE)
    freqs, power = scipy.signal.welch(noise, RATE, nperseg=8192)
    levels = [10 * np.log10(np.mean(power[:, (freqs > f / 1.1) & (freqs < f * 1.1)])) for f in (250, 1000, 4000)]
    assert np.diff(levels) / 2 == pytest.approx([per_octave_db] * 2, abs=0.25)
    assert levels[1] == pytest.approx(10 * np.log10(2 / RATE), abs=0.3)  # all as loud at 1 kHz: 1 RMS of white noise


def test_noise_comes_round_without_a_seam_and_never_ends():
    assert set(COLOURS) == {"white", "pink", "brown"}
    whole = endless_noise("brown", 1 << 20, sample_rate_hz=RATE)
    longer = endless_noise("brown", (1 << 20) + 5000, sample_rate_hz=RATE)
    np.testing.assert_array_equal(longer[:, 1 << 20 :], whole[:, :5000])
    steps = np.abs(np.diff(longer[0]))
    assert steps[(1 << 20) - 1] < 6.0 * np.sqrt(np.mean(steps**2))


def test_two_numbers_and_two_sides_have_nothing_in_common():
    a, b = (endless_noise("white", RATE, sample_rate_hz=RATE, number=n) for n in (0, 1))
    for one, other in ((a[0], a[1]), (a[0], b[0]), (a[1], b[1])):
        assert abs(np.corrcoef(one, other)[0, 1]) < 0.02
