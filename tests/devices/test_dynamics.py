"""Limiter, gate, multiband, de-esser and ducker: what each promises."""

import numpy as np
import pytest
import scipy.signal
import soxr

from tests.signals import RATE, hit_times, kick_track, noise, sine
from zygotone.devices import Host, make_processor
from zygotone.devices.ducker import curve_of
from zygotone.dsp.convolution import Crossover
from zygotone.dsp.delays import DelayLine
from zygotone.dsp.levels import gain_to_db
from zygotone.engine.chains import process_chain
from zygotone.session.models import Device


def device(kind: str, **values) -> Device:
    return Device.model_validate({"kind": kind, **values})


def through(x, kind: str, key=None, **values) -> np.ndarray:
    return process_chain(x, [device(kind, **values)], RATE, key=key, max_tail_s=0.0)[:, : x.shape[1]]


def gain_of(kind: str, x, key=None, **values) -> np.ndarray:
    processor = make_processor(device(kind, **values), RATE)
    processor.process(x, key)
    return processor.gain_db


# --- limiter ------------------------------------------------------------------------------------------------------


def true_peak_db(x: np.ndarray, half: int, beta: float) -> float:
    """Peak at 16 times the rate by SciPy's polyphase resampler, with a filter of so many frames to either side."""
    taps = scipy.signal.firwin(2 * half * 16 + 1, 1 / 16, window=("kaiser", beta))
    return float(20 * np.log10(np.max(np.abs(scipy.signal.resample_poly(x, 16, 1, axis=1, window=taps)))))


_RNG = np.random.default_rng(3)
_LOUD_S = 0.5
_LOUD_FRAMES = round(_LOUD_S * RATE)
LOUD = {
    "signs": 2.0 * np.sign(_RNG.standard_normal((2, _LOUD_FRAMES))),
    "bursts": 3.0 * _RNG.standard_normal((2, _LOUD_FRAMES)) * (sine(40.0, _LOUD_S) > 0.9),
    "saw": 4.0 * ((997.3 * np.arange(_LOUD_FRAMES) / RATE) % 1.0 - 0.5) * np.ones((2, 1)),
    "clipped noise": np.clip(_RNG.standard_normal((2, _LOUD_FRAMES)), -1, 1),
    "white noise": 0.5 * _RNG.standard_normal((2, _LOUD_FRAMES)),
    "square": np.sign(sine(997.0, _LOUD_S)),
    "quarter rate": 1.4 * sine(12000.0, _LOUD_S, phase=np.pi / 4),  # every sample at 0.7 of the peak between them
    "near the top": 1.3 * sine(21000.0, _LOUD_S),
    "clicks": 2.0 * (_RNG.random((2, _LOUD_FRAMES)) > 0.999),
    "steps": np.repeat(_RNG.standard_normal((2, _LOUD_FRAMES // 100)), 100, axis=1),
    "kick": 3.0 * kick_track(50.0, hits=1),
}


@pytest.mark.parametrize("name", LOUD)
@pytest.mark.parametrize("lookahead_ms", [0.5, 1.0, 3.0])
def test_no_true_peak_passes_the_limiter(name, lookahead_ms):
    # The bar: nothing over the ceiling by more than 0.1 dB. Rebuilding filters that are not ours: a long one, flat almost
    # to half the rate, SciPy's usual one, soxr's steep one, and the ideal one over the whole file.
    y = through(LOUD[name], "limiter", ceiling_dbtp=-1.0, lookahead_ms=lookahead_ms, release_ms=20.0)
    assert true_peak_db(y, 64, 6.0) < -1.0 + 0.1
    assert true_peak_db(y, 10, 5.0) < -1.0 + 0.1
    steep = gain_to_db(np.max(np.abs(soxr.resample(y.T, RATE, 8 * RATE, quality="VHQ"))))
    # It takes off the top, and more of what lies over the ceiling by 12 dB stays then: 0.24 dB at most in 36 s of such bursts.
    assert steep < -1.0 + (0.3 if name == "bursts" else 0.1)
    n = y.shape[1]
    faded = y * np.minimum(1.0, np.minimum(np.arange(n), np.arange(n)[::-1]) / 2000.0)  # that one wraps around
    assert gain_to_db(np.max(np.abs(scipy.signal.resample(faded, 8 * n, axis=1)))) < -1.0 + 0.1
    assert true_peak_db(y, 64, 6.0) > (-1.4 if lookahead_ms > 1.5 else -1.6)  # and it is not turned down for nothing


def test_the_limiter_is_down_when_the_peak_comes_and_back_in_its_time():
    t = np.arange(2 * RATE) / RATE - 0.5
    x = sine(2000.0, 2.0) * (0.25 + 0.75 * np.exp(-0.5 * (t / 0.002) ** 2))
    gain = gain_of("limiter", x, ceiling_dbtp=-6.0, release_ms=100.0)
    lowest = int(np.argmin(gain))
    assert gain[lowest] == pytest.approx(-6.04, abs=0.2)
    back = lowest + int(np.argmax(gain[lowest:] > 20 * np.log10(1 - (1 - 10 ** (gain[lowest] / 20)) * 0.368)))
    assert (back - lowest) / RATE == pytest.approx(0.1, rel=0.1)


# --- gate ---------------------------------------------------------------------------------------------------------


def test_a_gate_opens_holds_and_closes():
    x = np.concatenate(
        [sine(500.0, 0.2, level_db=-60), sine(500.0, 0.3, level_db=-10), sine(500.0, 0.8, level_db=-60)], axis=1
    )
    gain = gain_of("gate", x, threshold_db=-30.0, attack_ms=1.0, hold_ms=100.0, release_ms=50.0, floor_db=-40.0)
    assert gain[round(0.15 * RATE)] == pytest.approx(-40.0, abs=0.1)
    assert gain[round(0.3 * RATE)] == 0.0
    closing = round(0.5 * RATE) + int(np.argmax(gain[round(0.5 * RATE) :] < -0.1))
    assert 0.1 <= closing / RATE - 0.5 <= 0.112  # the detector holds a peak for 10 ms at most
    down = closing + int(np.argmax(gain[closing:] < -40.0 * 0.632))
    assert (down - closing) / RATE == pytest.approx(0.05, rel=0.05)


def test_hysteresis_keeps_a_gate_from_fluttering():
    level = -30.0 + 1.5 * np.sin(2 * np.pi * 9 * np.arange(2 * RATE) / RATE)
    x = np.stack([np.sin(2 * np.pi * 1000 * np.arange(2 * RATE) / RATE) * 10 ** (level / 20)] * 2)
    flutter = [
        np.count_nonzero(np.diff((gain_of("gate", x, threshold_db=-30.0, hysteresis_db=h, hold_ms=0.0, attack_ms=0.1, release_ms=2.0) > -1).astype(int)))
        for h in (0.0, 6.0)
    ]  # fmt: skip
    assert flutter[0] > 20
    assert flutter[1] <= 1


def test_a_gated_room_stops_short():
    """A snare into a reverb, and a gate keyed by the dry snare behind it."""
    snare = np.zeros((2, 2 * RATE))
    snare[:, 4800:9600] = noise(0.1, level=0.3) * np.exp(-np.arange(4800) / 1200)
    chain = [
        device("reverb", id="r", space="hall", decay_s=3.0),
        device("gate", id="g", threshold_db=-30.0, hold_ms=180.0, release_ms=15.0),
    ]
    y = process_chain(snare, chain, RATE, key=snare)
    early, late = y[:, round(0.2 * RATE) : round(0.25 * RATE)], y[:, round(0.6 * RATE) : round(1.0 * RATE)]
    assert np.std(early) > 1e-3
    assert np.max(np.abs(late)) < 1e-4 * np.max(np.abs(y))


# --- multiband ----------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("freq_hz", [60.0, 250.0, 2500.0])
def test_crossovers_have_the_slopes_of_linkwitz_and_riley(freq_hz):
    # Linkwitz and Riley 1976: a squared Butterworth of second order, −6.02 dB at the crossover.
    crossover = Crossover((freq_hz,), RATE)
    click = np.zeros((2, 1 << 15))
    click[:, 0] = 1.0
    low = crossover.process(click)[0]
    high = DelayLine(crossover.latency).process(click) - low
    freqs = np.fft.rfftfreq(1 << 15, 1 / RATE)
    h_low, h_high = np.abs(np.fft.rfft(low[0])), np.abs(np.fft.rfft(high[0]))
    b, a = scipy.signal.butter(2, freq_hz, analog=True)
    _, butter = scipy.signal.freqs(b, a, freqs[1:])
    wanted = np.abs(butter) ** 2
    heard = (wanted > 10 ** (-50 / 20)) & (freqs[1:] < 20000)
    np.testing.assert_allclose(20 * np.log10(h_low[1:][heard]), 20 * np.log10(wanted[heard]), atol=0.1)
    heard = (1 - wanted > 10 ** (-36 / 20)) & (freqs[1:] < 20000)
    np.testing.assert_allclose(20 * np.log10(h_high[1:][heard]), 20 * np.log10(1 - wanted[heard]), atol=0.1)


def test_idle_bands_sum_flat():
    # The bar is 0.05 dB; by construction it is nothing at all.
    x = noise(0.5, level=0.05)
    y = through(x, "multiband", crossovers_hz=[100.0, 400.0, 1500.0, 6000.0])
    np.testing.assert_allclose(y, x, atol=1e-15)


def test_each_band_is_worked_on_alone():
    low, high = sine(30.0, 1.0, level_db=-6), sine(5000.0, 1.0, level_db=-12)
    bands = [{"threshold_db": -26.0, "ratio": 4.0, "attack_ms": 5.0}, {}, {}]
    y = through(low + high, "multiband", bands=bands)[:, RATE // 2 :]
    spectrum = 2 * np.abs(np.fft.rfft(y[0] * np.hanning(y.shape[1]))) / (y.shape[1] / 2)

    def at(hz):
        return 20 * np.log10(spectrum[round(hz * y.shape[1] / RATE)])

    assert at(30.0) == pytest.approx(-6.0 - 0.75 * 20.0, abs=0.3)  # a 257th of it is in the next band
    assert at(5000.0) == pytest.approx(-12.0, abs=0.05)


def test_upward_turns_up_what_is_soft_and_leaves_silence_alone():
    bands = [{"up_threshold_db": -30.0, "up_ratio": 2.0, "attack_ms": 5.0, "release_ms": 30.0}]
    soft = through(sine(1000.0, 1.0, level_db=-50), "multiband", crossovers_hz=[], bands=bands)
    assert 20 * np.log10(np.max(np.abs(soft[0, -4800:]))) == pytest.approx(-40.0, abs=0.2)
    assert not through(np.zeros((2, 4800)), "multiband", bands=bands).any()


def test_minimum_phase_bands_have_no_latency_and_nothing_before_a_hit():
    one = device("multiband", phase="minimum", bands=[{"gain_db": 9.0}, {"gain_db": -6.0}, {"gain_db": 3.0}])
    assert make_processor(one, RATE).latency == 0
    hit = np.zeros((2, RATE // 2))
    n = np.arange(RATE // 4)
    hit[:, RATE // 4 :] = np.sin(2 * np.pi * 55.0 * n / RATE) * np.exp(-n / (0.1 * RATE))
    for phase, quiet in (("minimum", True), ("linear", False)):
        y = through(hit, "multiband", phase=phase, bands=[{"gain_db": 9.0}, {"gain_db": -6.0}, {"gain_db": 3.0}])
        assert (np.max(np.abs(y[:, : RATE // 4])) < 1e-9) == quiet


def test_minimum_phase_bands_have_the_gains_that_are_set():
    click = np.zeros((2, RATE))
    click[:, 0] = 1e-3
    bands = [{"gain_db": 6.0}, {"gain_db": -4.0}, {"gain_db": 3.0}]
    y = through(click, "multiband", phase="minimum", crossovers_hz=[150.0, 3000.0], bands=bands)[0] / 1e-3
    h = 20 * np.log10(np.abs(np.fft.rfft(y)))
    assert h[30] == pytest.approx(6.0, abs=0.3)
    assert h[670] == pytest.approx(-4.0, abs=0.5)
    assert h[15000] == pytest.approx(3.0, abs=0.3)
    # A crossover lies halfway in dB, and nothing bulges out beside it.
    assert h[150] == pytest.approx(1.0, abs=0.3)
    assert h[3000] == pytest.approx(-0.5, abs=0.3)
    assert h[20:20000].max() < 6.1
    assert h[20:20000].min() > -4.1
    idle = noise(0.5, level=0.05)
    np.testing.assert_array_equal(through(idle, "multiband", phase="minimum"), idle)


@pytest.mark.parametrize("phase", ["linear", "minimum"])
def test_each_band_of_either_phase_turns_down_by_ratio_knee_and_range(phase):
    x = sine(1000.0, 1.0, level_db=-10)

    def turned(**band) -> float:
        bands = [{}, {"attack_ms": 5.0, "release_ms": 60.0, **band}, {}]
        y = through(x, "multiband", phase=phase, crossovers_hz=[100.0, 10000.0], bands=bands)
        return float(20 * np.log10(np.max(np.abs(y[0, -9600:-4800])) / np.max(np.abs(x))))

    assert turned(threshold_db=-30.0, ratio=4.0) == pytest.approx(-15.0, abs=0.4)
    assert turned(threshold_db=-30.0, ratio=4.0, range_db=6.0) == pytest.approx(-6.0, abs=0.3)
    # Giannoulis et al. 2012, eq. 4: at the threshold a knee of w dB turns down by (1 − 1/ratio)·w/8.
    assert turned(threshold_db=-10.0, ratio=4.0, knee_db=12.0) == pytest.approx(-0.75 * 12.0 / 8.0, abs=0.15)
    assert turned(threshold_db=0.0, up_threshold_db=-4.0, up_ratio=3.0) == pytest.approx(4.0, abs=0.3)
    assert turned(threshold_db=0.0, up_threshold_db=-4.0, up_ratio=3.0, range_db=1.5) == pytest.approx(1.5, abs=0.3)


@pytest.mark.parametrize("phase", ["linear", "minimum"])
def test_the_key_of_a_band_opens_that_band_alone(phase):
    x, key = noise(1.0, level=0.05), sine(50.0, 1.0, level_db=-6)
    bands = [{"threshold_db": -40.0, "ratio": 20.0, "release_ms": 60.0}] * 3
    y = through(x, "multiband", key=key, phase=phase, crossovers_hz=[200.0, 2000.0], bands=bands)
    a, b = (np.abs(np.fft.rfft(v[0, RATE // 2 :])) ** 2 for v in (x, y))
    low, high = slice(10, 40), slice(1500, 9000)
    assert 10 * np.log10(b[low].sum() / a[low].sum()) < -20.0
    assert 10 * np.log10(b[high].sum() / a[high].sum()) == pytest.approx(0.0, abs=0.2)


# --- de-esser -----------------------------------------------------------------------------------------------------


def test_a_deesser_dips_the_hiss_and_only_while_it_hisses():
    tone, hiss = sine(300.0, 2.0, level_db=-12), sine(14000.0, 2.0, level_db=-15)
    hiss[:, :RATE] = 0.0
    y = through(tone + hiss, "deesser", freq_hz=5000.0, threshold_db=-30.0, range_db=-9.0)
    np.testing.assert_array_equal(y[:, 1000 : RATE - 1], (tone + hiss)[:, 1000 : RATE - 1])
    late = y[0, -RATE // 2 :] * np.hanning(RATE // 2)
    spectrum = 2 * np.abs(np.fft.rfft(late)) / (RATE / 4)
    assert 20 * np.log10(spectrum[7000]) == pytest.approx(-15.0 - 9.0, abs=0.5)
    assert 20 * np.log10(spectrum[150]) == pytest.approx(-12.0, abs=0.1)


# --- ducker -------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("hz", [45.0, 60.0])
def test_hits_are_found_within_a_millisecond(hz):
    key = kick_track(hz)
    gain = gain_of("ducker", sine(100.0, key.shape[1] / RATE), key, length_ms=200.0, depth_db=-12.0)
    starts = np.flatnonzero((gain[1:] < -0.5) & (gain[:-1] >= -0.5)) / RATE
    onsets = []
    for at in hit_times():  # the reference: where the hit passes 10 % of its peak
        part = np.max(np.abs(key[:, round(at * RATE) : round((at + 0.1) * RATE)]), axis=0)
        onsets.append(at + np.argmax(part >= 0.1 * part.max()) / RATE)
    assert len(starts) == len(onsets)
    np.testing.assert_allclose(starts, onsets, atol=0.001)


def test_hats_beside_the_kick_do_not_set_it_off_twice():
    key = kick_track(50.0)
    key[:, RATE // 3 :] += 0.004 * noise(4.5, level=1.0)[:, RATE // 3 :]
    gain = gain_of("ducker", sine(100.0, 4.5), key, length_ms=100.0, depth_db=-12.0)
    assert np.count_nonzero((gain[1:] < -0.5) & (gain[:-1] >= -0.5)) == 8


def test_the_drawn_curve_is_what_is_heard():
    points = [{"at": 0.0, "depth": 0.2}, {"at": 0.5, "depth": 1.0}, {"at": 1.0, "depth": 0.0}]
    one = device("ducker", trigger="grid", step="1/4", points=points, length_ms=400.0, depth_db=-10.0)
    processor = make_processor(one, Host(RATE, bpm=120.0))
    processor.process(np.ones((2, 2 * RATE)), None)
    t = np.arange(round(0.4 * RATE)) / round(0.4 * RATE)
    second = processor.gain_db[RATE // 2 : RATE // 2 + len(t)]
    settled = t > 0.02
    np.testing.assert_allclose(second[settled], -10.0 * curve_of(one.params, t)[settled], atol=0.1)
    assert not processor.gain_db[RATE // 2 - 400 : RATE // 2].any()


def test_the_grid_counts_from_the_songs_start():
    one = device("ducker", trigger="grid", step="1/8", length_ms=50.0)
    whole = make_processor(one, Host(RATE, bpm=92.0))
    whole.process(np.ones((2, 3 * RATE)), None)
    later = make_processor(one, Host(RATE, bpm=92.0))
    later.position = RATE
    later.process(np.ones((2, 2 * RATE)), None)
    np.testing.assert_allclose(later.gain_db[20000:], whole.gain_db[RATE + 20000 :], atol=1e-9)
