"""Convolution in partitions, and working out two sides once while they are alike."""

import numpy as np
import pytest
import scipy.signal
from hypothesis import given
from hypothesis import strategies as st

from tests.signals import noise
from zygotone.dsp.convolution import BandFilter, Convolver, convolved_sides
from zygotone.dsp.delays import DelayLine
from zygotone.dsp.sides import Sides, are_alike

_RNG = np.random.default_rng(11)
TAPS = _RNG.standard_normal((2, 700))
X = _RNG.standard_normal(5000)


def in_blocks(process, x: np.ndarray, cuts: list[int]) -> np.ndarray:
    return np.concatenate([process(part) for part in np.split(x, sorted(cuts), axis=-1)], axis=-1)


@given(st.lists(st.integers(0, 5000), max_size=8), st.sampled_from([32, 100, 256]))
def test_partitions_convolve_as_scipy_does_however_the_signal_is_cut(cuts, partition):
    convolver = Convolver(TAPS, partition=partition)
    ours = in_blocks(convolver.process, X, cuts)
    late = convolver.latency
    for mine, taps in zip(ours, TAPS, strict=True):
        np.testing.assert_allclose(mine[late:], scipy.signal.fftconvolve(X, taps)[: len(X) - late], atol=1e-9)
        assert not mine[:late].any()


def test_a_block_of_any_length_is_worked_through():
    long = _RNG.standard_normal(64 * 32 * 3 + 17)  # more partitions than are done at once
    ours = Convolver(TAPS[:1], partition=32).process(long)[0]
    np.testing.assert_allclose(ours[32:], scipy.signal.fftconvolve(long, TAPS[0])[: len(long) - 32], atol=1e-9)


@pytest.mark.parametrize("parts_at", [0, 700, 1300, 5000])
def test_sides_that_part_go_on_as_if_they_had_always_been_two(parts_at):
    # Alike up to a frame, then each for itself.
    x = np.stack([X, X])
    x[1, parts_at:] *= -0.5
    together = convolved_sides(TAPS[0], TAPS[0], partition=64)
    ours = in_blocks(lambda part: together.process(part, Convolver.process)[0], x, [100, 700, 1300, 4000])
    alone = [Convolver(TAPS[:1], partition=64).process(side)[0] for side in x]
    np.testing.assert_allclose(ours, alone, atol=1e-10)


def test_responses_that_differ_are_never_taken_for_one():
    sides = convolved_sides(*TAPS, partition=64)
    ours = sides.process(np.stack([X, X]), Convolver.process)[0]
    for mine, taps in zip(ours, TAPS, strict=True):
        np.testing.assert_allclose(mine, Convolver(taps[None], partition=64).process(X)[0], atol=1e-12)


def test_one_side_is_worked_out_while_both_are_alike():
    worked = []

    class Counted(Convolver):
        def process(self, x):
            worked.append(len(x))
            return super().process(x)

    sides = Sides(lambda: Counted(TAPS[:1]))
    sides.process(np.stack([X, X]), Counted.process)
    assert worked == [5000]
    sides.process(np.stack([X, 2 * X]), Counted.process)
    assert worked == [5000, 5000, 5000]


@pytest.mark.parametrize("unlike", [False, True])
def test_what_an_older_pair_remembers_is_taken_over(unlike):
    before = np.stack([X, 0.3 * X if unlike else X])
    older, newer = (convolved_sides(TAPS[0], TAPS[0], partition=64) for _ in range(2))
    older.process(before, Convolver.process)
    newer.adopt(older)
    x = noise(0.02)
    np.testing.assert_allclose(newer.process(x, Convolver.process), older.process(x, Convolver.process), atol=1e-12)


def test_a_pair_that_was_alike_passes_its_memory_to_both_of_one_that_is_not():
    older = convolved_sides(TAPS[0], TAPS[0], partition=64)
    older.process(np.stack([X, X]), Convolver.process)
    newer = convolved_sides(*TAPS, partition=64)
    newer.adopt(older)
    silence = np.zeros((2, 1000))
    tails = newer.process(silence, Convolver.process)[0]
    assert np.ptp(tails[0]) > 1.0
    assert np.ptp(tails[1]) > 1.0


# --- delay ---------------------------------------------------------------------------------------------------------


@given(st.integers(0, 300), st.lists(st.integers(0, 1000), max_size=6), st.sets(st.integers(0, 6)))
def test_a_delay_line_that_only_remembers_or_adds_is_where_one_that_gives_is(frames, cuts, silent):
    x = noise(1000 / 48000)
    gives, remembers, adds = DelayLine(frames), DelayLine(frames), DelayLine(frames)
    for i, part in enumerate(np.split(x, sorted(cuts), axis=1)):
        heard = gives.process(part)
        out = np.zeros_like(part)
        adds.add_to(part, out)
        np.testing.assert_array_equal(out, heard)
        if i in silent:
            remembers.remember(part)
        else:
            np.testing.assert_array_equal(remembers.process(part), heard)


@given(st.integers(0, 4999), st.integers(1, 5000))
def test_sides_are_alike_only_where_every_frame_is(at, frames):
    x = np.stack([X, X])[:, :frames]
    assert are_alike(x)
    assert not are_alike(x[:1])
    x[1, at % frames] += 1e-15 + abs(x[1, at % frames]) * 1e-15
    assert not are_alike(x)


@pytest.mark.parametrize("parts_at", [0, 3000, 5000])
def test_a_band_in_single_precision_is_the_band_to_its_rounding_however_it_is_cut(parts_at):
    """Against the band's magnitude by its definition, 1 / (1 + (f/fc)⁶) from either side, on sides that part on the way."""
    rate, low, high = 48000, 300.0, 3000.0
    x = np.stack([X, X])
    x[1, parts_at:] *= -0.5
    band = BandFilter(low, high, rate, lowest_hz=low)
    ours = in_blocks(band.process, np.pad(x, ((0, 0), (0, band.latency))), [100, 700, 1300, 4000])[:, band.latency :]
    hz = np.fft.rfftfreq(1 << 16, 1.0 / rate)
    magnitude = 1.0 / (1.0 + (hz / high) ** 6) - 1.0 / (1.0 + (hz / low) ** 6)
    padded = np.pad(x, ((0, 0), (20000, (1 << 16) - 25000)))
    theirs = np.fft.irfft(np.fft.rfft(padded, axis=1) * magnitude, axis=1)[:, 20000:25000]
    # The filter ends where it has fallen by 80 dB.
    assert np.sqrt(np.mean((ours - theirs) ** 2)) < 3e-4 * np.sqrt(np.mean(theirs**2))
    whole = BandFilter(low, high, rate, lowest_hz=low).process(np.pad(x, ((0, 0), (0, band.latency))))
    np.testing.assert_allclose(ours, whole[:, band.latency :], atol=1e-5)
