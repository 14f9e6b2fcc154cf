"""Notes, chords, generators and MIDI files."""

import itertools

import mido
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from zygotone.errors import BadFileError, ParameterError
from zygotone.music.chords import parse_chord, parse_chord_line
from zygotone.music.generators import (
    ARPEGGIOS,
    accelerating_roll,
    arpeggio,
    chord_line,
    offbeat_line,
    rolling_bass,
    root_line,
)
from zygotone.music.midi_files import read_midi, write_midi
from zygotone.music.notes import NoteEvent, humanized, quantized, strummed, swung, transposed

BARS = parse_chord_line("F#m9 | Dmaj7 | Bm7 | C#m7")

NOTES = st.lists(
    st.builds(
        NoteEvent,
        start_beat=st.integers(0, 400).map(lambda n: n / 16),
        length_beats=st.integers(1, 64).map(lambda n: n / 16),
        pitch=st.integers(0, 127),
        velocity=st.integers(1, 127).map(lambda n: n / 127),
    ),
    min_size=1,
    max_size=30,
)


# --- chords --------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("name", "classes"),
    [
        ("F#m9", {6, 9, 1, 4, 8}), ("Dmaj7", {2, 6, 9, 1}), ("Bm7", {11, 2, 6, 9}), ("C#m7", {1, 4, 8, 11}),
        ("Bb", {10, 2, 5}), ("G/B", {7, 11, 2}), ("Esus4", {4, 9, 11}), ("C6/9", {0, 4, 7, 9, 2}), ("A7#9", {9, 1, 4, 7, 0}),
    ],
)  # fmt: skip
def test_chords_have_their_notes(name, classes):
    assert {p % 12 for p in parse_chord(name).voiced(48)} == classes


@pytest.mark.parametrize("bad", ["H7", "Cfoo", "", "7", "C/"])
def test_what_is_no_chord_is_refused(bad):
    with pytest.raises(ParameterError, match="a chord"):
        parse_chord_line(bad)


def test_chords_move_as_little_as_they_can():
    line = chord_line(BARS, bar_beats=4.0)
    chords = [[n.pitch for n in line if n.start_beat == 4.0 * bar] for bar in range(4)]
    for one, other in itertools.pairwise(chords):
        assert max(min(abs(p - q) for q in one) for p in other) <= 3


def test_a_bar_is_shared_out_and_an_empty_one_holds():
    bars = parse_chord_line("Am F | | G")
    assert [[c.name for c in bar] for bar in bars] == [["Am", "F"], ["F"], ["G"]]
    line = chord_line(bars, bar_beats=4.0)
    assert {n.start_beat for n in line} == {0.0, 2.0, 4.0, 8.0}


# --- generators ----------------------------------------------------------------------------------------------------


def test_roots_offbeats_and_rolling_bass():
    roots = root_line(BARS, bar_beats=4.0, step_beats=1.0)
    assert [n.pitch % 12 for n in roots[::4]] == [6, 2, 11, 1]
    assert {n.start_beat % 1.0 for n in offbeat_line(BARS, bar_beats=4.0)} == {0.5}
    rolling = rolling_bass(BARS, bar_beats=4.0)
    assert not {n.start_beat % 1.0 for n in rolling} & {0.0}  # the beat is the kick's
    assert len(rolling) == 4 * 12


@pytest.mark.parametrize("pattern", ARPEGGIOS)
def test_an_arpeggio_has_only_notes_of_its_chord(pattern):
    line = arpeggio(BARS, bar_beats=4.0, step_beats=0.25, octaves=2, pattern=pattern)
    assert len(line) == 64
    for n in line:
        chord = BARS[int(n.start_beat // 4)][0]
        assert (n.pitch - chord.root) % 12 in {s % 12 for s in chord.steps}


def test_a_roll_quickens_and_rises():
    roll = accelerating_roll(beats=6.0, pitch=60, pitch_to=72)
    gaps = [b.start_beat - a.start_beat for a, b in itertools.pairwise(roll)]
    assert gaps == sorted(gaps, reverse=True)
    assert {gaps[0], gaps[-1]} == {0.5, 0.125}  # 1/8 to 1/32
    assert [n.velocity for n in roll] == sorted(n.velocity for n in roll)
    assert roll[0].macros[0] < roll[-1].macros[0]
    assert roll[-1].pitch > roll[0].pitch


# --- many notes at once --------------------------------------------------------------------------------------------


@given(NOTES, st.floats(0, 1))
def test_quantizing_comes_nearer_and_arrives(notes, strength):
    for n in quantized(notes, 0.25):
        assert (n.start_beat / 0.25) % 1 == pytest.approx(0.0, abs=1e-9)

    def off(ns):
        return sorted(abs(n.start_beat - round(n.start_beat * 2) / 2) for n in ns)

    assert all(a <= b + 1e-9 for a, b in zip(off(quantized(notes, 0.5, strength=strength)), off(notes), strict=True))


def test_swing_makes_triplets_and_leaves_the_beat():
    notes = [NoteEvent(0.25 * n, 0.2, 60) for n in range(4)]
    full = [n.start_beat for n in swung(notes, 0.25, 1.0)]
    assert full == pytest.approx([0.0, 1 / 3, 0.5, 0.5 + 1 / 3])
    assert [n.start_beat for n in swung(notes, 0.25, 0.0)] == [n.start_beat for n in notes]


@given(NOTES, st.integers(0, 99))
def test_humanizing_is_the_same_for_a_seed_and_stays_small(notes, seed):
    one = humanized(notes, time_ms=8.0, velocity=0.1, seed=seed)
    assert one == humanized(notes, time_ms=8.0, velocity=0.1, seed=seed)
    assert all(abs(n.nudge_ms) <= 16.0 and 0.0 < n.velocity <= 1.0 for n in one)


def test_a_strum_ends_on_the_beat_with_its_top_string():
    chord = [NoteEvent(1.0, 2.0, p) for p in (40, 47, 52, 56)]
    strum = {n.pitch: n.nudge_ms for n in strummed(chord, 30.0)}
    assert strum == pytest.approx({40: -30.0, 47: -20.0, 52: -10.0, 56: 0.0})
    assert {n.pitch: n.nudge_ms for n in strummed(chord, 30.0, upward=False)}[40] == 0.0


@given(NOTES, st.integers(-60, 60))
def test_transposing_stays_within_midi(notes, steps):
    for old, new in zip(notes, transposed(notes, steps), strict=True):
        assert 0 <= new.pitch <= 127
        assert (new.pitch - old.pitch - steps) % 12 == 0


# --- MIDI files ----------------------------------------------------------------------------------------------------


@settings(deadline=None)
@given(notes=NOTES)
def test_notes_survive_a_midi_file(tmp_path_factory, notes):
    path = tmp_path_factory.mktemp("midi") / "x.mid"
    # Two equal notes that overlap cannot be told apart in MIDI: only one of a pitch at a time is compared.
    kept, ends = [], {}
    for n in sorted(notes, key=lambda n: n.start_beat):
        if n.start_beat >= ends.get(n.pitch, 0.0):
            kept.append(n)
            ends[n.pitch] = n.start_beat + n.length_beats
    write_midi(path, [("Line", kept)], tempo_bpm=92.0)
    song = read_midi(path)
    assert song.tempos[0].bpm == pytest.approx(92.0, abs=0.001)
    read = song.notes
    assert [(n.start_beat, n.length_beats, n.pitch) for n in read] == [
        (n.start_beat, n.length_beats, n.pitch) for n in sorted(kept, key=lambda n: (n.start_beat, n.pitch))
    ]
    assert all(a.velocity == pytest.approx(b.velocity, abs=0.005) for a, b in zip(read, sorted(kept, key=lambda n: (n.start_beat, n.pitch)), strict=True))  # fmt: skip


def test_what_we_write_is_read_by_mido(tmp_path):
    write_midi(tmp_path / "x.mid", [("Bass", [NoteEvent(1.0, 0.5, 40, 0.5, wheel=1.0)])], tempo_bpm=120.0)
    file = mido.MidiFile(tmp_path / "x.mid")
    assert file.type == 1
    played = [m for m in file if not m.is_meta]
    assert [m.type for m in played] == ["control_change", "note_on", "note_off"]
    assert file.length == pytest.approx(0.75, abs=1e-3)


def test_format_0_running_status_and_a_tempo_map(tmp_path):
    # By hand, after the Standard MIDI Files specification: 96 ticks a beat, 120 then 60 BPM, note-on with velocity 0 as
    # note-off, and running status (the second event has no status byte).
    track = (
        b"\x00\xff\x51\x03\x07\xa1\x20"  # 500 000 µs a beat
        b"\x00\x90\x3c\x40\x60\x3c\x00"  # C4 on; 96 ticks later, running status, off
        b"\x00\xff\x51\x03\x0f\x42\x40"  # 1 000 000 µs a beat
        b"\x00\x90\x40\x7f\x60\x40\x00\x00\xff\x2f\x00"
    )
    data = b"MThd\x00\x00\x00\x06\x00\x00\x00\x01\x00\x60MTrk" + len(track).to_bytes(4, "big") + track
    (tmp_path / "x.mid").write_bytes(data)
    song = read_midi(tmp_path / "x.mid")
    assert [(n.start_beat, n.length_beats, n.pitch) for n in song.notes] == [(0.0, 1.0, 60), (1.0, 1.0, 64)]
    assert [song.beat_to_seconds(b) for b in (0.0, 1.0, 2.0)] == [0.0, 0.5, 1.5]


@pytest.mark.parametrize(
    ("data", "why"),
    [
        (b"", "no Standard MIDI File"), (b"RIFFxxxx", "no Standard MIDI File"), (b"MThd\x00\x00\x00\x06\x00\x01", "cut short|cannot be read"),
        (b"MThd\x00\x00\x00\x06\x00\x02\x00\x00\x00\x60", "format 2"), (b"MThd\x00\x00\x00\x06\x00\x01\x00\x00\x00\x60", "no notes"),
        (b"MThd\x00\x00\x00\x06\x00\x00\x00\x01\x00\x60MTrk\xff\xff\xff\xff\x00\x90", "cut short|cannot be read"),
    ],
)  # fmt: skip
def test_files_that_lie_are_refused(tmp_path, data, why):
    (tmp_path / "x.mid").write_bytes(data)
    with pytest.raises(BadFileError, match=why):
        read_midi(tmp_path / "x.mid")


def test_wholly_quantized_notes_are_on_the_grid_as_they_sound():
    note = NoteEvent(1.1, 0.5, 60, nudge_ms=14.0)
    (on,) = quantized([note], 0.25)
    assert (on.start_beat, on.nudge_ms) == (1.0, 0.0)
    (half,) = quantized([note], 0.25, strength=0.5)
    assert half.start_beat == pytest.approx(1.05)
    assert half.nudge_ms == pytest.approx(7.0)


def test_a_strummed_chord_is_strummed_anew_and_not_further():
    chord = [NoteEvent(0.0, 1.0, p, nudge_ms=3.0) for p in (48, 52, 55, 60)]
    once = strummed(chord, 24.0)
    assert strummed(once, 24.0) == once
    assert sorted(n.nudge_ms for n in once) == pytest.approx([-21.0, -13.0, -5.0, 3.0])
    assert [n.nudge_ms for n in strummed(once, 24.0, upward=False)] == pytest.approx([3.0, -5.0, -13.0, -21.0])


@pytest.mark.parametrize("beats", [4.0, 6.0, 7.0, 8.0, 12.0, 16.0, 32.0])
@pytest.mark.parametrize("steps", [(0.5, 0.25, 0.125), (1.0, 0.5, 0.25, 0.125), (0.5, 0.25)])
def test_every_stroke_of_a_roll_lies_on_its_grid(beats, steps):
    """Bars of 4/4 and others: strokes are on the lines of their own step, close up, and fill the whole of it."""
    roll = accelerating_roll(beats=beats, pitch=60, steps_beats=steps)
    starts = np.array([n.start_beat for n in roll])
    apart = np.array([n.length_beats / 0.9 for n in roll])
    np.testing.assert_allclose(starts / apart, np.round(starts / apart), atol=1e-9)
    np.testing.assert_allclose(np.diff(starts), apart[:-1], atol=1e-9)
    assert starts[-1] + apart[-1] == pytest.approx(beats)
    assert set(np.round(apart, 6)) == set(np.round(steps, 6))


def test_nudges_are_in_what_is_written(tmp_path):
    notes = [NoteEvent(1.0, 0.5, 60, nudge_ms=20.0), NoteEvent(2.0, 0.5, 62, nudge_ms=-20.0)]
    write_midi(tmp_path / "x.mid", [("x", notes)], tempo_bpm=120.0)
    # As any other program reads it: by the ticks of its notes. Read here, the nudges are nudges again.
    at, starts = 0, []
    file = mido.MidiFile(tmp_path / "x.mid")
    for message in file.tracks[1]:
        at += message.time
        if message.type == "note_on":
            starts.append(at / file.ticks_per_beat)
    assert starts == pytest.approx([1.04, 1.96], abs=1e-3)
    assert [(n.start_beat, n.nudge_ms) for n in read_midi(tmp_path / "x.mid").notes] == [(1.0, 20.0), (2.0, -20.0)]
