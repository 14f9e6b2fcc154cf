"""Edits: functions from session to session. Nothing here changes its argument."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from typing import Any, Literal, TypeAlias

from zygotone.errors import ParameterError
from zygotone.session.automation import Lane
from zygotone.session.catalogue import DEVICES
from zygotone.session.instruments import leading_routes
from zygotone.session.models import (
    Asset,
    Bus,
    ClipSource,
    Device,
    InstrumentSource,
    Layer,
    Part,
    Phrase,
    Section,
    Send,
    Session,
    Song,
    Strip,
    Track,
    branches,
    chains_of,
    file_names,
    instrument_files,
    walk,
)
from zygotone.session.params import plain

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
    """New sections; parts and lanes of sections that are gone go with them."""
    new = tuple(sections)
    left = {s.id for s in new}
    lanes = tuple(lane for lane in session.lanes if lane.section is None or lane.section in left)
    tracks = tuple(
        _without_parts(t, lambda part: part.section is not None and part.section not in left) for t in session.tracks
    )
    return change_song(session, sections=new).replace(tracks=tracks, lanes=lanes)


def _without_parts(track: Track, gone: Callable[[Part], bool]) -> Track:
    parts = tuple(part for part in track.parts if not gone(part))
    if len(parts) == len(track.parts):
        return track
    # A clip without parts would play throughout.
    silent = isinstance(track.source, ClipSource) and not parts
    return track.replace(parts=parts, mute=track.mute or silent)


def remove_track(session: Session, track_id: str) -> Session:
    """Without the track; devices that listened to it then hear their own signal."""
    slim = session.replace(tracks=tuple(t for t in session.tracks if t.id != track_id))
    return _tidy(_unkeyed(slim, track_id))


def only(session: Session, strip_id: str) -> Session:
    """With one strip heard alone on its way to the mix, returns that it feeds included, whatever was muted or on solo."""
    return session.replace(
        tracks=tuple(t.replace(solo=t.id == strip_id, mute=False) for t in session.tracks),
        buses=tuple(b.replace(solo=b.id == strip_id, mute=False) for b in session.buses),
    )


def _unkeyed(session: Session, strip_id: str) -> Session:
    """No device listens to ``strip_id`` any more."""

    def deaf(devices: Iterable[Device]) -> tuple[Device, ...]:
        return tuple(
            map_branches(d.replace(key=None) if d.key and d.key.track == strip_id else d, deaf) for d in devices
        )

    for strip in session.strips():
        heard = strip.replace(chain=deaf(strip.chain))
        if isinstance(heard, Track) and isinstance(heard.source, InstrumentSource):
            layers = tuple(layer.replace(chain=deaf(layer.chain)) for layer in heard.source.layers)
            heard = heard.replace(source=heard.source.replace(layers=layers))
        if heard != strip:
            session = with_strip(session, heard)
    return session


def _tidy(session: Session) -> Session:
    """Without clips that nothing plays and lanes that move nothing any more."""
    used = assets_in_use(session)
    lanes = []
    for lane in session.lanes:
        try:
            session.lane_param(lane)
        except ParameterError:
            continue
        lanes.append(lane)
    return session.replace(assets=tuple(a for a in session.assets if a.id in used), lanes=tuple(lanes))


def assets_in_use(session: Session) -> set[str]:
    """Ids of all clips that anything in the session plays or listens to: the one list of them."""
    used: set[str] = set()
    for strip in session.strips():
        for chain in chains_of(strip):
            used |= {name for _, device in walk(chain) for name in file_names(device)}
        if isinstance(strip, Track):
            used |= {part.clip for part in strip.parts if part.clip is not None}
            source = strip.source
            used |= {source.asset} if isinstance(source, ClipSource) else instrument_files(source.layers)
    return used


def map_branches(device: Device, change: Callable[[tuple[Device, ...]], tuple[Device, ...]]) -> Device:
    """A split with ``change`` applied to the chain of each branch; any other device as it is."""
    if not branches(device):
        return device
    changed = tuple(branch.replace(devices=change(branch["devices"])) for branch in branches(device))
    return device if changed == branches(device) else device.replace(params=device.params.replace(branches=changed))


def move_track(session: Session, track_id: str, steps: int) -> Session:
    tracks = list(session.tracks)
    at = next(i for i, t in enumerate(tracks) if t.id == track_id)
    tracks.insert(max(0, min(len(tracks) - 1, at + steps)), tracks.pop(at))
    return session.replace(tracks=tuple(tracks))


# --- buses, sends, automation --------------------------------------------------------------------------------------


def add_bus(session: Session, name: str) -> Session:
    """A new bus into the mix; tracks lead to it as a group, or sends feed it as a return."""
    taken = {s.id for s in session.strips()}
    names = {s.name for s in session.strips()}
    unlike, n = name, 2
    while unlike in names:
        unlike, n = f"{name} {n}", n + 1
    return session.replace(buses=(*session.buses, Bus(id=make_id(unlike, taken), name=unlike)))


def remove_bus(session: Session, bus_id: str) -> Session:
    """Without the bus; its tracks then go straight into the mix, and nothing is sent to or keyed by it."""
    slim = session.replace(buses=tuple(b for b in session.buses if b.id != bus_id))
    for strip in slim.strips():
        left = strip.replace(sends=tuple(s for s in strip.sends if s.to != bus_id))
        if isinstance(left, Track) and left.bus == bus_id:
            left = left.replace(bus=None)
        if left != strip:
            slim = with_strip(slim, left)
    return _tidy(_unkeyed(slim, bus_id))


def set_send(session: Session, strip_id: str, to: str, **changes: Any) -> Session:
    """Changes a send (``level_db``, ``tap``), or makes it."""
    strip = session.strip(strip_id)
    old = next((s for s in strip.sends if s.to == to), Send(to=to))
    new = Send.model_validate({**dict(old), **changes})
    sends = tuple(new if s.to == to else s for s in strip.sends) if old in strip.sends else (*strip.sends, new)
    return checked(with_strip(session, strip.replace(sends=sends)))


def remove_send(session: Session, strip_id: str, to: str) -> Session:
    strip = session.strip(strip_id)
    return _tidy(with_strip(session, strip.replace(sends=tuple(s for s in strip.sends if s.to != to))))


def put_lane(session: Session, lane: Lane) -> Session:
    """Puts a lane in the place of the one with its id, or adds it."""
    known = {each.id for each in session.lanes}
    lanes = tuple(lane if each.id == lane.id else each for each in session.lanes)
    return checked(session.replace(lanes=lanes if lane.id in known else (*lanes, lane)))


def remove_lane(session: Session, lane_id: str) -> Session:
    return session.replace(lanes=tuple(lane for lane in session.lanes if lane.id != lane_id))


def add_asset(session: Session, asset: Asset) -> Session:
    if any(a.id == asset.id for a in session.assets):
        return session
    return session.replace(assets=(*session.assets, asset))


def checked(session: Session) -> Session:
    """The session itself. Raises ParameterError where its parts do not fit together."""
    session.check()
    return session


# --- devices ---------------------------------------------------------------------------------------------------


def chain_of(strip: Strip | Layer, where: str = "") -> tuple[Device, ...]:
    """The chain of a strip, or of a layer; or with ``where`` such as ``split/0`` that of a branch.

    Raises
    ------
    ParameterError : there is no such branch.
    """
    chain = strip.chain
    parts = where.split("/") if where else []
    for device_id, branch in zip(parts[::2], parts[1::2], strict=True):
        found = next((d for d in chain if d.id == device_id), None)
        if found is None or not branch.isdigit() or int(branch) >= len(branches(found)):
            raise ParameterError(f"{strip.name!r} has no branch {where!r}")
        chain = branches(found)[int(branch)]["devices"]
    return chain


def edit_chain(
    session: Session, strip_id: str, where: str, change: Callable[[tuple[Device, ...]], tuple[Device, ...]], *, layer: str | None = None
) -> Session:  # fmt: skip
    """Puts what ``change`` makes of a chain in its place: of a strip's, or of that of one of its layers. ``where`` as in ``chain_of``."""
    held = session.strip(strip_id) if layer is None else layer_of(session, strip_id, layer)

    def within(chain: tuple[Device, ...], parts: list[str]) -> tuple[Device, ...]:
        if not parts:
            return change(chain)
        device_id, at = parts[0], int(parts[1])

        def entered(device: Device) -> Device:
            if device.id != device_id:
                return device
            inner = list(branches(device))
            inner[at] = inner[at].replace(devices=within(inner[at]["devices"], parts[2:]))
            return device.replace(params=device.params.replace(branches=tuple(inner)))

        return tuple(map(entered, chain))

    chain_of(held, where)
    chain = within(held.chain, where.split("/") if where else [])
    if layer is not None:
        return change_layer(session, strip_id, layer, chain=chain)
    return _tidy(with_strip(session, session.strip(strip_id).replace(chain=chain)))


def parent(path: str) -> tuple[str, str]:
    """Where a device is and its id there: ``split/0/eq`` is ``eq`` in ``split/0``."""
    where, _, device_id = path.rpartition("/")
    return where, device_id


def new_device(strip: Strip, kind: str, *, where: str = "", **values: Any) -> Device:
    """A device with default values, except those given, and an id that is free in its chain."""
    device_id = make_id(kind, (d.id for d in chain_of(strip, where)))
    return Device.model_validate({"id": device_id, "kind": kind, **values})


def usual_device(session: Session, strip: Strip, kind: str, *, where: str = "") -> Device:
    """A device as it is put into a chain by hand: with what it usually is set to; on a return all wet, since there the
    dry signal is on the tracks that send to it."""
    spec = DEVICES.find(kind)
    is_return = any(send.to == strip.id for each in session.strips() for send in each.sends)
    mix = 1.0 if is_return else spec.usual_mix
    return new_device(strip, kind, where=where, mix=mix, **spec.usual)


def insert_device(
    session: Session, strip_id: str, device: Device, index: int | None = None, *, where: str = ""
) -> Session:
    """At ``index``, or at the end."""

    def insert(chain: tuple[Device, ...]) -> tuple[Device, ...]:
        at = len(chain) if index is None else index
        return (*chain[:at], device, *chain[at:])

    return edit_chain(session, strip_id, where, insert)


def remove_device(session: Session, strip_id: str, path: str) -> Session:
    where, device_id = parent(path)
    return edit_chain(session, strip_id, where, lambda chain: tuple(d for d in chain if d.id != device_id))


def move_device(session: Session, strip_id: str, path: str, steps: int) -> Session:
    """Along its chain, as far as it goes."""
    where, device_id = parent(path)

    def move(chain: tuple[Device, ...]) -> tuple[Device, ...]:
        order = list(chain)
        at = next(i for i, d in enumerate(order) if d.id == device_id)
        order.insert(max(0, min(len(order) - 1, at + steps)), order.pop(at))
        return tuple(order)

    return edit_chain(session, strip_id, where, move)


def duplicate_device(session: Session, strip_id: str, path: str) -> Session:
    where, device_id = parent(path)

    def duplicate(chain: tuple[Device, ...]) -> tuple[Device, ...]:
        at = next(i for i, d in enumerate(chain) if d.id == device_id)
        copy = chain[at].replace(id=make_id(chain[at].kind, (d.id for d in chain)))
        return (*chain[: at + 1], copy, *chain[at + 1 :])

    return edit_chain(session, strip_id, where, duplicate)


def change_device(session: Session, strip_id: str, path: str, *, layer: str | None = None, **changes: Any) -> Session:
    """Changes of ``on``, ``mix``, ``label``, ``key`` or of parameters, checked against their declarations; of a device of the strip's
    chain, or of that of one of its layers."""
    held = session.strip(strip_id) if layer is None else layer_of(session, strip_id, layer)
    device = dict(walk(held.chain)).get(path)
    if device is None:
        raise ParameterError(f"{held.name!r} has no device {path!r}")
    own = {name: value for name, value in changes.items() if name in Device.model_fields}
    rest = {name: value for name, value in changes.items() if name not in own}
    params = DEVICES.find(device.kind).check({**device.params.to_json(), **_plain(rest)}, device.kind)
    new = Device.model_validate({**dict(device), **own, "params": params})
    where, device_id = parent(path)
    return edit_chain(
        session, strip_id, where, lambda chain: tuple(new if d.id == device_id else d for d in chain), layer=layer
    )


def _plain(values: dict[str, Any]) -> dict[str, Any]:
    return {name: [plain(v) for v in value] if isinstance(value, tuple) else value for name, value in values.items()}


# --- layers --------------------------------------------------------------------------------------------------------


def instrument_of(session: Session, track_id: str) -> InstrumentSource:
    """Raises ParameterError where the track plays a clip."""
    source = session.track(track_id).source
    if not isinstance(source, InstrumentSource):
        raise ParameterError(f"{session.track(track_id).name!r} plays a clip and has no layers")
    return source


def change_instrument(session: Session, track_id: str, **changes: Any) -> Session:
    """Changes of an instrument's own fields (``layers``, ``voices``, ``phrases``, …), checked as a whole."""
    source = instrument_of(session, track_id)
    new = InstrumentSource.model_validate({**dict(source), **changes})
    return checked(_tidy(with_strip(session, session.track(track_id).replace(source=new))))


def layer_of(session: Session, track_id: str, layer_id: str) -> Layer:
    found = next((each for each in instrument_of(session, track_id).layers if each.id == layer_id), None)
    if found is None:
        raise ParameterError(f"{session.track(track_id).name!r} has no layer {layer_id!r}")
    return found


def put_layer(session: Session, track_id: str, layer: Layer) -> Session:
    """Puts a layer in the place of the one with its id, or adds it."""
    layers = instrument_of(session, track_id).layers
    known = any(each.id == layer.id for each in layers)
    new = tuple(layer if each.id == layer.id else each for each in layers) if known else (*layers, layer)
    return change_instrument(session, track_id, layers=new)


def change_layer(session: Session, track_id: str, layer_id: str, **changes: Any) -> Session:
    """Changes of a layer's own fields, checked; parameters of its source by ``sound={...}``."""
    layer = layer_of(session, track_id, layer_id)
    if isinstance(changes.get("sound"), dict):
        given = changes["sound"]
        kind = given.get("kind", layer.sound.kind)
        kept = layer.sound.params.to_json() if kind == layer.sound.kind else {}
        changes["sound"] = {**kept, **_plain(given), "kind": kind}
    made = Layer.model_validate({**dict(layer), "routes": (), **changes})
    if "routes" not in changes:  # what the new source, filters or chain do not have cannot be moved any more
        made = made.replace(routes=leading_routes(made.replace(routes=layer.routes)))
    return put_layer(session, track_id, made)


def remove_layer(session: Session, track_id: str, layer_id: str) -> Session:
    left = tuple(each for each in instrument_of(session, track_id).layers if each.id != layer_id)
    return change_instrument(session, track_id, layers=left)


def move_layer(session: Session, track_id: str, layer_id: str, steps: int) -> Session:
    layers = list(instrument_of(session, track_id).layers)
    at = next(i for i, each in enumerate(layers) if each.id == layer_id)
    layers.insert(max(0, min(len(layers) - 1, at + steps)), layers.pop(at))
    return change_instrument(session, track_id, layers=tuple(layers))


def share_out(session: Session, track_id: str, *, over: Literal["velocity", "keys"]) -> Session:
    """Each layer gets its share of the velocities, from soft to hard, or of the keys, from low to high, in their order; over
    velocities neighbours fade into each other by a quarter of a share."""
    layers = instrument_of(session, track_id).layers
    count = len(layers)
    new = []
    for n, layer in enumerate(layers):
        if over == "velocity":
            fade = round(0.25 / count, 4) if count > 1 else 0.0
            new.append(layer.replace(velocity_low=round(n / count, 4), velocity_high=round((n + 1) / count, 4), velocity_fade=fade))  # fmt: skip
        else:
            new.append(layer.replace(key_low=128 * n // count, key_high=128 * (n + 1) // count - 1))
    return change_instrument(session, track_id, layers=tuple(new))


def put_phrase(session: Session, track_id: str, phrase: Phrase) -> Session:
    """Puts a phrase in the place of the one with its id, or adds it."""
    phrases = instrument_of(session, track_id).phrases
    known = any(each.id == phrase.id for each in phrases)
    new = tuple(phrase if each.id == phrase.id else each for each in phrases) if known else (*phrases, phrase)
    return change_instrument(session, track_id, phrases=new)


def set_part(session: Session, track_id: str, section_id: str, phrase_id: str | None) -> Session:
    """Which phrase a section plays from its beginning to its end; None for none."""
    parts = tuple(p for p in session.track(track_id).parts if p.section != section_id)
    if phrase_id is not None:
        parts = (*parts, Part(section=section_id, phrase=phrase_id))
    return set_parts(session, track_id, parts)


def set_parts(session: Session, track_id: str, parts: Iterable[Part]) -> Session:
    """What a track plays where."""
    return checked(_tidy(change_strip(session, track_id, parts=tuple(parts))))
