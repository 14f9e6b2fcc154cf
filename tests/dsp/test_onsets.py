"""Hits are found where they begin, each once, whatever the pattern: kicks made here, laid over each other's tails."""

import numpy as np
import pytest

from tests.signals import RATE
from zygotone.devices import make_processor
from zygotone.dsp.onsets import Onsets, onsets
from zygotone.measure.dynamics import hits
from zygotone.session.models import Device

KINDS = ("drop", "plain", "click", "soft", "cut off", "high", "tom")


def hit(kind: str, decay_s: float) -> np.ndarray:
    """A drum whose amplitude falls by 1/e in ``decay_s``."""
    t = np.arange(round((7 * decay_s + 0.1) * RATE)) / RATE
    hz = {
        "plain": 50.0 + 0.0 * t, "high": 110.0 + 0.0 * t, "soft": 50.0 * 2 ** (1.5 * np.exp(-t / 0.02)),
        "tom": 150.0 * 2 ** (0.5 * np.exp(-t / 0.03)),
    }.get(kind, 50.0 * 2 ** (2.0 * np.exp(-t / 0.008)))  # fmt: skip
    y = np.sin(2 * np.pi * np.concatenate([[0.0], np.cumsum(hz)[:-1]]) / RATE) * np.exp(-t / decay_s)
    if kind == "click":
        y += 0.2 * np.exp(-t / 0.001) * np.sin(2 * np.pi * 3000.0 * t)
    if kind == "soft":
        y *= np.minimum(1.0, t / 0.003)
    return 0.6 * (y[: round(4.7 * decay_s * RATE)] if kind == "cut off" else y)


def pattern(kind: str, decay_s: float, step_s: float, *, ghosts: bool, count: int = 6) -> tuple[np.ndarray, np.ndarray]:
    """Hits ``step_s`` apart, with others 30 dB down between them; and the times of those that count."""
    one, x = hit(kind, decay_s), np.zeros(round((count * step_s + 1.0) * RATE))
    times = 0.3 + step_s * np.arange(count)
    for time in times:
        for late, gain in ((0.0, 1.0), (0.5 * step_s, 10 ** (-30 / 20) if ghosts else 0.0)):
            at = round((time + late) * RATE)
            n = max(0, min(len(one), len(x) - at))
            x[at : at + n] += gain * one[:n]
    return np.stack([x, x]) / np.max(np.abs(x)), times


@pytest.mark.parametrize("bpm", [60.0, 180.0])
@pytest.mark.parametrize("steps_a_beat", [1, 2, 4])
@pytest.mark.parametrize("decay_s", [0.05, 0.2, 1.0])
def test_every_pattern_gets_each_hit_once(bpm, steps_a_beat, decay_s):
    for kind in KINDS:
        x, times = pattern(kind, decay_s, 60.0 / bpm / steps_a_beat, ghosts=True)
        for found in (np.flatnonzero(Onsets(RATE).process(x)), np.array(hits(x, RATE))):
            assert len(found) == len(times), (kind, found / RATE)
            np.testing.assert_allclose(found / RATE, times, atol=0.0015)


@pytest.mark.parametrize("step_s", [0.25, 0.5])
def test_a_ducker_dips_on_every_long_kick(step_s):
    """Eighths of a kick that rings for a second: once the ducker dipped on the first only."""
    x, times = pattern("drop", 0.6, step_s, ghosts=False, count=8)
    one = Device.model_validate({"kind": "ducker", "depth_db": -12.0, "length_ms": 120.0})
    ducker = make_processor(one, RATE)
    ducker.process(np.ones_like(x), x)
    for time in times:
        at = round(time * RATE)
        assert np.min(ducker.gain_db[at : at + 480]) < -10.0
        assert ducker.gain_db[at - 96] > -3.0


def test_a_hat_beside_the_kick_is_no_hit_and_hats_alone_are():
    x, times = pattern("drop", 0.2, 0.5, ghosts=False)
    rng = np.random.default_rng(4)
    hats = np.zeros(x.shape[1])
    for time in times + 0.25:
        at = round(time * RATE)
        hats[at : at + 2400] += 0.1 * rng.standard_normal(2400) * np.exp(-np.arange(2400) / 600.0)
    hats = np.diff(hats, n=3, prepend=[0.0, 0.0, 0.0]) / 4.0
    assert len(onsets(x + hats, RATE)) == len(times)
    np.testing.assert_allclose(onsets(np.stack([hats, hats]), RATE) / RATE, times + 0.25, atol=0.0015)


def test_hits_do_not_depend_on_the_blocks():
    x, _ = pattern("soft", 0.3, 0.2, ghosts=True)
    whole, parts = Onsets(RATE).process(x), Onsets(RATE)
    cut = [parts.process(np.ascontiguousarray(x[:, at : at + 333])) for at in range(0, x.shape[1], 333)]
    np.testing.assert_array_equal(np.concatenate(cut), whole)
