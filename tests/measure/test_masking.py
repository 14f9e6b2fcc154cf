"""The masked threshold against published measurements, and the laws of being hidden."""

import sys
import types
import warnings

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.signals import RATE
from zygotone.measure.masking import (
    HIDDEN,
    bands_hz,
    erb_hz,
    erb_rate_to_hz,
    excitation,
    hidden_share,
    hz_to_erb_rate,
    masked_threshold,
    quiet,
    specific_loudness,
)

# A mean square of 1 on both sides is 2 of both together, −0.69 + 3.01 LUFS, and −20 LUFS are 83 dB SPL.
SPL_DB = 83.0 + 20.0 - 0.69 + 3.01
SECONDS = 2
N = SECONDS * RATE


def tone(hz: float, level_db: float = 0.0) -> np.ndarray:
    """A sine whose mean square is ``level_db``, on both sides."""
    one = np.sqrt(2.0) * 10 ** (level_db / 20) * np.sin(2 * np.pi * hz * np.arange(N) / RATE)
    return np.stack([one, one])


def white(density_db: float = 0.0) -> np.ndarray:
    """Noise whose mean square in 1 Hz is ``density_db``."""
    one = np.random.default_rng(3).standard_normal(N) * np.sqrt(10 ** (density_db / 10) * RATE / 2)
    return np.stack([one, one])


def hidden(own: np.ndarray, other: np.ndarray) -> float:
    return hidden_share(excitation(own, RATE), excitation(other, RATE))


@pytest.mark.parametrize(("hz", "wanted"), [(100, 35.5), (1000, 132.6), (4000, 456.5), (10000, 1104.1)])
def test_erbs_are_those_of_glasberg_and_moore(hz, wanted):
    # Glasberg and Moore 1990, equation 3: ERB = 24.7·(4.37·F + 1), F in kHz.
    assert float(erb_hz(np.array(hz))) == pytest.approx(wanted, abs=0.1)


@given(st.floats(20, 20000))
def test_erb_rate_and_back(hz):
    assert float(erb_rate_to_hz(hz_to_erb_rate(np.array(hz)))) == pytest.approx(hz, rel=1e-9)


@pytest.mark.parametrize(
    ("hz", "critical_ratio_db"),
    [(100, 19.5), (250, 17.0), (500, 17.2), (1000, 18.1), (2000, 20.0), (4000, 23.0), (8000, 27.0)],
)
def test_a_tone_comes_out_of_noise_at_the_critical_ratio(hz, critical_ratio_db):
    # J. E. Hawkins and S. S. Stevens 1950: level of a tone over that of the noise in 1 Hz at which it is just heard (values
    # from memory). Listeners differ by some 2 dB.
    noise = excitation(white(-SPL_DB + 40.0), RATE)
    levels = np.arange(critical_ratio_db - 6.0, critical_ratio_db + 6.1, 0.5)
    shares = [hidden_share(excitation(tone(hz, -SPL_DB + 40.0 + level), RATE), noise) for level in levels]
    heard_from = next(level for level, share in zip(levels, shares, strict=True) if share < HIDDEN)
    assert heard_from == pytest.approx(critical_ratio_db, abs=2.0)


def test_a_band_of_noise_has_the_level_in_its_filter_that_it_has():
    pattern = excitation(white(-SPL_DB + 20.0), RATE).mean(axis=1)
    inside = (bands_hz() > 200) & (bands_hz() < 10000)
    # White noise of 0 dB in 1 Hz gives each filter its equivalent rectangular bandwidth: what the name says. Two seconds of the
    # narrowest band are known to some 0.4 dB.
    np.testing.assert_allclose(10 * np.log10(pattern[inside] / erb_hz(bands_hz()[inside])), 20.0, atol=1.4)


def test_the_louder_the_masker_the_more_is_hidden():
    own = white(-60.0)
    shares = [hidden(own, np.roll(white(-60.0 + gain), 777, axis=1)) for gain in range(-20, 21, 5)]
    assert shares == sorted(shares)
    assert shares[0] < 0.01
    assert shares[-1] > 0.99


def test_what_lies_elsewhere_hides_nothing():
    assert hidden(tone(4000, -40.0), tone(200, -25.0)) < 0.02
    assert hidden(tone(200, -40.0), tone(4000, -25.0)) < 0.02
    early, late = tone(1000, -30.0), tone(1000, -30.0)
    early[:, N // 2 :], late[:, : N // 2] = 0.0, 0.0
    assert hidden(early, late) < 0.03  # the window in which one follows the other
    assert hidden(tone(1000), np.zeros((2, N))) == 0.0


def test_silence_has_no_share():
    assert np.isnan(hidden(np.zeros((2, N)), tone(1000)))


def test_a_click_is_heard_over_a_louder_steady_sound():
    click = np.zeros((2, N))
    click[:, ::12000] = 1.0
    steady = tone(200, -12.0)
    assert hidden(click, steady) < 0.35


def narrow(hz: float, width_hz: float, spl_db: float) -> np.ndarray:
    noise = np.random.default_rng(5).standard_normal(N)
    spectrum = np.fft.rfft(noise)
    freqs = np.fft.rfftfreq(N, 1 / RATE)
    y = np.fft.irfft(np.where(np.abs(freqs - hz) < width_hz / 2, spectrum, 0.0))
    y *= 10 ** ((spl_db - SPL_DB) / 20) / np.std(y)
    return np.stack([y, y])


def masked_db(hz: float, masker: np.ndarray) -> float:
    """Level in dB SPL from which a tone is heard: where its own filter passes more of it than is hidden there."""
    threshold = masked_threshold(excitation(masker, RATE))[:, 20:-20].mean(axis=1)
    return float(10 * np.log10(np.exp(np.interp(hz, bands_hz(), np.log(np.maximum(threshold, quiet()))))))


def test_a_level_is_what_it_is_where_it_is_heard():
    pattern = excitation(tone(1000, -SPL_DB + 60.0), RATE)[:, 20:-20].mean(axis=1)
    assert 10 * np.log10(pattern.max()) == pytest.approx(60.0, abs=0.5)
    softer = excitation(tone(1000, -SPL_DB + 60.0), RATE, playback_db=73.0)[:, 20:-20].mean(axis=1)
    assert 10 * np.log10(softer.max()) == pytest.approx(50.0, abs=0.5)


def test_masking_grows_upwards_faster_than_the_masker_and_not_downwards():
    """J. P. Egan and H. W. Hake 1950, a band of noise 90 Hz wide at 410 Hz, 40 to 80 dB (from memory, read off their figure): at its
    own frequency the threshold grows dB for dB; an octave above it grows about twice as fast and is some 45 dB at 80 dB of masker;
    below it the pattern stays steep."""
    thresholds = {
        hz: [masked_db(hz, narrow(410.0, 90.0, level)) for level in (60.0, 70.0, 80.0)] for hz in (250.0, 410.0, 820.0)
    }
    own = np.diff(thresholds[410.0]) / 10.0
    np.testing.assert_allclose(own, 1.0, atol=0.05)
    assert 1.4 < np.mean(np.diff(thresholds[820.0])) / 10.0 < 2.8
    assert thresholds[820.0][-1] == pytest.approx(45.0, abs=10.0)
    assert thresholds[250.0][-1] < thresholds[410.0][-1] - 25.0
    assert np.mean(np.diff(thresholds[250.0])) / 10.0 < 1.15


def test_the_slope_downwards_of_a_filter_is_that_of_its_level():
    # Glasberg and Moore 1990: 25 to 30 dB an ERB and more below (p = 30.2 at 1 kHz and 51 dB), half of it at 90 dB.
    for level, p in ((51.0, 30.2), (89.0, 30.2 - 0.38 * 38.0)):
        pattern = excitation(tone(1000.0, -SPL_DB + level), RATE)[:, 20:-20].mean(axis=1)
        at = np.searchsorted(bands_hz(), 1500.0)
        centre = bands_hz()[at]
        # At another centre p goes with 4·fc/ERB, of which 30.2 is that at 1 kHz.
        own = p * (4 * centre / erb_hz(centre)) / 30.2
        g = (centre - 1000.0) / centre
        assert 10 * np.log10(pattern[at]) - level == pytest.approx(
            10 * np.log10((1 + own * g) * np.exp(-own * g)), abs=1.5
        )


def test_what_has_just_ended_hides_for_a_fifth_of_a_second_and_less_and_less():
    """W. Jesteadt, S. P. Bacon and J. R. Lehman 1982: the masking left falls with the logarithm of time to nothing at some 200 ms, and
    grows by less than a dB for a dB of masker."""
    left = {}
    for level in (60.0, 80.0):
        masker = tone(1000.0, -SPL_DB + level)
        masker[:, N // 2 :] = 0.0
        after = (
            10
            * np.log10(np.maximum(1e-9, masked_threshold(excitation(masker, RATE))))[
                np.argmin(np.abs(bands_hz() - 1000.0))
            ]
        )
        end = round(N / 2 / 1024)
        left[level] = np.array([after[end + k] for k in (2, 4, 8)])  # some 30, 75 and 160 ms later
        assert after[end + 12] < 10 * np.log10(quiet().min()) + 20.0
    assert np.all(np.diff(left[80.0]) < 0.0)
    growth = (left[80.0] - left[60.0]) / 20.0
    assert np.all(growth < 0.6)
    assert growth[0] > growth[1]
    # In their figure 1 a masker of 80 dB leaves some 20 dB after 20 ms, some 10 after 80 ms, at 1 kHz (from memory).
    over = left[80.0] - 10 * np.log10(np.interp(1000.0, bands_hz(), quiet()))
    assert over[0] == pytest.approx(16.0, abs=6.0)


@settings(max_examples=10, deadline=None)
@given(st.floats(0.1, 10.0), st.integers(0, 50))
def test_more_masker_never_hides_less(gain, seed):
    own = excitation(narrow(900.0, 800.0, 55.0), RATE)
    other = np.random.default_rng(seed).standard_normal((2, N)) * 1e-3
    less, more = (hidden_share(own, excitation(k * other, RATE)) for k in (gain, 1.3 * gain))
    assert more >= less


def test_what_nobody_hears_is_hidden_by_nothing():
    loud, faint = tone(1000.0, -40.0), tone(60.0, -SPL_DB + 25.0)  # under the threshold of hearing at 60 Hz
    assert np.isnan(hidden(faint, np.zeros((2, N))))
    assert hidden(loud + faint, np.zeros((2, N))) == 0.0


@pytest.fixture(scope="module")
def by_the_standard():
    """Loudness in sone, and specific loudness over Bark, of what both ears hear: ISO 532-1 (Zwicker), stationary, free field."""
    for name in (
        "matplotlib",
        "matplotlib.pyplot",
    ):  # the library draws what we do not ask of it, and wants this in order to load
        sys.modules.setdefault(name, types.ModuleType(name))
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        from mosqito.sq_metrics import loudness_zwst

    def loudness(sound: np.ndarray) -> tuple[float, np.ndarray, np.ndarray]:
        pascal = 2e-5 * 10 ** (SPL_DB / 20) * sound[0]
        return loudness_zwst(pascal, RATE, field_type="free")

    return loudness


def ours(sound: np.ndarray) -> np.ndarray:
    """Specific loudness of each band of a steady sound."""
    pattern = excitation(sound, RATE)
    quarter = pattern.shape[1] // 4
    return specific_loudness(pattern[:, quarter:-quarter].mean(axis=1, keepdims=True))[:, 0]


def band(low_hz: float, high_hz: float, spl_db: float, *, tilt: float = 0.0) -> np.ndarray:
    """Noise between two frequencies on both sides, its density falling with the frequency to the power ``tilt``."""
    spectrum = np.fft.rfft(np.random.default_rng(5).standard_normal(N))
    hz = np.fft.rfftfreq(N, 1 / RATE)
    spectrum[(hz < low_hz) | (hz > high_hz)] = 0.0
    one = np.fft.irfft(spectrum * np.maximum(hz, 1.0) ** (-0.5 * tilt), N)
    return np.stack([one, one]) * 10 ** ((spl_db - SPL_DB) / 20) / np.sqrt(np.mean(one**2))


def over_a_tone_of_60_db(sound: np.ndarray, by_the_standard) -> float:
    """How many times as loud as 1 kHz at 60 dB SPL it is to us, over how many times it is by the standard."""
    known = tone(1000.0, 60.0 - SPL_DB)
    mine, standard = np.sum(ours(sound)) / np.sum(ours(known)), by_the_standard(sound)[0] / by_the_standard(known)[0]
    return float(mine / standard)


@pytest.mark.parametrize("spl_db", [40, 50, 70, 80])
def test_loudness_grows_with_level_as_by_iso_532_1(spl_db, by_the_standard):
    assert over_a_tone_of_60_db(tone(1000.0, spl_db - SPL_DB), by_the_standard) == pytest.approx(1.0, abs=0.06)


@pytest.mark.parametrize("width_hz", [50, 100, 160, 400, 800, 1600])
def test_a_wider_band_of_one_level_is_louder_as_by_iso_532_1(width_hz, by_the_standard):
    sound = band(1000.0 - width_hz / 2, 1000.0 + width_hz / 2, 60.0)
    assert over_a_tone_of_60_db(sound, by_the_standard) == pytest.approx(1.0, abs=0.25)


@pytest.mark.parametrize("hz", [250, 500, 2000, 4000])
def test_tones_are_as_loud_over_frequency_as_by_iso_532_1(hz, by_the_standard):
    assert over_a_tone_of_60_db(tone(hz, 60.0 - SPL_DB), by_the_standard) == pytest.approx(1.0, abs=0.25)


@pytest.mark.parametrize(
    "sound",
    [band(40, 15000, 70.0, tilt=1.0), band(40, 15000, 60.0, tilt=2.0), band(200, 2000, 65.0, tilt=1.0), band(2000, 8000, 60.0)],
    ids=["pink", "falling 6 dB an octave", "middle", "high"],
)  # fmt: skip
def test_the_loudness_lies_where_iso_532_1_puts_it(sound, by_the_standard):
    # A quarter, the half and three quarters of it lie below frequencies that are within 1.5 critical bands of each other
    # (Traunmüller 1990: z = 26.81·f / (1960 + f) − 0.53 Bark).
    mine = np.cumsum(ours(sound))
    _, specific, barks = by_the_standard(sound)
    standard = np.cumsum(specific)
    for share in (0.25, 0.5, 0.75):
        hz = np.interp(share, mine / mine[-1], bands_hz())
        bark = 26.81 * hz / (1960.0 + hz) - 0.53
        assert bark == pytest.approx(np.interp(share, standard / standard[-1], barks), abs=1.5)
