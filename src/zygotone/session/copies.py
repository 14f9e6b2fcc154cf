"""Copies of tracks, devices, layers and lanes in another place of a session, or in another session.

Conventions
-----------
A copy gets ids and names that are free where it goes. It listens to, feeds and plays only what is there: a device whose key
track is missing hears its own signal, a send to a bus that is missing goes, and so does automation of either.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from zygotone.errors import ParameterError
from zygotone.session.automation import Lane
from zygotone.session.edits import (
    chain_of,
    checked,
    edit_chain,
    instrument_of,
    make_id,
    map_branches,
    put_lane,
    put_layer,
)
from zygotone.session.instruments import InstrumentSource, Layer
from zygotone.session.models import USUAL_SEAT, Device, Role, Session, Track, walk
from zygotone.session.params import Param
from zygotone.session.parts import Part
from zygotone.session.saved_sounds import SavedSound


def free_name(session: Session, name: str) -> str:
    """``name``, or with the first number behind it that no track or bus has."""
    taken, n, unlike = {s.name for s in session.strips()}, 2, name
    while unlike in taken:
        unlike, n = f"{name} {n}", n + 1
    return unlike


def heard_here(devices: Iterable[Device], session: Session) -> tuple[Device, ...]:
    """Devices that listen to no track that is missing."""
    known = {s.id for s in session.strips()}
    return tuple(
        map_branches(
            d.replace(key=None) if d.key is not None and d.key.track not in known else d,
            lambda inner: heard_here(inner, session),
        )
        for d in devices
    )


# --- devices and layers --------------------------------------------------------------------------------------------


def paste_devices(
    session: Session, strip_id: str, devices: Sequence[Device], index: int | None = None, *, where: str = ""
) -> tuple[Session, tuple[str, ...]]:
    """Copies at ``index`` of a chain, or at its end, and their ids; ``where`` as in ``chain_of``."""
    taken = [d.id for d in chain_of(session.strip(strip_id), where)]
    copies = []
    for device in heard_here(devices, session):
        copies.append(device.replace(id=make_id(device.kind, taken)))
        taken.append(copies[-1].id)

    def insert(chain: tuple[Device, ...]) -> tuple[Device, ...]:
        at = len(chain) if index is None else index
        return (*chain[:at], *copies, *chain[at:])

    return checked(edit_chain(session, strip_id, where, insert)), tuple(c.id for c in copies)


def bring_chain(session: Session, from_id: str, to_id: str, *, where: str = "", moves: bool = False) -> Session:
    """A chain at the end of another strip's, with the automation of its devices; it leaves where it was if it ``moves``."""
    devices = chain_of(session.strip(from_id), where)
    prefix = f"{where}/" if where else ""
    lanes = [
        (lane, lane.device.removeprefix(prefix))
        for lane in lanes_of(session, from_id)
        if lane.layer is None and lane.device is not None and lane.device.startswith(prefix)
    ]
    session, ids = paste_devices(session, to_id, devices)
    new = dict(zip((d.id for d in devices), ids, strict=True))
    for lane, path in lanes:
        first, _, rest = path.partition("/")
        if first in new:
            moved_to = f"{new[first]}/{rest}" if rest else new[first]
            lane_id = make_id(lane.id, (each.id for each in session.lanes))
            session = put_lane(session, lane.replace(id=lane_id, strip=to_id, device=moved_to))
    if moves:
        session = edit_chain(session, from_id, where, lambda chain: ())
    return checked(session)


def paste_layers(session: Session, track_id: str, layers: Sequence[Layer]) -> tuple[Session, tuple[str, ...]]:
    """Copies as further layers of an instrument, and their ids."""
    made = []
    for layer in layers:
        source = instrument_of(session, track_id)
        names = {each.name for each in source.layers}
        name = f"{layer.name} copy"[:120] if layer.name in names else layer.name
        copy = layer.replace(
            id=make_id(name, (each.id for each in source.layers)), name=name, chain=heard_here(layer.chain, session)
        )
        session = put_layer(session, track_id, copy)
        made.append(copy.id)
    return session, tuple(made)


# --- tracks --------------------------------------------------------------------------------------------------------


def lanes_of(session: Session, strip_id: str) -> tuple[Lane, ...]:
    return tuple(lane for lane in session.lanes if lane.strip == strip_id)


def paste_track(
    session: Session, track: Track, lanes: Sequence[Lane] = (), *, after: str | None = None
) -> tuple[Session, str]:
    """A copy of a track with its automation, after another one or at the end, and its id. Parts and lanes of sections that are
    not there are left out."""
    strips = {s.id for s in session.strips()}
    buses = {b.id for b in session.buses}
    sections = {s.id for s in session.song.sections}
    name = free_name(session, track.name)
    source = track.source
    if isinstance(source, InstrumentSource):
        layers = tuple(each.replace(chain=heard_here(each.chain, session)) for each in source.layers)
        source = source.replace(layers=layers)
    copy = track.replace(
        id=make_id(name, strips), name=name, source=source, chain=heard_here(track.chain, session), solo=False,
        sends=tuple(send for send in track.sends if send.to in buses), bus=track.bus if track.bus in buses else None,
        parts=tuple(part for part in track.parts if part.section is None or part.section in sections),
    )  # fmt: skip
    if track.parts and not copy.parts and not isinstance(source, InstrumentSource):
        copy = copy.replace(mute=True)  # a clip without parts would play throughout
    at = next((i + 1 for i, t in enumerate(session.tracks) if t.id == after), len(session.tracks))
    session = session.replace(tracks=(*session.tracks[:at], copy, *session.tracks[at:]))
    for lane in lanes:
        if lane.section is not None and lane.section not in sections:
            continue
        moved = lane.replace(id=make_id(lane.id, (each.id for each in session.lanes)), strip=copy.id)
        try:
            session.lane_param(moved)
        except ParameterError:
            continue
        session = put_lane(session, moved)
    return checked(session), copy.id


def duplicate_track(
    session: Session, track_id: str, *, notes: bool = True, only_in: str | None = None
) -> tuple[Session, str]:
    """A copy right after the track, and its id: with or without what it plays, or playing in one section only."""
    track = session.track(track_id)
    parts = track.parts
    if only_in is not None:
        held = tuple(part for part in parts if part.section == only_in)
        # A clip without parts plays throughout: here it is heard in the one section.
        parts = held or (() if isinstance(track.source, InstrumentSource) else (Part(section=only_in),))
    source = track.source
    mute = track.mute
    if not notes:
        parts = ()
        if isinstance(source, InstrumentSource):
            source = source.replace(phrases=())
        else:
            mute = True
    copy = track.replace(source=source, parts=parts, mute=mute)
    return paste_track(session, copy, lanes_of(session, track_id), after=track_id)


def new_track(
    session: Session, role: Role, sound: SavedSound | None = None, *, name: str = "", after: str | None = None
) -> tuple[Session, str]:
    """A track of a role at its usual seat, and its id: with a sound, or with none, and then silent until one is made."""
    source = sound.instrument() if sound is not None else InstrumentSource(layers=())
    wanted = name or role.capitalize()
    track = Track(id="new", name=wanted, role=role, seat=USUAL_SEAT[role], source=source)
    return paste_track(session, track, after=after)


def move_tracks(session: Session, track_ids: Sequence[str], to: int) -> Session:
    """Tracks, in the order in which they stand, put before the one that is at place ``to`` now (or at the end)."""
    chosen = set(track_ids)
    before = [t for t in session.tracks[:to] if t.id not in chosen]
    after = [t for t in session.tracks[to:] if t.id not in chosen]
    moved = [t for t in session.tracks if t.id in chosen]
    return session.replace(tracks=(*before, *moved, *after))


# --- automation ----------------------------------------------------------------------------------------------------


def moved_as(target: Lane, there: Param, lane: Lane, here: Param) -> Lane:
    """``target`` with the movement of another lane, each with the declaration of what it moves: shape, period and points.
    Values are taken as they are where both have one unit and all of them are possible, else at the same share of the ruler."""
    as_they_are = here.unit == there.unit and all(there.low <= v <= there.high for v in lane.values())

    def value(v: float) -> float:
        return v if as_they_are else there.value_at(here.position_of(v))

    return target.replace(
        shape=lane.shape, period=lane.period, cycle=lane.cycle,
        points=tuple(p.replace(value=value(p.value)) for p in lane.points),
        **({"low": value(lane.low), "high": value(lane.high)} if lane.repeats else {}),
    )  # fmt: skip


def give_lane(session: Session, lane_id: str, strip_ids: Sequence[str]) -> Session:
    """A lane's movement for other strips too: of the same device where they have it, else of their first of that kind.

    Raises
    ------
    ParameterError : one of them has nothing of the kind, or moves it there already.
    """
    lane = next(each for each in session.lanes if each.id == lane_id)
    if lane.layer is not None:
        raise ParameterError("automation of a layer stays with its sound; copy it and paste it into another lane")
    for strip_id in strip_ids:
        strip, device = session.strip(strip_id), lane.device
        if lane.device is not None:
            kind = session.strip(lane.strip).device(lane.device).kind
            there = [path for path, d in walk(strip.chain) if d.kind == kind]
            if not there:
                raise ParameterError(f"{strip.name!r} has no such device")
            device = lane.device if lane.device in there else there[0]
        place = (strip_id, device, None, lane.param, lane.section)
        if any((e.strip, e.device, e.layer, e.param, e.section) == place for e in session.lanes):
            raise ParameterError(f"that is automated on {strip.name!r} already; change it there")
        new_id = make_id(lane.id, (each.id for each in session.lanes))
        session = put_lane(session, lane.replace(id=new_id, strip=strip_id, device=device))
    return session
