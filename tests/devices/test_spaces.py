"""Delay, reverb and the moving delays: times, decays, pitches."""

import numpy as np
import pytest
import scipy.signal

from tests.devices import walking
from tests.signals import RATE, noise, sine
from zygotone.devices import Host, make_processor
from zygotone.devices.reverb import impulse_response
from zygotone.engine.chains import process_chain
from zygotone.measure.reverb_tail import echo_density, tail_spectrum
from zygotone.session.models import Device


def device(kind: str, **values) -> Device:
    return Device.model_validate({"kind": kind, **values})


def click(seconds: float, rate: int = RATE) -> np.ndarray:
    x = np.zeros((2, round(seconds * rate)))
    x[:, 0] = 1.0
    return x


# --- delay --------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("time", "ms"), [(250.0, 250.0), ("1/8", 326.087), ("1/8d", 489.130), ("1/4t", 434.783)])
def test_echoes_come_in_time(time, ms):
    # Note values at 92 BPM: a quarter lasts 60/92 s, dotted half as long again, a triplet two thirds.
    y = process_chain(click(2.0), [device("delay", time=time, feedback=0.5)], RATE, bpm=92.0)
    at = np.flatnonzero(np.abs(y[0]) > 0.2)
    assert 1000.0 * at[0] / RATE == pytest.approx(ms, abs=0.02)
    assert 1000.0 * at[1] / RATE == pytest.approx(2 * ms, abs=0.04)
    np.testing.assert_allclose(y[:, at[:2]], [[1.0, 0.5]] * 2, atol=1e-12)


def test_ping_pong_goes_from_side_to_side():
    y = process_chain(click(1.0), [device("delay", mode="ping_pong", time=100.0, feedback=0.5)], RATE)
    hit = [round(0.1 * n * RATE) for n in (1, 2, 3)]
    np.testing.assert_allclose(y[:, hit], [[1.0, 0.0, 0.25], [0.0, 0.5, 0.0]], atol=1e-12)


def test_each_echo_loses_what_the_filters_take():
    one = device("delay", time=200.0, feedback=0.9, high_cut_hz=1000.0)
    y = process_chain(click(1.0), [one], RATE)
    tops = [
        np.sum(np.abs(np.fft.rfft(y[0, round(0.2 * n * RATE) : round((0.2 * n + 0.15) * RATE)], RATE))[5000:] ** 2)
        for n in (1, 2, 3)
    ]
    assert tops[0] > 1000 * tops[1] > 1e6 * tops[2]


@pytest.mark.parametrize("on_change", ["fade", "glide"])
def test_a_new_time_is_reached_without_a_click(on_change):
    x = sine(200.0, 2.0, level_db=-12)
    old = make_processor(device("delay", time=100.0, feedback=0.0, on_change=on_change), RATE)
    first = old.process(x[:, :RATE].copy(), None)
    new = make_processor(device("delay", time=140.0, feedback=0.0, on_change=on_change), RATE)
    new.adopt(old)
    y = np.concatenate([first, new.process(x[:, RATE:].copy(), None)], axis=1)[0, 10000:]
    assert np.max(np.abs(np.diff(y))) < 1.6 * np.max(np.abs(np.diff(x[0])))
    late = y[-4800:]
    np.testing.assert_allclose(
        late, x[0, -4800 - round(0.14 * RATE) : -round(0.14 * RATE)], atol=1e-9 if on_change == "fade" else 0.02
    )


def test_fading_does_not_bend_the_pitch_and_gliding_does():
    def pitch_bend(on_change: str) -> float:
        x = sine(440.0, 2.0)
        old = make_processor(device("delay", time=100.0, feedback=0.0, on_change=on_change), RATE)
        old.process(x[:, :RATE].copy(), None)
        new = make_processor(device("delay", time=180.0, feedback=0.0, on_change=on_change), RATE)
        new.adopt(old)
        y = new.process(x[:, RATE:].copy(), None)[0, : RATE // 4]
        spectrum = np.abs(np.fft.rfft(y * np.hanning(len(y)), 1 << 17))
        freqs = np.fft.rfftfreq(1 << 17, 1 / RATE)
        return float(np.sum(freqs * spectrum**2) / np.sum(spectrum**2)) - 440.0

    assert abs(pitch_bend("fade")) < 3.0
    assert pitch_bend("glide") < -20.0


def test_tails_ring_out_and_end():
    y = process_chain(click(0.1), [device("delay", time=1500.0, feedback=0.3)], RATE)
    assert 4.4 < y.shape[1] / RATE <= 30.1  # an echo 1.5 s away is waited for
    loud = process_chain(click(0.1), [device("delay", time=500.0, feedback=0.98)], RATE)
    assert 29.9 < loud.shape[1] / RATE <= 30.1


# --- reverb -------------------------------------------------------------------------------------------------------


def decay_time_s(
    response: np.ndarray, rate: int, *, low_hz: float | None = None, high_hz: float | None = None
) -> float:
    """ISO 3382-1: the impulse response squared and integrated backwards (Schroeder 1965), a line through −5 to −35 dB,
    and the time it needs for 60."""
    from scipy.signal import butter, sosfilt

    if low_hz is not None:
        response = sosfilt(butter(4, [low_hz, high_hz], btype="bandpass", fs=rate, output="sos"), response)
    energy = np.cumsum(response[::-1] ** 2)[::-1]
    db = 10 * np.log10(energy / energy[0] + 1e-30)
    span = (db <= -5) & (db >= -35)
    t = np.flatnonzero(span) / rate
    return -60.0 / np.polyfit(t, db[span], 1)[0]


@pytest.mark.parametrize("space", ["room", "hall", "plate"])
@pytest.mark.parametrize(
    ("size", "decay_s"),
    [(0.5, 0.2), (0.5, 0.6), (0.5, 1.8), (0.5, 6.0), (0.5, 20.0), (0.0, 0.2), (0.0, 1.8), (1.0, 0.2), (1.0, 1.8)],
)
def test_decay_is_rt60_as_measured(space, decay_s, size):
    one = device("reverb", space=space, decay_s=decay_s, size=size)
    response = impulse_response(one.params, 1.1 * decay_s + 0.3, RATE)
    # ISO 3382-1: the octaves of 500 and 1000 Hz, averaged over places; ours are left and right.
    times = [
        decay_time_s(side, RATE, low_hz=centre / 2**0.5, high_hz=centre * 2**0.5)
        for side in response
        for centre in (500.0, 1000.0)
    ]
    assert np.mean(times) == pytest.approx(decay_s, rel=0.1)
    assert decay_time_s(response[0], RATE) == pytest.approx(decay_s, rel=0.15)  # all bands, the damped ones too


@pytest.mark.parametrize("damping_hz", [2000.0, 6000.0])
def test_highs_decay_twice_as_fast_at_the_damping(damping_hz):
    one = device("reverb", space="hall", decay_s=2.0, damping_hz=damping_hz)
    response = impulse_response(one.params, 2.5, RATE)[0]
    band = decay_time_s(response, RATE, low_hz=damping_hz / 2 ** (1 / 6), high_hz=damping_hz * 2 ** (1 / 6))
    assert band == pytest.approx(1.0, rel=0.1)


@pytest.mark.parametrize("space", ["room", "hall", "plate"])
def test_the_tail_is_dense_and_does_not_ring(space):
    response = impulse_response(device("reverb", space=space, decay_s=1.8).params, 1.2, RATE)[0]
    # Abel and Huang 2006: 1 is where echoes have merged.
    at, density = echo_density(response, RATE)
    assert 0.85 < np.mean(density[(at > 0.15) & (at < 1.0)]) < 1.15
    # A metallic tail has single modes that stand out. In Gaussian noise of so many bins the strongest lies some 10 dB
    # over the mean; a mode that rings would lie far above that.
    freqs, over_db = tail_spectrum(response, RATE, decay_s=1.8)
    assert np.max(over_db[(freqs > 200) & (freqs < 4000)]) < 14.0


def test_single_echoes_are_not_dense_and_a_mode_that_rings_stands_out():
    rng = np.random.default_rng(2)
    sparse = np.zeros(RATE)
    sparse[:: RATE // 100] = 1.0
    assert np.max(echo_density(sparse, RATE)[1]) < 0.1
    noise_tail = rng.standard_normal(2 * RATE) * 10.0 ** (-3.0 * np.arange(2 * RATE) / RATE / 1.8)
    ringing = noise_tail + 0.5 * np.sin(2 * np.pi * 700.0 * np.arange(2 * RATE) / RATE) * np.abs(
        noise_tail
    ).max() * 10.0 ** (-3.0 * np.arange(2 * RATE) / RATE / 1.8)
    assert np.mean(echo_density(noise_tail, RATE)[1][:40]) == pytest.approx(1.0, abs=0.05)
    for tail, rings in ((noise_tail, False), (ringing, True)):
        freqs, over_db = tail_spectrum(tail, RATE, decay_s=1.8)
        top = np.argmax(np.where(freqs > 200, over_db, -99.0))
        assert bool(over_db[top] > 14.0) == rings
        assert not rings or freqs[top] == pytest.approx(700.0, abs=2.0)


def test_a_nonlinear_tail_stays_level_and_then_stops():
    one = device("reverb", space="nonlinear", decay_s=0.4, predelay=0.0)
    y = process_chain(click(1.0), [one], RATE)[0]

    def level(a, b):
        return np.sqrt(np.mean(y[round(a * RATE) : round(b * RATE)] ** 2))

    assert 20 * np.log10(level(0.3, 0.37) / level(0.02, 0.1)) == pytest.approx(0.0, abs=1.5)
    assert not y[round(0.405 * RATE) :].any() or np.max(np.abs(y[round(0.405 * RATE) :])) < 1e-9


@pytest.mark.parametrize(("predelay", "ms"), [(0.0, 0.0), (40.0, 40.0), ("1/64", 1000 * 60 / 92 / 16)])
def test_the_predelay_is_before_everything(predelay, ms):
    def first(value) -> int:
        y = process_chain(click(0.5), [device("reverb", space="room", predelay=value)], RATE, bpm=92.0)
        return int(np.argmax(np.abs(y[0]) > 1e-4))

    assert first(predelay) - first(0.0) == pytest.approx(ms * RATE / 1000, abs=1)


def test_the_wet_signal_is_about_as_loud_as_the_dry_one():
    x = noise(4.0)
    for space in ("room", "hall", "plate", "nonlinear"):
        for decay_s in (0.4, 2.5):
            y = process_chain(x, [device("reverb", space=space, decay_s=decay_s, damping_hz=20000.0)], RATE)
            assert abs(20 * np.log10(np.std(y[:, 3 * RATE : 4 * RATE]) / np.std(x))) < 4.0, (space, decay_s)


@pytest.mark.parametrize("size", [0.0, 0.5, 1.0])
def test_a_plate_is_dense_within_15_ms(size):
    one = device("reverb", space="plate", size=size, predelay=0.0)
    for side in impulse_response(one.params, 0.3, RATE):
        at, density = echo_density(side, RATE)
        assert at[np.argmax(density > 0.9)] <= 0.0151
        assert np.min(density[(at > 0.02) & (at < 0.25)]) > 0.8


def test_a_plate_carries_high_frequencies_faster():
    from scipy.signal import butter, sosfiltfilt

    response = impulse_response(device("reverb", space="plate", predelay=0.0).params, 0.2, RATE)[0]

    def first_ms(low: float, high: float) -> float:
        band = np.abs(sosfiltfilt(butter(2, [low, high], "bandpass", fs=RATE, output="sos"), response))
        return 1000.0 * float(np.argmax(np.cumsum(band**2) > 0.003 * np.sum(band**2))) / RATE

    assert first_ms(300.0, 800.0) > first_ms(6000.0, 12000.0) + 2.0


@pytest.mark.parametrize("space", ["room", "hall", "plate"])
@pytest.mark.parametrize("decay_s", [0.5, 1.8, 8.0])
def test_size_is_heard_at_any_decay(space, decay_s):
    """A larger space answers later, and has less echoes in the same time."""

    def early_share(size: float) -> float:
        r = impulse_response(device("reverb", space=space, decay_s=decay_s, size=size, predelay=0.0).params, 0.4, RATE)
        return float(np.sum(r[:, : RATE // 50] ** 2) / np.sum(r**2))

    small, middle, large = (early_share(size) for size in (0.0, 0.5, 1.0))
    assert small > 1.15 * middle > 1.3 * large


@pytest.mark.parametrize("space", ["room", "hall"])
def test_first_reflections_follow_the_size(space):
    def first_ms(size: float) -> float:
        r = impulse_response(device("reverb", space=space, size=size, predelay=0.0, decay_s=2.0).params, 0.2, RATE)[0]
        return 1000.0 * float(np.argmax(np.abs(r) > 1e-4)) / RATE

    assert first_ms(0.5) == pytest.approx(2.0 * first_ms(0.0), rel=0.02)
    assert first_ms(1.0) == pytest.approx(4.0 * first_ms(0.0), rel=0.02)


@pytest.mark.parametrize("space", ["room", "hall", "plate"])
def test_dc_does_not_pile_up(space):
    x = 0.2 + noise(3.0, level=0.001)
    y = process_chain(x, [device("reverb", space=space, decay_s=10.0)], RATE)[:, RATE : 3 * RATE]
    assert abs(float(y.mean())) < 1e-3


def test_one_side_spreads_in_the_nonlinear_space():
    x = noise(2.0)
    x[1] = 0.0
    y = process_chain(x, [device("reverb", space="nonlinear", decay_s=0.4)], RATE)[:, RATE : 2 * RATE]
    left, right = np.std(y, axis=1)
    assert abs(20 * np.log10(left / right)) < 1.0
    assert abs(np.corrcoef(y)[0, 1]) < 0.2


BURST = np.concatenate([noise(0.5, level=0.2), np.zeros((2, 3 * RATE // 2))], axis=1)


def tail_levels_db(y: np.ndarray) -> np.ndarray:
    """Of each 50 ms."""
    power = np.mean(y**2, axis=0)
    return 10.0 * np.log10(power[: len(power) // 2400 * 2400].reshape(-1, 2400).mean(axis=1) + 1e-20)


def assert_between(moved: np.ndarray, settled: list[np.ndarray]) -> None:
    """Within 1 dB of either settled tail, or between them, from 0.75 to 1.6 s."""
    upper, lower = np.maximum(*settled), np.minimum(*settled)
    span = slice(15, 32)
    assert np.all((moved < upper + 1.0)[span])
    assert np.all((moved > lower - 1.0)[span])


@pytest.mark.parametrize("space", ["room", "hall", "plate", "nonlinear"])
@pytest.mark.parametrize(
    ("path", "low", "high"),
    [("decay_s", 0.8, 3.0), ("size", 0.2, 0.8), ("damping_hz", 2000.0, 12000.0), ("motion", 0.0, 1.0), ("low_cut_hz", 20.0, 500.0), ("predelay", 0.0, 60.0)],
)  # fmt: skip
def test_a_tail_outlives_every_move(space, path, low, high):
    one = device("reverb", space=space, decay_s=1.5)
    for before, after in ((low, high), (high, low)):
        settled = [
            tail_levels_db(walking.run(walking.still(one.replace(params=one.params.replace(**{path: v}))), BURST))
            for v in (before, after)
        ]
        moving = walking.moving(one, path, [(0.0, before), (0.8, after)], steps=True)
        assert_between(tail_levels_db(walking.run(moving, BURST)), settled)


@pytest.mark.parametrize(
    ("before", "after"),
    [("hall", "nonlinear"), ("nonlinear", "hall"), ("plate", "nonlinear"), ("nonlinear", "room"), ("room", "plate")],
)
def test_a_tail_outlives_another_space(before, after):
    def still(space: str):
        return walking.still(device("reverb", space=space, decay_s=1.5))

    at = 4 * RATE // 5
    first, second = still(before), still(after)
    begun = walking.run(first, BURST[:, :at])
    second.adopt(first)
    rest = walking.run(second, BURST[:, at:], start=at)
    settled = [tail_levels_db(walking.run(still(space), BURST)) for space in (before, after)]
    assert_between(tail_levels_db(np.concatenate([begun, rest], axis=1)), settled)


@pytest.mark.parametrize(("first", "other"), [("nonlinear", "hall"), ("hall", "nonlinear")])
def test_a_tail_outlives_another_space_and_back(first, other):
    runner, made, at = walking.still(device("reverb", space=first, decay_s=1.5)), [], 0
    for space, until in ((first, 0.6), (other, 0.7), (first, 2.0)):
        following = walking.still(device("reverb", space=space, decay_s=1.5))
        if at:
            following.adopt(runner)
        runner, end = following, round(until * RATE)
        made.append(walking.run(runner, BURST[:, at:end], start=at))
        at = end
    settled = tail_levels_db(walking.run(walking.still(device("reverb", space=first, decay_s=1.5)), BURST))
    moved = tail_levels_db(np.concatenate(made, axis=1))
    assert np.all(np.abs(moved - settled)[15:32] < 1.5)


def test_what_rings_on_beside_another_space_is_cut_anywhere():
    """However the blocks fall, what is left of the old space is the same, and it ends."""
    made = []
    for block in (64, 1000, 4096):
        first, second = (walking.still(device("reverb", space=space, decay_s=0.2)) for space in ("hall", "nonlinear"))
        walking.run(first, BURST[:, :RATE])
        second.adopt(first)
        made.append(walking.run(second, np.zeros((2, RATE)), block=block, start=RATE))
    assert np.array_equal(made[0], made[1])
    assert np.array_equal(made[0], made[2])
    assert np.max(np.abs(made[0][:, RATE // 2 :])) < 1e-6


@pytest.mark.parametrize("mode", ["straight", "ping_pong"])
@pytest.mark.parametrize(("drive_db", "hz"), [(12.0, 1245.0), (12.0, 7040.0), (24.0, 1245.0)])
def test_what_a_driven_echo_bends_does_not_fold(mode, drive_db, hz):
    # The bar of the saturation, by its tone: −6 dBFS. The second echo is the first that was bent.
    x = sine(hz, 0.4, level_db=-6.0)
    if mode == "ping_pong":
        x[1] = 0.0
        x[0] *= 2.0
    one = device("delay", mode=mode, time=500.0, feedback=0.9, drive_db=drive_db)
    y = process_chain(np.pad(x, ((0, 0), (0, RATE))), [one], RATE, max_tail_s=0.0)[0 if mode == "straight" else 1]
    second = y[RATE + 2000 : RATE + 17000]
    spectrum = np.abs(np.fft.rfft(second * np.kaiser(len(second), 16.0)))
    freqs = np.fft.rfftfreq(len(second), 1 / RATE)
    apart = np.abs(freqs / hz - np.round(freqs / hz)) * hz
    folded = spectrum[(apart > 40.0) & (freqs > 20.0) & (freqs < 20000.0)]
    assert 20 * np.log10(folded.max() / spectrum.max()) < -70.0


def test_driven_echoes_come_in_time_and_soft_ones_keep_their_sound():
    burst = np.zeros((2, 3 * RATE))
    burst[:, 100:4900] = 1e-3 * noise(0.1, level=0.3)
    clean, driven = (
        process_chain(burst, [device("delay", time=250.0, feedback=0.8, drive_db=db)], RATE)[0] for db in (0.0, 12.0)
    )
    eighth = slice(7 * RATE // 4, 8 * RATE // 4)  # has been through the curve seven times
    a, b = (np.fft.rfft(y[7 * RATE // 4 : 2 * RATE], RATE // 2) for y in (clean, driven))
    freqs = np.fft.rfftfreq(RATE // 2, 1 / RATE)
    heard = (freqs > 100.0) & (freqs < 18000.0)
    assert 10 * np.log10(np.sum(np.abs(b[heard]) ** 2) / np.sum(np.abs(a[heard]) ** 2)) == pytest.approx(0.0, abs=0.05)
    lag = np.argmax(np.correlate(driven[eighth], clean[eighth][48:-48], mode="valid")) - 48
    assert abs(lag) <= 2


def test_turning_the_drive_on_does_not_click():
    x = sine(500.0, 2.0, level_db=-50.0)
    old, new = (make_processor(device("delay", time=100.0, feedback=0.9, drive_db=db), RATE) for db in (0.0, 3.0))
    before = old.process(x[:, :RATE].copy(), None)
    new.adopt(old)
    y = np.concatenate([before, new.process(x[:, RATE:].copy(), None)], axis=1)[0]
    high = scipy.signal.sosfilt(scipy.signal.butter(6, 3000.0, "highpass", fs=RATE, output="sos"), y)
    around = high[RATE - 200 : RATE + 3 * RATE // 4]
    assert 20 * np.log10(np.max(np.abs(around)) / np.max(np.abs(y))) < -55.0


# --- moving delays ------------------------------------------------------------------------------------------------


def swing_of_pitch(y: np.ndarray, hz: float) -> float:
    """Half the range of the momentary pitch in cents, by the analytic signal."""
    from scipy.signal import hilbert

    phase = np.unwrap(np.angle(hilbert(y)))
    freq = np.diff(phase) * RATE / (2 * np.pi)
    cents = 1200 * np.log2(np.convolve(freq, np.ones(200) / 200, mode="valid")[RATE // 4 : -RATE // 4] / hz)
    return float(np.ptp(cents) / 2)


@pytest.mark.parametrize(("rate", "depth"), [(5.0, 25.0), (2.0, 50.0), (7.0, 10.0)])
def test_vibrato_moves_the_pitch_by_its_cents(rate, depth):
    y = process_chain(sine(440.0, 3.0), [device("vibrato", rate=rate, depth_cents=depth)], RATE)[0, : 3 * RATE]
    assert swing_of_pitch(y[RATE // 2 :], 440.0) == pytest.approx(depth, rel=0.08)


def test_vibrato_keeps_the_time():
    x = np.zeros((2, RATE))
    x[:, RATE // 2] = 1.0
    y = process_chain(x, [device("vibrato", depth_cents=0.0)], RATE)
    assert int(np.argmax(np.abs(y[0]))) == RATE // 2


def test_a_doubler_stays_within_its_drift():
    y = process_chain(sine(440.0, 8.0), [device("doubler", drift_cents=12.0, spread_pct=100.0)], RATE)
    for side in y[:, RATE : 8 * RATE]:
        swing = swing_of_pitch(side, 440.0)
        assert 2.0 < swing < 14.0
    assert abs(np.corrcoef(y[:, RATE : 7 * RATE])[0, 1]) < 0.98  # two takes, not one


def test_a_flanger_is_a_comb():
    # Delay τ blended half and half: notches at (n + ½)/τ.
    y = process_chain(noise(4.0), [device("flanger", depth_ms=0.0, delay_ms=2.0, feedback=0.0, mix=0.5)], RATE)[
        0, : 4 * RATE
    ]
    frames = y[: len(y) // 4800 * 4800].reshape(-1, 4800) * np.hanning(4800)
    power = np.mean(np.abs(np.fft.rfft(frames, axis=1)) ** 2, axis=0)
    for n in range(4):
        notch, peak = round((n + 0.5) / 0.002 / 10), round((n + 1) / 0.002 / 10)
        assert 10 * np.log10(power[peak] / power[notch]) > 20.0


_MOVERS = (
    ("vibrato", {"rate": 5.0, "depth_cents": 25.0}),
    ("chorus", {"rate": 0.6, "depth_ms": 2.0, "voices": 1}),
    ("flanger", {"rate": 0.5, "depth_ms": 1.5, "feedback": 0.0}),
    ("flanger", {"rate": 0.5, "depth_ms": 3.0, "delay_ms": 1.0, "feedback": 0.0, "through_zero": True}),
    ("doubler", {"drift_cents": 9.0, "spread_pct": 0.0}),
)


@pytest.mark.parametrize(("kind", "values"), _MOVERS)
@pytest.mark.parametrize("hz", [1000.0, 15000.0])
def test_a_moving_copy_keeps_its_highs_and_adds_nothing(kind, values, hz):
    x = sine(hz, 3.0, level_db=-6.0)
    y = process_chain(x, [device(kind, mix=1.0, **values)], RATE)[0, RATE : 3 * RATE]
    if kind != "doubler":  # whose two takes beat with each other
        assert 20 * np.log10(np.std(y) / np.std(x[0])) == pytest.approx(0.0, abs=0.3)
    spectrum = np.abs(np.fft.rfft(y * np.kaiser(len(y), 18.0)))
    apart = np.abs(np.fft.rfftfreq(len(y), 1 / RATE) - hz)
    moved = 1500.0 if hz > 2000.0 else 300.0  # what is nearer is the motion of the pitch itself
    assert 20 * np.log10(spectrum[apart > moved].max() / spectrum.max()) < -90.0


@pytest.mark.parametrize("through_zero", [True, False])
def test_a_flanger_goes_through_zero(through_zero):
    """The copy overtakes the sound; without, it stops short of it."""
    places = range(RATE // 10, 4 * RATE - 500, RATE // 20)
    clicks = np.zeros((2, 4 * RATE))
    clicks[:, list(places)] = 1.0
    values = {"rate": 0.5, "depth_ms": 2.0, "delay_ms": 0.5, "feedback": 0.0, "spread_pct": 0.0, "mix": 1.0}
    y = process_chain(clicks, [device("flanger", through_zero=through_zero, **values)], RATE)[0]
    lags = [np.argmax(np.abs(y[at - 300 : at + 300])) - 300 for at in places]
    assert min(lags) == pytest.approx(-1.5e-3 * RATE if through_zero else 2, abs=2)
    assert max(lags) == pytest.approx(2.5e-3 * RATE if through_zero else 1e-3 * RATE - 2, abs=2)


@pytest.mark.parametrize("delay_ms", [0.2, 0.5, 2.0])
def test_the_feedback_of_a_flanger_rings_at_its_delay(delay_ms):
    one = device("flanger", depth_ms=0.0, delay_ms=delay_ms, feedback=0.9, mix=1.0)
    y = process_chain(click(1.0), [one], RATE)[0, :RATE]
    h = np.abs(np.fft.rfft(y))
    first = 1000.0 / delay_ms
    ringing = np.argmax(h[round(0.6 * first) : round(1.4 * first)]) + round(0.6 * first)
    assert ringing == pytest.approx(first, rel=0.02)


def test_phaser_stages_make_half_as_many_notches():
    x = click(1.0)
    for stages, notches in ((2, 1), (4, 2), (8, 4)):
        y = process_chain(x, [device("phaser", stages=stages, depth_octaves=0.0, feedback=0.0, mix=0.5)], RATE)[
            0, :RATE
        ]
        h = np.abs(np.fft.rfft(y))[20:20000]
        dips = (h[1:-1] < h[:-2]) & (h[1:-1] < h[2:]) & (h[1:-1] < 0.1)
        assert np.count_nonzero(dips) == notches


def test_a_chorus_spreads_a_mono_sound():
    y = process_chain(noise(3.0)[[0, 0]], [device("chorus", spread_pct=100.0)], RATE)[:, RATE : 3 * RATE]
    assert np.corrcoef(y)[0, 1] < 0.7
    narrow = process_chain(noise(3.0)[[0, 0]], [device("chorus", spread_pct=0.0)], RATE)[:, RATE : 3 * RATE]
    np.testing.assert_allclose(narrow[0], narrow[1], atol=1e-12)


@pytest.mark.parametrize("phase_deg", [0.0, 180.0])
def test_tremolo_follows_the_song(phase_deg):
    processor = make_processor(device("tremolo", rate="1/4", depth=1.0, phase_deg=phase_deg), Host(RATE, bpm=120.0))
    y = processor.process(np.ones((2, RATE)), None)
    beat = RATE // 2
    assert y[0, beat] == pytest.approx(1.0, abs=1e-6)
    assert y[0, beat // 2] == pytest.approx(0.0, abs=1e-6)
    assert y[1, beat] == pytest.approx(0.0 if phase_deg else 1.0, abs=1e-6)
    if phase_deg:  # from side to side, the sum stands still
        np.testing.assert_allclose(y.sum(axis=0), 1.0, atol=1e-9)
