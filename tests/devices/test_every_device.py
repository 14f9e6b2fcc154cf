"""Laws that hold for every device. A new device is tested here by being in the catalogue."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.signals import noise
from zygotone.devices import make_processor
from zygotone.engine.chains import process_chain
from zygotone.session.catalogue import DEVICES
from zygotone.session.models import Device
from zygotone.session.params import Param

KINDS = [kind.kind for kind in DEVICES]
RATE = 48000

# Settings under which a device works hard, and under which it does nothing at all.
BUSY = {
    "bit_reducer": {"bits": 7.5, "rate_hz": 9000.0, "jitter": 0.4, "hiss_db": -60.0},
    "chorus": {"feedback": 0.3},
    "compressor": {"threshold_db": -40.0, "ratio": 6.0, "lookahead_ms": 3.0, "key_low_cut_hz": 100.0, "link_pct": 30.0},
    "deesser": {"threshold_db": -50.0},
    "delay": {
        "time": 7.0,
        "feedback": 0.6,
        "low_cut_hz": 100.0,
        "high_cut_hz": 5000.0,
        "drive_db": 6.0,
        "spread_pct": 60.0,
    },
    "ducker": {"length_ms": 30.0, "trigger": "grid", "step": 25.0},
    "eq": {
        "bands": [
            {"gain_db": 6.0},
            {"shape": "low_cut", "freq_hz": 60.0, "slope_db_oct": 30},
            {"freq_hz": 9000.0, "gain_db": -9.0, "channel": "side"},
        ]
    },
    "filter": {"cutoff_hz": 900.0, "resonance": 0.9, "env_octaves": 3.0, "depth_octaves": 1.0, "drive_db": 12.0},
    "flanger": {"feedback": -0.7},
    "gain": {"gain_db": -3.0, "delay_ms": 1.234, "polarity": True},
    "gate": {"threshold_db": -10.0, "hold_ms": 2.0, "release_ms": 4.0},
    "keyed_eq": {"threshold_db": -50.0, "freq_hz": 500.0},
    "limiter": {"ceiling_dbtp": -15.0},
    "multiband": {
        "crossovers_hz": [900.0, 3000.0],
        "bands": [{"threshold_db": -40.0}, {"up_threshold_db": -10.0, "up_ratio": 3.0}, {"gain_db": -6.0}],
    },
    "pan": {"pan_pct": 40.0},
    "pitch": {"semitones": 5.0, "formant_semitones": -2.0},
    "reverb": {"decay_s": 0.6, "low_cut_hz": 200.0, "width_pct": 80.0},
    "saturation": {"drive_db": 20.0, "tilt_db": 4.0, "bias": 0.2, "clean_below_hz": 100.0},
    "split": {
        "branches": [
            {"gain_db": -6.0, "devices": [{"kind": "compressor", "threshold_db": -40.0, "lookahead_ms": 2.0}]},
            {"devices": [{"kind": "split", "branches": [{"devices": [{"kind": "saturation", "drive_db": 12.0}]}]}]},
            {},
        ]
    },
    "spread": {"method": "allpass", "time_ms": 8.0},
    "transient": {"attack_db": -12.0, "sustain_db": 6.0},
    "tremolo": {"rate": 30.0, "phase_deg": 90.0},
    "vibrato": {"spread_pct": 50.0},
    "width": {"width_pct": 160.0, "keep_below_hz": 400.0},
}
# None: it has no setting that leaves a signal as it is, since what it does is the effect itself.
IDLE = {
    "cabinet": None,
    "chorus": None,
    "compressor": {"ratio": 1.0},
    "deesser": {"range_db": 0.0},
    "delay": None,
    "doubler": None,
    "ducker": {"depth_db": 0.0},
    "filter": None,
    "flanger": None,
    "gate": {"floor_db": 0.0},
    "keyed_eq": {"range_db": 0.0},
    "limiter": {"ceiling_dbtp": 0.0},
    "mono_low": None,  # the noise is wide; of a mono signal see test_devices
    "phaser": None,
    "reverb": None,
    "saturation": {"drive_db": 0.0},
    "split": {"branches": [{}]},
    "spread": {"time_ms": 0.0},
    "tremolo": {"depth": 0.0},
    "vibrato": {"depth_cents": 0.0},
    "vocoder": None,
}


def device(kind: str, values: dict | None = None) -> Device:
    return Device.model_validate({"kind": kind, **(values or {})})


def run(one: Device, x: np.ndarray, *, block: int = 4096, key: np.ndarray | None = None) -> np.ndarray:
    """Latency taken off; as long as the input."""
    return process_chain(x, [one], RATE, key=key, block_frames=block, max_tail_s=0.0)[:, : x.shape[1]]


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("block", [1, 32, 100, 512])
def test_any_block_size_gives_the_same_output(kind, block):
    x, key = noise(0.05, level=0.3), noise(0.05, level=0.3, seed=2)
    one = device(kind, BUSY.get(kind))
    np.testing.assert_array_equal(run(one, x, block=block, key=key), run(one, x, block=x.shape[1], key=key))


@pytest.mark.parametrize("kind", [k for k in KINDS if IDLE.get(k, {}) is not None])
@pytest.mark.parametrize("mix", [1.0, 0.5])
def test_an_idle_device_gives_back_its_input(kind, mix):
    x = noise(0.1, level=0.1)
    y = process_chain(x, [device(kind, {**IDLE.get(kind, {}), "mix": mix})], RATE)
    assert y.shape == x.shape
    # The bar: nulls under −100 dB. Nothing but the wet/dry's last bit is left.
    assert np.max(np.abs(y - x)) < 1e-12


# What does not stand where its input does, by what it is: echoes, spaces, moving lines, and a pitch that is another one.
# Filters lag by a frame or three, as minimum phase does.
DELAYS = {"cabinet": 3, "filter": 2, "phaser": 2, "vocoder": 3}
ELSEWHERE = {"chorus", "delay", "doubler", "flanger", "reverb", "vibrato"}


def lag_frames(x: np.ndarray, y: np.ndarray, *, most: int = 3000) -> int:
    """By how many frames ``y`` is behind ``x``: where their cross-correlation is largest, of either sign."""
    n = 1 << 16
    across = np.fft.irfft(np.fft.rfft(y.mean(axis=0), n) * np.conj(np.fft.rfft(x.mean(axis=0), n)))
    near = np.concatenate([across[-most:], across[:most]])
    return int(np.argmax(np.abs(near))) - most


def test_a_device_that_is_late_is_noticed():
    x = noise(0.5, level=0.3)
    assert lag_frames(x, np.pad(x, ((0, 0), (300, 0)))[:, : x.shape[1]]) == 300


@pytest.mark.parametrize("kind", [kind for kind in KINDS if kind not in ELSEWHERE])
def test_what_comes_out_stands_where_it_came_in(kind):
    """With the latency that a device tells taken off, against the signal itself."""
    x = noise(0.5, level=0.2)
    y = process_chain(x, [device(kind, {"mix": 1.0})], RATE)[:, : x.shape[1]]
    assert 0 <= lag_frames(x, y) <= DELAYS.get(kind, 0)


@pytest.mark.parametrize("kind", KINDS)
def test_a_blend_is_the_mean_of_dry_and_wet(kind):
    x = noise(0.1, level=0.3)
    wet = process_chain(x, [device(kind, {**BUSY.get(kind, {}), "mix": 1.0})], RATE)[:, : x.shape[1]]
    half = process_chain(x, [device(kind, {**BUSY.get(kind, {}), "mix": 0.5})], RATE)[:, : x.shape[1]]
    np.testing.assert_allclose(half, 0.5 * (x + wet), atol=1e-9)


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize(
    "bad",
    [
        np.zeros((2, 4000)),
        np.ones((2, 4000)),
        np.full((2, 4000), 5e-324),
        np.tile([1.0, -1.0], 2000)[None, :].repeat(2, axis=0),
        np.where(np.arange(4000) % 500 == 7, np.nan, 0.1)[None, :].repeat(2, axis=0),
        np.where(np.arange(4000) % 500 == 7, np.inf, 0.1)[None, :].repeat(2, axis=0),
    ],
    ids=["silence", "dc", "denormals", "full scale", "nan", "inf"],
)
def test_no_signal_breaks_a_device(kind, bad):
    y = process_chain(bad, [device(kind, BUSY.get(kind))], RATE, block_frames=512)
    assert np.isfinite(y).all()
    assert np.max(np.abs(y)) < 100.0
    if not bad.any():
        assert not y.any()


@pytest.mark.parametrize("kind", KINDS)
def test_a_device_recovers_from_nan(kind):
    x = noise(0.3, level=0.2)
    x[:, 100] = np.nan
    y = process_chain(x, [device(kind, BUSY.get(kind))], RATE, block_frames=512)
    assert np.max(np.abs(y[:, 6000:])) > 1e-3


def _values(param: Param) -> st.SearchStrategy:
    if param.type == "bool":
        return st.booleans()
    if param.type == "choice":
        return st.sampled_from(param.choices)
    if param.entries == "device":
        return st.lists(st.sampled_from([{"kind": "gain", "gain_db": -6.0}, {"kind": "saturation"}]), max_size=1)
    if param.entries == "plain":
        return st.lists(_values(param.items[0]), max_size=3)
    if param.type == "list":
        return st.lists(st.fixed_dictionaries({p.name: _values(p) for p in param.items}), max_size=3)
    if param.type == "file":
        return st.just("")
    if param.type == "note_time":
        return st.one_of(st.floats(0, 1).map(param.value_at), st.sampled_from(["1/8d", "1/4t", "2/1"]))
    if param.type == "int":
        return st.integers(int(param.low), int(param.high))
    return st.floats(0, 1).map(param.value_at)


@pytest.mark.parametrize("kind", KINDS)
def test_any_setting_in_range_is_stable(kind):
    spec = DEVICES.find(kind)
    x = noise(0.02, level=0.5)

    @given(st.fixed_dictionaries({p.name: _values(p) for p in spec.params}))
    def check(values):
        one = device(kind, values)
        assert Device.model_validate_json(one.model_dump_json()) == one
        y = run(one, x)
        assert np.isfinite(y).all()
        assert np.max(np.abs(y)) < 1e4

    check()


@pytest.mark.parametrize("kind", KINDS)
def test_declarations_are_whole(kind):
    spec = DEVICES.find(kind)
    assert spec.summary.endswith(".")
    for p in spec.params:
        assert p.help.endswith("."), p.name
        if p.is_number:
            assert p.low <= p.default <= p.high
            steps = p.high - p.low if p.type == "int" else np.inf  # a whole number is the nearest one
            assert p.position_of(p.value_at(0.37)) == pytest.approx(0.37, abs=max(1e-6, 0.5 / steps))
            with pytest.raises(ValueError, match=p.name):
                device(kind, {p.name: 2.0 * p.high - p.low + 1})


def test_an_unknown_device_or_parameter_names_the_nearest():
    with pytest.raises(ValueError, match="did you mean compressor"):
        device("compresor")
    with pytest.raises(ValueError, match="did you mean threshold_db"):
        device("compressor", {"treshold_db": -3})


@pytest.mark.parametrize("kind", [k for k in KINDS if k != "split"])  # whose parts are nodes of their own
def test_an_edit_while_playing_keeps_the_memory(kind):
    """Taking over an older processor's state leaves the same output as that one would have had."""
    one = device(kind, BUSY.get(kind))
    x = noise(0.2, level=0.3)
    old, new = make_processor(one, RATE), make_processor(one, RATE)
    old.process(x[:, :4800].copy(), None)
    new.adopt(old)
    new.position = old.position = 4800
    rest = x[:, 4800:4864].copy()
    np.testing.assert_array_equal(new.process(rest, None), old.process(rest, None))
