"""Settings that change while a device runs: no memory is overrun, nothing is forgotten, nothing gets louder than it is."""

import os
import subprocess
import sys
from dataclasses import replace

import numpy as np
import pytest

from tests.devices.test_every_device import BUSY
from tests.devices.walking import HOST, RATE, moving, pairs, run, still
from tests.signals import noise, sine
from zygotone.devices import make_processor
from zygotone.dsp.memory import Memory
from zygotone.session.catalogue import DEVICES
from zygotone.session.kinds import moving_params
from zygotone.session.models import Device
from zygotone.session.paths import write_path

KINDS = [kind.kind for kind in DEVICES if kind.kind != "split"]  # whose parts are nodes of their own
# What makes a device act on the signals below.
ACTING = {
    **BUSY,
    "keyed_eq": {"threshold_db": -40.0, "freq_hz": 1000.0, "range_db": -18.0},
    "deesser": {"threshold_db": -40.0, "freq_hz": 1000.0, "range_db": -18.0},
    "multiband": {"crossovers_hz": [300.0], "bands": [{"threshold_db": -40.0}, {"threshold_db": -40.0, "ratio": 8.0}]},
    "eq": {"bands": [{"gain_db": 9.0, "freq_hz": 900.0}, {"shape": "low_cut", "freq_hz": 80.0}]},
}
MOVING = [
    (kind, path)
    for kind in KINDS
    for path in moving_params(Device.model_validate({"kind": kind, **ACTING.get(kind, {})}))
]


def acting(kind: str) -> Device:
    return Device.model_validate({"kind": kind, **ACTING.get(kind, {})})


def test_no_change_of_any_setting_reaches_outside_of_memory(tmp_path):
    """Kernels compiled with bounds checked, which takes its time and a cache of its own."""
    cache = os.path.join(os.path.dirname(sys.executable), "..", ".kernels-checked")
    env = {**os.environ, "NUMBA_BOUNDSCHECK": "1", "NUMBA_OPT": "1", "NUMBA_CACHE_DIR": os.path.abspath(cache)}
    done = subprocess.run(
        [sys.executable, "-m", "tests.devices.walk_all"], env=env, capture_output=True, text=True, timeout=380
    )
    assert done.returncode == 0, done.stderr[-2000:]
    assert int(done.stdout.split()[0]) > 2000


def arrays(one: Memory, prefix: str = "") -> dict[str, tuple[Memory, str, np.ndarray]]:
    """All arrays below a processor, by where they are."""
    found = {}
    for name, value in vars(one).items():
        held = list(enumerate(value)) if isinstance(value, list) else [("", value)]
        for n, item in held:
            place = f"{prefix}{name}{n}"
            if isinstance(item, np.ndarray):
                found[place] = (one, name, item)
            elif isinstance(item, Memory):
                found |= arrays(item, f"{place}.")
    return found


@pytest.mark.parametrize("kind", KINDS)
def test_what_a_device_remembers_is_declared(kind):
    """Whatever array changes while it runs is named in ``remembers``, or it would be lost by an edit."""
    for device in {d for _, d, _ in pairs(kind, BUSY.get(kind, {}))}:
        one = make_processor(device, HOST)
        before = {place: array.copy() for place, (_, _, array) in arrays(one).items()}
        for at in range(3):
            one.position = at * 1500
            one.process(noise(0.05, level=0.4, seed=at)[:, :1500].copy(), None)
        for place, (owner, name, array) in arrays(one).items():
            same = place in before and before[place].shape == array.shape and np.array_equal(before[place], array)
            # What was worked out last is told, not remembered.
            assert same or name in owner.remembers or name == "gain_db", place


@pytest.mark.parametrize(("kind", "path"), MOVING)
def test_what_can_be_automated_keeps_memory_and_latency(kind, path):
    device = acting(kind)
    param = moving_params(device)[path]
    old = None
    for place in (0.0, 0.03, 0.3, 0.7, 0.97, 1.0, 0.0):
        now = device.replace(params=write_path(device.params, path, param.value_at(place)))
        new = make_processor(now, replace(HOST, automated=True))
        if old is not None:
            assert new.adopt(old)
            assert new.latency == old.latency
        old = new


def bursts() -> np.ndarray:
    """Noise and tone in turn, with silence between."""
    x = noise(1.1, level=0.3) + sine(170.0, 1.1, level_db=-6)
    t = np.arange(x.shape[1]) / RATE
    return x * (t % 0.2 < 0.11)


SIGNALS = {"tone": sine(1000.0, 1.1, level_db=-6), "bursts": bursts()}


def loudest_of(kind: str, signal: str, y: np.ndarray) -> float:
    """Its peak; where peaks are a matter of chance, the power of the loudest 10 ms, or of 100 ms of what rings."""
    # Two pitches that pass into each other beat, whose peaks say little either.
    smeared = DEVICES.find(kind).rings or kind == "pitch"
    if signal == "tone" and not smeared:
        return float(np.max(np.abs(y)))
    n = RATE // 10 if smeared else RATE // 100
    power = np.cumsum(np.mean(y**2, axis=0))
    return float(np.sqrt(np.max(power[n:] - power[:-n]) / n))


@pytest.mark.parametrize("path", ["cutoff_hz", "env_octaves"])
def test_a_filter_that_closes_lets_out_no_thump(path):
    device, x = acting("filter"), noise(1.1, level=0.2)
    low, high = (moving_params(device)[path].value_at(place) for place in (0.0, 1.0))
    ends = [loudest_of("filter", "noise", run(still(device.replace(params=write_path(device.params, path, v))), x)) for v in (low, high)]  # fmt: skip
    moved = run(moving(device, path, [(0.0, low), (0.3, low), (0.5, high), (0.7, high), (0.9, low)], steps=True), x)
    assert 20 * np.log10(loudest_of("filter", "noise", moved) / max(ends)) < 1.0


@pytest.mark.parametrize(("kind", "path"), MOVING)
@pytest.mark.parametrize("signal", list(SIGNALS))
def test_no_move_is_louder_than_where_it_leads(kind, path, signal):
    """Stepped and ramped from end to end and back: never over the loudest of the settled states on the way plus 1 dB."""
    device, x = acting(kind), SIGNALS[signal]
    param = moving_params(device)[path]
    rings = DEVICES.find(kind).rings
    whole = np.tile(x, (1, 4)) if rings else x  # a long tail takes its time to settle
    # A burst's tail that is made to last meets the first reflections of the next one: powers add up.
    room_db = (2.0 if rings else 1.5) if signal == "bursts" else 1.5 if kind == "pitch" else 1.0

    def settled(place: float) -> float:
        now = device.replace(params=write_path(device.params, path, param.value_at(place)))
        return loudest_of(kind, signal, run(still(now), whole))

    low, high = param.value_at(0.0), param.value_at(1.0)
    bound = max(settled(0.0), settled(1.0)) * 10 ** (room_db / 20)
    points = [(0.0, low), (0.3, low), (0.5, high), (0.7, high), (0.9, low)]
    assert loudest_of(kind, signal, run(moving(device, path, points, steps=True), x)) < bound, "step"
    ramp = loudest_of(kind, signal, run(moving(device, path, points, steps=False), x))
    # What lies between its ends is asked only where those do not say it. A tone meets a narrow band at one setting only.
    between = np.linspace(0.0, 1.0, 17 if signal == "tone" else 7)[1:-1]
    assert ramp < bound or any(ramp < settled(p) * 10 ** (room_db / 20) for p in between), "ramp"
