"""Every source against what is published about it, and none with aliases."""

import numpy as np
import pytest
import scipy.ndimage
import scipy.special

from tests.signals import RATE
from zygotone.dsp.strings import plucked_string
from zygotone.dsp.tables import TABLES, built_in, from_audio
from zygotone.measure.spectrum import centroid_hz, spectrum
from zygotone.music.pitch import midi_to_hz
from zygotone.session.models import Sound
from zygotone.sources.base import NoteRequest, cells_of, source_kind, steady_note

OCTAVES = (24, 36, 48, 60, 72, 84, 96, 108)  # C1 to C8


def play(kind: str, hz: float, seconds: float = 1.0, clip=None, rate: int = RATE, **params) -> np.ndarray:
    sound = Sound.model_validate({"kind": kind, **params})
    request = steady_note(hz, round(seconds * rate), rate)
    if clip is not None:
        request = NoteRequest(request.hz, request.frames, 0.8, rate, request.gate, clip=clip)
    return source_kind(kind).render(sound.params, request)[0]


def alias_db(y: np.ndarray, hz: float) -> float:
    """The strongest thing below 20 kHz that is no partial, over the strongest partial. The window (Blackman and Harris,
    four terms) is 92 dB down beyond four bins; eight are left out around each partial."""
    y = y[8000 : 8000 + 32768]
    n = np.arange(len(y)) * 2 * np.pi / len(y)
    window = 0.35875 - 0.48829 * np.cos(n) + 0.14128 * np.cos(2 * n) - 0.01168 * np.cos(3 * n)
    level, freqs = np.abs(np.fft.rfft(y * window)), np.fft.rfftfreq(len(y), 1 / RATE)
    partials = np.zeros(len(freqs), dtype=bool)
    for partial in np.arange(1, int(RATE / 2 / hz) + 2) * hz:
        partials |= np.abs(freqs - partial) < 8 * RATE / len(y)
    rest = level[~partials & (freqs > 30.0) & (freqs < 20000.0)]
    return float(20 * np.log10(rest.max() / level[partials].max()))


# --- band limits ---------------------------------------------------------------------------------------------------

RING = [0, 0, 0.7, 0, 0.8, 0, 0, 0, 0, 0.9]  # 1 bends 3, which bends 2, which bends 1

STEADY = (
    [("oscillator", {"shape": shape, "unison": 1}) for shape in ("sine", "triangle", "saw", "pulse")]
    + [("wavetable", {"table": table, "position": 0.53}) for table in TABLES]
    + [
        ("fm", {"operators": [{"ratio": 1}, {"ratio": 2, "index": 8}, {"ratio": 1}, {"ratio": 3, "index": 6}]}),
        ("fm", {"algorithm": "chain", "feedback": 1.2, "operators": [{"ratio": 1}, {"ratio": 2, "index": 4}, {"ratio": 1, "index": 4}, {"ratio": 3, "index": 6}]}),
        ("fm", {"algorithm": "side by side", "feedback": 1.4, "operators": [{"level": 0}, {"level": 0}, {"level": 0}, {}]}),
        ("fm", {"algorithm": "matrix", "matrix": RING, "heard": [1, 0.5], "operators": [{"ratio": 1}, {"ratio": 2}, {"ratio": 3}]}),
        ("formant", {"breath_db": -60.0}),
    ]
    + [
        ("drum", {"tune_hz": 261.63, "decay_ms": 4000, "drop_semitones": 0, "click_db": -60, "bend_db": bend})
        for bend in (0.0, 6.0, 24.0)
    ]
)  # fmt: skip


@pytest.mark.parametrize(("kind", "params"), STEADY, ids=lambda v: v if isinstance(v, str) else str(v)[:40])
def test_no_aliases_at_any_octave(kind, params):
    # The bar: aliases under −70 dB at any note to C8.
    for note in OCTAVES:
        hz = midi_to_hz(note)
        assert alias_db(play(kind, hz, **params), hz) < -70.0, note


def test_a_sample_has_no_aliases_at_any_octave():
    # A saw of 20 partials, recorded at C4, played at each octave: what would lie above the band must be gone.
    t = np.arange(20 * RATE) / RATE
    saw = sum(np.sin(2 * np.pi * 261.625565 * n * t) / n for n in range(1, 21))
    for note in OCTAVES:
        y = play("sample", midi_to_hz(note), clip=lambda name: np.stack([saw, saw]), files=["a" * 8], play="loop", loop_from=0.1, loop_to=1.0, fade_ms=0.0)  # fmt: skip
        assert alias_db(y, midi_to_hz(note)) < -70.0, note


@pytest.mark.parametrize("ratio", [0.75, 1.05, 1.5])
def test_a_bent_string_has_no_aliases(ratio):
    # A hard pluck that hardly dies, bent from its first cell on: beside the bent partials nothing below 15 kHz.
    hz, frames = 523.25, 2 * RATE
    sound = Sound.model_validate({"kind": "string", "varies": False, "body": 0.0, "decay_s": 30.0, "damping": 0.0, "brightness": 1.0})  # fmt: skip
    bent = np.concatenate([[hz], np.full(cells_of(frames), hz * ratio)])
    plain = source_kind("string").render(sound.params, steady_note(hz, 2 * frames, RATE))[0]
    y = source_kind("string").render(sound.params, NoteRequest(bent, frames, 0.8, RATE, frames))[0]
    size = 32768
    window = np.blackman(size)
    straight = np.abs(np.fft.rfft(plain[16000 : 16000 + size] * window))
    moved = np.abs(np.fft.rfft(y[16000 : 16000 + size] * window))
    freqs = np.fft.rfftfreq(size, 1 / RATE)
    # The plain string's spectrum, moved: as high as its neighbourhood, since the bins do not fall together.
    around = scipy.ndimage.maximum_filter1d(straight, 41)
    expected = np.interp(freqs / ratio, freqs, around)
    heard = (freqs > 100.0) & (freqs < 15000.0)
    assert 20 * np.log10(np.max(moved[heard] - 1.5 * expected[heard]) / moved.max() + 1e-9) < -70.0


def test_noise_stays_within_its_band_at_any_note():
    for note in OCTAVES:
        y = play("noise", midi_to_hz(note), 2.0, low_hz=1000.0, high_hz=4000.0, width_pct=0.0)
        power = np.abs(np.fft.rfft(y * np.hanning(len(y)))) ** 2
        freqs = np.fft.rfftfreq(len(y), 1 / RATE)
        inside, below, above = (
            10 * np.log10(np.mean(power[(freqs > low) & (freqs < high)]))
            for low, high in ((1800.0, 2200.0), (240.0, 260.0), (15500.0, 16500.0))
        )
        # Second-order edges (12 dB an octave): two octaves beyond them 24 dB less, and more above, towards half the rate.
        assert below - inside == pytest.approx(-24.0, abs=1.5)
        assert above - inside < -24.0


@pytest.mark.parametrize("unlike", [20.0, 200.0])
def test_a_wave_that_glides_has_no_aliases(unlike):
    # A saw that glides by an octave: nothing may appear below its lowest pitch, where aliases would fold to.
    frames = 2 * RATE
    hz = 2000.0 * 2.0 ** np.linspace(0.0, 1.0, cells_of(frames) + 1)
    sound = Sound.model_validate({"kind": "oscillator", "shape": "saw"})
    y = source_kind("oscillator").render(sound.params, NoteRequest(hz, frames, 0.8, RATE, frames))[0]
    level = np.abs(np.fft.rfft(y * np.blackman(len(y))))
    freqs = np.fft.rfftfreq(len(y), 1 / RATE)
    assert 20 * np.log10(level[(freqs > unlike) & (freqs < 1800)].max() / level.max()) < -65.0


# --- FM ------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("index", [0.5, 2.0, 5.0])
def test_sidebands_of_fm_are_bessel_functions(index):
    # Chowning 1973: the partials at fc ± n·fm have the levels |Jₙ(I)|. A modulator at 100 Hz keeps them apart.
    operators = [
        {"fixed_hz": 2000.0, "index": 0, "velocity": 0},
        {"fixed_hz": 100.0, "index": index, "velocity": 0, "key_scale": 0},
        {"level": 0},
        {"level": 0, "index": 0},
    ]
    y = play("fm", 440.0, algorithm="pairs", operators=operators)[RATE // 2 :]  # half a second: bins of 2 Hz
    level = np.abs(np.fft.rfft(y)) / (len(y) / 2)
    for n in range(9):
        wanted = abs(scipy.special.jv(n, index))
        assert level[round((2000 + 100 * n) / 2)] == pytest.approx(wanted, abs=2e-3), n
        assert level[round((2000 - 100 * n) / 2)] == pytest.approx(wanted, abs=2e-3), n


def test_a_short_high_operator_gives_an_electric_piano_its_tine():
    # Common practice: an operator at a high ratio with a short envelope is heard at the onset only.
    tine = [{"ratio": 1}, {"ratio": 14, "index": 1.5, "decay_ms": 60, "sustain": 0}, {"level": 0}, {"level": 0}]
    y = play("fm", 220.0, algorithm="pairs", operators=tine)
    early, late = (centroid_hz(spectrum(np.stack([p, p]), RATE)) for p in (y[:2400], y[24000:26400]))
    assert early > 2.0 * late


def test_a_modulator_at_half_the_pitch_fills_the_middle_of_a_finger_bass():
    # Common practice: ratio 0.5 gives partials at half the pitch's distance, so twice as many of them.
    half = [{"ratio": 1}, {"ratio": 0.5, "index": 1.5}, {"level": 0}, {"level": 0}]
    y = play("fm", 110.0, algorithm="pairs", operators=half)[4800:]
    level = np.abs(np.fft.rfft(y * np.hanning(len(y))))

    def at(hz):
        return level[round(hz * len(y) / RATE)]

    assert at(165.0) > 0.1 * at(110.0)


def test_the_matrix_can_be_any_algorithm():
    rows = [0.0] * 16
    rows[1 * 4 + 0] = 1.0  # operator 2 bends operator 1
    operators = [{"ratio": 1}, {"ratio": 2, "index": 3}, {"level": 0}, {"level": 0}]
    free = play("fm", 220.0, algorithm="matrix", matrix=rows, heard=[1, 0, 0, 0], operators=operators)
    fixed = play("fm", 220.0, algorithm="pairs", operators=operators)
    np.testing.assert_allclose(free, fixed, atol=1e-9)


def test_operators_in_a_ring_bend_each_other_as_far_as_nothing_folds():
    # Against the formula, run at eight times the rate and made band-limited by SciPy.
    operators = [{"ratio": 1, "sustain": 1}, {"ratio": 2, "sustain": 1}, {"ratio": 3, "sustain": 1}]
    y = play("fm", 110.0, algorithm="matrix", matrix=RING, heard=[1], operators=operators)
    n, rate = 8 * RATE // 4, 8 * RATE
    last, reference = np.zeros(3), np.zeros(n)
    gain = 1.0 - 0.3 * 0.2  # of modulators and carrier: velocity 0.8 takes that much
    for i in range(n):
        for k, bends in ((2, (0, 0.7)), (1, (2, 0.9)), (0, (1, 0.8))):
            turn = 2 * np.pi * 110.0 * (k + 1) * i / rate
            last[k] = gain * np.sin(turn + bends[1] * last[bends[0]])
        reference[i] = last[0]
    wanted = scipy.signal.resample_poly(reference, 1, 8)
    part = slice(4800, 9600)  # past the attack, and past the ring's start
    spectra = [np.abs(np.fft.rfft(x[part] * np.hanning(4800))) for x in (y, wanted)]
    top = np.max(spectra[1])
    heard = spectra[1] > 1e-2 * top  # what comes round the ring is a step late, and steps are not as long there
    assert np.max(np.abs(20 * np.log10(spectra[0][heard] / spectra[1][heard]))) < 0.3


# --- strings -------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("note", [28, 40, 52, 64, 76, 88])
@pytest.mark.parametrize("pick", [0.1, 0.4])
def test_strings_are_in_tune(note, pick):
    # Jaffe and Smith 1983: the all-pass makes up for the fraction of a sample; E1 to E6 within 2 cents.
    hz = midi_to_hz(note)
    y = play("string", hz, 2.0, pick=pick, varies=False, body=0.0)[2000 : 2000 + 65536]
    level, freqs = np.abs(np.fft.rfft(y * np.hanning(len(y)), 1 << 19)), np.fft.rfftfreq(1 << 19, 1 / RATE)
    near = (freqs > 0.95 * hz) & (freqs < 1.05 * hz)
    assert abs(1200 * np.log2(freqs[near][np.argmax(level[near])] / hz)) < 2.0


@pytest.mark.parametrize("decay_s", [1.0, 4.0])
def test_the_fundamental_of_a_string_decays_in_the_time_that_is_set(decay_s):
    # Jaffe and Smith 1983, section "decay shortening": the loss each time round decides the time to −60 dB.
    y = play("string", 261.6255653, 2.0, decay_s=decay_s, damping=0.5, varies=False, body=0.0)
    t = np.arange(len(y)) / RATE
    tone = y * np.exp(-2j * np.pi * 261.6255653 * t)
    levels = [abs(np.mean(tone[round(a * RATE) : round((a + 0.2) * RATE)])) for a in (0.3, 1.3)]
    assert 60.0 / (20 * np.log10(levels[0] / levels[1])) == pytest.approx(decay_s, rel=0.05)


def test_a_string_plucked_in_the_middle_has_no_second_partial():
    y = play("string", 220.0, pick=0.5, brightness=1.0, varies=False, body=0.0)[4800:28800]
    level = np.abs(np.fft.rfft(y * np.hanning(len(y))))

    def at(k):
        return level[round(220.0 * k * len(y) / RATE) - 2 : round(220.0 * k * len(y) / RATE) + 3].max()

    assert at(2) < 0.05 * at(1)
    assert at(3) > at(2)


# --- voices and vowels ---------------------------------------------------------------------------------------------


PETERSON_AND_BARNEY = {
    "man": {"ah": (730, 1090), "ee": (270, 2290), "oo": (300, 870), "ae": (660, 1720)},
    "woman": {"ah": (850, 1220), "ee": (310, 2790), "oo": (370, 950), "ae": (860, 2050)},
}


@pytest.mark.parametrize("who", ["man", "woman"])
@pytest.mark.parametrize("vowel", ["ah", "ee", "oo", "ae"])
def test_vowels_have_the_published_formants(who, vowel):
    # G. E. Peterson and H. L. Barney, "Control methods used in a study of the vowels", JASA 24, 1952, table II: means of men
    # and women, in Hz (from memory). Sung low, so that the partials sample the envelope densely; the
    # strongest partial near a formant lies within one partial of it.
    hz = 60.0
    y = play("formant", hz, voice=who, vowel=vowel, vowel_to=vowel, effort=1.0, breath_db=-60.0)[9600:]
    level = np.abs(np.fft.rfft(y * np.hanning(len(y))))
    partials = np.array([level[round(hz * k * len(y) / RATE)] * k for k in range(1, 60)])  # the saw's fall taken out
    for formant in PETERSON_AND_BARNEY[who][vowel]:
        near = [k for k in range(1, 60) if abs(hz * k - formant) < 0.12 * formant + hz]
        top = max(near, key=lambda k: partials[k - 1])
        assert abs(hz * top - formant) < 1.6 * hz + 0.08 * formant


def test_a_blend_passes_from_vowel_to_vowel():
    ah, oo = (play("formant", 110.0, vowel="ah", vowel_to="oo", blend=b, breath_db=-60) for b in (0.0, 1.0))
    assert centroid_hz(spectrum(np.stack([ah, ah]), RATE)) > 1.3 * centroid_hz(spectrum(np.stack([oo, oo]), RATE))


# --- tables, samples, noise ----------------------------------------------------------------------------------------


def test_there_are_many_tables_and_all_are_as_loud():
    assert len(TABLES) >= 24
    for name in TABLES:
        table = built_in(name)
        power = np.sqrt(0.5 * np.sum(np.abs(table) ** 2, axis=1))
        np.testing.assert_allclose(power, np.sqrt(1 / 3), rtol=1e-9)


def test_an_imported_cycle_is_played_as_it_is():
    cycle = np.sign(np.sin(2 * np.pi * np.arange(2048) / 2048)) * 0.5
    table = from_audio(cycle, 2048)
    assert table.shape[0] == 1
    odd = np.abs(table[0][::2])
    assert odd[1] / odd[0] == pytest.approx(1 / 3, rel=0.01)  # a square's third partial
    y = play("wavetable", 110.0, clip=lambda name: np.stack([cycle, cycle]), file="a" * 8, position=0.0)
    assert alias_db(y, 110.0) < -70.0


def test_a_sample_follows_the_note_and_closes_when_read_fast():
    t = np.arange(RATE) / RATE
    audio = np.stack([np.sin(2 * np.pi * 440.0 * t)] * 2)
    up = play("sample", 880.0, 0.4, clip=lambda name: audio, files=["x"], root_hz=440.0)
    level = np.abs(np.fft.rfft(up[4800:14400] * np.hanning(9600)))
    assert np.argmax(level) * RATE / 9600 == pytest.approx(880.0, abs=5.0)
    high = np.stack([np.sin(2 * np.pi * 15000.0 * t)] * 2)  # at twice the speed this would fold to 18 kHz
    folded = play("sample", 880.0, 0.4, clip=lambda name: high, files=["x"], root_hz=440.0)
    assert np.max(np.abs(folded[2400:-2400])) < 1e-3


def test_a_loop_goes_on_and_a_reversed_sample_runs_backwards():
    ramp = np.linspace(0.0, 1.0, RATE // 2)
    audio = np.stack([ramp, ramp])
    back = play("sample", 440.0, 0.4, clip=lambda name: audio, files=["x"], root_hz=440.0, backwards=True)
    assert back[1000] > back[10000] > back[19000]
    tone = np.sin(2 * np.pi * 100.0 * np.arange(RATE // 2) / RATE)
    looped = play(
        "sample", 440.0, 3.0, clip=lambda name: np.stack([tone, tone]), files=["x"], root_hz=440.0, play="loop"
    )
    assert np.std(looped[-RATE // 2 :]) == pytest.approx(np.std(tone), rel=0.1)
    assert np.max(np.abs(np.diff(looped))) < 1.5 * np.max(np.abs(np.diff(tone)))


def test_several_recordings_take_turns():
    clips = {"a": np.full((2, 400), 0.25), "b": np.full((2, 400), 0.75)}
    sound = Sound.model_validate({"kind": "sample", "files": ["a", "b"], "root_hz": 440.0})
    heard = []
    for number in range(4):
        request = NoteRequest(np.full(8, 440.0), 200, 0.8, RATE, 200, number=number, clip=clips.__getitem__)
        heard.append(round(float(source_kind("sample").render(sound.params, request)[0, 100]), 2))
    assert heard == [0.25, 0.75, 0.25, 0.75]


@pytest.mark.parametrize(("colour", "slope"), [("white", 0.0), ("pink", -3.01), ("brown", -6.02)])
def test_noise_falls_by_its_colour(colour, slope):
    y = play("noise", 440.0, 10.0, colour=colour)
    power = np.mean(
        np.abs(np.fft.rfft(y[: len(y) // 8192 * 8192].reshape(-1, 8192) * np.hanning(8192), axis=1)) ** 2, 0
    )

    def band(hz):
        return np.mean(power[round(hz * 0.8 * 8192 / RATE) : round(hz * 1.25 * 8192 / RATE)])

    assert 10 * np.log10(band(4000) / band(500)) / 3 == pytest.approx(slope, abs=0.3)


@pytest.mark.parametrize("model", ["kick", "snare", "hat", "clap", "tom", "cymbal", "shaker", "rim"])
def test_every_drum_sounds_and_ends(model):
    y = play("drum", 261.63, 8.0, model=model, noise_db=-6.0, decay_ms=200, noise_decay_ms=100)
    assert 0.05 < np.max(np.abs(y)) < 3.0
    assert not y[-RATE:].any()


def test_a_clap_has_its_bursts():
    y = play("drum", 261.63, 0.5, model="clap", tone_db=-60, click_db=-60, noise_db=0, bursts=4, burst_ms=12, noise_decay_ms=150)  # fmt: skip
    level = np.array([np.std(y[round(ms * 48) : round((ms + 3) * 48)]) for ms in np.arange(0, 48, 3)])
    assert sum(level[i] > 2 * level[i - 1] for i in range(1, len(level))) == 3


def test_a_cymbal_has_hundreds_of_modes():
    """Peaks of a long window that stand 6 dB over what is around them, where a plate has them: all over the band."""
    y = play("drum", 261.63, 4.0, model="cymbal", tune_hz=370.0, drop_semitones=0.0, decay_ms=3000.0, click_db=-60.0)[
        : 2 * RATE
    ]
    level = 20 * np.log10(np.abs(np.fft.rfft(y * np.hanning(len(y)))) + 1e-9)
    around = scipy.ndimage.median_filter(level, 81)
    peaks = (level[1:-1] > level[:-2]) & (level[1:-1] > level[2:]) & (level[1:-1] > around[1:-1] + 6.0)
    at = np.flatnonzero(peaks) * RATE / len(y)
    assert np.count_nonzero((at > 300.0) & (at < 17000.0)) > 180
    assert all(np.count_nonzero((at > low) & (at < low + 3000.0)) > 25 for low in (1000.0, 5000.0, 9000.0, 13000.0))


@pytest.mark.parametrize("hz", [55.0, 110.0, 220.0])
def test_a_stiff_string_draws_its_partials_apart_and_stays_in_tune(hz):
    # H. Fletcher 1964: fₙ = n·f₁·√((1 + B·n²)/(1 + B)), so that the distance from n·f₁ in cents grows about as n².
    y = plucked_string(hz, 3 * RATE, sample_rate_hz=RATE, decay_s=5.0, damping=0.1, pick=0.13, seed=2, stiffness=1.0)
    power = np.abs(np.fft.rfft(y * np.hanning(len(y)), 8 * len(y)))
    freqs = np.fft.rfftfreq(8 * len(y), 1 / RATE)

    def cents(n: int, above: float) -> float:
        near = (freqs > hz * (n - 0.2)) & (freqs < hz * (n + above))
        return float(1200 * np.log2(freqs[near][np.argmax(power[near])] / (n * hz)))

    assert abs(cents(1, 0.3)) < 1.0
    third, sixth = cents(3, 0.4), cents(6, 0.5)
    assert sixth > 1.5
    assert 2.5 < sixth / max(third, 0.1) < 7.0


def test_an_aftersound_makes_a_decay_of_two_stages():
    slopes = []
    for aftersound in (0.0, 1.0):
        y = plucked_string(
            220.0, 5 * RATE, sample_rate_hz=RATE, decay_s=2.0, damping=0.1, pick=0.2, seed=2, aftersound=aftersound
        )
        level = 20 * np.log10([np.std(part) for part in np.array_split(y, 100)])  # every 50 ms
        slopes.append((np.polyfit(np.arange(20), level[:20], 1)[0], np.polyfit(np.arange(30), level[70:], 1)[0]))
    (first, last), (quick, slow) = slopes
    assert last == pytest.approx(first, rel=0.2)  # one stage
    assert slow > 0.55 * quick  # falls by half as much for each second, or less
    assert quick < 0.6 * first
