"""What a file of ours holds beside the notes that MIDI has a place for."""

import mido
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from zygotone.music.midi_files import PhraseFrame, read_midi, write_midi
from zygotone.music.notes import NoteEvent

exact_notes = st.lists(
    st.builds(
        NoteEvent, start_beat=st.floats(0, 30), length_beats=st.floats(1 / 64, 8), pitch=st.integers(0, 127), velocity=st.floats(0.01, 1),
        nudge_ms=st.floats(-200, 200), macros=st.tuples(*[st.floats(0, 1)] * 4), wheel=st.floats(0, 1),
    ),
    min_size=1, max_size=12,
)  # fmt: skip


@settings(max_examples=60, deadline=None)
@given(exact_notes, st.floats(40, 220), st.floats(1, 64), st.floats(-200, 200), st.floats(-200, 200))
def test_nothing_of_a_phrase_is_lost_through_a_file(tmp_path_factory, notes, bpm, beats, nudge_ms, track_nudge_ms):
    path = tmp_path_factory.mktemp("exact") / "phrase.mid"
    frame = PhraseFrame(beats, nudge_ms, track_nudge_ms)
    write_midi(path, [("Bass", notes)], tempo_bpm=bpm, phrase=frame)
    (track,) = read_midi(path).tracks
    assert sorted(track.notes, key=repr) == sorted(notes, key=repr)
    assert track.phrase == frame


def test_what_another_program_changed_holds(tmp_path):
    path = tmp_path / "phrase.mid"
    notes = [NoteEvent(0.0, 1.0, 60, 0.8, nudge_ms=-20.0), NoteEvent(2.0, 1.0, 64, 0.8, macros=(0.3, 0, 0, 0))]
    write_midi(path, [("x", notes)], tempo_bpm=120.0, phrase=PhraseFrame(4.0))
    file = mido.MidiFile(path)
    for message in file.tracks[1]:
        if message.type in ("note_on", "note_off") and message.note == 64:
            message.note = 67
    file.save(path)
    (track,) = read_midi(path).tracks
    assert [n.pitch for n in track.notes] == [60, 67]
    assert track.phrase is None


@pytest.mark.parametrize("text", [b"{", b"[]", b'{"tempo_bpm": 120, "notes": [[0,1,60]]}', b'{"tempo_bpm": "x", "notes": []}', b'{"tempo_bpm": 120, "notes": [[0,1,400,1,0,[0,0,0,0],0]]}'])  # fmt: skip
def test_a_meta_event_that_lies_is_passed_over(tmp_path, text):
    path = tmp_path / "phrase.mid"
    write_midi(path, [("x", [NoteEvent(0.0, 1.0, 60, 0.8)])], tempo_bpm=120.0)
    file = mido.MidiFile(path)
    track = file.tracks[1]
    at = next(i for i, m in enumerate(track) if m.type == "sequencer_specific")
    track[at] = mido.MetaMessage("sequencer_specific", data=(0x7D, *b"zygotone 1 ", *text), time=0)
    file.save(path)
    (read,) = read_midi(path).tracks
    assert [n.pitch for n in read.notes] == [60]
    assert read.phrase is None
