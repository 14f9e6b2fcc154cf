"""Filters, delays, oversampling, detectors: laws, and references from elsewhere."""

import numpy as np
import pytest
import scipy.signal
from hypothesis import given
from hypothesis import strategies as st

from tests.signals import RATE, noise, sine
from zygotone.dsp import half_band
from zygotone.dsp.delays import FRACTION_LATENCY, DelayLine, FirStereo, fractional_delay_taps
from zygotone.dsp.dynamics import Level, compress, is_finite, replace_not_finite, static_curve
from zygotone.dsp.filters import (
    SosStereo,
    bandpass_sos,
    butterworth_qs,
    highpass_sos,
    lowpass_sos,
    sos_mono,
    tilt_sos,
)
from zygotone.dsp.levels import db_to_gain, gain_to_db, smoothing
from zygotone.dsp.oscillators import read_cycles
from zygotone.dsp.oversampling import Oversampler, latency_frames
from zygotone.dsp.peaks import largest_magnitude, largest_single
from zygotone.dsp.shaping import CURVES, shape
from zygotone.dsp.strings import plucked_string
from zygotone.dsp.types import GRID_FRAMES
from zygotone.dsp.wavetables import SHAPES, harmonics_below, single_cycle


@given(st.floats(-140, 40))
def test_db_and_gain_are_a_pair(level):
    assert float(gain_to_db(db_to_gain(level))) == pytest.approx(level, abs=1e-9)


def test_smoothing_covers_63_percent():
    assert 1.0 - smoothing(0.01, sample_rate_hz=RATE) ** (0.01 * RATE) == pytest.approx(1 - np.exp(-1))
    assert smoothing(0.0, sample_rate_hz=RATE) == 0.0


@pytest.mark.parametrize("design", [lowpass_sos, highpass_sos, bandpass_sos])
def test_sections_run_as_scipy_runs_them(design):
    sos = design(700.0, 1.3, sample_rate_hz=RATE)
    x = noise(0.1)
    y = SosStereo(sos).process(x)
    np.testing.assert_allclose(y, scipy.signal.sosfilt(sos[None, :], x, axis=1), atol=1e-12)


def test_butterworth_is_scipys():
    ours = np.array([lowpass_sos(1000.0, q, sample_rate_hz=RATE) for q in butterworth_qs(6)])
    theirs = scipy.signal.butter(6, 1000.0, fs=RATE, output="sos")
    freqs = np.geomspace(20, 20000, 200)
    _, a = scipy.signal.sosfreqz(ours, freqs, fs=RATE)
    _, b = scipy.signal.sosfreqz(theirs, freqs, fs=RATE)
    np.testing.assert_allclose(np.abs(a), np.abs(b), rtol=1e-6, atol=1e-9)


def test_linkwitz_riley_sums_flat():
    # Linkwitz and Riley 1976: two Butterworth sections a side sum to an all-pass.
    low, high = (f(300.0, np.sqrt(0.5), sample_rate_hz=RATE) for f in (lowpass_sos, highpass_sos))
    freqs = np.geomspace(20, 20000, 300)
    _, a = scipy.signal.sosfreqz(np.array([low, low]), freqs, fs=RATE)
    _, b = scipy.signal.sosfreqz(np.array([high, high]), freqs, fs=RATE)
    # The all-pass of the Audio EQ Cookbook (R. Bristow-Johnson): the denominator turned round over itself.
    turned = np.concatenate([low[3:][::-1], low[3:]])
    _, c = scipy.signal.sosfreqz(turned[None, :] / low[3], freqs, fs=RATE)
    np.testing.assert_allclose(a + b, c, atol=1e-9)


@given(st.floats(-12, 12))
def test_a_tilt_is_undone_by_its_opposite(gain):
    both = np.array([tilt_sos(g, 700.0, sample_rate_hz=RATE) for g in (gain, -gain)])
    x = noise(0.02)
    np.testing.assert_allclose(SosStereo(both).process(x), x, atol=1e-10)


SOS = np.array([[0.2, 0.4, 0.2, 1.0, -0.3, 0.1]])


@given(cuts=st.lists(st.integers(0, 512), max_size=8))
def test_blocks_do_not_change_the_sound(cuts):
    x = np.random.default_rng(7).standard_normal(512)
    whole = np.empty(512)
    sos_mono(SOS, x, np.zeros((1, 2)), whole)
    parts, state = [], np.zeros((1, 2))
    for block in np.split(x, sorted(cuts)):  # empty blocks included
        y = np.empty(len(block))
        sos_mono(SOS, np.ascontiguousarray(block), state, y)
        parts.append(y)
    np.testing.assert_array_equal(np.concatenate(parts), whole)


@given(st.integers(0, 40), st.lists(st.integers(1, 30), min_size=1, max_size=8))
def test_a_delay_line_only_delays(frames, sizes):
    x = noise(sum(sizes) / RATE)
    line = DelayLine(frames)
    y = np.concatenate([line.process(part) for part in np.split(x, np.cumsum(sizes)[:-1], axis=1)], axis=1)
    expected = np.pad(x, ((0, 0), (frames, 0)))[:, : x.shape[1]]
    np.testing.assert_array_equal(y, expected)


@pytest.mark.parametrize("fraction", [0.0, 0.1, 0.5, 0.93])
def test_a_fraction_of_a_frame(fraction):
    x = sine(5000.0, 0.05)
    y = FirStereo(fractional_delay_taps(fraction)).process(x)
    t = np.arange(x.shape[1]) / RATE - (FRACTION_LATENCY + fraction) / RATE
    expected = np.sin(2 * np.pi * 5000.0 * t)
    np.testing.assert_allclose(y[0, 200:], expected[200:], atol=2e-4)


@pytest.mark.parametrize("factor", [2, 4, 8])
def test_up_and_down_again_is_a_pure_delay(factor):
    x = sine(9000.0, 0.05, level_db=-6)[0] + sine(60.0, 0.05, level_db=-6)[0]
    over = Oversampler(factor)
    y = over.down(over.up(x))
    delay = latency_frames(factor)
    # 100 dB of stop band leave ripples near 1e-5; the edges of the signal itself are left out.
    np.testing.assert_allclose(y[500:-10], x[500 - delay : -10 - delay], atol=3e-5)


@pytest.mark.parametrize("curve", CURVES)
def test_a_curve_passes_through_zero_and_no_drive_is_a_wire(curve):
    x = np.linspace(-1, 1, 101)
    np.testing.assert_array_equal(shape(curve, x, drive_db=0.0), x)
    bent = shape(curve, x, drive_db=18.0)
    assert bent[50] == pytest.approx(0.0, abs=1e-12)
    assert np.max(np.abs(bent)) <= 1.0 + 1e-12


def test_peak_level_is_the_largest_of_the_window():
    # Against a plain maximum filter of SciPy's.
    x = noise(0.05)
    level = Level("peak", attack_s=0.01, release_s=0.02, sample_rate_hz=RATE)
    got = level.process(x)
    window = round(0.005 * RATE)
    magnitude = np.concatenate([np.zeros(window), np.max(np.abs(x), axis=0)])
    expected = [magnitude[i + 1 : i + 1 + window].max() for i in range(x.shape[1])]
    np.testing.assert_array_equal(got, expected)


def test_rms_level_of_a_steady_sine():
    level = Level("rms", attack_s=0.05, release_s=0.2, sample_rate_hz=RATE)
    got = level.process(sine(1000.0, 0.2, level_db=-12.0))
    assert 20 * np.log10(got[-1]) == pytest.approx(-12 - 3.0103, abs=0.02)


def test_static_curve_of_the_paper():
    # Giannoulis, Massberg and Reiss 2012, eq. 4, worked by hand: T −20, R 4, W 10.
    levels = np.array([-40.0, -25.0, -20.0, -15.0, 0.0])
    expected = [-40.0, -25.0, -20.0 - 0.75 * 25.0 / 20.0, -20.0 + 5.0 / 4.0, -15.0]
    got = static_curve(levels, threshold_db=-20.0, ratio=4.0, knee_db=10.0)
    np.testing.assert_allclose(got, expected, atol=1e-9)


def test_what_is_not_finite_is_replaced_and_counted():
    x = np.array([[1.0, np.nan, np.inf], [0.5, -np.inf, 2.0]])
    assert replace_not_finite(x) == 3
    np.testing.assert_array_equal(x, [[1.0, 0.0, 0.0], [0.5, 0.0, 2.0]])


@pytest.mark.parametrize("shape_", SHAPES)
@pytest.mark.parametrize("note_hz", [55.0, 440.0, 1760.0, 4186.0])
def test_oscillators_do_not_alias(shape_, note_hz):
    # The bar of DESIGN section 14: at any note to C8, aliases under −70 dB of the fundamental.
    n = 1 << 16
    hz = round(note_hz * n / RATE) * RATE / n + 0.37 * RATE / n  # between two bins, so that aliases are, too
    y = np.zeros(n)
    cells = n // GRID_FRAMES + 2
    cycle = single_cycle(shape_, harmonics_below(hz, RATE), 0.3)
    read_cycles(cycle[None], np.zeros(cells), np.full(cells, hz / RATE), 1.0, 0.0, 1.0, y)
    spectrum = np.abs(np.fft.rfft(y * np.kaiser(n, 22)))
    freqs = np.fft.rfftfreq(n, 1 / RATE)
    order = np.round(freqs / hz)
    on_harmonic = (np.abs(freqs - order * hz) < 20 * RATE / n) & (order >= 1)
    fundamental = spectrum[np.abs(freqs - hz) < 20 * RATE / n].max()
    rest = spectrum[~on_harmonic & (freqs > 15)].max()
    assert 20 * np.log10(rest / fundamental) < -70.0


def test_a_plucked_string_is_in_tune():
    # Jaffe and Smith 1983: the all-pass gives the fraction of a frame that the delay line cannot.
    for hz in (82.407, 329.628):
        y = plucked_string(hz, RATE * 2, sample_rate_hz=RATE, decay_s=4.0, damping=0.4, pick=0.2, seed=3)
        spectrum = np.abs(np.fft.rfft(y[4800:] * np.hanning(len(y) - 4800), 1 << 19))
        freqs = np.fft.rfftfreq(1 << 19, 1 / RATE)
        near = np.abs(freqs / hz - 1) < 0.05
        found = freqs[near][np.argmax(spectrum[near])]
        assert abs(1200 * np.log2(found / hz)) < 5.0


@given(st.integers(0, 70), st.sampled_from([None, np.nan, np.inf, -np.inf]), st.integers(0, 139))
def test_what_is_not_finite_is_found_wherever_it_is(n, bad, at):
    x = np.random.default_rng(n).standard_normal((2, n))
    if bad is not None and n:
        x[at % 2, at % n] = bad
    assert is_finite(x) == (bad is None or n == 0)


def test_the_half_band_filters_of_loops_are_flat_and_closed():
    # Sum of two rows of all-passes; the elliptic half-band filter of the same transition is the reference: SciPy's needs order 17
    # for 99 dB with nothing lost, as this one (twice eight all-passes and a delay).
    for stage, down_db in ((0, -99.0), (1, -116.0)):
        c, (_, width) = half_band.coefficients(stage), half_band._STAGES[stage]
        turns = np.linspace(0.0, 0.5, 4001)
        z = np.exp(-2j * np.pi * turns)
        rows = [np.prod([(k + z**2) / (1.0 + k * z**2) for k in c[at::2]], axis=0) for at in (0, 1)]
        gain = 20 * np.log10(np.maximum(1e-12, np.abs(rows[0] + z * rows[1]) / 2.0))
        assert gain[turns >= 0.25 + width / 2].max() < down_db
        assert gain[turns <= 0.25 - width / 2].min() > -1e-6


def test_what_a_loop_bends_is_late_by_what_is_said():
    state = np.zeros(half_band.STATE_SIZE)
    x = 1e-4 * np.sin(2 * np.pi * 200.0 * np.arange(4800) / 48000.0)
    y = [half_band.curved(v, 1.0, half_band.coefficients(0), half_band.coefficients(1), state) for v in x]
    hilbert = scipy.signal.hilbert(x)[2400:4560]
    late = np.angle(np.vdot(np.array(y)[2400:4560], hilbert)) / (2 * np.pi * 200.0 / 48000.0)
    assert late == pytest.approx(half_band.latency(), abs=0.05)


@given(
    attack_ms=st.floats(0.05, 300.0), release_ms=st.floats(5.0, 3000.0), ratio=st.floats(1.1, 40.0), seed=st.integers(0, 99)
)  # fmt: skip
def test_a_compressor_branches_as_the_paper_has_it(attack_ms, release_ms, ratio, seed):
    """Giannoulis, Massberg and Reiss 2012, equation 16, written out frame by frame, with either time the longer one."""
    rng = np.random.default_rng(seed)
    level = np.repeat(10.0 ** (rng.uniform(-50.0, 0.0, 40) / 20.0), 20)
    attack, release = (smoothing(ms * 1e-3, sample_rate_hz=RATE) for ms in (attack_ms, release_ms))
    gain_db = np.empty(len(level))
    compress(level, -20.0, ratio, 6.0, 60.0, attack, release, np.zeros(1), gain_db)
    level_db = 20.0 * np.log10(level)
    wanted = static_curve(level_db, threshold_db=-20.0, ratio=ratio, knee_db=6.0) - level_db
    g, expected = 0.0, []
    for target in wanted:
        c = attack if target < g else release
        g = c * g + (1.0 - c) * target
        expected.append(g)
    np.testing.assert_allclose(gain_db, expected, atol=1e-8)


@given(st.lists(st.floats(-1000.0, 1000.0, width=32), max_size=70))
def test_the_largest_magnitude_is_that_of_any_numbers(values):
    expected = max(map(abs, values), default=0.0)
    assert largest_magnitude(np.array(values, dtype=np.float64)) == expected
    assert largest_single(np.array(values, dtype=np.float32)) == expected
