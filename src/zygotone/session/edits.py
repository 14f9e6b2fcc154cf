"""Edits: functions from session to session. Nothing here changes its argument."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from typing import Any, TypeAlias

from zygotone.session.catalogue import DEVICES
from zygotone.session.models import Bus, ClipSource, Device, InstrumentSource, Section, Session, Song, Strip, Track

Edit: TypeAlias = Callable[[Session], Session]


def make_id(name: str, taken: Iterable[str]) -> str:
    """A short id from a name, unlike any in ``taken``."""
    base = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:40] or "x"
    taken = set(taken)
    candidate, n = base, 2
    while candidate in taken:
        candidate, n = f"{base}-{n}", n + 1
    return candidate


def with_strip(session: Session, strip: Strip) -> Session:
    """Puts ``strip`` in the place of the one with its id."""
    if isinstance(strip, Track):
        return session.replace(tracks=tuple(strip if t.id == strip.id else t for t in session.tracks))
    assert isinstance(strip, Bus)
    if strip.id == session.mix.id:
        return session.replace(mix=strip)
    return session.replace(buses=tuple(strip if b.id == strip.id else b for b in session.buses))


def change_strip(session: Session, strip_id: str, **changes: Any) -> Session:
    strip = session.strip(strip_id)
    return with_strip(session, type(strip).model_validate({**dict(strip), **changes}))


def change_song(session: Session, **changes: Any) -> Session:
    return session.replace(song=Song.model_validate({**dict(session.song), **changes}))


def change_sections(session: Session, sections: Iterable[Section]) -> Session:
    """New sections; parts of sections that are gone go with them."""
    new = tuple(sections)
    left = {s.id for s in new}
    tracks = []
    for track in session.tracks:
        source = track.source
        if isinstance(source, InstrumentSource):
            source = source.replace(parts=tuple(p for p in source.parts if p.section in left))
        elif isinstance(source, ClipSource) and source.sections is not None:
            source = source.replace(sections=tuple(s for s in source.sections if s in left))
        tracks.append(track.replace(source=source))
    return change_song(session, sections=new).replace(tracks=tuple(tracks))


def remove_track(session: Session, track_id: str) -> Session:
    """Without the track; devices that listened to it then hear their own signal."""
    slim = session.replace(tracks=tuple(t for t in session.tracks if t.id != track_id))
    for strip in slim.strips():
        chain = tuple(d.replace(key=None) if d.key and d.key.track == track_id else d for d in strip.chain)
        if chain != strip.chain:
            slim = with_strip(slim, strip.replace(chain=chain))
    used = {t.source.asset for t in slim.tracks if isinstance(t.source, ClipSource)}
    return slim.replace(assets=tuple(a for a in slim.assets if a.id in used))


def move_track(session: Session, track_id: str, steps: int) -> Session:
    tracks = list(session.tracks)
    at = next(i for i, t in enumerate(tracks) if t.id == track_id)
    tracks.insert(max(0, min(len(tracks) - 1, at + steps)), tracks.pop(at))
    return session.replace(tracks=tuple(tracks))


# --- devices ---------------------------------------------------------------------------------------------------


def new_device(strip: Strip, kind: str, **values: Any) -> Device:
    """A device with default values, except those given, and an id that is free on ``strip``."""
    device_id = make_id(kind, (d.id for d in strip.chain))
    return Device.model_validate({"id": device_id, "kind": kind, **values})


def insert_device(session: Session, strip_id: str, device: Device, index: int | None = None) -> Session:
    """At ``index``, or at the end."""
    strip = session.strip(strip_id)
    chain = list(strip.chain)
    chain.insert(len(chain) if index is None else index, device)
    return with_strip(session, strip.replace(chain=tuple(chain)))


def remove_device(session: Session, strip_id: str, device_id: str) -> Session:
    strip = session.strip(strip_id)
    return with_strip(session, strip.replace(chain=tuple(d for d in strip.chain if d.id != device_id)))


def move_device(session: Session, strip_id: str, device_id: str, steps: int) -> Session:
    """Along the chain, as far as it goes."""
    strip = session.strip(strip_id)
    chain, at = list(strip.chain), strip.index_of(device_id)
    chain.insert(max(0, min(len(chain) - 1, at + steps)), chain.pop(at))
    return with_strip(session, strip.replace(chain=tuple(chain)))


def duplicate_device(session: Session, strip_id: str, device_id: str) -> Session:
    strip = session.strip(strip_id)
    device = strip.device(device_id)
    copy = device.replace(id=make_id(device.kind, (d.id for d in strip.chain)))
    return insert_device(session, strip_id, copy, strip.index_of(device_id) + 1)


def change_device(session: Session, strip_id: str, device_id: str, **changes: Any) -> Session:
    """Changes of ``on``, ``mix``, ``label``, ``key`` or of parameters, checked against their declarations."""
    strip = session.strip(strip_id)
    device = strip.device(device_id)
    own = {name: value for name, value in changes.items() if name in Device.model_fields}
    rest = {name: value for name, value in changes.items() if name not in own}
    params = DEVICES.find(device.kind).check({**device.params.to_json(), **_plain(rest)}, device.kind)
    new = Device.model_validate({**dict(device), **own, "params": params})
    return with_strip(session, strip.replace(chain=tuple(new if d.id == device_id else d for d in strip.chain)))


def _plain(values: dict[str, Any]) -> dict[str, Any]:
    return {
        name: [v.to_json() if hasattr(v, "to_json") else v for v in value] if isinstance(value, tuple) else value
        for name, value in values.items()
    }
