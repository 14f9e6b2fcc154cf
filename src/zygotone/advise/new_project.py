"""A new project from stems."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping
from pathlib import Path

from zygotone.advise.roles import guess_role
from zygotone.errors import ParameterError
from zygotone.session.audio_files import AudioData, audio_rate_hz, read_audio
from zygotone.session.audio_store import AudioStore
from zygotone.session.edits import change_sections, change_song, make_id
from zygotone.session.models import (
    ROLES,
    SAMPLE_RATES,
    USUAL_SEAT,
    Asset,
    ClipSource,
    Role,
    Section,
    Session,
    Song,
    Track,
)
from zygotone.session.project_file import Project


def best_rate(rates_hz: Iterable[int]) -> int:
    """The session rate that suits the stems: the most common one that a session can have, else 48 kHz."""
    possible = [r for r in rates_hz if r in SAMPLE_RATES]
    return max(sorted(set(possible)), key=possible.count) if possible else 48000


def bars_for(seconds: float, song: Song) -> int:
    """Whole bars that hold ``seconds``; a few milliseconds over the bar line do not open another bar."""
    return max(1, math.ceil(seconds / song.bar_s - 0.01 / song.bar_s))


def add_stem(
    session: Session,
    store: AudioStore,
    name: str,
    audio: AudioData,
    *,
    role: Role | None = None,
    seat: int | None = None,
) -> Session:
    """One more track that plays ``audio`` from the song's start. The song grows to hold it."""
    asset = store.add(audio, name, session.rate_hz)
    role = role or guess_role(name, audio.data, audio.rate_hz)
    taken_names = {s.name for s in session.strips()}
    unique, n = name, 2
    while unique in taken_names:
        unique, n = f"{name} {n}", n + 1
    track = Track(
        id=make_id(unique, (s.id for s in session.strips())), name=unique, role=role, seat=seat or USUAL_SEAT[role],
        source=ClipSource(asset=asset.id),
    )  # fmt: skip
    assets: tuple[Asset, ...] = session.assets
    if asset.id not in {a.id for a in assets}:
        assets = (*assets, asset)
    session = session.replace(tracks=(*session.tracks, track), assets=assets)
    return fit_song(session)


def longest_clip_s(session: Session) -> float:
    ends = [
        t.source.start_s + session.asset(t.source.asset).frames / session.rate_hz
        for t in session.tracks
        if isinstance(t.source, ClipSource) and not t.source.loop
    ]
    return max(ends, default=0.0)


_MOST_SECTIONS = 40


def usual_sections(bars: int) -> tuple[Section, ...]:
    """How a song of stems is divided as long as nobody says better: eight bars each (common practice), more where that would be more
    sections than are seen at a glance. One is judged, looped and measured at a time: a song in one piece takes minutes and gigabytes."""
    size = 8
    while bars > size * _MOST_SECTIONS:
        size *= 2
    if bars <= size:
        return (Section(id="song", name="Song", bars=bars),)
    return tuple(_bars_of_song(first, min(size, bars - first)) for first in range(0, bars, size))


def _bars_of_song(first: int, bars: int) -> Section:
    name = f"Bars {first + 1}–{first + bars}" if bars > 1 else f"Bar {first + 1}"
    return Section(id=f"bars-{first + 1}", name=name, bars=bars)


def fit_song(session: Session) -> Session:
    """Make the song long enough for the longest stem. What somebody made of its sections stays, and further ones follow."""
    song = session.song
    bars = bars_for(longest_clip_s(session), song)
    if bars <= song.bars:
        return session
    if is_divided_as_usual(session):
        return change_sections(session, usual_sections(bars))
    taken = {each.id for each in song.sections}
    sections, missing = list(song.sections), bars - song.bars
    size = max(each.bars for each in usual_sections(missing))
    while missing > 0:
        new = _bars_of_song(bars - missing, min(size, missing))
        sections.append(new.replace(id=make_id(new.name, taken)))
        taken.add(sections[-1].id)
        missing -= new.bars
    return change_song(session, sections=tuple(sections))


def is_divided_as_usual(session: Session) -> bool:
    """Whether nobody has named its sections, or put anything into one."""
    in_use = any(t.parts for t in session.tracks) or any(lane.section is not None for lane in session.lanes)
    return not in_use and session.song.sections == usual_sections(session.song.bars)


def change_tempo(session: Session, bpm: float) -> Session:
    """A new tempo. A song of stems has as many bars then as they need, since audio does not follow; several that
    somebody made stay."""
    changed = change_song(session, tempo_bpm=bpm)
    if session.tracks and all(isinstance(t.source, ClipSource) for t in session.tracks):
        bars = bars_for(longest_clip_s(changed), changed.song)
        if is_divided_as_usual(session):
            return change_sections(changed, usual_sections(bars))
        if len(session.song.sections) == 1:
            return change_sections(changed, [session.song.sections[0].replace(bars=bars)])
    return fit_song(changed)


def project_from_stems(
    paths: Iterable[Path],
    *,
    roles: Mapping[str, Role] | None = None,
    seats: Mapping[str, int] | None = None,
    tempo_bpm: float = 120.0,
    key: str = "",
    title: str = "Untitled",
    progress: Callable[[float, str], None] = lambda share, name: None,
) -> Project:
    """A project in which each stem is a track, named by its file without ending.

    Raises
    ------
    BadFileError : a stem cannot be used.
    ParameterError : a role, seat, tempo or key is not possible, or names a track that is not there.
    """
    paths = list(paths)
    if not paths:
        raise ParameterError("at least one stem is needed")
    names = [p.stem for p in paths]
    for given in (roles or {}, seats or {}):
        for name in given:
            if name not in names:
                raise ParameterError(f"there is no stem named {name!r}; there are {', '.join(names)}")
    for name, role in (roles or {}).items():
        if role not in ROLES:
            raise ParameterError(f"the role of {name} must be one of {', '.join(ROLES)}, got {role!r}")
    rates = [audio_rate_hz(path) for path in paths]
    song = Song(title=title, tempo_bpm=tempo_bpm, key=key, sections=(Section(id="song", name="Song", bars=1),))
    session = Session(rate_hz=best_rate(rates), song=song)
    store = AudioStore()
    for i, (name, path) in enumerate(zip(names, paths, strict=True)):  # one at a time: a song of stems is large
        progress(i / len(paths), path.name)
        data = read_audio(path)
        session = add_stem(session, store, name, data, role=(roles or {}).get(name), seat=(seats or {}).get(name))
    return Project(session=Session.model_validate(session.model_dump()), store=store)
