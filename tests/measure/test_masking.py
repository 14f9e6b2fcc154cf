"""The masked threshold against published measurements, and the laws of being hidden."""

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
)

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
    noise = excitation(white(), RATE)
    levels = np.arange(critical_ratio_db - 6.0, critical_ratio_db + 6.1, 0.5)
    shares = [hidden_share(excitation(tone(hz, level), RATE), noise) for level in levels]
    heard_from = next(level for level, share in zip(levels, shares, strict=True) if share < HIDDEN)
    assert heard_from == pytest.approx(critical_ratio_db, abs=2.0)


def test_a_band_of_noise_has_the_level_in_its_filter_that_it_has():
    pattern = excitation(white(), RATE).mean(axis=1)
    inside = (bands_hz() > 200) & (bands_hz() < 10000)
    # White noise of 0 dB in 1 Hz gives each filter its equivalent rectangular bandwidth: what the name says. Two seconds of the
    # narrowest band are known to some 0.4 dB.
    np.testing.assert_allclose(10 * np.log10(pattern[inside] / erb_hz(bands_hz()[inside])), 0.0, atol=1.0)


@settings(max_examples=12, deadline=None)
@given(st.floats(-40, 20), st.floats(100, 8000))
def test_only_the_difference_of_levels_counts(gain_db, hz):
    own, other = tone(hz, -20.0), white(-60.0)
    gain = 10 ** (gain_db / 20)
    assert hidden(gain * own, gain * other) == pytest.approx(hidden(own, other), abs=1e-6)


def test_the_louder_the_masker_the_more_is_hidden():
    own = white(-60.0)
    shares = [hidden(own, np.roll(white(-60.0 + gain), 777, axis=1)) for gain in range(-20, 21, 5)]
    assert shares == sorted(shares)
    assert shares[0] < 0.01
    assert shares[-1] > 0.99


def test_what_lies_elsewhere_hides_nothing():
    assert hidden(tone(4000), tone(200, 20.0)) < 0.02  # where they begin and end
    early, late = tone(1000), tone(1000)
    early[:, N // 2 :], late[:, : N // 2] = 0.0, 0.0
    assert hidden(early, late) < 0.02  # the window in which one follows the other
    assert hidden(tone(1000), np.zeros((2, N))) == 0.0


def test_silence_has_no_share():
    assert np.isnan(hidden(np.zeros((2, N)), tone(1000)))


def test_a_click_is_heard_over_a_louder_steady_sound():
    click = np.zeros((2, N))
    click[:, ::12000] = 1.0
    steady = tone(200, -12.0)
    assert hidden(click, steady) < 0.35
