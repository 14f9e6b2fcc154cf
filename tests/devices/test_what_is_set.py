"""What a setting says is what is heard: holds, phases, first echoes, and devices as they are put into a chain."""

import numpy as np
import pytest
import scipy.signal

from tests.builders import tone_project
from tests.signals import RATE, noise, sine
from zygotone.devices import Host, make_processor
from zygotone.engine.chains import process_chain
from zygotone.engine.renderer import Renderer
from zygotone.session import edits
from zygotone.session.catalogue import DEVICES
from zygotone.session.kinds import moving_params
from zygotone.session.models import Bus, Device, Send
from zygotone.session.paths import write_path


def device(kind: str, **values) -> Device:
    return Device.model_validate({"kind": kind, **values})


@pytest.mark.parametrize("hold_ms", [0.0, 5.0, 20.0, 60.0, 300.0])
def test_a_gate_holds_as_long_as_it_says(hold_ms):
    """A burst that ends at once: the gate begins to close when the hold is over, and not 10 ms later."""
    x = sine(1000.0, 1.0, level_db=-6)
    end = RATE // 2
    x[:, end:] = 0.0
    gate = make_processor(device("gate", threshold_db=-40.0, hold_ms=hold_ms, release_ms=10.0), RATE)
    gate.process(x, None)
    closing = np.argmax(gate.gain_db[end - 48 :] < -0.5) - 48
    # −0.5 dB of a release that takes 10 ms to 63 % of 80 dB is there within 0.1 ms.
    assert 1000.0 * closing / RATE == pytest.approx(hold_ms, abs=1.0)


@pytest.mark.parametrize("start_deg", [0.0, 90.0])
def test_edges_of_a_tremolo_fall_on_the_beat(start_deg):
    def gains(shape: str) -> np.ndarray:
        one = device("tremolo", rate="1/4", depth=1.0, shape=shape, start_deg=start_deg)
        return make_processor(one, Host(RATE, bpm=120.0)).process(np.ones((2, RATE)), None)[0]

    beat, late = RATE // 2, round(start_deg / 360.0 * RATE / 2)
    square = gains("square")
    up, down = beat - late, beat - late + beat // 2 if start_deg == 0.0 else beat - late - beat // 2
    assert square[up - 200] < 0.01  # silent before its edge
    assert square[up + 700] > 0.99  # and loud after it, which takes a fiftieth of the cycle
    assert square[down - 200] > 0.99
    ramp = gains("ramp_down")
    assert ramp[up + 5] > 0.98
    assert ramp[up + beat // 2] == pytest.approx(0.49, abs=0.03)


@pytest.mark.parametrize("echo", [1, 2, 3])
def test_the_cuts_are_on_every_echo_the_first_too(echo):
    x = np.zeros((2, RATE))
    x[:, 0] = 1.0
    one = device("delay", time=100.0, feedback=0.9, high_cut_hz=1000.0, low_cut_hz=200.0)
    y = process_chain(x, [one], RATE)[0]
    part = np.fft.rfft(y[round((0.1 * echo - 0.001) * RATE) : round((0.1 * echo + 0.06) * RATE)], RATE)
    level = 20 * np.log10(np.abs(part) / 0.9 ** (echo - 1) + 1e-12)
    # Butterworth of 12 dB an octave, once for each time round.
    assert level[4000] == pytest.approx(-24.1 * echo, abs=1.5 * echo)
    assert level[450] == pytest.approx(0.0, abs=0.5 * echo)


def test_a_split_changes_no_level_as_it_is_put_in(tmp_path):
    project = tone_project(tmp_path, Low=220.0)
    one = edits.usual_device(project.session, project.session.track("low"), "split")
    session = edits.insert_device(project.session, "low", one)
    before, after = (Renderer(project.store).stem(s, "low") for s in (project.session, session))
    np.testing.assert_allclose(after, before, atol=1e-9)


@pytest.mark.parametrize("kind", [k.kind for k in DEVICES if k.usual_mix < 1.0])
def test_on_a_return_a_device_opens_wholly_wet(tmp_path, kind):
    project = tone_project(tmp_path, Low=220.0)
    low = project.session.track("low")
    session = project.session.replace(
        buses=(Bus(id="room", name="Room"), Bus(id="group", name="Group")),
        tracks=(low.replace(sends=(Send(to="room"),)),),
    )
    assert edits.usual_device(session, session.strip("room"), kind).mix == 1.0
    assert edits.usual_device(session, session.strip("group"), kind).mix == DEVICES.find(kind).usual_mix
    assert edits.usual_device(session, session.strip("low"), kind).mix == DEVICES.find(kind).usual_mix


@pytest.mark.parametrize("kind", [k.kind for k in DEVICES])
def test_nothing_that_decides_the_latency_can_be_automated(kind):
    if kind == "split":  # whose parts are nodes of their own
        return
    one = device(kind)
    for path, param in moving_params(one).items():
        latencies = {
            make_processor(one.replace(params=write_path(one.params, path, param.value_at(place))), RATE).latency
            for place in (0.0, 0.5, 1.0)
        }
        assert len(latencies) == 1, path


@pytest.mark.parametrize("range_db", [0.0, 12.0])
@pytest.mark.parametrize("kind", ["keyed_eq", "deesser"])
def test_a_range_that_is_moved_while_it_acts_is_no_blast(kind, range_db):
    """The very case that was heard: a held cut became a boost of 22 dB over the input."""
    if kind == "deesser" and range_db > 0.0:
        return
    values = {"threshold_db": -50.0, "freq_hz": 2000.0}
    x = sine(2500.0, 1.0, level_db=-6)
    old = make_processor(device(kind, range_db=-24.0, **values), RATE)
    old.process(x[:, : RATE // 2].copy(), None)
    new = make_processor(device(kind, range_db=range_db, **values), RATE)
    assert new.adopt(old)
    y = new.process(x[:, RATE // 2 :].copy(), None)
    assert 20 * np.log10(np.max(np.abs(y)) / np.max(np.abs(x))) < range_db + 0.5


def test_no_device_wanders_when_the_level_changes():
    """After a loud stretch a quiet one sounds as it does alone, once every device's own times have passed."""
    quiet, loud = noise(2.0, level=0.01), noise(2.0, level=0.5, seed=3)
    for kind in (k.kind for k in DEVICES if not k.rings and k.kind not in ("split", "pitch")):
        one = [device(kind, **({"drive_db": 18.0} if kind == "saturation" else {}))]
        alone = process_chain(np.concatenate([quiet * 0.0, quiet], axis=1), one, RATE)[:, 3 * RATE : 4 * RATE]
        after = process_chain(np.concatenate([loud, quiet], axis=1), one, RATE)[:, 3 * RATE : 4 * RATE]
        assert abs(20 * np.log10(np.std(after) / np.std(alone))) < 0.3, kind


def test_the_moving_filter_of_scipy_agrees_where_nothing_moves():
    """The straight high-pass that the reverb hears through (``svf_highpass``) is Butterworth's."""
    from zygotone.dsp.sweeping import svf_highpass, tangent

    x, y = noise(0.2), np.empty((2, RATE // 5))
    svf_highpass(x, tangent(300.0 / RATE), np.zeros((2, 2)), y)
    wanted = scipy.signal.sosfilt(scipy.signal.butter(2, 300.0, "highpass", fs=RATE, output="sos"), x)
    np.testing.assert_allclose(y, wanted, atol=1e-10)
