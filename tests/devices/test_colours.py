"""Filter, saturation, bit reducer, cabinet, vocoder, pitch, width and spread."""

import numpy as np
import pytest
import scipy.signal
from hypothesis import given
from hypothesis import strategies as st

from tests.signals import RATE, noise, sine
from zygotone.devices import Host, make_processor
from zygotone.devices.cabinet import cabinet_response
from zygotone.dsp.pitch_shifting import PitchShifter
from zygotone.dsp.shaping import CURVES
from zygotone.dsp.sweeping import ladder_feedback, ladder_taps, svf_damping, sweep_ladder, sweep_svf
from zygotone.engine.chains import process_chain
from zygotone.measure.loudness import integrated_lufs
from zygotone.measure.pitch import fundamental_hz
from zygotone.session.models import Device


def device(kind: str, **values) -> Device:
    return Device.model_validate({"kind": kind, **values})


def through(x, kind: str, **values) -> np.ndarray:
    return process_chain(x, [device(kind, **values)], RATE, max_tail_s=0.0)[:, : x.shape[1]]


def response(kind: str, **values) -> tuple[np.ndarray, np.ndarray]:
    """Frequencies and magnitude, for a click soft enough for any loop to be straight."""
    click = np.zeros((2, RATE))
    click[:, RATE // 8] = 1e-3  # not at once: filters without phase begin before
    y = through(click, kind, **values)[0] / 1e-3
    return np.fft.rfftfreq(RATE, 1 / RATE), np.abs(np.fft.rfft(y))


# --- filter -------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("mode", "kind"), [("lowpass", "lowpass"), ("highpass", "highpass")])
def test_the_state_variable_filter_is_the_analog_one(mode, kind):
    # Resonance r gives k = 2(1 − r), so r = 1 − √½ is Butterworth's; SciPy's analog design is the reference.
    _, h = response("filter", mode=mode, cutoff_hz=1000.0, resonance=1.0 - np.sqrt(0.5))
    b, a = scipy.signal.butter(2, 2 * np.pi * 1000.0, btype=kind, analog=True)
    freqs = np.array([50, 200, 700, 1000, 1500, 5000, 15000])
    _, wanted = scipy.signal.freqs(b, a, 2 * np.pi * freqs)
    np.testing.assert_allclose(20 * np.log10(h[freqs]), 20 * np.log10(np.abs(wanted)), rtol=0.025, atol=0.02)


def test_the_ladder_falls_24_db_an_octave_and_notches_are_deep():
    _, h = response("filter", model="ladder", cutoff_hz=100.0, resonance=0.0)
    assert 20 * np.log10(h[2000] / h[1000]) == pytest.approx(-24.0, abs=0.3)
    assert 20 * np.log10(h[100] / h[2]) == pytest.approx(-12.04, abs=0.05)  # four one-poles at −3.01 dB each
    for model in ("svf", "ladder"):
        _, h = response("filter", model=model, mode="notch", cutoff_hz=1000.0, resonance=0.0)
        assert 20 * np.log10(h[1000] / h[20]) < -60.0


@pytest.mark.parametrize("model", ["svf", "ladder"])
@given(seed=st.integers(0, 1000), resonance=st.floats(0.0, 1.0), level=st.floats(0.0, 30.0))
def test_any_sweep_at_audio_rate_is_stable(model, seed, resonance, level):
    rng = np.random.default_rng(seed)
    turns = 0.49 * rng.random(4000) if seed % 2 else 0.245 + 0.24 * np.sin(np.arange(4000) * rng.random() * 3)
    g = np.tan(np.pi * np.clip(turns, 1e-4, 0.49))
    x = level * rng.standard_normal(4000)
    y, state = np.empty_like(x), np.zeros(2 if model == "svf" else 4)
    for mode in range(4):
        if model == "svf":
            sweep_svf(x, g, svf_damping(resonance), mode, state, y)
        else:
            sweep_ladder(x, g, ladder_feedback(resonance), *ladder_taps(mode, resonance), state, y)
        assert np.isfinite(y).all()
        assert np.max(np.abs(y)) < 40.0 * (1.0 + level)


@pytest.mark.parametrize("model", ["svf", "ladder"])
@pytest.mark.parametrize("mode", ["lowpass", "highpass", "bandpass", "notch"])
@pytest.mark.parametrize("hz", [1245.0, 9391.0])
def test_what_a_driven_filter_bends_does_not_fold(model, mode, hz):
    # The bar of the saturation, by its tone: −6 dBFS; here with 12 dB of drive.
    x = sine(hz, 1.0, level_db=-6.0)
    y = through(x, "filter", model=model, mode=mode, cutoff_hz=12000.0, resonance=0.7, drive_db=12.0)[
        0, RATE // 4 : 3 * RATE // 4
    ]
    spectrum = np.abs(np.fft.rfft(y * np.kaiser(len(y), 16.0)))
    freqs = np.fft.rfftfreq(len(y), 1 / RATE)
    apart = np.abs(freqs / hz - np.round(freqs / hz)) * hz
    folded = spectrum[(apart > 20.0) & (freqs > 20.0) & (freqs < 20000.0)]
    assert 20 * np.log10(folded.max() / spectrum.max()) < -70.0


@pytest.mark.parametrize("model", ["svf", "ladder"])
@pytest.mark.parametrize("hz", [220.0, 880.0, 3520.0])
def test_at_full_resonance_a_filter_sings_in_tune_for_as_long_as_it_stands(model, hz):
    y = through(np.zeros((2, 6 * RATE)), "filter", model=model, cutoff_hz=hz, resonance=1.0)[0]
    early, late = y[3 * RATE : 4 * RATE], y[5 * RATE :]
    assert 20 * np.log10(np.std(late)) == pytest.approx(20 * np.log10(np.std(early)), abs=0.1)
    assert -20.0 < 20 * np.log10(np.std(late)) < 3.0
    sung = np.argmax(np.abs(np.fft.rfft(late * np.hanning(len(late)), 8 * RATE))) / 8.0
    assert abs(1200 * np.log2(sung / hz)) < 10.0
    dies = through(
        np.pad(noise(0.2, level=0.3), ((0, 0), (0, 6 * RATE))), "filter", model=model, cutoff_hz=hz, resonance=0.95
    )[0]
    assert np.max(np.abs(dies[5 * RATE :])) < 1e-6


@pytest.mark.parametrize("resonance", [0.3, 0.6, 0.9])
@pytest.mark.parametrize("model", ["svf", "ladder"])
@pytest.mark.parametrize(("mode", "passes"), [("lowpass", [30]), ("highpass", [15000]), ("notch", [30, 15000])])
def test_what_passes_keeps_its_level_at_any_resonance(model, mode, passes, resonance):
    _, h = response("filter", model=model, mode=mode, cutoff_hz=800.0, resonance=resonance)
    np.testing.assert_allclose(20 * np.log10(h[passes]), 0.0, atol=0.2)
    low = through(sine(40.0, 1.0, level_db=0.0), "filter", model=model, cutoff_hz=800.0, resonance=resonance)[
        0, RATE // 2 :
    ]
    assert 20 * np.log10(np.max(np.abs(low))) > -0.3


@pytest.mark.parametrize("model", ["svf", "ladder"])
def test_a_sweep_does_not_click(model):
    x = sine(100.0, 2.0, level_db=-12)
    y = through(x, "filter", model=model, cutoff_hz=800.0, lfo_rate=3.0, depth_octaves=2.0, resonance=0.5)[0, 4800:]
    high = scipy.signal.sosfilt(scipy.signal.butter(8, 6000.0, "highpass", fs=RATE, output="sos"), y)
    assert 20 * np.log10(np.max(np.abs(high[4800:])) / np.max(np.abs(y))) < -70.0


def test_the_filter_follows_level_and_lfo():
    loud, soft = noise(1.0, level=0.3), noise(1.0, level=0.003)
    bright = []
    for x in (loud, soft):
        y = through(x, "filter", cutoff_hz=300.0, env_octaves=5.0)[0, RATE // 2 :]
        spectrum = np.abs(np.fft.rfft(y)) ** 2
        bright.append(np.sum(spectrum * np.arange(len(spectrum))) / np.sum(spectrum))
    assert bright[0] > 2.0 * bright[1]


# --- saturation, bits ---------------------------------------------------------------------------------------------


@pytest.mark.parametrize("curve", CURVES)
@pytest.mark.parametrize("material", ["noise", "tones"])
@pytest.mark.parametrize("drive_db", [3.0, 15.0, 30.0])
def test_level_match_keeps_the_loudness_of_a_track(curve, material, drive_db):
    x = {
        "noise": pink(3.0, rms_db=-18.0),
        "tones": sum(sine(hz, 3.0, level_db=-21) for hz in (110.0, 220.0, 277.0, 1300.0)),  # −18 dB RMS together
    }[material]
    y = process_chain(x, [device("saturation", curve=curve, drive_db=drive_db)], RATE)[:, : x.shape[1]]
    gap = integrated_lufs(y, RATE) - integrated_lufs(x, RATE)
    # Chords of sines have another distribution than noise: then it is a rule of thumb, and the trim is there.
    assert abs(gap) < (1.0 if material == "noise" else 4.0)


@pytest.mark.parametrize("curve", CURVES)
def test_level_match_does_not_wander(curve):
    """What a phrase sounds like does not depend on what was played before it."""
    soft = sum(sine(hz, 1.0, level_db=-30) for hz in (110.0, 480.0))
    loud = noise(3.0, level=0.5)
    one = [device("saturation", curve=curve, drive_db=18.0)]
    alone = process_chain(soft, one, RATE)[:, 24000:48000]
    after = process_chain(np.concatenate([loud, soft, soft], axis=1), one, RATE)[:, 3 * RATE + 24000 : 4 * RATE]
    gain_db = 20 * np.log10(np.std(after) / np.std(alone))
    assert abs(gain_db) < 0.05


@pytest.mark.parametrize("edge", ["an octave away", "beside it"])
@pytest.mark.parametrize("level_match", [True, False])
@pytest.mark.parametrize("curve", [c for c in CURVES if c not in ("fold", "rectify")])
@pytest.mark.parametrize("drive_db", [6.0, 24.0, 48.0])
def test_what_lies_outside_of_the_band_keeps_its_level(curve, drive_db, level_match, edge):
    """A fundamental under ``clean_below``, and a top over ``clean_above``, with a loud middle, and soft and alone."""
    below, above = (94.0, 4500.0) if edge == "an octave away" else (48.0, 8900.0)
    bass, top, middle = sine(47.0, 2.0, level_db=-9), sine(9001.0, 2.0, level_db=-15), sine(611.0, 2.0, level_db=-9)
    settings = {"clean_below_hz": below, "clean_above_hz": above, "curve": curve, "drive_db": drive_db}
    y = through(bass + top + middle, "saturation", level_match=level_match, **settings)
    for hz, level in ((47.0, -9.0), (9001.0, -15.0)):
        assert level_at(y, hz) == pytest.approx(level, abs=0.5), hz
    for level in (-9.0, -40.0):
        alone = through(sine(47.0, 2.0, level_db=level), "saturation", level_match=level_match, **settings)
        assert level_at(alone, 47.0) == pytest.approx(level, abs=0.5)


@pytest.mark.parametrize("hz", [60.0, 80.0, 100.0, 120.0, 160.0])
def test_the_edge_of_the_clean_band_has_no_notch(hz):
    """Across the edge a tone goes from its own level to that of the driven band, and never under both."""
    one = {"curve": "soft", "drive_db": 12.0, "level_match": False, "clean_below_hz": 100.0}
    x = sine(hz, 2.0, level_db=-12)
    inside = level_at(through(sine(400.0, 2.0, level_db=-12), "saturation", **one), 400.0)
    assert min(-12.0, inside) - 0.5 < level_at(through(x, "saturation", **one), hz) < max(-12.0, inside) + 0.5


def pink(seconds: float, *, rms_db: float) -> np.ndarray:
    """Noise of −3 dB an octave, 20 Hz to 20 kHz, another on either side."""
    spectrum = np.fft.rfft(noise(seconds, seed=5))
    hz = np.fft.rfftfreq(round(seconds * RATE), 1.0 / RATE)
    x = np.fft.irfft(np.where((hz > 20.0) & (hz < 20000.0), spectrum / np.sqrt(np.maximum(hz, 1.0)), 0.0), axis=1)
    return x * 10.0 ** (rms_db / 20.0) / np.std(x)


def level_at(y: np.ndarray, hz: float) -> float:
    """Peak level in dB of a tone in the second second of ``y``."""
    part = y[0, RATE : 2 * RATE]
    t = np.arange(len(part)) / RATE
    window = np.hanning(len(part))
    return float(20 * np.log10(2.0 * np.abs(np.sum(part * window * np.exp(-2j * np.pi * hz * t))) / np.sum(window)))


@pytest.mark.parametrize("bits", [6.0, 8.0, 11.5])
def test_bits_leave_their_noise(bits):
    # Bennett 1948: rounding to steps of q leaves noise of q²/12.
    x = 0.9 * sine(997.0, 1.0)
    error = through(x, "bit_reducer", bits=bits) - x
    assert np.mean(error**2) == pytest.approx(2.0 ** (2 - 2 * bits) / 12, rel=0.1)


def test_a_lower_rate_holds_its_samples():
    y = through(noise(0.5), "bit_reducer", rate_hz=8000.0)[0]
    changes = np.flatnonzero(np.diff(y))
    assert np.all(np.diff(changes) == 6)
    steady = through(noise(0.5), "bit_reducer", rate_hz=8000.0, jitter=0.7)[0]
    assert len(set(np.diff(np.flatnonzero(np.diff(steady))))) > 2


def test_hiss_is_as_loud_as_it_says_and_silence_stays_silence():
    x = sine(50.0, 2.0, level_db=-60)
    hiss = through(x, "bit_reducer", hiss_db=-50.0) - x
    assert 20 * np.log10(np.max(np.abs(hiss))) == pytest.approx(-50.0, abs=0.1)
    assert not through(np.zeros((2, 4800)), "bit_reducer", hiss_db=-50.0).any()


# --- cabinet ------------------------------------------------------------------------------------------------------


def test_a_cabinet_has_the_shape_of_a_loudspeaker():
    freqs = np.fft.rfftfreq(1 << 15, 1 / RATE)

    def level(response, low, high):
        h = np.abs(np.fft.rfft(response, 1 << 15))
        return 10 * np.log10(np.mean(h[(freqs > low) & (freqs < high)] ** 2))

    usual = cabinet_response(12.0, 0.5, 5.0, RATE)
    assert level(usual, 200, 3000) == pytest.approx(0.0, abs=0.3)
    assert level(usual, 20, 40) < -10.0
    assert level(usual, 12000, 20000) < -20.0
    assert (
        level(cabinet_response(12.0, 1.0, 5.0, RATE), 3000, 6000)
        > level(cabinet_response(12.0, 0.0, 5.0, RATE), 3000, 6000) + 3
    )
    assert (
        level(cabinet_response(15.0, 0.5, 5.0, RATE), 50, 90) > level(cabinet_response(8.0, 0.5, 5.0, RATE), 50, 90) + 3
    )
    assert np.argmax(np.abs(usual)) < 30  # of least delay


def test_a_cabinet_that_hears_one_side_alone_later_has_missed_nothing():
    # While both sides are alike one is worked out for both; what then comes on one side must find its past there.
    x = noise(0.2, level=0.2)
    x[1] = x[0]
    x[1, 5000:5600] = 0.0
    one = [device("cabinet")]
    y = process_chain(x, one, RATE)
    for side in range(2):
        np.testing.assert_allclose(y[side], process_chain(np.stack([x[side], 0.5 * x[side]]), one, RATE)[0], atol=1e-12)


def test_an_impulse_file_is_convolved():
    impulse = np.zeros((2, 30000))
    impulse[0, [0, 700, 29999]] = [0.8, -0.5, 0.33166]
    impulse[1, 10] = 1.0
    x = noise(0.3)
    y = process_chain(x, [device("cabinet", impulse="mine.wav")], RATE, clip={"mine.wav": impulse}.get)[:, : x.shape[1]]
    wanted = np.stack([scipy.signal.fftconvolve(x[c], impulse[c])[: x.shape[1]] for c in range(2)])
    level = np.sqrt(np.max(np.sum(impulse**2, axis=1)))
    np.testing.assert_allclose(y, wanted / level, atol=1e-12)


# --- vocoder ------------------------------------------------------------------------------------------------------


def test_the_key_talks_and_the_track_sings():
    """A voice with energy around 500 Hz only opens the carrier there, and only while it talks."""
    band = scipy.signal.butter(4, [400.0, 600.0], "bandpass", fs=RATE, output="sos")
    voice = scipy.signal.sosfilt(band, noise(2.0, level=0.3), axis=1)
    voice[:, RATE:] = 0.0
    saw = np.stack([scipy.signal.sawtooth(2 * np.pi * 110.0 * np.arange(2 * RATE) / RATE)] * 2) * 0.3
    y = process_chain(saw, [device("vocoder", bands=20, noise_db=-80.0)], RATE, key=voice)[0, : 2 * RATE]
    spectrum = np.abs(np.fft.rfft(y[:RATE])) ** 2
    inside, outside = spectrum[380:640].sum(), spectrum[1200:].sum() + spectrum[:200].sum()
    assert 10 * np.log10(inside / outside) > 15.0
    assert np.std(y[RATE + 24000 :]) < 1e-3 * np.std(y[:RATE])
    harmonics = spectrum[440] + spectrum[550]
    assert harmonics > 50 * spectrum[495]  # it is the track that is heard, not the voice


def test_formants_move_the_bands():
    tone = sine(1000.0, 1.0, level_db=-12)
    carrier = noise(1.0, level=0.3)

    def centre(semitones):
        y = process_chain(
            carrier, [device("vocoder", bands=30, formant_semitones=semitones, noise_db=-80.0)], RATE, key=tone
        )[0, :RATE]
        power = np.abs(np.fft.rfft(y)) ** 2
        return np.sum(power * np.arange(len(power))) / np.sum(power)

    assert centre(12.0) / centre(0.0) == pytest.approx(2.0, rel=0.1)


# --- pitch --------------------------------------------------------------------------------------------------------


def harmonic(hz: float, seconds: float) -> np.ndarray:
    t = np.arange(round(seconds * RATE)) / RATE
    x = sum(np.sin(2 * np.pi * hz * n * t + n) / n for n in range(1, 20))
    return np.stack([x, x]) * 0.15


@pytest.mark.parametrize("semitones", [-12.0, -5.0, 3.0, 7.0, 12.0])
@pytest.mark.parametrize("hz", [110.0, 330.0])
def test_pitch_goes_where_it_is_told(semitones, hz):
    y = through(harmonic(hz, 2.0), "pitch", semitones=semitones)[:, RATE // 2 : -RATE // 4]
    wanted = hz * 2 ** (semitones / 12)
    assert abs(1200 * np.log2(fundamental_hz(y, RATE) / wanted)) < 5.0
    # and it stays level: no beating of frames
    level = np.sqrt(np.mean(y[0][: len(y[0]) // 2400 * 2400].reshape(-1, 2400) ** 2, axis=1))
    assert 20 * np.log10(level.max() / level.min()) < 3.0


def formant_hz(x: np.ndarray) -> float:
    """Middle of the energy from 500 Hz to 3 kHz."""
    power = np.abs(np.fft.rfft(x * np.hanning(len(x)))) ** 2
    f = np.fft.rfftfreq(len(x), 1 / RATE)
    part = (f > 500) & (f < 3000)
    return float(np.sum(f[part] * power[part]) / np.sum(power[part]))


def test_formants_stay_or_go_by_themselves():
    t = np.arange(2 * RATE) / RATE
    source = sum(np.sin(2 * np.pi * 130.0 * n * t + n * n) for n in range(1, 40))
    sos = np.vstack(
        [scipy.signal.iirpeak(1200.0, 8.0, fs=RATE)[0:1] + scipy.signal.iirpeak(1200.0, 8.0, fs=RATE)[1:2]]
    ).reshape(1, 6)
    sung = scipy.signal.sosfilt(sos, source) * 0.2
    x = np.stack([sung, sung])
    middle = slice(RATE // 2, -RATE // 2)
    here = formant_hz(sung[middle])
    kept = formant_hz(through(x, "pitch", semitones=5.0)[0, middle])
    moved = formant_hz(through(x, "pitch", semitones=5.0, formant_semitones=5.0)[0, middle])
    assert kept == pytest.approx(here, rel=0.08)
    assert moved == pytest.approx(here * 2 ** (5 / 12), rel=0.1)


def test_a_mono_sound_stays_mono_and_unmoved_pitch_is_the_input():
    y = through(harmonic(220.0, 1.0), "pitch", semitones=4.0)
    np.testing.assert_allclose(y[0], y[1], atol=1e-12)
    x = noise(1.0)
    shifter = PitchShifter(1.0, 1.0, RATE)
    late = shifter.process(x)
    np.testing.assert_allclose(late[:, shifter.latency :], x[:, : -shifter.latency], atol=1e-12)


# --- width and spread ---------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("width", "factor"), [(0.0, 0.0), (50.0, 0.5), (200.0, 2.0)])
def test_width_scales_the_side(width, factor):
    x = noise(0.5)
    y = through(x, "width", width_pct=width)
    np.testing.assert_allclose(y[0] - y[1], factor * (x[0] - x[1]), atol=1e-12)
    np.testing.assert_allclose(y[0] + y[1], x[0] + x[1], atol=1e-12)


def test_width_leaves_the_low_end_alone():
    for hz, factor in ((40.0, 1.0), (4000.0, 0.0)):
        x = sine(hz, 1.0)
        x[1] *= -0.5
        y = through(x, "width", width_pct=0.0, keep_below_hz=300.0)[:, RATE // 3 : -RATE // 3]
        side = np.std(y[0] - y[1]) / np.std(x[0] - x[1])
        assert side == pytest.approx(factor, abs=0.01)


def test_mono_low_of_what_is_mono_is_the_input():
    x = noise(0.5)[[0, 0]]
    np.testing.assert_allclose(through(x, "mono_low", freq_hz=150.0), x, atol=1e-15)


def test_haas_is_a_delay_of_one_side():
    x = noise(0.5)
    y = through(x, "spread", time_ms=10.0, side="left")
    np.testing.assert_array_equal(y[1], x[1])
    np.testing.assert_array_equal(y[0, 480:], x[0, :-480])


def test_all_pass_spread_widens_and_keeps_each_sides_level():
    x = noise(3.0)[[0, 0]]
    y = through(x, "spread", method="allpass", time_ms=12.0)[:, RATE:]
    assert np.corrcoef(y)[0, 1] < 0.5
    for side in y:
        assert np.std(side) == pytest.approx(np.std(x), rel=0.02)


def test_what_repeats_goes_by_the_song():
    """A second half heard alone is the second half of the whole, once the lines are full."""
    for one in (device("tremolo", rate="1/8t"), device("filter", depth_octaves=2.0, cutoff_hz=800.0), device("vibrato"), device("phaser", feedback=0.0)):  # fmt: skip
        x = noise(2.0)
        whole = make_processor(one, Host(RATE, bpm=92.0)).process(x, None)
        later = make_processor(one, Host(RATE, bpm=92.0))
        later.position = RATE
        part = later.process(x[:, RATE:].copy(), None)
        np.testing.assert_allclose(part[:, 24000:], whole[:, RATE + 24000 :], atol=1e-6)
