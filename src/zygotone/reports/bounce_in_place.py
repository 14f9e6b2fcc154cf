"""Sound made into audio where it stands: a track, a section of it, its first bar or its phrase, as a clip or as a sample.

What is bounced begins a moment early and ends when it has rung out, so that the bounce in the place of the original is heard
as the original was.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from zygotone.dsp.giving_up import IsUnwanted, give_up_if_unwanted, tell_share
from zygotone.dsp.levels import db_to_gain
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.engine.graph import compile_session
from zygotone.engine.renderer import Renderer
from zygotone.errors import ParameterError
from zygotone.music.pitch import midi_to_hz
from zygotone.session.automation import Lane
from zygotone.session.copies import free_name, lanes_of
from zygotone.session.edits import add_asset, checked, make_id, only, put_lane, with_strip
from zygotone.session.instruments import Envelope, InstrumentSource, Layer, Note, Phrase
from zygotone.session.kinds import Sound
from zygotone.session.models import Asset, ClipSource, Session, Track
from zygotone.session.parts import Part

Span = Literal["track", "section", "bar", "phrase"]
How = Literal["dry", "chain", "sends"]
SPANS: dict[Span, str] = {
    "track": "the whole track", "section": "this section", "bar": "the first bar of this section", "phrase": "its phrase, once",
}  # fmt: skip
HOWS: dict[How, str] = {
    "dry": "dry, before its chain", "chain": "with its chain", "sends": "with chain, level, pan and what it sends",
}  # fmt: skip

_LEAD_S = 0.25  # as early as a nudge can make a note, and some
_MOST_TAIL_S = 12.0
_SILENT_DB = -100.0  # under the loudest sample: nobody hears it, whatever comes after
_CUT_S = 0.005  # where something is cut off that still sounds
_LONGEST_PHRASE_BEATS = 10_000.0


@dataclass(frozen=True, slots=True)
class BounceSpec:
    """``before``: so that it ends where the section begins, as a reversed swell does. ``keep`` leaves the original as it is."""

    track_id: str
    section_id: str
    span: Span = "section"
    how: How = "chain"
    reverse: bool = False
    before: bool = False
    as_sample: bool = False
    keep: bool = False


@dataclass(frozen=True)
class Bounced:
    audio: FloatArray  # (2, n)
    start_frame: int  # of the song


def _first_part(track: Track, section_id: str) -> Part | None:
    return next((p for p in track.parts if p.section == section_id), None)


def _frames_of(session: Session, spec: BounceSpec) -> tuple[int, int]:
    """First frame, and the one after the last that is asked for, without what comes early or rings out."""
    if spec.span == "track":
        return session.section_span(None)
    first, end = session.section_span(spec.section_id)
    if spec.span == "bar":
        end = min(end, first + round(session.song.bar_s * session.rate_hz))
    if spec.span == "phrase":
        track = session.track(spec.track_id)
        part, source = _first_part(track, spec.section_id), track.source
        if part is None or not isinstance(source, InstrumentSource):
            raise ParameterError(f"{track.name!r} plays no phrase in {session.song.section(spec.section_id).name!r}")
        beats = next(p.beats for p in source.phrases if p.id == part.phrase)
        per_beat = 60.0 / session.song.tempo_bpm * session.rate_hz
        first += round(part.start_beat * per_beat)
        end = min(end, first + round(beats * per_beat))
    return first, end


def _of_strip(lane: Lane) -> bool:
    """Whether it moves the strip's own level, pan or sends."""
    return lane.device is None and lane.layer is None


def prepared(session: Session, spec: BounceSpec) -> Session:
    """The session of which the bounce is rendered: only what is asked for plays on the track."""
    track = session.track(spec.track_id)
    parts = track.parts
    if spec.span != "track" and parts:
        parts = tuple(p for p in parts if p.section in (spec.section_id, None))
        if spec.span == "phrase":
            first = _first_part(track, spec.section_id)
            parts = () if first is None else (first.replace(loop=False),)
    changes: dict[str, object] = {"parts": parts, "mute": False}
    lanes = session.lanes
    if spec.how != "sends":  # level and pan stay rulers that can be moved
        changes |= {"level_db": 0.0, "pan_pct": 0.0}
        lanes = tuple(lane for lane in lanes if lane.strip != track.id or not _of_strip(lane))
    else:
        changes["bus"] = None  # what its group does is done to the bounce too, which goes there
    if spec.how == "dry":
        changes["chain"] = ()
        lanes = tuple(lane for lane in lanes if lane.strip != track.id or lane.device is None or lane.layer is not None)
    made = with_strip(session, track.replace(**changes)).replace(lanes=lanes)
    if spec.how == "sends":
        bare = made.mix.replace(chain=(), level_db=0.0, pan_pct=0.0)
        lanes = tuple(lane for lane in made.lanes if lane.strip != made.mix.id)
        made = only(made.replace(mix=bare, lanes=lanes), track.id)
    return checked(made)


@dataclass(frozen=True, slots=True)
class Bounce:
    """A request; answered by ``Bounced``."""

    session: Session
    spec: BounceSpec
    name: str = "Bouncing"

    def answer(self, renderer: Renderer, unwanted: IsUnwanted) -> Bounced:
        spec, rate = self.spec, self.session.rate_hz
        session = prepared(self.session, spec)
        graph = compile_session(session)
        first, end = _frames_of(self.session, spec)
        lead = min(first, round(_LEAD_S * rate))
        tail = 0 if spec.span == "bar" else round(_MOST_TAIL_S * rate)

        def progress(share: float) -> None:
            tell_share(share)
            give_up_if_unwanted()

        node = graph.mix if spec.how == "sends" else graph.strip[spec.track_id]
        audio = renderer.take(graph, node, (first - lead, end + tail), progress=progress).audio
        return _trimmed(audio, first - lead, lead, end - first, rate, reverse=spec.reverse)


def _trimmed(audio: Stereo, start: int, lead: int, frames: int, rate_hz: int, *, reverse: bool) -> Bounced:
    """Without silence before the place and after the end; what still sounds where it is cut fades out."""
    peak = float(np.max(np.abs(audio), initial=0.0))
    if peak == 0.0:
        raise ParameterError("nothing sounds there; there is nothing to bounce")
    sounding = np.flatnonzero(np.max(np.abs(audio), axis=0) > peak * float(db_to_gain(_SILENT_DB)))
    edge = round(_CUT_S * rate_hz)  # silence that the edges of a part may fade over
    begin = max(0, min(lead, int(sounding[0])) - edge)
    stop = min(audio.shape[1], max(lead + frames, int(sounding[-1]) + 1 + edge))
    cut = np.array(audio[:, begin:stop])
    fade = min(cut.shape[1], edge)
    if stop == audio.shape[1]:
        cut[:, -fade:] *= np.linspace(1.0, 0.0, fade)
    if reverse:
        cut = np.ascontiguousarray(cut[:, ::-1])
    return Bounced(cut, start + begin)


def with_bounce(session: Session, spec: BounceSpec, bounced: Bounced, asset: Asset) -> tuple[Session, str]:
    """The bounce as a new track after the original, and its id. The original is muted, or plays no more where it was bounced."""
    track = session.track(spec.track_id)
    rate, bpm = session.rate_hz, session.song.tempo_bpm
    frames, start = bounced.audio.shape[1], bounced.start_frame
    cut = 0
    if spec.before:
        start = session.section_span(spec.section_id)[0] - frames
        cut, start = max(0, -start), max(0, start)

    def beats(n: int) -> float:
        return n / rate * bpm / 60.0

    length = beats(frames - cut)
    at = beats(start)
    session = add_asset(session, asset)
    name = free_name(session, f"{track.name} {'reversed' if spec.reverse else 'bounce'}")
    new_id = make_id(name, (s.id for s in session.strips()))
    source: ClipSource | InstrumentSource
    part: Part | None
    if spec.as_sample:
        layer = Layer(
            id="sample", name=name[:120], sound=Sound.model_validate({"kind": "sample", "files": [asset.id], "start": cut / frames, "root_hz": midi_to_hz(60, a4_hz=session.song.a4_hz)}),
            velocity_db=0.0, envelope=Envelope(attack_ms=0.1, sustain=1.0, release_ms=80.0),
        )  # fmt: skip
        note = Note(start_beat=0.0, length_beats=min(length, _LONGEST_PHRASE_BEATS), pitch=60, velocity=1.0)
        phrase = Phrase(id="bounce", beats=min(_LONGEST_PHRASE_BEATS, max(1 / 64, length)), notes=(note,))
        source = InstrumentSource(layers=(layer,), phrases=(phrase,))
        part = Part(start_beat=at, phrase="bounce", loop=False)
    elif start == cut == 0:  # it may begin with the song's first sample: no edge of a part to fade in over
        source, part = ClipSource(asset=asset.id), None
    else:
        source = ClipSource(asset=asset.id)
        part = Part(start_beat=at, length_beats=max(1 / 64, length), clip=asset.id, clip_start_s=cut / rate, loop=False)
    whole = spec.how == "sends"
    made = Track(
        id=new_id, name=name, role=track.role, seat=track.seat, source=source, parts=() if part is None else (part,), bus=track.bus,
        level_db=0.0 if whole else track.level_db, pan_pct=0.0 if whole else track.pan_pct, sends=() if whole else track.sends,
        chain=track.chain if spec.how == "dry" else (),
    )  # fmt: skip
    tracks = list(session.tracks)
    tracks.insert(next(i for i, t in enumerate(tracks) if t.id == track.id) + 1, made)
    session = session.replace(tracks=tuple(tracks))
    for lane in lanes_of(session, track.id):
        of_chain = lane.device is not None and lane.layer is None
        if (_of_strip(lane) and not whole) or (of_chain and spec.how == "dry"):
            lane_id = make_id(lane.id, (each.id for each in session.lanes))
            session = put_lane(session, lane.replace(id=lane_id, strip=new_id))
    if not spec.keep:
        session = _silenced(session, spec)
    return checked(session), new_id


def _silenced(session: Session, spec: BounceSpec) -> Session:
    """The original where it was bounced: the whole of it muted, a section taken out."""
    track = session.track(spec.track_id)
    if spec.span == "track":
        return with_strip(session, track.replace(mute=True))
    if spec.span != "section" or not track.parts:  # a bar or a phrase is a stretch of what goes on
        return session
    left = tuple(p for p in track.parts if p.section != spec.section_id)
    silent = not left and isinstance(track.source, ClipSource)
    return with_strip(session, track.replace(parts=left, mute=track.mute or silent))
