"""The vocoder with something like speech: vowels by published formants, hisses between them, pauses after every fourth."""

import functools

import numpy as np
import pyloudnorm
import pytest
import scipy.signal

from tests.signals import RATE, noise
from zygotone.engine.chains import process_chain
from zygotone.session.models import Device

# Peterson and Barney 1952, men, from memory: had, heed, who'd, head.
VOWELS = ((660, 1720, 2410), (270, 2290, 3010), (300, 870, 2240), (530, 1840, 2480))
VOWEL, HISS, PAUSE = 0, 1, 2


@functools.cache
def speech() -> tuple[np.ndarray, np.ndarray]:
    """Speech of −20 LUFS, (2, n), and what each frame is."""
    rng = np.random.default_rng(8)
    parts, kinds = [], []
    for syllable in range(16):
        n = round(RATE * rng.uniform(0.14, 0.26))
        turns = np.cumsum(125.0 * (1.0 + 0.1 * np.sin(4 * np.pi * np.arange(n) / RATE + syllable))) / RATE
        y = scipy.signal.lfilter([1.0], [1.0, -0.97], np.diff(np.floor(turns), prepend=0.0))
        for hz, width in zip(VOWELS[syllable % 4], (60, 90, 120), strict=True):
            r = np.exp(-np.pi * width / RATE)
            a = [1.0, -2 * r * np.cos(2 * np.pi * hz / RATE), r * r]
            y = scipy.signal.lfilter([sum(a)], a, y)
        parts.append(y * np.sqrt(np.sin(np.pi * np.arange(n) / n)) / np.std(y) * 10 ** (rng.uniform(-4, 4) / 20))
        m = round(0.09 * RATE)
        high = scipy.signal.butter(4, 4500, "high", fs=RATE, output="sos")
        hiss = scipy.signal.sosfilt(high, rng.standard_normal(m))
        parts.append(0.3 * hiss / np.std(hiss) * np.sqrt(np.hanning(m)))
        kinds += [np.full(n, VOWEL), np.full(m, HISS)]
        if syllable % 4 == 3:
            parts.append(np.zeros(round(0.35 * RATE)))
            kinds.append(np.full(len(parts[-1]), PAUSE))
    voice = np.concatenate(parts)
    return at_lufs(np.stack([voice, voice]), -20.0), np.concatenate(kinds)


def lufs(x: np.ndarray) -> float:
    return float(pyloudnorm.Meter(RATE).integrated_loudness(x.T))


def at_lufs(x: np.ndarray, wanted: float) -> np.ndarray:
    return x * 10.0 ** ((wanted - lufs(x)) / 20.0)


def carrier(kind: str) -> np.ndarray:
    t = np.arange(speech()[0].shape[1]) / RATE
    saws = [scipy.signal.sawtooth(2 * np.pi * hz * t) for hz in (110.0, 138.6, 164.8, 220.3)]
    if kind == "chord":
        y = np.stack([sum(saws), sum(saws)])
    elif kind == "dull":
        y = np.stack([scipy.signal.sosfilt(scipy.signal.butter(2, 700, fs=RATE, output="sos"), sum(saws))] * 2)
    elif kind == "wide":
        y = np.stack([saws[0] + saws[3], saws[1] + saws[2]])
    else:
        y = noise(len(t) / RATE + 1.0)[:, : len(t)]
    return at_lufs(y, -20.0)


def sung(song: np.ndarray, voice: np.ndarray, **values) -> np.ndarray:
    one = Device.model_validate({"kind": "vocoder", **values})
    return process_chain(song, [one], RATE, key=voice, max_tail_s=0.0)[:, : song.shape[1]]


@pytest.mark.parametrize("bands", [12, 20, 32])
@pytest.mark.parametrize(("kind", "within"), [("chord", 2.0), ("dull", 2.0), ("wide", 2.0), ("noise", 5.0)])
def test_a_voice_of_its_level_sings_as_loud_as_the_track(kind, within, bands):
    # Half of white noise lies above what speech holds, which nothing can open: hence its margin.
    song = carrier(kind)
    assert lufs(sung(song, speech()[0], bands=bands)) == pytest.approx(lufs(song), abs=within)


def test_the_level_follows_the_voice_by_its_dynamics_and_the_pauses_stay_silent():
    song, (voice, kinds) = carrier("chord"), speech()
    for dynamics, change in ((0.0, 0.0), (0.5, -5.0), (1.0, -10.0)):
        loud, soft = (lufs(sung(song, gain * voice, dynamics=dynamics)) for gain in (1.0, 10 ** (-10 / 20)))
        assert soft - loud == pytest.approx(change, abs=0.5)
    y = sung(song, voice)
    pause = np.flatnonzero((kinds[1:] == PAUSE) & (kinds[:-1] != PAUSE))
    quiet = np.concatenate([y[0, at + 12000 : at + 16000] for at in pause])
    assert 20 * np.log10(np.std(quiet) / np.std(y[0, kinds == VOWEL])) < -60.0
    assert lufs(sung(song, voice, level_db=-6.0)) - lufs(y) == pytest.approx(-6.0, abs=0.05)
    assert lufs(sung(song, 0.25 * voice, voice_db=-34.04)) == pytest.approx(lufs(y), abs=0.1)


def test_hisses_are_heard_over_a_dull_track():
    """Which has nothing where consonants are: noise takes its place, and the voice's own may pass."""
    song, (voice, kinds) = carrier("dull"), speech()
    high = scipy.signal.butter(4, 4000, "high", fs=RATE, output="sos")

    def hissing(**values) -> float:
        y = scipy.signal.sosfilt(high, sung(song, voice, **values)[0])
        return float(20 * np.log10(np.std(y[kinds == HISS]) / np.std(song[0])))

    nothing = hissing(noise_db=-80.0, consonants_db=-80.0)
    assert hissing(noise_db=0.0, consonants_db=-80.0) > max(-16.0, nothing + 15.0)
    assert hissing(noise_db=-80.0, consonants_db=0.0) > max(-16.0, nothing + 15.0)
    # Where it does not hiss, nothing of either is heard.
    vowels = [sung(song, voice, noise_db=db, consonants_db=db)[0] for db in (-80.0, 0.0)]
    inside = np.convolve(kinds != VOWEL, np.ones(9600), mode="same") == 0
    if inside.any():
        added = scipy.signal.sosfilt(high, vowels[1] - vowels[0])[inside]
        assert 20 * np.log10(np.std(added) / np.std(vowels[0][inside])) < -40.0


def test_bands_that_meet_do_not_cancel():
    # The old sum had notches of 11 to 22 dB where bands meet. A voice of noise opens all bands of a sweep alike.
    n = 4 * RATE
    sweep = 0.2 * scipy.signal.chirp(np.arange(n) / RATE, 200.0, n / RATE, 6000.0, "logarithmic")
    y = sung(
        np.stack([sweep, sweep]),
        noise(5.0, level=0.1)[:, :n],
        bands=12,
        noise_db=-80.0,
        consonants_db=-80.0,
        dynamics=0.0,
        release_ms=200.0,
    )[0]
    levels = 20 * np.log10([np.std(part) for part in np.array_split(y[RATE // 4 : -RATE // 4], 60)])
    steps = np.arange(len(levels))
    ripple = levels - np.polyval(
        np.polyfit(steps, levels, 2), steps
    )  # a band's share of white noise grows with its width
    assert np.ptp(ripple[3:-3]) < 8.0
