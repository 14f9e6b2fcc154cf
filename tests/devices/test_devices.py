"""What each device promises, against published formulas."""

import numpy as np
import pytest
import scipy.signal

from tests.signals import RATE, noise, sine
from zygotone.devices import Host, eq, make_processor
from zygotone.devices.compressor import transfer_db
from zygotone.devices.pan import pan_gains
from zygotone.dsp.dynamics import Level
from zygotone.dsp.shaping import CURVES
from zygotone.engine.chains import process_chain
from zygotone.measure.stereo import side_share
from zygotone.session.models import Device


def device(kind: str, **values) -> Device:
    return Device.model_validate({"kind": kind, **values})


# --- EQ -----------------------------------------------------------------------------------------------------------


def cookbook(shape: str, s: np.ndarray, gain_db: float, q: float) -> np.ndarray:
    """H(s) as printed in the Audio EQ Cookbook (R. Bristow-Johnson; W3C Note), s normalised to the corner."""
    a = 10.0 ** (gain_db / 40.0)
    root = np.sqrt(a)
    return {
        "bell": (s**2 + s * (a / q) + 1) / (s**2 + s / (a * q) + 1),
        "low_shelf": a * (s**2 + (root / q) * s + a) / (a * s**2 + (root / q) * s + 1),
        "high_shelf": a * (a * s**2 + (root / q) * s + 1) / (s**2 + (root / q) * s + a),
        "notch": (s**2 + 1) / (s**2 + s / q + 1),
        "low_cut": s**2 / (s**2 + s / q + 1),
        "high_cut": 1 / (s**2 + s / q + 1),
    }[shape]


@pytest.mark.parametrize("shape", ["bell", "low_shelf", "high_shelf", "low_cut", "high_cut", "notch"])
@pytest.mark.parametrize("freq_hz", [30.0, 250.0, 3000.0, 8000.0, 12000.0, 16000.0])
@pytest.mark.parametrize(("gain_db", "q"), [(6.0, 0.7071), (-12.0, 1.4), (18.0, 0.4), (-18.0, 2.0)])
def test_the_eq_follows_the_analog_prototype(shape, freq_hz, gain_db, q):
    # The bar: within 0.1 dB to 16 kHz at 48 kHz.
    one = device("eq", bands=[{"shape": shape, "freq_hz": freq_hz, "gain_db": gain_db, "q": q}])
    impulse = np.zeros((2, 1 << 17))
    impulse[:, 0] = 1.0
    response = np.abs(np.fft.rfft(make_processor(one, RATE).process(impulse, None)[0]))
    freqs = np.fft.rfftfreq(1 << 17, 1 / RATE)
    heard = (freqs > 20) & (freqs <= 16000)
    prototype = np.abs(cookbook(shape, 1j * freqs[heard] / freq_hz, gain_db, q))
    audible = prototype > 10.0 ** (-40.0 / 20.0)  # in the middle of a notch a dB says nothing
    error = 20 * np.log10(response[heard][audible] / prototype[audible])
    assert np.max(np.abs(error)) < 0.1


@pytest.mark.parametrize("slope", [6, 12, 18, 24, 30, 36, 42, 48])
@pytest.mark.parametrize("shape", ["low_cut", "high_cut"])
def test_cuts_are_butterworth(slope, shape):
    freqs = np.geomspace(100, 10000, 100)
    band = device("eq", bands=[{"shape": shape, "freq_hz": 1000.0, "slope_db_oct": slope}]).params
    kind = "highpass" if shape == "low_cut" else "lowpass"
    b, a = scipy.signal.butter(slope // 6, 1000.0, btype=kind, analog=True)
    _, h = scipy.signal.freqs(b, a, freqs)
    np.testing.assert_allclose(eq.response_db(band, freqs), 20 * np.log10(np.abs(h)), atol=1e-3)
    sos = eq.band_sos(band["bands"][0], RATE)
    _, digital = scipy.signal.sosfreqz(sos, freqs, fs=RATE)
    loud = np.abs(h) > 1e-3
    np.testing.assert_allclose(20 * np.log10(np.abs(digital[loud])), 20 * np.log10(np.abs(h[loud])), atol=0.1)


def test_mid_and_side_are_kept_apart():
    x = noise(0.2)
    mono = np.stack([x[0], x[0]])
    side_band = device("eq", bands=[{"gain_db": 12.0, "channel": "side"}])
    np.testing.assert_allclose(make_processor(side_band, RATE).process(mono, None), mono, atol=1e-12)
    opposite = np.stack([x[0], -x[0]])
    mid_band = device("eq", bands=[{"gain_db": 12.0, "channel": "mid"}])
    np.testing.assert_allclose(make_processor(mid_band, RATE).process(opposite, None), opposite, atol=1e-12)
    assert np.max(np.abs(make_processor(side_band, RATE).process(opposite, None) - opposite)) > 0.05


# --- compressor ---------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("level_db", [-40.0, -26.0, -20.0, -14.0, -6.0, 0.0])
@pytest.mark.parametrize("knee_db", [0.0, 12.0])
@pytest.mark.parametrize(("detector", "reads"), [("peak", 0.0), ("rms", -3.0103)])
def test_the_static_curve_on_a_sine(level_db, knee_db, detector, reads):
    # Giannoulis et al. 2012, eq. 4; the bar is 0.1 dB. A sine's RMS lies 3.01 dB under its peak.
    one = device(
        "compressor",
        threshold_db=-20.0,
        ratio=4.0,
        knee_db=knee_db,
        attack_ms=10.0,
        release_ms=100.0,
        detector=detector,
    )
    x = sine(1000.0, 1.0, level_db=level_db)
    y = make_processor(one, RATE).process(x, None)
    out_db = 20 * np.log10(np.max(np.abs(y[0, -4800:])))
    over = level_db + reads + 20.0
    reduction = 0.0
    if 2 * over > knee_db:
        reduction = -0.75 * over
    elif 2 * over > -knee_db:
        reduction = -0.75 * (over + knee_db / 2) ** 2 / (2 * knee_db)
    assert out_db == pytest.approx(level_db + reduction, abs=0.1)


@pytest.mark.parametrize("attack_ms", [1.0, 10.0, 80.0])
@pytest.mark.parametrize("release_ms", [20.0, 120.0, 600.0])
@pytest.mark.parametrize("hz", [0.0, 1000.0])
def test_attack_and_release_take_their_time(attack_ms, release_ms, hz):
    # Time to 63.2 % of the final change of the gain in dB after a step; the bar is 5 %.
    one = device("compressor", threshold_db=-30.0, ratio=4.0, knee_db=0.0, attack_ms=attack_ms, release_ms=release_ms)
    seconds = 0.3 + 8 * attack_ms * 1e-3, 0.3 + 8 * release_ms * 1e-3
    loud = round(seconds[0] * RATE)
    n = round(0.1 * RATE) + loud + round(seconds[1] * RATE)
    wave = np.ones(n) if hz == 0.0 else np.sin(2 * np.pi * hz * np.arange(n) / RATE)
    level = np.full(n, 10 ** (-50 / 20))
    begin, end = round(0.1 * RATE), round(0.1 * RATE) + loud
    level[begin:end] = 10 ** (-10 / 20)
    processor = make_processor(one, RATE)
    processor.process(np.stack([wave * level] * 2), None)
    gain = processor.gain_db
    settled = gain[end - 1]
    assert settled == pytest.approx(-15.0, abs=0.1)
    slack = 0.3 / 1000.0 if hz else 0.0  # a sine has to reach its first peak
    rise = np.argmax(gain[begin:end] <= 0.632 * settled) / RATE
    assert rise == pytest.approx(attack_ms * 1e-3, rel=0.05, abs=slack)
    fall = np.argmax(gain[end:] >= (1 - 0.632) * settled) / RATE
    assert fall == pytest.approx(release_ms * 1e-3, rel=0.05, abs=slack)


def test_range_and_makeup_bound_the_curve():
    one = device("compressor", threshold_db=-40.0, ratio=20.0, knee_db=0.0, range_db=6.0, makeup_db=2.0)
    assert transfer_db(one.params, np.array([0.0, -50.0])).tolist() == [-4.0, -48.0]


def test_a_key_moves_the_compressor_and_the_signal_does_not():
    one = device("compressor", threshold_db=-30.0, ratio=10.0, attack_ms=1.0)
    quiet, loud = np.zeros((2, 9600)), sine(100.0, 0.2)
    processor = make_processor(one, RATE)
    processor.process(loud, quiet)
    assert not processor.gain_db.any()
    processor.process(loud, loud)
    assert processor.gain_db.min() < -20.0


@pytest.mark.parametrize(("link_pct", "quiet_side_db"), [(100.0, -12.0), (50.0, -4.5), (0.0, 0.0)])
def test_the_stereo_link_tells_how_much_the_sides_share(link_pct, quiet_side_db):
    # Left 16 dB over the threshold and right 4 dB under it, 4:1: linked, both lose 12 dB; halfway between the levels
    # (6 dB over) right loses 4.5 dB; by itself nothing.
    x = sine(1000.0, 1.0, level_db=-4.0)
    x[1] *= 10 ** (-20 / 20)
    one = device("compressor", threshold_db=-20.0, ratio=4.0, knee_db=0.0, link_pct=link_pct)
    y = make_processor(one, RATE).process(x, None)[:, -4800:]
    change = 20 * np.log10(np.max(np.abs(y), axis=1) / np.max(np.abs(x[:, -4800:]), axis=1))
    np.testing.assert_allclose(change, [-12.0, quiet_side_db], atol=0.1)


def test_lookahead_catches_the_first_peak():
    one = device("compressor", threshold_db=-20.0, ratio=40.0, knee_db=0.0, attack_ms=0.5, lookahead_ms=5.0)
    x = np.concatenate([np.zeros((2, 4800)), sine(1000.0, 0.1)], axis=1)
    y = process_chain(x, [one], RATE)
    assert np.max(np.abs(y)) < 10 ** (-17 / 20)


# --- keyed EQ, saturation, the rest --------------------------------------------------------------------------------


def test_a_keyed_eq_dips_only_while_the_key_speaks():
    one = device("keyed_eq", freq_hz=50.0, q=1.4, range_db=-9.0, threshold_db=-40.0, attack_ms=1.0, release_ms=60.0)
    bass = sine(50.0, 2.0, level_db=-12)
    key = np.concatenate([np.zeros((2, RATE)), sine(50.0, 1.0)], axis=1)
    y = make_processor(one, RATE).process(bass, key)
    np.testing.assert_array_equal(y[:, : RATE // 2], bass[:, : RATE // 2])
    change = 20 * np.log10(np.max(np.abs(y[0, -9600:])) / np.max(np.abs(bass[0, -9600:])))
    assert change == pytest.approx(-9.0, abs=0.1)


@pytest.mark.parametrize("lookahead_ms", [1.0, 5.0, 20.0])
def test_lookahead_does_not_let_go_before_a_loud_part_has_ended(lookahead_ms):
    x = 0.01 * sine(1000.0, 1.0)
    x[:, RATE // 4 : RATE // 2] = sine(1000.0, 0.25)
    one = device(
        "compressor",
        threshold_db=-20.0,
        ratio=4.0,
        knee_db=0.0,
        attack_ms=1.0,
        release_ms=20.0,
        lookahead_ms=lookahead_ms,
    )
    processor = make_processor(one, RATE)
    processor.process(x, None)
    gain = processor.gain_db[processor.latency :]
    assert gain[RATE // 4 + 200 : RATE // 2].max() < -14.9  # all of the loud part, to its last frame
    assert gain[RATE // 2 + RATE // 10] > -0.5  # and soon after it is over
    if lookahead_ms >= 5.0:
        assert gain[RATE // 4] < -14.8  # turned down wholly when it begins


def test_the_rms_window_averages_as_long_as_it_says():
    # A burst of a tenth of a second in a window of 200 ms: half of its power is what counts, 3 dB less.
    x = np.zeros((2, RATE))
    x[:, : RATE // 10] = sine(1000.0, 0.1)
    levels = {}
    for ms in (50.0, 200.0):
        one = device(
            "compressor", detector="rms", threshold_db=-40.0, ratio=40.0, knee_db=0.0, attack_ms=0.05, rms_ms=ms
        )
        processor = make_processor(one, RATE)
        processor.process(x, None)
        levels[ms] = processor.gain_db.min()
    assert levels[200.0] - levels[50.0] == pytest.approx(3.01 * 39 / 40, abs=0.1)


@pytest.mark.parametrize("curve", CURVES)
def test_saturation_does_not_alias(curve):
    # The bar: at 4×, a 1245 Hz tone at −6 dBFS with 18 dB drive: under −80 dBFS for smooth curves, −60 for hard ones.
    one = device("saturation", curve=curve, drive_db=18.0, oversampling=4, level_match=False)
    y = make_processor(one, RATE).process(sine(1245.0, 3.0, level_db=-6.0), None)[0, RATE:]
    window = np.kaiser(len(y), 20)
    spectrum = 2 * np.abs(np.fft.rfft(y * window)) / window.sum()
    freqs = np.fft.rfftfreq(len(y), 1 / RATE)
    harmonic = np.abs(freqs - np.round(freqs / 1245.0) * 1245.0) < 12
    worst = 20 * np.log10(spectrum[~harmonic].max())
    assert worst < (-80.0 if curve in ("soft", "tube", "tape") else -60.0)


@pytest.mark.parametrize("curve", CURVES)
def test_the_curve_is_the_same_at_any_oversampling(curve):
    # A low tone hardly folds, so that all rates give one waveform: what is bent is in time with what it is added to.
    x = sine(211.0, 0.5, level_db=-12.0)
    ways = [
        process_chain(x, [device("saturation", curve=curve, drive_db=12.0, oversampling=factor)], RATE)[0, 9600:14400]
        for factor in (0, 1, 2, 4, 8)
    ]
    for way in ways[1:]:
        assert np.std(way - ways[0]) < 0.01 * np.std(ways[0])


def test_saturation_as_needed_is_8_times_in_a_render_and_4_while_it_plays():
    x = noise(0.3, level=0.3)
    one = device("saturation", curve="hard", drive_db=24.0)
    for live, factor in ((False, 8), (True, 4)):
        as_needed = make_processor(one, Host(RATE, live=live))
        set_so = make_processor(device("saturation", curve="hard", drive_db=24.0, oversampling=factor), RATE)
        y, wanted = as_needed.process(x, None), set_so.process(x, None)
        late = as_needed.latency - set_so.latency
        np.testing.assert_allclose(y[:, late:], wanted[:, : wanted.shape[1] - late], atol=1e-5)
    assert make_processor(one, Host(RATE, live=True)).latency == make_processor(one, RATE).latency


def test_more_oversampling_never_means_more_aliases():
    worst = []
    for factor in (1, 2, 4, 8):
        one = device("saturation", curve="hard", drive_db=18.0, oversampling=factor, level_match=False)
        y = make_processor(one, RATE).process(sine(1245.0, 2.0, level_db=-6.0), None)[0, RATE:]
        window = np.kaiser(len(y), 20)
        spectrum = np.abs(np.fft.rfft(y * window))
        freqs = np.fft.rfftfreq(len(y), 1 / RATE)
        worst.append(spectrum[np.abs(freqs - np.round(freqs / 1245.0) * 1245.0) > 12].max())
    assert worst == sorted(worst, reverse=True)


def test_what_is_left_clean_stays_clean():
    one = device("saturation", drive_db=24.0, clean_below_hz=800.0, level_match=False)
    x = sine(50.0, 1.0, level_db=-12)
    y = process_chain(x, [one], RATE)[:, : x.shape[1]]
    spectrum = np.abs(np.fft.rfft(y[0, RATE // 2 :] * np.hanning(RATE // 2)))
    assert 20 * np.log10(spectrum[75] / spectrum[25]) < -60.0  # the third harmonic


def test_mono_low_makes_the_low_end_mono_and_leaves_the_top():
    one = device("mono_low", freq_hz=120.0)
    for hz, expected in ((40.0, 0.0), (2000.0, 0.5)):
        left = sine(hz, 1.0, level_db=-6)[0]
        x = np.stack([left, np.zeros_like(left)])
        y = make_processor(one, RATE).process(x, None)[:, RATE // 2 :]
        assert side_share(y) == pytest.approx(expected, abs=0.01)
        # No level is lost in phase trouble: the mid has the level it had.
        assert np.std(y.mean(axis=0)) == pytest.approx(np.std(x.mean(axis=0)), rel=0.01)


@pytest.mark.parametrize("law", [-3.0, -4.5, -6.0])
def test_pan_laws(law):
    left, right = pan_gains(-100.0, law)
    assert right == pytest.approx(0.0, abs=1e-12)
    assert 20 * np.log10(left) == pytest.approx(-law, abs=0.03)
    assert pan_gains(0.0, law) == (1.0, 1.0)


def test_equal_power_pan_keeps_the_power():
    for pan in (-80, -30, 10, 65):
        left, right = pan_gains(pan, -3.0)
        assert left**2 + right**2 == pytest.approx(2.0, rel=1e-3)


def test_a_softer_transient_softens_the_onset_and_not_the_rest():
    x = np.concatenate([np.zeros((2, 4800)), sine(100.0, 1.0, level_db=-12)], axis=1)
    y = process_chain(x, [device("transient", attack_db=-12.0, split_ms=30.0)], RATE)
    early, late = slice(4800, 4800 + 960), slice(-9600, -1)
    assert np.max(np.abs(y[0, early])) < 0.4 * np.max(np.abs(x[0, early]))
    assert np.max(np.abs(y[0, late])) == pytest.approx(np.max(np.abs(x[0, late])), rel=0.02)


def test_the_detector_reads_a_sine_at_its_peak():
    level = Level("peak", attack_s=0.01, release_s=0.12, sample_rate_hz=RATE)
    got = level.process(sine(60.0, 0.5, level_db=-9.0))
    np.testing.assert_allclose(20 * np.log10(got[9600:]), -9.0, atol=0.02)
