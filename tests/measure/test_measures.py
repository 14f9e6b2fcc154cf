"""Spectrum, stereo, dynamics, pitch and the low end."""

import math

import numpy as np
import pytest
import scipy.signal
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.signals import RATE, bass_track, clear_db, hit_times, kick_track, noise, sine
from zygotone.measure.dynamics import attack_ms, crest_db, decay_ms, hits, pumping_db
from zygotone.measure.loudness import loudness, true_peak
from zygotone.measure.low_end import bass_pitches, clearness, find_kick, hit_energies, onset_gaps_ms, shared_hz
from zygotone.measure.pitch import fundamental_hz
from zygotone.measure.report import measure_audio
from zygotone.measure.spectrum import centroid_hz, peak_q, spectrum, third_octaves
from zygotone.measure.stereo import correlation, side_share, side_share_below
from zygotone.measure.windows import cut_windows


def test_the_spectrum_holds_the_power():
    x = noise(2.0)  # Parseval
    assert spectrum(x, RATE).power.sum() == pytest.approx(np.mean(x**2), rel=0.01)


def test_white_noise_rises_three_db_an_octave_in_third_octaves():
    # IEC 61260-1: bands of constant relative width; white noise has power in proportion to the width.
    bands = third_octaves(spectrum(noise(20.0), RATE, n_fft=32768))
    rise = 10 * np.log10(bands["8000"] / bands["1000"])
    assert rise == pytest.approx(9.03, abs=0.3)
    assert list(bands)[:3] == ["20", "25", "31.5"]


@pytest.mark.parametrize("hz", [50.0, 1000.0, 6300.0])
def test_a_tone_lies_in_its_band(hz):
    found = measure_audio(sine(hz, 2.0), RATE)["third_octaves_db"]
    assert max(found, key=found.get) == f"{hz:g}"


def test_centroid_of_two_tones_is_between_by_power():
    x = sine(1000.0, 2.0) + sine(3000.0, 2.0)
    assert centroid_hz(spectrum(x, RATE)) == pytest.approx(2000.0, rel=0.01)


def test_peak_q_of_a_resonance():
    # A resonance of Q falls by 10 dB at a width of 3·f0/Q: |H|² = 1/(1 + Q²(f/f0 − f0/f)²).
    b, a = scipy.signal.iirpeak(200.0, 5.0, fs=RATE)
    x = scipy.signal.lfilter(b, a, noise(20.0, level=1.0), axis=1)
    assert peak_q(spectrum(x, RATE), 200.0) == pytest.approx(5.0 / 3.0, rel=0.15)


def test_stereo_measures():
    x = noise(3.0)
    mono, wide = np.stack([x[0], x[0]]), np.stack([x[0], -x[0]])
    assert correlation(mono) == pytest.approx(1.0)
    assert correlation(wide) == pytest.approx(-1.0)
    assert correlation(x) == pytest.approx(0.0, abs=0.02)
    assert (side_share(mono), side_share(wide)) == (0.0, 1.0)
    assert side_share(x) == pytest.approx(0.5, abs=0.01)
    assert loudness(mono, RATE).fold_down_loss_lu == pytest.approx(0.0, abs=1e-6)
    # Two unlike signals of equal power lose 3 dB in mono.
    assert loudness(x, RATE).fold_down_loss_lu == pytest.approx(3.01, abs=0.1)


def test_side_share_of_the_lows_looks_at_the_lows():
    low, high = sine(50.0, 1.0), sine(3000.0, 1.0)
    x = np.stack([low[0] + high[0], low[0] - high[0]])
    assert side_share_below(x, 100.0, RATE) < 0.01
    x = np.stack([low[0] + high[0], -low[0] + high[0]])
    assert side_share_below(x, 100.0, RATE) > 0.95


def test_crest_attack_and_decay():
    assert crest_db(sine(1000.0, 1.0)) == pytest.approx(3.01, abs=0.01)
    t = np.arange(RATE) / RATE
    x = np.minimum(1.0, t / 0.05) * np.exp(-np.maximum(0.0, t - 0.05) / 0.1) * np.sin(2 * np.pi * 2000 * t)
    assert attack_ms(x[None], RATE) == pytest.approx(0.8 * 50.0, rel=0.05)  # 10 to 90 % of a straight rise
    assert decay_ms(x[None], RATE) == pytest.approx(100.0 * np.log(10.0), rel=0.1)


def test_pumping_is_what_moves_within_a_beat():
    x, t = sine(100.0, 10.0), np.arange(10 * RATE) / RATE
    assert pumping_db(np.full(10 * RATE, -6.0), x, RATE) == 0.0
    ride = 6.0 * np.sin(2 * np.pi * t / 20.0)
    assert pumping_db(ride, x, RATE) < 1.5  # 6 dB in 5 s
    for every_s in (0.25, 0.5, 0.6):  # short and deep
        ducks = np.where(t % every_s < 0.05, -12.0, 0.0)
        assert pumping_db(ducks, x, RATE) == pytest.approx(12.0, abs=0.1)
    once = np.where(t < 0.05, -12.0, 0.0)
    assert pumping_db(once, x, RATE) == 0.0
    x[:, 5 * RATE :] = 0.0  # what happens while the track is silent is no pumping
    assert pumping_db(np.where(t > 5.1, np.where(t % 0.5 < 0.1, -9.0, 0.0), 0.0), x, RATE) == 0.0


@pytest.mark.parametrize("attack", [2.0, 4.0, 30.0, 120.0])
def test_the_attack_of_a_pad_that_beats_is_its_first_rise(attack):
    """Seven saws out of tune, in unison after some seconds: their beating is louder than their beginning."""
    t = np.arange(3 * RATE) / RATE
    rng = np.random.default_rng(3)
    pad = sum(
        scipy.signal.sawtooth(2 * np.pi * (220.0 * 2 ** (c / 1200) * t + rng.random())) for c in np.linspace(-15, 15, 7)
    )
    pad *= np.minimum(1.0, t / (attack * 1e-3)) * 0.05
    assert attack_ms(pad[None], RATE) == pytest.approx(0.8 * attack, abs=max(6.0, 0.5 * attack))


BASS_HZ = [41.2, 46.25, 55.0, 73.4, 98.0]


def basses(hz: float) -> dict[str, np.ndarray]:
    t = np.arange(2 * RATE) / RATE
    saw = sum(np.sin(2 * np.pi * hz * n * t + 0.3 * n * n) / n for n in range(1, int(10000 / hz)))
    found = {
        "saw": saw, "sine": np.sin(2 * np.pi * hz * t), "square": np.sign(np.sin(2 * np.pi * hz * t)),
        "no fundamental": saw - np.sin(2 * np.pi * hz * t + 0.3), "bent": np.tanh(4 * np.sin(2 * np.pi * hz * t) + 0.5),
        "a trace of the octave below": saw + 0.02 * np.sin(np.pi * hz * t) + 0.01 * np.sin(3 * np.pi * hz * t),
        "noisy": saw + 0.05 * np.random.default_rng(2).standard_normal(len(t)),
    }  # fmt: skip
    for k in (3, 5, 7, 9):  # a filter that sings on one partial
        found[f"resonance on {k}"] = (
            3.0 * scipy.signal.lfilter(*scipy.signal.iirpeak(k * hz, 8.0, fs=RATE), saw) + 0.25 * saw
        )
    return found


@pytest.mark.parametrize("hz", BASS_HZ)
def test_a_bass_is_no_octave_off_and_no_partial(hz):
    for name, wave in basses(hz).items():
        x = 0.4 * wave / np.max(np.abs(wave))
        assert abs(1200 * np.log2(fundamental_hz(np.stack([x, x]), RATE) / hz)) < 5.0, name


@pytest.mark.parametrize("drop_ms", [5.0, 20.0, 40.0, 60.0])
def test_a_kick_that_drops_slowly_is_read_where_it_settles(drop_ms):
    t = np.arange(RATE // 2) / RATE
    one = np.sin(2 * np.pi * np.cumsum(50.0 * 2 ** (2.0 * np.exp(-t / (drop_ms * 1e-3)))) / RATE) * np.exp(-t / 0.25)
    one *= np.minimum(1.0, (0.5 - t) / 0.1)  # cut off it would be a click
    x = np.zeros(5 * RATE)
    for k in range(8):
        at = round((0.2 + 0.55 * k) * RATE)
        x[at : at + len(one)] += 0.5 * one
    assert fundamental_hz(np.stack([x, x]), RATE) == pytest.approx(50.0, abs=1.0)


@given(st.floats(-1.0, 1.0), st.floats(0.3, 0.9))
def test_hits_are_found_where_they_are(shift_ms, every_s):
    kick = kick_track(52.0, hits=4, every_s=every_s)
    found = hits(kick, RATE)
    assert len(found) == 4
    for at, true_s in zip(found, hit_times(4, every_s), strict=True):
        assert abs(at / RATE - true_s) < 0.001


# The bar of DESIGN section 14: a kick's fundamental within 0.5 Hz, bass notes within 5 cents.
@pytest.mark.parametrize("hz", [38.9, 46.25, 49.0, 52.6, 55.0, 61.7, 73.4])
def test_the_kicks_fundamental_is_that_of_its_body(hz):
    kick = kick_track(hz)
    assert find_kick(kick, RATE).fundamental_hz == pytest.approx(hz, abs=0.5)
    assert fundamental_hz(kick, RATE) == pytest.approx(hz, abs=0.5)


@pytest.mark.parametrize("hz", [30.87, 41.2, 55.0, 61.74, 82.41, 110.0])
def test_bass_notes_are_in_tune(hz):
    found = fundamental_hz(bass_track(hz, gap_ms=0.0), RATE)
    assert abs(1200 * np.log2(found / hz)) < 5.0


@pytest.mark.parametrize("weak_db", [0.0, -12.0, -24.0])
def test_a_weak_fundamental_is_still_the_pitch(weak_db):
    x = 10 ** (weak_db / 20) * sine(55.0, 2.0) + sine(110.0, 2.0) + 0.6 * sine(165.0, 2.0) + 0.4 * sine(220.0, 2.0)
    assert fundamental_hz(0.2 * x, RATE) == pytest.approx(55.0, abs=0.2)


def test_noise_has_no_pitch():
    assert measure_audio(noise(3.0), RATE)["fundamental_hz"] is None


@pytest.mark.parametrize("gap_ms", [-25.0, -9.0, -3.0, 0.0, 4.0, 12.0, 30.0])
@pytest.mark.parametrize("attack_ms_", [2.0, 8.0])
def test_onset_gaps_are_read_to_a_millisecond(gap_ms, attack_ms_):
    kick, bass = kick_track(50.0), bass_track(50.0, gap_ms=gap_ms, attack_ms=attack_ms_)
    gaps = onset_gaps_ms(kick, bass, find_kick(kick, RATE), RATE)
    assert len(gaps) == 8
    assert np.median(gaps) == pytest.approx(gap_ms, abs=1.0)


def test_a_bass_that_sounds_on_has_no_gap():
    kick, bass = kick_track(50.0), sine(50.0, 4.5, level_db=-10)
    assert len(onset_gaps_ms(kick, bass, find_kick(kick, RATE), RATE)) == 0


@pytest.mark.parametrize(
    ("kick_hz", "bass_hz", "level"), [(50.0, 50.0, 0.2), (50.0, 50.0, 0.6), (55.0, 82.4, 0.3), (46.0, 46.0, 0.05)]
)
def test_kick_clear_is_as_defined(kick_hz, bass_hz, level):
    kick, bass = kick_track(kick_hz), bass_track(bass_hz, gap_ms=5.0, level=level)
    known = find_kick(kick, RATE)
    expected = clear_db(kick, bass, known.fundamental_hz, [o / RATE for o in known.onsets])
    found = clearness(*(hit_energies(audio, known, RATE) for audio in (kick, bass)))
    assert found.clear_db == pytest.approx(expected, abs=0.05)


def test_what_is_shared_is_named():
    for bass_hz, how in ((50.0, "fundamental"), (52.0, "fundamental"), (100.0, "octave"), (25.5, "octave"), (68.0, "")):
        kick, bass = kick_track(50.0), bass_track(bass_hz, gap_ms=0.0)
        known = find_kick(kick, RATE)
        found, name = shared_hz(known.fundamental_hz, bass_pitches(bass, known, RATE))
        assert name == how, bass_hz
        assert found == pytest.approx(bass_hz, abs=0.5)


@pytest.mark.parametrize("seed", range(6))
def test_a_noise_that_is_there_at_once_has_a_short_attack_whenever_its_highest_peak_comes(seed):
    noise = np.random.default_rng(seed).standard_normal((1, RATE))
    assert attack_ms(noise, RATE) <= 15.5  # its loudness wavers, so not at once; its highest peak may come 500 ms late
    rising = noise * np.minimum(1.0, np.arange(RATE) / (0.2 * RATE))
    assert 120.0 < attack_ms(rising, RATE) < 200.0  # 10 to 90 % of 200 ms is 160 ms


def test_a_peak_between_quiet_samples_is_found():
    """Six samples under half of the largest, between which the wave is the highest; SciPy's interpolation of all of it is the
    reference (Annex 2's example filter is shorter)."""
    k = np.arange(-8, 8) + 0.5
    wave = np.zeros(512)
    wave[248:264] = np.sign(np.sinc(k)) * np.where(np.abs(k) < 3.0, 0.49, 1.0)
    ideal = np.max(np.abs(scipy.signal.resample_poly(wave, 8, 1, window=("kaiser", 8.0))))
    long = np.max(np.abs(scipy.signal.resample(wave, 16 * len(wave))))
    found = true_peak(np.stack([wave, wave]), 48000)
    assert found > 1.02  # over all samples, and far over those beside it
    assert min(ideal, long) * 10 ** (-0.5 / 20) < found < max(ideal, long) * 10 ** (0.3 / 20)
    # And whatever else is loud elsewhere, a stretch that may hold the highest is looked at.
    later = np.concatenate([np.full(40000, 0.0), wave, np.zeros(100)])
    later[100] = 0.9
    assert true_peak(later[None], 48000) == pytest.approx(found, rel=1e-5)


def test_what_is_lost_in_mono_is_as_measured_by_another_library():
    import pyloudnorm

    rng = np.random.default_rng(3)
    common, left, right = 0.1 * rng.standard_normal((3, 6 * 48000))
    x = np.stack([common + 0.5 * left, common + 1.5 * right])
    meter = pyloudnorm.Meter(48000)
    folded = 0.5 * (x[0] + x[1])
    wanted = meter.integrated_loudness(x.T) - meter.integrated_loudness(np.stack([folded, folded]).T)
    assert loudness(x, 48000).fold_down_loss_lu == pytest.approx(wanted, abs=0.03)
    assert math.isnan(loudness(np.stack([common, -common]), 48000).fold_down_loss_lu)
    assert correlation(x) == pytest.approx(np.corrcoef(x)[0, 1], abs=1e-12)


@settings(deadline=None)
@given(st.integers(0, 70), st.integers(-40, 60), st.integers(1, 9), st.integers(1, 16), st.integers(0, 5))
def test_windows_are_cut_as_from_a_signal_in_endless_silence(frames, first, hop, size, count):
    x = np.random.default_rng(frames).standard_normal(frames)
    window = np.linspace(0.5, 1.0, size, dtype=np.float32)
    got = cut_windows(x, first, hop, window, np.full((count, size), np.nan, dtype=np.float32))
    endless = np.concatenate([np.zeros(100), x, np.zeros(200)]).astype(np.float32)
    wanted = [window * endless[100 + first + k * hop :][:size] for k in range(count)]
    np.testing.assert_array_equal(got, np.array(wanted).reshape(count, size))
