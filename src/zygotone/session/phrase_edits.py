"""Edits of whole phrases, and of which of them a section plays. Functions from session to session."""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterable

from zygotone.errors import ParameterError
from zygotone.session.edits import change_instrument, checked, instrument_of, make_id, put_phrase, set_parts
from zygotone.session.instruments import InstrumentSource, Note, Phrase
from zygotone.session.models import Session, Song, Track
from zygotone.session.parts import Part

_SAME = 1e-6  # beats
_MOST_BEHIND = 2000  # notes of one track that are only looked at


def phrase_of(session: Session, track_id: str, phrase_id: str) -> Phrase:
    """Raises ParameterError where the track has no such phrase."""
    found = next((p for p in instrument_of(session, track_id).phrases if p.id == phrase_id), None)
    if found is None:
        raise ParameterError(f"{session.track(track_id).name!r} has no phrase {phrase_id!r}")
    return found


def free_phrase_id(session: Session, track_id: str, name: str) -> str:
    return make_id(name, (p.id for p in instrument_of(session, track_id).phrases))


def _with_parts(session: Session, track_id: str, change: Callable[[Part], Iterable[Part]]) -> Session:
    parts = [new for part in session.track(track_id).parts for new in change(part)]
    return set_parts(session, track_id, parts)


def sections_that_play(session: Session, track_id: str, phrase_id: str) -> tuple[str, ...]:
    """Ids of the sections, each once, in the order of the song."""
    played = {part.section for part in session.track(track_id).parts if part.phrase == phrase_id}
    return tuple(s.id for s in session.song.sections if s.id in played)


def own_copy(session: Session, track_id: str, section_id: str, phrase_id: str) -> tuple[Session, str]:
    """A copy of a phrase that only this section plays, and its id: what is done to it leaves the other sections alone."""
    new = free_phrase_id(session, track_id, f"{phrase_id}-{session.song.section(section_id).name}")
    copy = phrase_of(session, track_id, phrase_id).replace(id=new)
    session = put_phrase(session, track_id, copy)

    def here(part: Part) -> tuple[Part]:
        return (part.replace(phrase=new) if part.section == section_id and part.phrase == phrase_id else part,)

    return _with_parts(session, track_id, here), new


def duplicate_phrase(session: Session, track_id: str, phrase_id: str) -> tuple[Session, str]:
    """A copy that nothing plays yet, and its id."""
    new = free_phrase_id(session, track_id, phrase_id)
    return put_phrase(session, track_id, phrase_of(session, track_id, phrase_id).replace(id=new)), new


def rename_phrase(session: Session, track_id: str, phrase_id: str, name: str) -> tuple[Session, str]:
    """Under another name wherever it is played, and that name: as it was asked for, in letters that a file can hold.

    Raises
    ------
    ParameterError : the name is empty.
    """
    if not name.strip():
        raise ParameterError("a phrase needs a name")
    others = (p.id for p in instrument_of(session, track_id).phrases if p.id != phrase_id)
    new = make_id(name, others)
    phrases = tuple(p.replace(id=new) if p.id == phrase_id else p for p in instrument_of(session, track_id).phrases)
    track = session.track(track_id)
    parts = tuple(p.replace(phrase=new) if p.phrase == phrase_id else p for p in track.parts)
    # Both at once: between them a part would play a phrase that is not there.
    renamed = track.replace(source=instrument_of(session, track_id).replace(phrases=phrases), parts=parts)
    tracks = tuple(renamed if t.id == track_id else t for t in session.tracks)
    return checked(session.replace(tracks=tracks)), new


def resize_phrase(session: Session, track_id: str, phrase_id: str, beats: float) -> Session:
    """Another length. Notes that begin after a new end stay in the phrase, unheard, and are there again if it grows; those of
    a phrase that has become shorter are cut by nothing."""
    phrase = phrase_of(session, track_id, phrase_id)
    return put_phrase(session, track_id, Phrase.model_validate({**dict(phrase), "beats": beats}))


def doubled(session: Session, track_id: str, phrase_id: str) -> Session:
    """Twice as long, its notes once more in the second half."""
    phrase = phrase_of(session, track_id, phrase_id)
    again = tuple(
        n.replace(start_beat=n.start_beat + phrase.beats) for n in phrase.notes if n.start_beat < phrase.beats
    )
    kept = tuple(n for n in phrase.notes if n.start_beat < phrase.beats)
    new = Phrase.model_validate({**dict(phrase), "beats": 2.0 * phrase.beats, "notes": kept + again})
    return put_phrase(session, track_id, new)


def split_phrase(session: Session, track_id: str, phrase_id: str, at_beat: float) -> tuple[Session, str]:
    """Two phrases, and the id of the second: what began at ``at_beat`` or later is in it, from its own beat 0. Wherever the
    whole was played the two take turns, so that nothing sounds different.

    Raises
    ------
    ParameterError : the place is not within the phrase.
    """
    phrase = phrase_of(session, track_id, phrase_id)
    if not 1 / 64 <= at_beat <= phrase.beats - 1 / 64:
        raise ParameterError(f"{phrase_id!r} lasts {phrase.beats:g} beats; it cannot be split at beat {at_beat:g}")
    second_id = free_phrase_id(session, track_id, phrase_id)
    first = phrase.replace(beats=at_beat, notes=tuple(n for n in phrase.notes if n.start_beat < at_beat - _SAME))
    rest = (n for n in phrase.notes if at_beat - _SAME <= n.start_beat < phrase.beats)
    second = phrase.replace(
        id=second_id, beats=phrase.beats - at_beat, notes=tuple(n.replace(start_beat=max(0.0, n.start_beat - at_beat)) for n in rest)
    )  # fmt: skip
    session = put_phrase(put_phrase(session, track_id, first), track_id, second)

    def turns(part: Part) -> Iterable[Part]:
        if part.phrase != phrase_id:
            yield part
            return
        offset, _ = session.song.beats_of(part.section)
        begun, end = part.span_beats(session.song.beats_of(part.section))
        halves = (second, first) if part.reverse else (first, second)
        lasts = end if part.loop else min(end, begun + phrase.beats)
        at, fade_in_ms = begun, part.fade_in_ms
        while at < lasts - _SAME:
            for half in halves:
                if at < lasts - _SAME:
                    # To the end of the whole: what is held over the cut rings on, as it did.
                    yield part.replace(
                        phrase=half.id, start_beat=at - offset, length_beats=end - at, loop=False, fade_in_ms=fade_in_ms
                    )
                at, fade_in_ms = at + half.beats, 0.0

    return _with_parts(session, track_id, turns), second_id


def join_phrases(session: Session, track_id: str, first_id: str, second_id: str) -> Session:
    """``first`` followed by ``second``, as one phrase under the first one's name; the second stays what it is."""
    first, second = (phrase_of(session, track_id, each) for each in (first_id, second_id))
    kept = tuple(n for n in first.notes if n.start_beat < first.beats)
    # A phrase's own nudge is every note's: what differs between the two goes into the notes.
    more = second.nudge_ms - first.nudge_ms
    added = tuple(
        n.replace(start_beat=n.start_beat + first.beats, nudge_ms=max(-200.0, min(200.0, n.nudge_ms + more)))
        for n in second.notes
        if n.start_beat < second.beats
    )
    new = Phrase.model_validate({**dict(first), "beats": first.beats + second.beats, "notes": kept + added})
    return put_phrase(session, track_id, new)


def copy_bars(
    session: Session, track_id: str, phrase_id: str, first_bar: int, bars: int, to_bar: int
) -> Session:  # fmt: skip
    """The notes of ``bars`` bars from ``first_bar`` (from 1) in place of those at ``to_bar``; the phrase grows where it must.

    Raises
    ------
    ParameterError : the phrase has no such bars.
    """
    phrase = phrase_of(session, track_id, phrase_id)
    bar = session.song.bar_beats
    if first_bar < 1 or to_bar < 1 or bars < 1 or (first_bar - 1 + bars) * bar > phrase.beats + bar - _SAME:
        raise ParameterError(f"{phrase_id!r} has bars 1 to {max(1, round(phrase.beats / bar))}")
    begin, end, to = (first_bar - 1) * bar, (first_bar - 1 + bars) * bar, (to_bar - 1) * bar
    copied = tuple(
        n.replace(start_beat=n.start_beat - begin + to)
        for n in phrase.notes
        if begin - _SAME <= n.start_beat < min(end, phrase.beats) - _SAME
    )
    kept = tuple(n for n in phrase.notes if not to - _SAME <= n.start_beat < to + (end - begin) - _SAME)
    beats = max(phrase.beats, to + (end - begin))
    return put_phrase(
        session, track_id, Phrase.model_validate({**dict(phrase), "beats": beats, "notes": kept + copied})
    )


def remove_phrase(session: Session, track_id: str, phrase_id: str) -> Session:
    """Without the phrase; sections that played it are silent on this track."""
    without = _with_parts(session, track_id, lambda part: () if part.phrase == phrase_id else (part,))
    left = tuple(p for p in instrument_of(session, track_id).phrases if p.id != phrase_id)
    return change_instrument(without, track_id, phrases=left)


def beat_in_phrase(session: Session, track_id: str, phrase_id: str, song_beat: float) -> float | None:
    """Which beat of a phrase is heard at a beat of the song; None where the track does not play it then."""
    beats = phrase_of(session, track_id, phrase_id).beats
    for part in session.track(track_id).parts:
        begun, end = part.span_beats(session.song.beats_of(part.section))
        within = song_beat - begun
        if part.phrase == phrase_id and begun <= song_beat < end and (part.loop or within < beats):
            return within % beats
    return None


def notes_of_others(session: Session, track_id: str, section_id: str, beats: float) -> dict[str, tuple[Note, ...]]:
    """What other tracks with notes play in the first ``beats`` of a section, by track id, for the eye to line up with."""
    found: dict[str, tuple[Note, ...]] = {}
    for track in session.tracks:
        if track.id != track_id and isinstance(track.source, InstrumentSource):
            notes = _played_notes(track, session.song, section_id, beats)
            if notes:
                found[track.id] = notes
    return found


@functools.lru_cache(
    maxsize=256
)  # asked at every edit, while a note is dragged; by value, so an edit of one track costs one
def _played_notes(track: Track, song: Song, section_id: str, beats: float) -> tuple[Note, ...]:
    assert isinstance(track.source, InstrumentSource)
    span = song.beats_of(section_id)
    phrases = {p.id: p for p in track.source.phrases}
    notes: list[Note] = []
    for part in track.parts:
        if part.section != section_id or part.phrase not in phrases:
            continue
        phrase = phrases[part.phrase]
        at, end = (beat - span[0] for beat in part.span_beats(span))
        while at < min(end, beats) - _SAME and len(notes) < _MOST_BEHIND:
            notes += [
                n.replace(start_beat=at + n.start_beat, pitch=max(0, min(127, n.pitch + part.transpose_semitones)))
                for n in phrase.notes
                if n.start_beat < phrase.beats and at + n.start_beat < min(end, beats)
            ]
            if not part.loop:
                break
            at += phrase.beats
    return tuple(notes)
