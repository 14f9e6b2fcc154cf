"""What the hand does to audio in the song: parts of clips, moved, trimmed, cut, fitted to bars, sliced into notes."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from zygotone.errors import ParameterError
from zygotone.session.copies import free_name, paste_track
from zygotone.session.edits import add_asset, change_strip, checked, make_id, set_parts
from zygotone.session.instruments import Envelope, InstrumentSource, Layer, Note, Phrase, Route
from zygotone.session.kinds import Sound
from zygotone.session.models import USUAL_SEAT, Asset, ClipSource, Session, Track
from zygotone.session.parts import Part

_LEAST_BEATS = 1 / 64
_SLICE_RELEASE_MS = 2.0


def clip_source(session: Session, track_id: str) -> ClipSource:
    """Raises ParameterError where the track plays no clip."""
    source = session.track(track_id).source
    if not isinstance(source, ClipSource):
        raise ParameterError(f"{session.track(track_id).name!r} plays no clip")
    return source


def clip_beats(session: Session, asset_id: str) -> float:
    """How long a clip is at the song's tempo."""
    return session.asset(asset_id).frames / session.rate_hz * session.song.tempo_bpm / 60.0


def beats_to_s(session: Session, beats: float) -> float:
    return beats * 60.0 / session.song.tempo_bpm


def _placed(session: Session, track_id: str, part: Part) -> Iterator[Part]:
    """A part as ones with places of their own in the clip, heard alike: what runs along has none, and where it repeats each
    time is one."""
    if part.clip_start_s is not None:
        yield part
        return
    source = clip_source(session, track_id)
    first, end = part.span_beats(session.song.beats_of(part.section))
    offset, _ = session.song.beats_of(part.section)
    begun = source.start_s * session.song.tempo_bpm / 60.0
    length = clip_beats(session, part.clip or source.asset)
    at = max(first, begun)
    while at < end - _LEAST_BEATS:
        inside = (at - begun) % length if part.loop else at - begun
        lasts = min(end - at, length - inside)
        if lasts < _LEAST_BEATS:
            return
        yield part.replace(
            start_beat=at - offset, length_beats=lasts, clip_start_s=beats_to_s(session, inside), loop=False
        )
        if not part.loop:
            return
        at += lasts


def with_parts_of_their_own(session: Session, track_id: str) -> Session:
    """A clip that plays throughout, or parts that run along with it, as parts that can be moved: heard as before."""
    track = session.track(track_id)
    parts = track.parts or (Part(loop=clip_source(session, track_id).loop),)
    placed = tuple(new for part in parts for new in _placed(session, track_id, part))
    return session if placed == track.parts else set_parts(session, track_id, placed)


def change_part(session: Session, track_id: str, at: int, **changes: Any) -> Session:
    """Fields of the part at place ``at``, checked."""
    session = with_parts_of_their_own(session, track_id)
    parts = list(session.track(track_id).parts)
    parts[at] = Part.model_validate({**dict(parts[at]), **changes})
    return set_parts(session, track_id, parts)


def add_part(session: Session, track_id: str, section_id: str) -> tuple[Session, int]:
    """A part at the start of a section, from the beginning of the track's clip to its end or the section's; and its place. A
    track that was silent for having no parts is heard again."""
    session = _ready_for_parts(session, track_id)
    source, parts = clip_source(session, track_id), session.track(track_id).parts
    first, end = session.song.beats_of(section_id)
    part = Part(
        section=section_id, length_beats=min(end - first, clip_beats(session, source.asset)), clip=source.asset,
        clip_start_s=0.0, loop=False,
    )  # fmt: skip
    session = set_parts(session, track_id, (*parts, part))
    if not parts:
        session = change_strip(session, track_id, mute=False)
    return session, len(parts)


def remove_part(session: Session, track_id: str, at: int) -> Session:
    """Without it. A track without parts is muted, as its clip would else play throughout."""
    session = with_parts_of_their_own(session, track_id)
    track = session.track(track_id)
    left = tuple(part for n, part in enumerate(track.parts) if n != at)
    changed = track.replace(parts=left, mute=track.mute or not left)
    return checked(session.replace(tracks=tuple(changed if t.id == track_id else t for t in session.tracks)))


def duplicate_part(session: Session, track_id: str, at: int) -> tuple[Session, int]:
    """Once more, right after it; and the copy's place."""
    session = with_parts_of_their_own(session, track_id)
    parts = list(session.track(track_id).parts)
    part = parts[at]
    first, end = part.span_beats(session.song.beats_of(part.section))
    offset, _ = session.song.beats_of(part.section)
    parts.insert(at + 1, part.replace(start_beat=end - offset, length_beats=end - first))
    return set_parts(session, track_id, parts), at + 1


def trim_start(session: Session, track_id: str, at: int, beats: float) -> Session:
    """Its beginning later (or earlier) by ``beats``, its end where it is: the audio stays where it was in the song."""
    session = with_parts_of_their_own(session, track_id)
    part = session.track(track_id).parts[at]
    first, end = part.span_beats(session.song.beats_of(part.section))
    head = part.clip_start_s or 0.0
    beats = max(beats, -part.start_beat)
    beats = min(beats, end - first - _LEAST_BEATS)
    if not part.reverse:  # backwards, what is cut off at the beginning is the clip's end
        beats = max(beats, -head * session.song.tempo_bpm / 60.0)
        head = max(0.0, head + beats_to_s(session, beats))
    return change_part(
        session, track_id, at, start_beat=part.start_beat + beats, length_beats=end - first - beats, clip_start_s=head
    )  # fmt: skip


def split_part(session: Session, track_id: str, at: int, at_beat: float) -> Session:
    """Two parts, cut ``at_beat`` of the song; each plays on where it did.

    Raises
    ------
    ParameterError : the part does not lie there, or repeats or runs backwards.
    """
    session = with_parts_of_their_own(session, track_id)
    parts = list(session.track(track_id).parts)
    part = parts[at]
    first, end = part.span_beats(session.song.beats_of(part.section))
    if not first + _LEAST_BEATS <= at_beat <= end - _LEAST_BEATS:
        raise ParameterError(
            f"the part lasts from beat {first:g} to {end:g} of the song; it cannot be cut at {at_beat:g}"
        )
    parts[at : at + 1] = _cut(session, part, at_beat)
    return set_parts(session, track_id, parts)


def _cut(session: Session, part: Part, at_beat: float) -> tuple[Part, Part]:
    """Both halves of a part that has its own place in its clip; ``at_beat`` of the song lies within it."""
    if part.loop or part.reverse:
        raise ParameterError("a part that repeats or runs backwards cannot be cut; switch that off, or bounce it first")
    first, end = part.span_beats(session.song.beats_of(part.section))
    left = part.replace(length_beats=at_beat - first, fade_out_ms=0.0)
    right = part.replace(
        start_beat=part.start_beat + at_beat - first, length_beats=end - at_beat, fade_in_ms=0.0,
        clip_start_s=(part.clip_start_s or 0.0) + beats_to_s(session, at_beat - first),
    )  # fmt: skip
    return left, right


def _without(session: Session, track_id: str, first: float, end: float) -> tuple[Part, ...]:
    """The parts of a track, as far as they lie outside of these beats of the song."""
    left: list[Part] = []
    for part in session.track(track_id).parts:
        begins, ends = part.span_beats(session.song.beats_of(part.section))
        inside = begins < end - _LEAST_BEATS and ends > first + _LEAST_BEATS
        if inside and begins < first - _LEAST_BEATS:
            before, part = _cut(session, part, first)
            left.append(before)
        if inside and ends > end + _LEAST_BEATS:
            _, after = _cut(session, part, end)
            left.append(after)
        if not inside:
            left.append(part)
    return tuple(left)


def with_take(
    session: Session, asset: Asset, start_frame: int, *, onto: str | None = None, after: str | None = None
) -> tuple[Session, str]:
    """What was recorded, at ``start_frame`` of the song, and the id of its track: a new one after track ``after``, or one of
    clips, where it comes in the place of what was played there.

    Raises
    ------
    ParameterError : that track plays no clips, or would have to be cut where it repeats or runs backwards.
    """
    song = session.song
    per_beat = session.rate_hz * 60.0 / song.tempo_bpm
    first, length = start_frame / per_beat, max(_LEAST_BEATS, asset.frames / per_beat)
    # Where it lies within one section it goes where that goes. Sections begin between frames.
    frame = 1.0 / per_beat
    within = ((s.id, song.beats_of(s.id)) for s in song.sections)
    home = next((i for i, (a, b) in within if a - frame <= first and first + length <= b + frame), None)
    begin = first - (song.beats_of(home)[0] if home is not None else 0.0)
    if begin < frame:
        begin = 0.0
    part = Part(
        section=home, start_beat=begin, length_beats=length, clip=asset.id, clip_start_s=0.0, loop=False
    )  # fmt: skip
    if onto is None:
        track = Track(id="take", name="Take", role="voice", seat=USUAL_SEAT["voice"], source=ClipSource(asset=asset.id), parts=(part,))  # fmt: skip
        return paste_track(add_asset(session, asset), track, after=after)
    clip_source(session, onto)
    session = add_asset(_ready_for_parts(session, onto), asset)
    session = set_parts(session, onto, (*_without(session, onto, first, first + length), part))
    return change_strip(session, onto, mute=False), onto


def _ready_for_parts(session: Session, track_id: str) -> Session:
    """With parts of their own; one that is muted for having none begins with none."""
    track = session.track(track_id)
    return with_parts_of_their_own(session, track_id) if track.parts or not track.mute else session


def fit_to_beats(session: Session, track_id: str, at: int, beats: float) -> Session:
    """So stretched that what is heard of it lasts ``beats``, at its own pitch.

    Raises
    ------
    ParameterError : that is more than four times, or less than a quarter, of its length.
    """
    session = with_parts_of_their_own(session, track_id)
    part = session.track(track_id).parts[at]
    first, end = part.span_beats(session.song.beats_of(part.section))
    factor = beats / (end - first)
    stretch = part.stretch * factor
    if not 0.25 <= stretch <= 4.0:
        raise ParameterError(
            f"that would be {stretch:.2g} times as long as it was recorded; a quarter to four times can be done"
        )
    return change_part(
        session, track_id, at, stretch=stretch, length_beats=beats, clip_start_s=(part.clip_start_s or 0.0) * factor
    )


def slices(session: Session, track_id: str, at: int, hits: Sequence[float]) -> tuple[Session, str]:
    """What is heard of a part as notes of a sampler on a new track, one a hit, and that track's id; the part goes. ``hits``
    are beats of the song. Each note's first macro says where in the clip its slice begins.

    Raises
    ------
    ParameterError : no hit lies within the part, or the part is stretched, transposed, repeated or backwards.
    """
    session = with_parts_of_their_own(session, track_id)
    track = session.track(track_id)
    part, source = track.parts[at], clip_source(session, track_id)
    first, end = part.span_beats(session.song.beats_of(part.section))
    asset_id = part.clip or source.asset
    if part.stretch != 1.0 or part.transpose_semitones or part.loop or part.reverse:
        raise ParameterError(
            "a part that is stretched, transposed, repeated or backwards is bounced first, then sliced"
        )
    begins = [first, *(b for b in sorted(hits) if first + 1 / 16 < b < end - 1 / 16)] if hits else []
    if len(begins) < 2:
        raise ParameterError("there are no hits in this part to slice at")
    seconds = session.asset(asset_id).frames / session.rate_hz
    head = part.clip_start_s or 0.0
    let_go = _SLICE_RELEASE_MS * 1e-3 * session.song.tempo_bpm / 60.0
    notes = []
    for n, begin in enumerate(begins):
        until = (begins[n + 1] if n + 1 < len(begins) else end) - let_go  # what rings out is over as the next begins
        place = min(1.0, (head + beats_to_s(session, begin - first)) / seconds)
        notes.append(
            Note(start_beat=begin - first, length_beats=until - begin, pitch=min(127, 36 + n), velocity=1.0, macros=(place, 0.0, 0.0, 0.0))
        )  # fmt: skip
    layer = Layer(
        id="slices", name="Slices", sound=Sound.model_validate({"kind": "sample", "files": [asset_id], "follows": False, "gated": True}),
        envelope=Envelope(attack_ms=0.0, decay_ms=1.0, sustain=1.0, release_ms=_SLICE_RELEASE_MS), velocity_db=0.0,
        routes=(Route(source="macro1", target="sound.start", amount=1.0),), level_db=part.gain_db + source.gain_db,
    )  # fmt: skip
    phrase = Phrase(id="slices", beats=max(_LEAST_BEATS, end - first), notes=tuple(notes))
    name = free_name(session, f"{track.name} slices")
    made = Track(
        id=make_id(name, (s.id for s in session.strips())), name=name, role=track.role, seat=track.seat, bus=track.bus,
        source=InstrumentSource(layers=(layer,), phrases=(phrase,), macros=("Slice", "", "", "")),
        parts=(part.replace(phrase="slices", clip=None, clip_start_s=None, gain_db=0.0, fade_in_ms=0.0, fade_out_ms=0.0),),
        level_db=track.level_db, pan_pct=track.pan_pct, sends=track.sends, chain=track.chain, nudge_ms=track.nudge_ms,
    )  # fmt: skip
    session = remove_part(session, track_id, at)
    tracks = list(session.tracks)
    tracks.insert(next(i for i, t in enumerate(tracks) if t.id == track_id) + 1, made)
    return checked(session.replace(tracks=tuple(tracks))), made.id
