"""Edits of whole phrases, judged by what is heard."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from zygotone.errors import ParameterError
from zygotone.session import phrase_edits as edits
from zygotone.session.instruments import InstrumentSource, Layer, Note, Phrase
from zygotone.session.models import Part, Section, Session, Song, Track
from zygotone.sources.instrument import song_notes

LAYER = Layer.model_validate({"id": "a", "name": "A", "sound": {"kind": "oscillator"}})


def session_of(phrase: Phrase, *parts: Part, more: tuple[Phrase, ...] = ()) -> Session:
    song = Song(tempo_bpm=120, sections=tuple(Section(id=i, name=i.upper(), bars=2) for i in "abc"))
    source = InstrumentSource(layers=(LAYER,), phrases=(phrase, *more))
    return Session(song=song, tracks=(Track(id="t", name="T", source=source, parts=parts or (Part(section="a", phrase=phrase.id),)),))  # fmt: skip


def heard(session: Session) -> list[tuple[float, float, int, float]]:
    """Start in seconds, length, pitch and gain of every note that is played."""
    track = session.track("t")
    found = [(s, n.length_beats, n.pitch, g) for s, n, g in song_notes(track.source, track.parts, session.song)]
    return sorted((round(s, 6), round(b, 6), p, round(g, 6)) for s, b, p, g in found)


notes = st.builds(
    Note, start_beat=st.integers(0, 15).map(lambda n: n / 4), length_beats=st.sampled_from((0.25, 1.0, 6.0)), pitch=st.integers(30, 90),
    nudge_ms=st.sampled_from((-12.0, 0.0, 7.0)),
)  # fmt: skip


@settings(max_examples=60)
@given(st.lists(notes, max_size=8), st.integers(1, 15), st.booleans(), st.sampled_from((None, 3.0, 6.5)))
def test_a_phrase_that_is_split_sounds_as_it_did(held, at, loops, length):
    phrase = Phrase(id="p", beats=4.0, notes=tuple(held), nudge_ms=3.0)
    before = session_of(
        phrase, Part(section="a", phrase="p", loop=loops), Part(section="b", phrase="p", start_beat=1.5, length_beats=length, gain_db=-6.0)
    )  # fmt: skip
    after, second = edits.split_phrase(before, "t", "p", at / 4)
    assert heard(after) == heard(before)
    assert edits.phrase_of(after, "t", "p").beats + edits.phrase_of(after, "t", second).beats == 4.0


def test_a_phrase_that_runs_backwards_is_split_backwards():
    phrase = Phrase(
        id="p", beats=4.0, notes=tuple(Note(start_beat=b, length_beats=0.5, pitch=60 + b) for b in range(4))
    )
    before = session_of(phrase, Part(section="a", phrase="p", reverse=True))
    assert heard(edits.split_phrase(before, "t", "p", 1.0)[0]) == heard(before)


def test_two_phrases_joined_play_one_after_the_other():
    first = Phrase(id="p", beats=2.0, notes=(Note(start_beat=0, length_beats=1, pitch=40),), nudge_ms=5.0)
    second = Phrase(id="q", beats=6.0, notes=(Note(start_beat=1, length_beats=1, pitch=50),), nudge_ms=-5.0)
    joined = edits.join_phrases(session_of(first, more=(second,)), "t", "p", "q")
    assert [(s, p) for s, _, p, _ in heard(joined)] == [(0.005, 40), (1.495, 50)]


def test_an_own_copy_leaves_the_other_sections_alone():
    phrase = Phrase(id="p", beats=4.0, notes=(Note(start_beat=0, length_beats=1, pitch=40),))
    before = session_of(phrase, *(Part(section=s, phrase="p") for s in "abc"))
    after, copy = edits.own_copy(before, "t", "b", "p")
    assert heard(after) == heard(before)
    changed = edits.put_phrase(after, "t", edits.phrase_of(after, "t", copy).replace(notes=()))
    assert [s for s, *_ in heard(changed)] == [s for s, *_ in heard(before) if not 4.0 <= s < 8.0]
    assert edits.sections_that_play(changed, "t", "p") == ("a", "c")


def test_a_new_name_holds_everywhere_and_an_empty_one_is_refused():
    phrase = Phrase(id="p", beats=4.0, notes=(Note(start_beat=0, length_beats=1, pitch=40),))
    before = session_of(phrase, *(Part(section=s, phrase="p") for s in "ab"))
    after, name = edits.rename_phrase(before, "t", "p", "Verse riff")
    assert name == "verse-riff"
    assert heard(after) == heard(before)
    with pytest.raises(ParameterError, match="needs a name"):
        edits.rename_phrase(before, "t", "p", "  ")


def test_a_shorter_phrase_hides_notes_and_a_longer_one_has_them_again():
    phrase = Phrase(
        id="p", beats=4.0, notes=tuple(Note(start_beat=b, length_beats=0.5, pitch=60 + b) for b in range(4))
    )
    before = session_of(phrase)
    short = edits.resize_phrase(before, "t", "p", 2.0)
    assert {p for *_, p, _ in heard(short)} == {60, 61}
    assert heard(edits.resize_phrase(short, "t", "p", 4.0)) == heard(before)


def test_bars_are_copied_over_others_and_past_the_end():
    phrase = Phrase(id="p", beats=8.0, notes=(Note(start_beat=1, length_beats=1, pitch=40), Note(start_beat=5, length_beats=1, pitch=50)))  # fmt: skip
    over = edits.phrase_of(edits.copy_bars(session_of(phrase), "t", "p", 1, 1, 2), "t", "p")
    assert [(n.start_beat, n.pitch) for n in over.notes] == [(1.0, 40), (5.0, 40)]
    past = edits.phrase_of(edits.copy_bars(session_of(phrase), "t", "p", 1, 2, 3), "t", "p")
    assert past.beats == 16.0
    assert [n.start_beat for n in past.notes] == [1.0, 5.0, 9.0, 13.0]
    with pytest.raises(ParameterError, match="has bars 1 to 2"):
        edits.copy_bars(session_of(phrase), "t", "p", 3, 1, 1)


def test_twice_as_long_sounds_the_same_in_a_loop():
    phrase = Phrase(
        id="p", beats=4.0, notes=tuple(Note(start_beat=b, length_beats=0.5, pitch=60 + b) for b in range(4))
    )
    before = session_of(phrase)
    assert heard(edits.doubled(before, "t", "p")) == heard(before)


def test_notes_behind_are_those_of_the_others_in_this_section():
    phrase = Phrase(id="p", beats=2.0, notes=(Note(start_beat=1, length_beats=1, pitch=40),))
    session = session_of(phrase)
    other = session.track("t").replace(id="o", name="O", parts=(Part(section="b", phrase="p", transpose_semitones=12),))
    session = session.replace(tracks=(*session.tracks, other))
    assert edits.notes_of_others(session, "t", "a", 8.0) == {}
    seen = edits.notes_of_others(session, "t", "b", 5.0)
    assert [(n.start_beat, n.pitch) for n in seen["o"]] == [(1.0, 52), (3.0, 52)]
    np.testing.assert_array_equal(list(edits.notes_of_others(session, "o", "a", 4.0)), ["t"])


def test_where_in_a_phrase_the_song_is():
    phrase = Phrase(id="p", beats=3.0)
    session = session_of(
        phrase, Part(section="a", phrase="p", start_beat=1.0), Part(section="c", phrase="p", loop=False)
    )
    at = {beat: edits.beat_in_phrase(session, "t", "p", beat) for beat in (0.5, 1.0, 5.5, 8.0, 17.0, 19.5)}
    assert at == {0.5: None, 1.0: 0.0, 5.5: 1.5, 8.0: None, 17.0: 1.0, 19.5: None}
