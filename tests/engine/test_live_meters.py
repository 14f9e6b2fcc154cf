"""Meters of what is played, against the measures of files, however the sound was cut into blocks."""

import numpy as np
import pytest

from tests.signals import RATE, noise, sine
from zygotone.engine.live_meters import BANDS_HZ, SILENT_DB, LiveMeters
from zygotone.measure.loudness import loudness
from zygotone.measure.stereo import correlation


def fed(audio, block=512):
    meters = LiveMeters(RATE)
    for at in range(0, audio.shape[1] - block + 1, block):
        meters.process(audio[:, at : at + block])
    return meters


@pytest.mark.parametrize("block", [64, 512, 1024, 4096])
def test_loudness_is_that_of_files(block):
    audio = np.concatenate([noise(3.0, level=0.02), noise(3.2, level=0.1, seed=2)], axis=1)
    audio = audio[:, : audio.shape[1] // (block * 4800) * block * 4800 or -1]
    meters, whole = fed(audio, block), loudness(audio, RATE)
    assert meters.momentary_lufs == pytest.approx(whole.momentary_lufs[-1], abs=0.1)
    assert meters.short_term_lufs == pytest.approx(whole.short_term_lufs[-1], abs=0.1)


def test_a_tone_of_known_loudness():
    # EBU Tech 3341, case 1: a 1 kHz sine of −23 dBFS on both sides is −23 LUFS.
    meters = fed(sine(1000.0, 4.0, level_db=-23.0))
    assert meters.momentary_lufs == pytest.approx(-23.0, abs=0.1)
    assert meters.short_term_lufs == pytest.approx(-23.0, abs=0.1)


def test_correlation_is_pearsons():
    left, right = noise(3.0, seed=5)
    both = np.stack([left, 0.6 * left + 0.8 * right])
    assert fed(both).correlation == pytest.approx(correlation(both), abs=0.03)
    assert fed(np.stack([left, -left])).correlation == pytest.approx(-1.0)
    assert fed(np.stack([left, left])).correlation == pytest.approx(1.0)


@pytest.mark.parametrize("hz", [100.0, 1000.0, 5000.0])
def test_a_tone_stands_in_its_third_octave_at_its_level(hz):
    meters = fed(sine(hz, 1.0, level_db=-20.0))
    at = int(np.argmax(meters.bands_db))
    assert BANDS_HZ[at] == pytest.approx(hz, rel=0.13)
    near = 10.0 * np.log10(np.sum(10.0 ** (meters.bands_db[max(0, at - 1) : at + 2] / 10.0)))
    assert near == pytest.approx(-23.0, abs=0.5)  # its mean square


def test_silence_and_a_new_beginning():
    meters = fed(noise(1.0))
    meters.reset()
    assert meters.momentary_lufs == SILENT_DB
    assert meters.correlation == 0.0
    assert fed(np.zeros((2, RATE))).correlation == 0.0
