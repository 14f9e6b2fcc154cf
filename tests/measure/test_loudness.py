"""Loudness and true peak against EBU Tech 3341 and 3342, ITU-R BS.1770 and pyloudnorm.

The stereo test signals of EBU Tech 3341 (v4, 2023, table 1) and 3342 (2016, table 1) are made here from their
descriptions: 1 kHz sines in phase on both sides, levels in dBFS of the peak.
"""

import math

import numpy as np
import pyloudnorm
import pytest

from tests.signals import RATE, noise, sine
from zygotone.measure.loudness import integrated_lufs, k_weighting_sos, loudness, true_peak
from zygotone.measure.report import measure_audio


def steps(*parts: tuple[float, float], rate: int = RATE) -> np.ndarray:
    """1 kHz at (dBFS, seconds), one after the other."""
    return np.concatenate([sine(1000.0, seconds, level_db=level, rate=rate) for level, seconds in parts], axis=1)


@pytest.mark.parametrize("rate", [44100, 48000, 96000])
@pytest.mark.parametrize(("level", "expected"), [(-23.0, -23.0), (-33.0, -33.0)])
def test_3341_cases_1_and_2(level, expected, rate):
    found = loudness(steps((level, 20.0), rate=rate), rate)
    for value in (found.momentary_max_lufs, found.short_term_max_lufs, found.integrated_lufs):
        assert value == pytest.approx(expected, abs=0.1)


@pytest.mark.parametrize(
    "parts",
    [
        [(-36, 10), (-23, 60), (-36, 10)],
        [(-72, 10), (-36, 10), (-23, 60), (-36, 10), (-72, 10)],
        [(-26, 20), (-20, 20.1), (-26, 20)],
    ],
    ids=["case 3", "case 4", "case 5"],
)
def test_3341_cases_3_to_5(parts):
    assert integrated_lufs(steps(*parts), RATE) == pytest.approx(-23.0, abs=0.1)


def test_3341_case_9():
    found = loudness(steps(*[(-20, 1.34), (-30, 1.66)] * 5), RATE)
    np.testing.assert_allclose(found.short_term_lufs, -23.0, atol=0.1)


def test_3341_case_12():
    found = loudness(steps(*[(-20, 0.18), (-30, 0.22)] * 25), RATE)
    np.testing.assert_allclose(found.momentary_lufs, -23.0, atol=0.1)


@pytest.mark.parametrize(
    ("divisor", "phase_deg", "amplitude", "expected"),
    [(4, 0, 0.5, -6.0), (4, 45, 0.5, -6.0), (6, 60, 0.5, -6.0), (8, 67.5, 0.5, -6.0), (4, 45, 1.41, 3.0)],
    ids=["case 15", "case 16", "case 17", "case 18", "case 19"],
)
def test_3341_true_peak(divisor, phase_deg, amplitude, expected):
    n = np.arange(RATE)
    x = amplitude * np.sin(2 * np.pi * n / divisor + math.radians(phase_deg))
    fade = np.minimum(1.0, np.minimum(n, n[::-1]) / 480.0)  # the cases fade in and out
    found = 20 * np.log10(true_peak(np.stack([x * fade] * 2), RATE))
    assert expected - 0.4 <= found <= expected + 0.2


@pytest.mark.parametrize(
    ("parts", "expected"),
    [
        ([(-20, 20), (-30, 20)], 10.0),
        ([(-20, 20), (-15, 20)], 5.0),
        ([(-40, 20), (-20, 20)], 20.0),
        ([(-50, 20), (-35, 20), (-20, 20), (-35, 20), (-50, 20)], 15.0),
    ],
    ids=["case 1", "case 2", "case 3", "case 4"],
)
def test_3342_cases(parts, expected):
    assert loudness(steps(*parts), RATE).range_lu == pytest.approx(expected, abs=1.0)


def test_full_scale_sine_reads_as_the_standard_says():
    # ITU-R BS.1770: 0 dBFS, 997 Hz, one front channel, −3.01 LKFS; two decimals given, hence 0.005.
    assert integrated_lufs(sine(997.0, 5.0)[:1], RATE) == pytest.approx(-3.01, abs=0.005)


def test_k_weighting_is_the_standards_table():
    # ITU-R BS.1770, tables 1 and 2: coefficients at 48 kHz.
    shelf, high_pass = k_weighting_sos(48000.0)
    np.testing.assert_allclose(
        shelf,
        [1.53512485958697, -2.69169618940638, 1.19839281085285, 1, -1.69065929318241, 0.73248077421585],
        atol=1e-8,
    )
    np.testing.assert_allclose(high_pass, [1, -2, 1, 1, -1.99004745483398, 0.99007225036621], atol=1e-8)


@pytest.mark.parametrize("rate", [44100, 48000, 96000])
@pytest.mark.parametrize("seed", [1, 2, 3])
def test_agreement_with_pyloudnorm(rate, seed):
    x = noise(8.0, seed=seed, rate=rate) * np.linspace(0.01, 1.0, 8 * rate)
    theirs = pyloudnorm.Meter(rate, filter_class="DeMan").integrated_loudness(x.T)
    assert integrated_lufs(x, rate) == pytest.approx(theirs, abs=0.1)


def test_true_peak_of_clipped_noise_is_not_under_read():
    # Against a dense interpolation by FFT, which is exact for a periodic signal.
    x = np.clip(np.random.default_rng(5).standard_normal(4096), -1, 1)
    spectrum = np.fft.rfft(x)
    dense = np.fft.irfft(np.pad(spectrum, (0, 16 * 2048 - 2048)), 16 * 4096) * 16
    inner = dense[16 * 100 : -16 * 100]
    found = true_peak(x[None, 100:-100], RATE)
    assert 20 * np.log10(found / np.max(np.abs(inner))) > -0.4


@pytest.mark.parametrize(
    "audio", [np.zeros((2, 48000)), np.zeros((1, 1)), np.zeros((2, 10))], ids=["silence", "one sample", "ten"]
)
def test_silence_measures_as_nothing(audio):
    found = measure_audio(audio, RATE)
    for key in (
        "integrated_lufs",
        "true_peak_dbtp",
        "crest_db",
        "correlation",
        "side_share",
        "centroid_hz",
        "fundamental_hz",
        "rms_dbfs",
    ):
        assert found[key] is None, key


def test_one_loud_sample_is_measured():
    found = measure_audio(np.array([[0.5]]), RATE)
    assert found["sample_peak_dbfs"] == pytest.approx(-6.02)
    assert found["integrated_lufs"] is None
    assert found["fundamental_hz"] is None


def test_gain_moves_every_level_alike():
    x = noise(4.0)
    a, b = measure_audio(x, RATE), measure_audio(0.5 * x, RATE)
    for key in ("integrated_lufs", "rms_dbfs", "sample_peak_dbfs", "true_peak_dbtp", "momentary_max_lufs"):
        assert a[key] - b[key] == pytest.approx(6.02, abs=0.02), key
    for key in ("crest_db", "correlation", "side_share", "loudness_range_lu"):
        assert a[key] == pytest.approx(b[key], abs=0.02), key
    assert a["third_octaves_db"]["1000"] == pytest.approx(b["third_octaves_db"]["1000"], abs=0.02)
