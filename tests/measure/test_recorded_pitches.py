"""Fundamentals of recorded instruments against the keys they were played at, and of what recordings taught: thumps, falls, vibrato."""

import math

import numpy as np
import pytest

from tests.recorded import DRUM_BANK, Bank, bank_path
from tests.signals import RATE
from zygotone.measure.pitch import fundamental_hz, kick_fall_cents, kick_fundamental_hz

BANK = Bank(bank_path())
# Programs and the keys that such an instrument mostly plays. Left out are organs with a stop an octave below, whose pitch is a
# matter of opinion, and what has none.
KEYS = {
    "pianos": ((0, 1, 2, 3, 4, 5, 6, 7), range(28, 84, 5)),
    "mallets": ((11, 12), range(48, 77, 5)),
    "reed organs and mouth organ": ((20, 22), range(48, 77, 5)),
    "guitars": ((24, 25, 26, 27, 28, 29, 30), range(48, 77, 5)),
    "basses": ((32, 33, 34, 35, 36, 37, 43), range(28, 49, 5)),
    "strings": ((40, 41, 44, 45, 46, 48, 49), range(48, 77, 5)),
    "voices": ((52, 53), range(48, 77, 5)),
    "brass": ((56, 59, 60, 61), range(48, 77, 5)),
    "low brass and reeds": ((42, 57, 58, 67, 70), range(36, 57, 5)),
    "reeds and flutes": ((64, 65, 66, 68, 69, 71, 72, 73, 74, 75, 79), range(53, 77, 5)),
}


@pytest.mark.parametrize("family", list(KEYS))
def test_recorded_notes_are_read_at_the_keys_they_are_of(family):
    programs, keys = KEYS[family]
    wrong = []
    for program in programs:
        for key in keys:
            audio = BANK.note(program, key, 100, 1.0)
            if np.max(np.abs(audio)) < 1e-4:  # nothing was recorded there
                continue
            hz, wanted = fundamental_hz(audio, RATE), 440.0 * 2.0 ** ((key - 69) / 12.0)
            if not abs(1200.0 * math.log2(hz / wanted)) < 60.0:
                wrong.append((program, key, round(wanted, 1), round(hz, 1)))
    assert wrong == []


def every(hit, seconds=0.5, times=4):
    n = round(seconds * RATE)
    out = np.zeros((2, n * times))
    for i in range(times):
        part = hit[..., :n]
        out[:, i * n : i * n + part.shape[-1]] += part
    return out, [i * n for i in range(times)]


def fallen(hz, *, over_s, dies_s):
    """A sine that falls from three times its pitch."""
    t = np.arange(round(0.5 * RATE)) / RATE
    turning = hz * (1.0 + 2.0 * np.exp(-t / over_s))
    return np.sin(2.0 * np.pi * np.cumsum(turning) / RATE) * np.exp(-t / dies_s)


def test_a_recorded_kick_that_is_soon_over_is_read_within_its_fall():
    kick = BANK.note(0, 36, 112, 0.3, bank=DRUM_BANK)
    audio, onsets = every(kick)
    # Its zero crossings after 15 ms are 12.5 to 8.2 ms apart for 60 ms: 40 to 61 Hz, from 76 Hz. (It was read at 26 Hz.)
    assert 45.0 < kick_fundamental_hz(audio, RATE, onsets) < 76.0
    assert kick_fall_cents(audio, RATE, onsets) > 100.0


@pytest.mark.parametrize("hz", [38.0, 45.0, 60.0])
@pytest.mark.parametrize("dies_s", [0.05, 0.15, 0.3])
def test_a_kick_that_has_fallen_rings_at_its_pitch(hz, dies_s):
    audio, onsets = every(fallen(hz, over_s=0.01, dies_s=dies_s))
    assert kick_fundamental_hz(audio, RATE, onsets) == pytest.approx(hz, rel=0.01)
    assert abs(kick_fall_cents(audio, RATE, onsets)) < 60.0


@pytest.mark.parametrize("hz", [45.0, 60.0])
def test_one_that_falls_as_long_as_it_sounds_rings_at_none(hz):
    audio, onsets = every(fallen(hz, over_s=0.05, dies_s=0.05))
    assert kick_fall_cents(audio, RATE, onsets) > 150.0


@pytest.mark.parametrize("hz", [41.2, 55.0, 82.4, 110.0])
@pytest.mark.parametrize("cents", [50.0, 100.0, 120.0])
@pytest.mark.parametrize("slope", [0.5, 1.0, 2.0], ids=["buzzing", "bright", "dull"])
@pytest.mark.parametrize("rate_hz", [4.0, 6.0])
def test_deep_vibrato_is_read_around_its_pitch(hz, cents, slope, rate_hz):
    t = np.arange(3 * RATE) / RATE
    phase = 2.0 * np.pi * np.cumsum(hz * 2.0 ** (cents / 1200.0 * np.sin(2.0 * np.pi * rate_hz * t))) / RATE
    x, turning, turn = np.zeros(len(t)), np.ones(len(t), complex), np.exp(1j * phase)
    for n in range(1, 40):
        turning *= turn
        x += 0.1 / n**slope * turning.imag  # sin(n·phase)
    found = fundamental_hz(np.stack([x, x]), RATE)
    assert abs(1200.0 * math.log2(found / hz)) < cents + 60.0
