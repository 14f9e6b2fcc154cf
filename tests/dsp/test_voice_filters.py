"""Filters and strings of voices against SciPy's recursive filters, and against what is rendered."""

import numpy as np
import pytest
import scipy.signal
from hypothesis import given
from hypothesis import strategies as st

from tests.signals import RATE
from zygotone.dsp.filters import bandpass_sos, filtered, highpass_sos, lowpass_sos
from zygotone.dsp.strings import design_string, plucked_string
from zygotone.dsp.voice_filters import MODES, FilterRow, add_resonances, filter_voices, one_pole, resonators

X = np.random.default_rng(4).standard_normal(4000)
CELLS = 4000 // 32


def test_resonances_side_by_side_add_what_scipys_band_passes_give():
    sos = np.array([bandpass_sos(hz, q, sample_rate_hz=RATE) for hz, q in ((110, 9), (216, 12), (700, 4), (3100, 20))])
    gains = np.array([0.6, 0.3, 1.2, 0.1])
    y = X.copy()
    add_resonances(y, sos, gains)
    wanted = X + sum(g * scipy.signal.sosfilt(each[None], X) for g, each in zip(gains, sos, strict=True))
    np.testing.assert_allclose(y, wanted, atol=1e-10)


def test_one_pole_is_scipys():
    y = X.copy()
    one_pole(y, np.full(CELLS + 1, 0.93), np.full(CELLS + 1, 1.7))
    np.testing.assert_allclose(y, scipy.signal.lfilter([1.7 * 0.07], [1.0, -0.93], X), atol=1e-12)


def test_standing_formants_are_klatts_resonators_in_a_row():
    # Klatt 1980, equations 2 and 3: C = −e^(−2πBT), B = 2e^(−πBT)·cos(2πFT), A = 1 − B − C.
    freqs, widths = (500.0, 1500.0, 2500.0), (60.0, 90.0, 150.0)
    y, wanted = X.copy(), X.copy()
    resonators(y, np.repeat(np.array(freqs)[:, None], CELLS + 1, 1), np.repeat(np.array(widths)[:, None], CELLS + 1, 1), RATE)  # fmt: skip
    for f, w in zip(freqs, widths, strict=True):
        c, b = -np.exp(-2 * np.pi * w / RATE), 2 * np.exp(-np.pi * w / RATE) * np.cos(2 * np.pi * f / RATE)
        wanted = scipy.signal.lfilter([1.0 - b - c], [1.0, -b, -c], wanted)
    np.testing.assert_allclose(y, wanted, rtol=1e-9, atol=1e-9)


@pytest.mark.parametrize("channels", [1, 2])
def test_a_whole_signal_is_filtered_as_by_scipy(channels):
    sos = np.array([highpass_sos(200.0, 0.7, sample_rate_hz=RATE), lowpass_sos(3000.0, 2.0, sample_rate_hz=RATE)])
    x = np.stack([X, -0.5 * X])[:channels]
    np.testing.assert_allclose(filtered(sos, x), scipy.signal.sosfilt(sos, x, axis=1), atol=1e-11)


@pytest.mark.parametrize("mode", MODES)
@pytest.mark.parametrize("stages", [1, 2])
@pytest.mark.parametrize("hz", [100.0, 1500.0, 12000.0])
def test_a_standing_voice_filter_is_the_bilinear_transform_of_its_analog_one(mode, stages, hz):
    # Zavalishin: the trapezoidal form is the bilinear transform, prewarped at the cutoff.
    g, resonance = np.tan(np.pi * hz / RATE), 0.5
    y = X.copy()
    still = np.ones(CELLS + 1)
    filter_voices([FilterRow(y, g * still, resonance * still, still)], MODES.index(mode), stages)
    wanted = X
    for k in ([np.sqrt(2.0)] if stages == 2 else []) + [2.0 - 1.98 * resonance]:
        top = {"lowpass": [0, 0, 1], "highpass": [1, 0, 0], "bandpass": [0, k, 0], "notch": [1, 0, 1]}[mode]
        b, a = scipy.signal.bilinear(top, [1, k, 1], fs=0.5 / g)
        wanted = scipy.signal.lfilter(b, a, wanted)
    np.testing.assert_allclose(y, wanted, atol=1e-6)


def test_a_voice_filter_that_stops_moving_goes_on_where_it_stands():
    g = np.concatenate([np.linspace(0.02, 0.3, 40), np.full(CELLS - 39, 0.3)])
    moving, steps, still = X.copy(), X.copy(), np.ones(CELLS + 1)
    filter_voices([FilterRow(moving, g, 0.3 * still, still)], 0, 1)
    # The same with a movement too small to hear, for which no cell counts as standing.
    filter_voices([FilterRow(steps, g * (1.0 + 1e-13 * np.arange(CELLS + 1)), 0.3 * still, still)], 0, 1)
    np.testing.assert_allclose(moving, steps, atol=1e-9)


@given(st.lists(st.integers(0, 2000), min_size=1, max_size=9), st.sampled_from([1, 2]), st.integers(0, 99))
def test_voices_filtered_together_are_as_each_alone(lengths, stages, seed):
    rng = np.random.default_rng(seed)

    def rows() -> list[FilterRow]:
        made = np.random.default_rng(seed)
        return [
            FilterRow(
                made.standard_normal(n), *(made.uniform(low, high, max(2, -(-n // 32) + 1)) for low, high in ((0.01, 2), (0, 1), (0.5, 3)))
            )
            for n in lengths
        ]  # fmt: skip

    mode = int(rng.integers(4))
    together, alone = rows(), rows()
    filter_voices(together, mode, stages)
    for row in alone:
        filter_voices([row], mode, stages)
    for one, other in zip(together, alone, strict=True):
        np.testing.assert_allclose(one.audio, other.audio, atol=1e-12)


# --- strings -------------------------------------------------------------------------------------------------------


def partials_hz(string, count: int) -> np.ndarray:
    """Where the loop's phase is whole turns: ω·N + all-pass + one-pole = 2πn (Jaffe and Smith 1983, "the string as a
    loop"), solved by bisection."""

    def turns(hz):
        w = 2 * np.pi * hz / string.sample_rate_hz
        z = np.exp(-1j * w)
        a, d = string.allpass, string.damping
        late = -np.angle((a + z) / (1 + a * z)) - np.angle((1 - d) / (1 - d * z))
        return (w * string.whole + late) / (2 * np.pi)

    found = []
    for n in range(1, count + 1):
        low, high = (n - 0.5) * string.pitch_hz, (n + 0.5) * string.pitch_hz
        for _ in range(60):
            middle = 0.5 * (low + high)
            low, high = (middle, high) if turns(middle) < n else (low, middle)
        found.append(low)
    return np.array(found)


@pytest.mark.parametrize("pitch_hz", [82.4, 261.6, 659.3])
def test_each_partial_of_a_string_dies_as_fast_as_told(pitch_hz):
    losses = {"decay_s": 3.0, "damping": 0.3}
    string = design_string(pitch_hz, sample_rate_hz=RATE, **losses)
    told = string.decays_s(np.arange(1, 9))
    y = plucked_string(pitch_hz, 2 * RATE, sample_rate_hz=RATE, pick=0.23, seed=3, **losses)
    t = np.arange(len(y)) / RATE
    for hz, wanted in zip(partials_hz(string, 8), told, strict=True):
        tone = y * np.exp(-2j * np.pi * hz * t)
        span = min(0.5, 0.3 * wanted)
        window = np.hanning(round(0.2 * RATE))
        early, late = (abs(np.mean(tone[round(a * RATE) :][: len(window)] * window)) for a in (0.1, 0.1 + span))
        assert 60.0 * span / (20 * np.log10(early / late)) == pytest.approx(wanted, rel=0.03)


@pytest.mark.parametrize("note_hz", [32.7, 65.4, 130.8, 261.6, 523.3, 1046.5, 2093.0, 4186.0])
def test_a_string_has_nothing_but_its_partials(note_hz):
    # The bar of −70 dB at every octave, for a string that hardly dies; its partials are where its loop puts them.
    losses = {"decay_s": 30.0, "damping": 0.0}
    string = design_string(note_hz, sample_rate_hz=RATE, **losses)
    y = plucked_string(note_hz, 60000, sample_rate_hz=RATE, pick=0.18, seed=1, **losses)[8000 : 8000 + 32768]
    n = np.arange(len(y)) * 2 * np.pi / len(y)
    window = 0.35875 - 0.48829 * np.cos(n) + 0.14128 * np.cos(2 * n) - 0.01168 * np.cos(3 * n)
    level, freqs = np.abs(np.fft.rfft(y * window)), np.fft.rfftfreq(len(y), 1 / RATE)
    known = np.zeros(len(freqs), dtype=bool)
    for hz in partials_hz(string, int(RATE / 2 / note_hz)):
        known |= np.abs(freqs - hz) < 8 * RATE / len(y)
    rest = level[~known & (freqs > 30.0) & (freqs < 20000.0)]
    assert rest.size == 0 or 20 * np.log10(rest.max() / level.max()) < -70.0


@pytest.mark.parametrize("stages", [1, 2])
@pytest.mark.parametrize("hz", [110.0, 880.0, 7000.0])
def test_at_full_resonance_a_voice_filter_sings_on(stages, hz):
    # Fed for a tenth of a second and then left alone, it swings as high after two seconds as after one, in tune.
    y = np.concatenate([0.1 * np.random.default_rng(5).standard_normal(RATE // 10), np.zeros(4 * RATE)])
    still = np.ones(len(y) // 32 + 2)
    filter_voices([FilterRow(y, np.tan(np.pi * hz / RATE) * still, still, still)], 0, stages)
    early, late = y[2 * RATE : 3 * RATE], y[3 * RATE : 4 * RATE]
    assert -12.0 < 20 * np.log10(np.std(late)) < 0.0
    assert 20 * np.log10(np.std(late) / np.std(early)) == pytest.approx(0.0, abs=0.1)
    sung = np.argmax(np.abs(np.fft.rfft(late * np.hanning(RATE), 8 * RATE))) / 8.0
    assert abs(1200 * np.log2(sung / hz)) < 5.0


@pytest.mark.parametrize("hz", [1245.0, 7040.0])
def test_what_a_driven_voice_filter_bends_does_not_fold(hz):
    # The bar of the saturation, by its tone: −6 dBFS; here with 12 dB of drive.
    y = 0.5 * np.sin(2 * np.pi * hz * np.arange(RATE) / RATE)
    still = np.ones(RATE // 32 + 2)
    filter_voices([FilterRow(y, np.tan(np.pi * 15000.0 / RATE) * still, 0.0 * still, 4.0 * still)], 0, 1)
    spectrum = np.abs(np.fft.rfft(y[RATE // 4 : 3 * RATE // 4] * np.kaiser(RATE // 2, 16.0)))
    freqs = np.fft.rfftfreq(RATE // 2, 1 / RATE)
    apart = np.abs(freqs / hz - np.round(freqs / hz)) * hz
    folded = spectrum[(apart > 20.0) & (freqs > 20.0) & (freqs < 20000.0)]
    assert 20 * np.log10(folded.max() / spectrum.max()) < -70.0


def test_a_drive_that_opens_from_nothing_begins_without_a_step():
    y = 0.7 * np.sin(2 * np.pi * 200.0 * np.arange(RATE) / RATE)
    cells = RATE // 32 + 2
    drives = 10.0 ** (np.clip(np.linspace(-3.0, 3.0, cells), 0.0, None) / 20.0)
    filter_voices([FilterRow(y, np.full(cells, np.tan(np.pi * 15000.0 / RATE)), np.zeros(cells), drives)], 0, 1)
    high = scipy.signal.sosfilt(scipy.signal.butter(8, 4000.0, "highpass", fs=RATE, output="sos"), y)
    assert 20 * np.log10(np.max(np.abs(high[RATE // 4 : -RATE // 4]))) < -70.0
