"""Automation is heard as the sound it makes, and not as steps."""

import numpy as np
import pytest

from tests.devices.test_changes import ACTING
from tests.devices.walking import BPM, HOST, RATE, moving, run, still
from tests.signals import noise, sine
from zygotone.engine.lane_motion import LaneMotion
from zygotone.engine.nodes import SourceNode, StripNode
from zygotone.engine.runners import make_runner
from zygotone.session.automation import Lane, Point
from zygotone.session.models import LEVEL, PAN, Device

TONE = sine(1000.0, 2.0, level_db=-12) * np.minimum(
    1.0, 0.5 - 0.5 * np.cos(np.pi * np.minimum(1.0, np.arange(2 * RATE) / 9600))
)

# Devices that only change a tone's level and phase; what adds partials of its own would be measured for those.
STRAIGHT = [
    ("gain", "gain_db", -60.0, 12.0), ("pan", "pan_pct", -100.0, 100.0), ("width", "width_pct", 0.0, 200.0),
    ("eq", "bands.0.gain_db", -24.0, 24.0), ("eq", "bands.0.freq_hz", 50.0, 15000.0), ("eq", "bands.0.q", 0.3, 20.0),
    ("eq", "bands.1.freq_hz", 20.0, 4000.0), ("compressor", "makeup_db", -24.0, 24.0), ("compressor", "threshold_db", -60.0, 0.0),
    ("multiband", "bands.0.gain_db", -24.0, 24.0), ("keyed_eq", "freq_hz", 60.0, 10000.0), ("keyed_eq", "range_db", -24.0, 12.0),
    ("deesser", "range_db", -24.0, 0.0), ("delay", "feedback", 0.0, 0.9), ("delay", "high_cut_hz", 600.0, 20000.0),
    ("delay", "time", 40.0, 700.0), ("reverb", "predelay", 0.0, 300.0), ("limiter", "ceiling_dbtp", -30.0, 0.0),
]  # fmt: skip


def outside_db(y: np.ndarray, hz: float = 1000.0) -> float:
    """Power more than 300 Hz away from a tone, against all of it, over a second."""
    worst = -200.0
    for side in y:
        part = side[: len(side) // 2 * 2]
        power = np.abs(np.fft.rfft(part * np.kaiser(len(part), 20.0))) ** 2
        freqs = np.fft.rfftfreq(len(part), 1.0 / RATE)
        worst = max(worst, 10 * np.log10(np.sum(power[np.abs(freqs - hz) > 300.0]) / max(np.sum(power), 1e-20) + 1e-20))
    return float(worst)


def ways(low: float, high: float) -> list[tuple[list[tuple[float, float]], bool]]:
    """A step, and a ramp of 100 ms, in the middle of the second that is looked at."""
    return [([(0.0, low), (1.5, high)], True), ([(0.0, low), (1.45, low), (1.55, high)], False)]


@pytest.mark.parametrize(("kind", "path", "low", "high"), STRAIGHT)
def test_a_move_leaves_nothing_beside_the_tone(kind, path, low, high):
    values = {**ACTING.get(kind, {}), **({"drive_db": 0.0} if kind == "delay" else {})}
    device = Device.model_validate({"kind": kind, **values})
    for one, other in ((low, high), (high, low)):
        for points, steps in ways(one, other):
            y = run(moving(device, path, points, steps=steps), TONE)
            still_db = outside_db(run(still(device), TONE)[:, RATE:])
            assert outside_db(y[:, RATE:]) < max(-80.0, still_db + 3.0), ("step" if steps else "ramp", one)


@pytest.mark.parametrize(
    ("path", "param", "low", "high"), [("level_db", LEVEL, -60.0, 12.0), ("pan_pct", PAN, -100.0, 100.0)]
)
def test_faders_leave_nothing_beside_the_tone(path, param, low, high):
    for points, steps in (*ways(low, high), *ways(high, low)):
        made = tuple(Point(beat=s * BPM / 60.0, value=v) for s, v in points)
        lane = Lane(id="l", strip="s", param=path, shape="steps" if steps else "points", points=made)
        node = SourceNode("in", ("s", "source"), 0)
        motion = LaneMotion(param, path, lane, 0.0, float("inf"))
        runner = make_runner(
            StripNode("f", ("s", "fader"), 0, (node,), bpm=BPM, motions=(motion,)), HOST, lambda n: lambda a, b: TONE
        )
        assert outside_db(runner.block(0, TONE.shape[1], [TONE])[:, RATE:]) < -80.0


@pytest.mark.parametrize(
    ("kind", "path"),
    [("tremolo", "rate"), ("chorus", "rate"), ("phaser", "rate"), ("filter", "lfo_rate"), ("vibrato", "rate")],
)
@pytest.mark.parametrize("block", [32, 500])
def test_a_rate_that_moves_goes_on_in_its_cycle(kind, path, block):
    """As the rate glides, the movement quickens without a jump; and a song entered later is at the same place."""
    values = {"tremolo": {"depth": 0.9}, "filter": {"cutoff_hz": 900.0, "depth_octaves": 1.5}}.get(kind, {})
    device = Device.model_validate({"kind": kind, **values})
    points = [(0.0, 1.0), (0.5, 1.0), (1.5, 7.0)]
    y = run(moving(device, path, points, steps=False), TONE)
    quick = device.replace(params=device.params.replace(**{path: 7.0}))
    assert outside_db(y[:, RATE:]) < max(-70.0, outside_db(run(still(quick), TONE)[:, RATE:]) + 3.0)
    np.testing.assert_array_equal(
        run(moving(device, path, points, steps=False), TONE[:, :30000], block=block), y[:, :30000]
    )
    later, at = moving(device, path, points, steps=False), RATE // 2 // 640 * 640
    later.block(at - 3200, 3200, [TONE[:, at - 3200 : at].copy()])
    np.testing.assert_allclose(
        later.block(at, 20000, [TONE[:, at : at + 20000].copy()])[:, 9600:], y[:, at + 9600 : at + 20000], atol=2e-3
    )


def test_a_ramp_of_a_device_is_where_its_lane_is():
    x = np.ones((2, 2 * RATE))
    y = run(moving(Device.model_validate({"kind": "gain"}), "gain_db", [(0.0, -30.0), (2.0, 0.0)], steps=False), x)
    t = np.arange(2 * RATE) / RATE
    inside = slice(2000, -2000)
    np.testing.assert_allclose(20 * np.log10(y[0, inside]), (-30.0 + 15.0 * t)[inside], atol=0.06)


def test_automation_of_noise_stays_within_its_ends():
    device = Device.model_validate({"kind": "gain"})
    y = run(moving(device, "gain_db", [(0.0, -12.0), (0.5, 0.0), (1.0, -12.0)], steps=True), noise(1.5, level=0.2))
    assert np.all(np.abs(y) <= np.abs(noise(1.5, level=0.2)) + 1e-12)


@pytest.mark.parametrize(("before", "after"), [(60.0, 400.0), (400.0, 60.0)])
def test_a_filter_set_elsewhere_by_hand_goes_on_as_if_it_had_been_there(before, after):
    """What an edit while playing leaves: after it the new setting sounds as it does when it was always there."""
    band = {"shape": "bell", "gain_db": 12.0, "q": 2.0}
    one, other = (Device.model_validate({"kind": "eq", "bands": [{**band, "freq_hz": hz}]}) for hz in (before, after))
    x = sine(70.0, 0.5, level_db=-12)
    old, new = still(one), still(other)
    old.block(0, 12000, [x[:, :12000].copy()])
    new.adopt(old)
    y = new.block(12000, 4800, [x[:, 12000:16800].copy()])
    settled = run(still(other), x)[:, 12000:16800]
    assert np.max(np.abs(y - settled)) < 0.1 * np.max(np.abs(settled))
