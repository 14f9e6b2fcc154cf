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
    "eq": {
        "bands": [
            {"gain_db": 6.0},
            {"shape": "low_cut", "freq_hz": 60.0, "slope_db_oct": 30},
            {"freq_hz": 9000.0, "gain_db": -9.0, "channel": "side"},
        ]
    },
    "compressor": {"threshold_db": -40.0, "ratio": 6.0, "lookahead_ms": 3.0, "key_low_cut_hz": 100.0},
    "keyed_eq": {"threshold_db": -50.0, "freq_hz": 500.0},
    "saturation": {"drive_db": 20.0, "tilt_db": 4.0, "bias": 0.2, "clean_below_hz": 100.0},
    "transient": {"attack_db": -12.0, "sustain_db": 6.0},
    "gain": {"gain_db": -3.0, "delay_ms": 1.234, "polarity": True},
    "pan": {"pan_pct": 40.0},
}
IDLE = {
    "compressor": {"ratio": 1.0},
    "keyed_eq": {"range_db": 0.0},
    "saturation": {"drive_db": 0.0},
    "mono_low": None,  # it always works on the phase; see test_devices
}


def device(kind: str, values: dict | None = None) -> Device:
    return Device.model_validate({"kind": kind, **(values or {})})


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("block", [1, 32, 100, 512])
def test_any_block_size_gives_the_same_output(kind, block):
    one = device(kind, BUSY.get(kind))
    x, key = noise(0.06, level=0.3), noise(0.06, level=0.3, seed=2)
    whole = make_processor(one, RATE).process(x, key if one.spec.takes_key else None)
    parts, processor = [], make_processor(one, RATE)
    for at in range(0, x.shape[1], block):
        part, key_part = (np.ascontiguousarray(a[:, at : at + block]) for a in (x, key))
        parts.append(processor.process(part, key_part if one.spec.takes_key else None))
    np.testing.assert_array_equal(np.concatenate(parts, axis=1), whole)


@pytest.mark.parametrize("kind", [k for k in KINDS if IDLE.get(k, {}) is not None])
@pytest.mark.parametrize("mix", [1.0, 0.5])
def test_an_idle_device_gives_back_its_input(kind, mix):
    x = noise(0.1, level=0.3)
    y = process_chain(x, [device(kind, {**IDLE.get(kind, {}), "mix": mix})], RATE)
    assert y.shape == x.shape
    # The bar: nulls under −100 dB. Nothing but the wet/dry's last bit is left.
    assert np.max(np.abs(y - x)) < 1e-12


@pytest.mark.parametrize("kind", KINDS)
def test_wet_and_dry_are_aligned(kind):
    """A device that is blended must not smear: the blend is the mean of dry and wet, frame for frame."""
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
    if param.type == "list":
        return st.lists(st.fixed_dictionaries({p.name: _values(p) for p in param.items}), max_size=3)
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
        y = make_processor(one, RATE).process(x, None)
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
            assert p.position_of(p.value_at(0.37)) == pytest.approx(0.37)
            with pytest.raises(ValueError, match=p.name):
                device(kind, {p.name: p.high * 2 + 1})


def test_an_unknown_device_or_parameter_names_the_nearest():
    with pytest.raises(ValueError, match="did you mean compressor"):
        device("compresor")
    with pytest.raises(ValueError, match="did you mean threshold_db"):
        device("compressor", {"treshold_db": -3})


@pytest.mark.parametrize("kind", KINDS)
def test_an_edit_while_playing_keeps_the_memory(kind):
    """Taking over an older processor's state leaves the same output as that one would have had."""
    one = device(kind, BUSY.get(kind))
    x = noise(0.2, level=0.3)
    old, new = make_processor(one, RATE), make_processor(one, RATE)
    old.process(x[:, :4800].copy(), None)
    new.adopt(old)
    after = new.process(x[:, 4800:4864].copy(), None)
    assert np.isfinite(after).all()
