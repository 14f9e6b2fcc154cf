"""Tempo, pitch and keys."""

from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zygotone.errors import ParameterError
from zygotone.music.keys import interval, interval_above, nearest_in_key, parse_key
from zygotone.music.pitch import hz_to_midi, midi_to_hz, midi_to_note, name_pitch, note_to_midi, parse_hz
from zygotone.music.tempo import (
    COMMON_NOTE_VALUES,
    note_value_to_beats,
    note_value_to_seconds,
)


@pytest.mark.parametrize(
    ("text", "beats"),
    [
        ("1/4", Fraction(1)),
        ("1/8d", Fraction(3, 4)),
        ("1/8t", Fraction(1, 3)),
        ("1/1", Fraction(4)),
        (" 1/16D ", Fraction(3, 8)),
    ],
)
def test_note_values_are_exact(text, beats):
    assert note_value_to_beats(text) == beats


def test_a_quarter_at_120_is_half_a_second():
    assert note_value_to_seconds("1/4", bpm=120) == 0.5
    assert note_value_to_seconds("1/8d", bpm=92) == pytest.approx(0.48913, abs=1e-5)  # 60/92 · 0.75


@given(st.sampled_from(COMMON_NOTE_VALUES), st.floats(40, 240))
def test_a_dot_is_half_more_and_a_triplet_two_thirds(value, bpm):
    # Music notation: a dot adds half of the value; three of a triplet take the time of two.
    times = {"d": 1.5, "t": 2.0 / 3.0}.get(value[-1], 1.0)
    whole, part = value.rstrip("dt").split("/")
    expected = 4.0 * 60.0 / bpm * int(whole) / int(part) * times
    assert note_value_to_seconds(value, bpm=bpm) == pytest.approx(expected)


@pytest.mark.parametrize("text", ["", "8", "1/0", "1/8x", "d", "-1/4"])
def test_what_is_no_note_value_is_refused(text):
    with pytest.raises(ParameterError, match="a note value looks like"):
        note_value_to_beats(text)


# MIDI Tuning Specification: note 69 is 440 Hz, 60 is 261.6255653 Hz, 0 is 8.1757989156 Hz.
@pytest.mark.parametrize(("note", "hz"), [(69, 440.0), (60, 261.6255653), (0, 8.1757989156), (127, 12543.853951)])
def test_the_midi_tuning_table(note, hz):
    assert midi_to_hz(note) == pytest.approx(hz, rel=1e-9)


@given(st.integers(0, 127), st.floats(400, 480))
def test_notes_and_frequencies_are_a_pair(note, a4):
    assert hz_to_midi(midi_to_hz(note, a4_hz=a4), a4_hz=a4) == pytest.approx(note, abs=1e-9)
    named = name_pitch(midi_to_hz(note, a4_hz=a4), a4_hz=a4)
    assert named.note == midi_to_note(note)
    assert abs(named.cents) < 1e-6
    assert note_to_midi(named.note) == note


def test_the_kick_of_the_sketch_is_named():
    assert str(name_pitch(52.6)) == "G♯1 +23 ct"


@pytest.mark.parametrize(
    ("text", "hz"), [("250", 250.0), ("2.5k", 2500.0), ("250 Hz", 250.0), ("A#2", 116.540940), ("Bb2", 116.540940)]
)
def test_frequencies_as_typed(text, hz):
    assert parse_hz(text) == pytest.approx(hz)


@pytest.mark.parametrize(
    ("text", "name"),
    [("F#m", "F♯ minor"), ("F♯ minor", "F♯ minor"), ("Bb", "A♯ major"), ("c maj", "C major"), ("a min", "A minor")],
)
def test_keys_as_typed(text, name):
    assert parse_key(text).name == name


def test_f_sharp_minor_has_its_notes():
    table = dict(parse_key("F#m").note_table(octaves=range(1, 2)))
    assert list(table) == ["F♯", "G♯", "A", "B", "C♯", "D", "E"]
    assert table["F♯"] == [pytest.approx(46.249, abs=1e-3)]


@pytest.mark.parametrize(
    ("ratio", "name"),
    [(1.0, "unison"), (2.0, "unison"), (1.5, "fifth"), (2 ** (6 / 12), "tritone"), (1.25, "major third")],
)
def test_intervals_are_named(ratio, name):
    found = interval(110.0, 110.0 * ratio)
    assert found.name == name


def test_consonance_ranks_a_fifth_over_a_tritone():
    assert interval(100, 150).consonance > interval(100, 125).consonance > interval(100, 141.4).consonance


def test_the_nearest_consonant_pitch_is_in_the_key_and_near():
    tritone = midi_to_hz(note_to_midi("C7"))
    tuned = nearest_in_key(tritone, parse_key("F#m"))
    assert name_pitch(tuned).note in ("C♯7", "B6")
    assert interval(midi_to_hz(note_to_midi("F#1")), tuned).consonance >= 0.6


@pytest.mark.parametrize(
    ("tonic", "hz", "name"),
    [(0, 34.65, "minor second"), (0, 277.18, "minor second"), (0, 123.47, "major seventh"), (6, 4186.0, "tritone"), (9, 27.4, "unison"), (9, 1318.5, "fifth")],
)  # fmt: skip
def test_intervals_from_the_tonic_do_not_depend_on_the_octave(tonic, hz, name):
    assert interval_above(tonic, hz).name == name
