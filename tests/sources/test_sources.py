"""What makes sound: notes, envelopes, drums, instruments over a song, clips."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.signals import RATE, noise, sine
from zygotone.measure.pitch import window_fundamental
from zygotone.measure.spectrum import centroid_hz, spectrum
from zygotone.session.audio_store import HeldClip
from zygotone.session.catalogue import SOURCES
from zygotone.session.models import (
    ClipSource,
    Envelope,
    InstrumentSource,
    Layer,
    Note,
    Part,
    Phrase,
    Section,
    Song,
    Sound,
    VoiceFilter,
)
from zygotone.sources import ClipReader, add_layers, render_layer
from zygotone.sources.envelopes import envelope_curve
from zygotone.sources.instrument import render_note, song_notes

SONG = Song(
    tempo_bpm=120.0,
    sections=(Section(id="a", name="A", bars=2), Section(id="b", name="B", bars=1)),
)


def layer(kind: str = "oscillator", params: dict | None = None, **more: object) -> Layer:
    sound = Sound.model_validate({"kind": kind, **(params or {})})
    return Layer.model_validate({"id": "x", "name": "x", "sound": sound, **more})


def note(pitch: int = 57, velocity: float = 1.0, **more: object) -> Note:
    return Note(start_beat=0, length_beats=1, pitch=pitch, velocity=velocity, **more)


def play(one: Layer, n: Note, seconds: float = 1.0) -> np.ndarray:
    return render_note(one, n, gate_frames=round(seconds * RATE), rate_hz=RATE, a4_hz=440.0)


# --- voices -------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("shape", ["sine", "triangle", "saw", "pulse"])
@pytest.mark.parametrize("pitch", [29, 57, 81])
def test_notes_are_in_tune(shape, pitch):
    steady = Envelope(attack_ms=1, sustain=1.0)
    audio = play(layer(params={"shape": shape}, envelope=steady), note(pitch))
    found, _ = window_fundamental(audio[0, 9600:28800], RATE)
    assert abs(1200 * np.log2(found / (440.0 * 2 ** ((pitch - 69) / 12)))) < 2.0


def test_the_second_oscillator_is_tuned_against_the_first():
    params = {"shape": "sine", "shape_b": "sine", "mix_b": 50, "b_semitones": 12, "b_cents": 0}
    audio = play(layer(params=params, envelope=Envelope(sustain=1.0)), note(57))
    levels = np.abs(np.fft.rfft(audio[0, 4800:43200] * np.hanning(38400)))
    peaks = np.fft.rfftfreq(38400, 1 / RATE)[np.argsort(levels)[-2:]]
    assert sorted(np.round(peaks)) == [220.0, 440.0]


def test_velocity_makes_louder_and_brighter():
    f = VoiceFilter(cutoff_hz=4000, velocity_octaves=3.0)
    one = layer(params={"shape": "saw"}, velocity_db=20.0, filter=f, envelope=Envelope(sustain=1.0))
    soft, hard = play(one, note(velocity=0.0)), play(one, note(velocity=1.0))
    assert 20 * np.log10(np.std(hard) / np.std(soft)) > 19.0
    assert centroid_hz(spectrum(hard, RATE)) > 1.5 * centroid_hz(spectrum(soft, RATE))


def test_the_filters_envelope_opens_and_closes():
    f = VoiceFilter(cutoff_hz=300, envelope_octaves=5.0, envelope=Envelope(attack_ms=0, decay_ms=300, sustain=0.0))
    audio = play(layer(params={"shape": "saw"}, filter=f, envelope=Envelope(sustain=1.0)), note(45))
    early, late = (centroid_hz(spectrum(audio[:, a : a + 9600], RATE)) for a in (0, 33600))
    assert early > 1.3 * late  # weighted by power, so the fundamental holds it down


def test_polarity_level_pan_and_transposition():
    plain, turned = play(layer(), note()), play(layer(polarity=True), note())
    np.testing.assert_allclose(turned, -plain)
    np.testing.assert_allclose(play(layer(level_db=-6.0), note()), plain * 10 ** (-6 / 20))
    left = play(layer(pan_pct=-100.0), note())
    assert not left[1].any() or np.max(np.abs(left[1])) < 1e-12
    np.testing.assert_allclose(play(layer(transpose_semitones=12), note(45)), plain)


@given(
    st.floats(0, 50),
    st.floats(0, 100),
    st.floats(0, 50),
    st.floats(0, 300),
    st.floats(0, 1),
    st.floats(1, 300),
    st.floats(0, 1),
)
def test_an_envelope_stays_within_bounds_and_ends_at_nothing(delay, attack, hold, decay, sustain, release, curve):
    envelope = Envelope(
        delay_ms=delay, attack_ms=attack, hold_ms=hold, decay_ms=decay, sustain=sustain, release_ms=release, curve=curve
    )
    line = envelope_curve(envelope, 9600, RATE)
    assert len(line) == 9600 + round(release * 1e-3 * RATE)
    assert line.min() >= 0.0
    assert line.max() <= 1.0 + 1e-12
    assert line[-1] < 0.1 or release < 2.0


def test_an_envelope_reaches_its_marks():
    envelope = Envelope(attack_ms=10, decay_ms=50, sustain=0.4, release_ms=30, curve=0.0)
    line = envelope_curve(envelope, RATE // 5, RATE)
    assert line[round(0.005 * RATE)] == pytest.approx(0.5, abs=0.01)
    assert line[round(0.010 * RATE)] == pytest.approx(1.0, abs=0.01)
    assert line[round(0.100 * RATE)] == pytest.approx(0.4)


@given(st.integers(1, 6000), st.floats(0, 40), st.floats(0, 60), st.floats(0, 1), st.floats(1, 50), st.floats(-1, 1))
def test_an_envelope_at_each_32nd_frame_is_every_32nd_value(gate, delay, attack, sustain, release, bend):
    envelope = Envelope(
        delay_ms=delay, attack_ms=attack, hold_ms=5, decay_ms=30, sustain=sustain, release_ms=release, attack_curve=bend,
        decay_curve=-bend, release_curve=bend,
    )  # fmt: skip
    line = envelope_curve(envelope, gate, RATE)
    few = envelope_curve(envelope, gate, RATE, every=32, points=300)
    np.testing.assert_allclose(few[: len(line[::32])], line[::32][:300], atol=1e-9)
    assert not few[len(line[::32]) :].any()


# --- drums --------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("tune_hz", [41.0, 50.0, 62.0])
def test_a_kick_settles_where_it_is_tuned(tune_hz):
    one = layer("drum", {"tune_hz": tune_hz, "drop_semitones": 24, "drop_ms": 8, "click_db": -60, "vary": 0.0})
    audio = play(one, note(60), 0.1)
    found, _ = window_fundamental(audio[0, round(0.05 * RATE) : round(0.25 * RATE)], RATE)
    assert found == pytest.approx(tune_hz, abs=0.5)
    early, _ = window_fundamental(audio[0, : round(0.03 * RATE)], RATE)
    assert early > 1.3 * tune_hz


def test_a_kick_decays_as_told_however_short_the_note():
    one = layer("drum", {"decay_ms": 200, "click_db": -60, "drop_semitones": 0, "vary": 0.0})
    audio = play(one, note(60), 0.01)

    def level(ms):
        return np.max(np.abs(audio[0, round(ms * 48) : round((ms + 25) * 48)]))

    assert 20 * np.log10(level(250) / level(50)) == pytest.approx(-20.0, abs=0.5)


@pytest.mark.parametrize(("model", "low", "high"), [("snare", 150, 6000), ("hat", 3000, 16000)])
def test_other_drums_lie_where_they_should(model, low, high):
    params = {
        "snare": {"model": "snare", "tune_hz": 190, "noise_db": -3, "noise_low_hz": 800},
        "hat": {"model": "hat", "tune_hz": 4000, "noise_db": -3, "noise_low_hz": 7000, "drop_semitones": 0},
    }[model]
    assert low < centroid_hz(spectrum(play(layer("drum", params), note(60)), RATE)) < high


@pytest.mark.parametrize("kind", [k.kind for k in SOURCES if k.kind != "sample"])  # which needs a recording
def test_sources_are_alike_each_time_and_finite(kind):
    one = layer(kind)
    first, second = play(one, note()), play(one, note())
    np.testing.assert_array_equal(first, second)
    assert np.isfinite(first).all()
    assert 0.01 < np.max(np.abs(first)) < 4.0


# --- instruments --------------------------------------------------------------------------------------------------


def instrument(*layers: Layer, nudge_ms: float = 0.0) -> InstrumentSource:
    line = Phrase(
        id="p", beats=2.0, notes=(Note(start_beat=0, length_beats=0.5, pitch=57, velocity=0.9),), nudge_ms=nudge_ms
    )
    return InstrumentSource(layers=layers, phrases=(line,))


PLAYED = (Part(section="a", phrase="p"),)


def render_instrument(source: InstrumentSource, section: str = "a") -> np.ndarray:
    parts = (Part(section=section, phrase="p"),)
    return add_layers([(each, render_layer(source, each, parts, SONG, RATE)) for each in source.sounding])


def test_a_phrase_repeats_while_its_section_lasts():
    starts = [s for s, *_ in song_notes(instrument(layer()), PLAYED, SONG)]
    assert starts == [0.0, 1.0, 2.0, 3.0]  # two bars of two repeats at 120 BPM; nothing in section B


def test_a_note_does_not_outlast_its_section():
    long = Phrase(id="p", beats=8.0, notes=(Note(start_beat=7, length_beats=4, pitch=57),))
    source = InstrumentSource(layers=(layer(),), phrases=(long,))
    assert [n.length_beats for _, n, _ in song_notes(source, PLAYED, SONG)] == [1.0]


def test_layers_add_up():
    one, two = layer(), Layer.model_validate({**dict(layer(level_db=-3.0)), "id": "y"})
    both = render_instrument(instrument(one, two))
    alone = [render_instrument(instrument(each)) for each in (one, two)]
    np.testing.assert_allclose(both, alone[0] + alone[1], atol=1e-12)
    assert not render_instrument(instrument(layer(mute=True))).any()


@pytest.mark.parametrize("nudge_ms", [0.0, 7.5])
def test_a_nudge_moves_every_note(nudge_ms):
    audio = render_instrument(instrument(layer(envelope=Envelope(attack_ms=0)), nudge_ms=nudge_ms))
    first = int(np.argmax(np.abs(audio[0]) > 1e-6))
    assert abs(first - nudge_ms * 48) <= 2


def test_a_tail_rings_past_the_song():
    late = Phrase(id="p", beats=4.0, notes=(Note(start_beat=3, length_beats=1, pitch=57),))
    source = InstrumentSource(layers=(layer(envelope=Envelope(release_ms=500)),), phrases=(late,))
    audio = render_instrument(source, "b")
    assert audio.shape[1] == round((SONG.length_s + 0.5) * RATE)


# --- clips --------------------------------------------------------------------------------------------------------

ASSET = "0" * 64


def reader(clip: np.ndarray, *parts: Part, **settings: object) -> ClipReader:
    return ClipReader(
        lambda asset, semitones, stretch: HeldClip(clip), ClipSource(asset=ASSET, **settings), parts, SONG, RATE
    )


@given(st.integers(-5000, 20000), st.integers(1, 9000))
def test_a_clip_is_read_from_anywhere(start, frames):
    clip = noise(0.2)
    got = reader(clip, start_s=0.05).read(start, frames)
    expected = np.zeros((2, 40000))
    expected[:, 2400 + 5000 : 2400 + 5000 + clip.shape[1]] = clip
    np.testing.assert_array_equal(got, expected[:, start + 5000 : start + 5000 + frames])


def test_a_loop_has_no_seam():
    clip = sine(100.0, 0.1)  # whole periods
    got = reader(clip, loop=True).read(0, RATE)
    np.testing.assert_allclose(got, sine(100.0, 1.0), atol=1e-9)
    end = round(SONG.length_s * RATE)
    assert not reader(clip, loop=True).read(end, 100).any()


def test_a_clip_is_heard_only_in_its_parts():
    clip = np.ones((2, 8 * RATE))
    got = reader(clip, Part(section="b"), gain_db=-6.0).read(0, 6 * RATE)
    assert not got[:, : 4 * RATE - 300].any()
    np.testing.assert_allclose(got[:, 4 * RATE + 300 : 6 * RATE - 300], 10 ** (-6 / 20))
    assert np.max(np.abs(np.diff(got[0]))) < 0.01  # faded, not cut


# --- parts: where in the song what is played -------------------------------------------------------------------------

COUNT = np.tile(np.arange(1.0, 2 * RATE + 1), (2, 1))  # each sample says which it is


def test_a_part_has_its_own_place_in_the_clip():
    """Section B begins after two bars of 2 s at 120 BPM; the part a beat later, half a second into the clip."""
    part = Part(section="b", start_beat=1.0, length_beats=2.0, clip_start_s=0.5, loop=False)
    got = reader(COUNT, part).read(0, 6 * RATE)[0]
    begin = round(4.5 * RATE)
    assert not got[:begin].any()
    np.testing.assert_array_equal(got[begin : begin + 40_000], COUNT[0, RATE // 2 : RATE // 2 + 40_000])
    assert not got[begin + RATE :].any()


def test_a_part_runs_backwards():
    part = Part(start_beat=1.0, length_beats=1.0, clip_start_s=0.25, loop=False, reverse=True)
    got = reader(COUNT, part).read(0, 3 * RATE)[0]
    begin, head = RATE // 2, RATE // 4
    np.testing.assert_array_equal(got[begin : begin + 20_000], COUNT[0, head : head + RATE // 2][::-1][:20_000])


@given(st.integers(0, 200_000), st.integers(1, 9000), st.booleans())
def test_a_looped_part_is_the_same_however_it_is_read(start, frames, backwards):
    part = Part(start_beat=0.5, length_beats=6.0, clip_start_s=1.7, reverse=backwards, fade_in_ms=100, gain_db=-3.0)
    whole = reader(COUNT, part).read(0, 6 * RATE)
    got = reader(COUNT, part).read(start, frames)
    np.testing.assert_allclose(got, np.pad(whole, ((0, 0), (0, 9000)))[:, start : start + frames], rtol=1e-12)
    assert whole[:, RATE : 3 * RATE].all()  # it repeats without a hole


def test_fades_and_gain_of_a_part():
    part = Part(start_beat=0.0, length_beats=4.0, clip_start_s=0.0, fade_in_ms=500, fade_out_ms=1000, gain_db=-6.0)
    got = reader(np.ones((2, 4 * RATE)), part).read(0, 2 * RATE)[0] / 10 ** (-6 / 20)
    for second, gain in ((0.25, 0.5), (0.75, 1.0), (1.5, 0.5), (1.9, 0.1)):
        assert got[round(second * RATE)] == pytest.approx(gain, abs=1e-3)


def test_a_phrase_is_moved_turned_and_faded_by_its_part():
    notes = (Note(start_beat=0, length_beats=0.5, pitch=57), Note(start_beat=1, length_beats=0.25, pitch=126))
    source = InstrumentSource(layers=(layer(),), phrases=(Phrase(id="p", beats=2, notes=notes),))
    part = Part(section="b", start_beat=1.0, phrase="p", loop=False, reverse=True, transpose_semitones=1, gain_db=-6.0)
    found = list(song_notes(source, (part,), SONG))
    # Beat 8 is where B begins; of the turned phrase the later note comes first.
    assert [(round(s * 2, 6), n.pitch) for s, n, _ in found] == [(9 + 1.5, 58), (9 + 0.75, 127)]
    assert found[0][2] == pytest.approx(10 ** (-6 / 20))
    faded = part.replace(reverse=False, fade_in_ms=1000.0, transpose_semitones=2)  # two beats
    assert [(n.pitch, round(g / 10 ** (-6 / 20), 6)) for _, n, g in song_notes(source, (faded,), SONG)] == [(59, 0.0)]


def test_the_gain_of_a_part_is_heard():
    source = instrument(layer(envelope=Envelope(attack_ms=0)))
    loud, soft = (
        render_layer(source, source.layers[0], (Part(section="a", phrase="p", gain_db=g),), SONG, RATE)
        for g in (0.0, -12.0)
    )
    np.testing.assert_allclose(soft, loud * 10 ** (-12 / 20), atol=1e-12)
