"""What one version of a session has other than another, as sentences, each of which can be taken over by itself."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from zygotone.session.edits import assets_in_use, with_strip
from zygotone.session.models import (
    LEVEL,
    NUDGE,
    PAN,
    Bus,
    Device,
    InstrumentSource,
    Session,
    Strip,
    Track,
)
from zygotone.session.params import Param, format_number
from zygotone.session.schools import SCHOOLS
from zygotone.session.value import as_text

_FADERS: tuple[Param, ...] = (LEVEL, PAN, NUDGE)


@dataclass(frozen=True, slots=True)
class Difference:
    """``key`` names it among the others; ``take`` gives a version with that part of the newer one."""

    key: str
    sentence: str
    take: Callable[[Session], Session]


def differences(old: Session, new: Session) -> tuple[Difference, ...]:
    """What ``new`` has other than ``old``, in the order of the session."""
    return tuple(_all(old, new))


def merged(old: Session, new: Session, keys: Iterable[str]) -> Session:
    """``old`` with those differences of ``new`` that are named.

    Raises
    ------
    ParameterError : what was taken needs what was left, and the version does not hold together.
    """
    wanted = set(keys)
    known = {a.id for a in old.assets}
    result = old.replace(assets=(*old.assets, *(a for a in new.assets if a.id not in known)))
    for each in differences(old, new):
        if each.key in wanted:
            result = each.take(result)
    used = assets_in_use(result)
    result = result.replace(assets=tuple(a for a in result.assets if a.id in used or a.id in known))
    result.check()
    return result


def _all(old: Session, new: Session) -> Iterator[Difference]:
    yield from _of_song(old, new)
    before, after = ({s.id: s for s in version.strips()} for version in (old, new))
    for strip_id, strip in before.items():
        if strip_id not in after:
            yield Difference(f"strip {strip_id}", f"{strip.name} is gone", lambda s, i=strip_id: _without(s, i))  # type: ignore[misc]
    for strip_id, strip in after.items():
        if strip_id not in before:
            yield Difference(f"strip {strip_id}", f"{strip.name} is new", lambda s, x=strip: _with_new(s, x))  # type: ignore[misc]
        elif before[strip_id] != strip:
            yield from _of_strip(before[strip_id], strip)
    yield from _of_lanes(old, new)
    for school in SCHOOLS:
        a, b = school.chosen(old.schools), school.chosen(new.schools)
        if a != b:
            yield Difference(
                f"school {school.name}", f"{school.label}: {a.label} → {b.label}", _with_school(school.name, b.value)
            )
    if old.on_purpose != new.on_purpose:
        count = len(set(new.on_purpose) - set(old.on_purpose))
        words = f"{count} findings more are meant" if count else "findings are judged again"
        yield Difference("on_purpose", f"Song: {words}", lambda s: s.replace(on_purpose=new.on_purpose))


def _with_school(name: str, value: str) -> Callable[[Session], Session]:
    return lambda session: session.replace(schools=session.schools.replace(**{name: value}))


def _of_song(old: Session, new: Session) -> Iterator[Difference]:
    words = {
        "title": "title",
        "tempo_bpm": "tempo",
        "key": "key",
        "a4_hz": "A4",
        "beats_per_bar": "beats in a bar",
        "beat_unit": "beat",
    }
    for name, word in words.items():
        a, b = getattr(old.song, name), getattr(new.song, name)
        if a != b:
            yield Difference(
                f"song {name}", f"Song: {word} {a or 'none'} → {b or 'none'}",
                lambda s, name=name, b=b: s.replace(song=s.song.replace(**{name: b})),  # type: ignore[misc]
            )  # fmt: skip
    if old.song.sections != new.song.sections:
        yield Difference(
            "song sections", "Song: its sections", lambda s: s.replace(song=s.song.replace(sections=new.song.sections))
        )


def _without(session: Session, strip_id: str) -> Session:
    return session.replace(
        tracks=tuple(t for t in session.tracks if t.id != strip_id), buses=tuple(b for b in session.buses if b.id != strip_id),
        lanes=tuple(lane for lane in session.lanes if lane.strip != strip_id),
    )  # fmt: skip


def _with_new(session: Session, strip: Strip) -> Session:
    if isinstance(strip, Track):
        return session.replace(tracks=(*session.tracks, strip))
    assert isinstance(strip, Bus)
    return session.replace(buses=(*session.buses, strip))


# --- one track -----------------------------------------------------------------------------------------------------


def _change(strip_id: str, **values: Any) -> Callable[[Session], Session]:
    return lambda session: with_strip(session, session.strip(strip_id).replace(**values))


def _of_strip(old: Strip, new: Strip) -> Iterator[Difference]:
    i, name = new.id, new.name
    for param in _FADERS:
        a, b = getattr(old, param.name, None), getattr(new, param.name, None)
        if a is not None and b is not None and a != b:
            text = f"{name}: {param.label.lower()} {format_number(a, param.unit)} → {format_number(b, param.unit)}"
            yield Difference(f"{i} {param.name}", text, _change(i, **{param.name: b}))
    for field, yes, no in (("mute", "muted", "not muted"), ("solo", "on solo", "not on solo")):
        if getattr(old, field) != getattr(new, field):
            yield Difference(
                f"{i} {field}",
                f"{name}: {yes if getattr(new, field) else no}",
                _change(i, **{field: getattr(new, field)}),
            )
    if old.name != new.name:
        yield Difference(f"{i} name", f"{old.name} is called {name}", _change(i, name=name))
    if isinstance(old, Track) and isinstance(new, Track):
        for field, word in (("role", "role"), ("seat", "seat"), ("bus", "goes to")):
            a, b = getattr(old, field), getattr(new, field)
            if a != b:
                yield Difference(
                    f"{i} {field}", f"{name}: {word} {a or 'mix'} → {b or 'mix'}", _change(i, **{field: b})
                )
        yield from _of_source(old, new)
    yield from _of_sends(old, new)
    yield from _of_chain(old, new)


def _of_sends(old: Strip, new: Strip) -> Iterator[Difference]:
    a, b = ({send.to: send for send in strip.sends} for strip in (old, new))
    for to in dict.fromkeys((*a, *b)):
        if a.get(to) == b.get(to):
            continue

        def take(session: Session, to: str = to) -> Session:
            strip = session.strip(new.id)
            rest = tuple(s for s in strip.sends if s.to != to)
            return with_strip(session, strip.replace(sends=(*rest, b[to]) if to in b else rest))

        ends = [format_number(x[to].level_db, "dB") if to in x else "none" for x in (a, b)]
        yield Difference(f"{new.id} send {to}", f"{new.name}: send to {to} {ends[0]} → {ends[1]}", take)


def _of_chain(old: Strip, new: Strip) -> Iterator[Difference]:
    a, b = ({d.id: d for d in strip.chain} for strip in (old, new))
    for device_id in a:
        if device_id not in b:

            def drop(session: Session, device_id: str = device_id) -> Session:
                strip = session.strip(new.id)
                return with_strip(session, strip.replace(chain=tuple(d for d in strip.chain if d.id != device_id)))

            yield Difference(f"{new.id} device {device_id}", f"{new.name}: {a[device_id].title} taken out", drop)
    for at, device in enumerate(new.chain):
        if a.get(device.id) == device:
            continue

        def put(session: Session, at: int = at, device: Device = device) -> Session:
            strip = session.strip(new.id)
            if any(d.id == device.id for d in strip.chain):
                chain = tuple(device if d.id == device.id else d for d in strip.chain)
            else:
                chain = (*strip.chain[:at], device, *strip.chain[at:])
            return with_strip(session, strip.replace(chain=chain))

        if device.id not in a:
            text = f"{new.name}: {device.title} put in"
        else:
            text = f"{new.name}: {device.title}, {_device_words(a[device.id], device)}"
        yield Difference(f"{new.id} device {device.id}", text, put)
    both = [d for d in a if d in b]
    if both != [d for d in b if d in a]:

        def order(session: Session) -> Session:
            strip = session.strip(new.id)
            place = {d: n for n, d in enumerate(b)}
            return with_strip(
                session, strip.replace(chain=tuple(sorted(strip.chain, key=lambda d: place.get(d.id, len(place)))))
            )

        yield Difference(f"{new.id} order", f"{new.name}: its devices in another order", order)


def _device_words(old: Device, new: Device) -> str:
    words = []
    if old.on != new.on:
        words.append("on" if new.on else "off")
    if old.mix != new.mix:
        words.append(f"{100 * old.mix:.0f} → {100 * new.mix:.0f} % wet")
    if old.key != new.key:
        words.append("another key")
    for param in new.spec.params:
        a, b = old.params[param.name], new.params[param.name]
        if a == b:
            continue
        plain = isinstance(a, (int, float)) and isinstance(b, (int, float)) and not isinstance(b, bool)
        ends = f" {format_number(a, param.unit)} → {format_number(b, param.unit)}" if plain else ""
        words.append(f"{param.label.lower()}{ends}")
    return ", ".join(words[:4]) + (" and more" if len(words) > 4 else "") if words else "its label"


def _of_source(old: Track, new: Track) -> Iterator[Difference]:
    if old.parts != new.parts:
        yield Difference(f"{new.id} parts", f"{new.name}: what it plays where", _change(new.id, parts=new.parts))
    a, b = old.source, new.source
    if a == b:
        return
    if not isinstance(a, InstrumentSource) or not isinstance(b, InstrumentSource):
        yield Difference(f"{new.id} source", f"{new.name}: another source", _change(new.id, source=b))
        return
    for field, word in (
        ("phrases", "its notes"),
        ("voices", "its voices"),
        ("lfos", "its common LFOs"),
        ("macros", "its macros"),
    ):
        if as_text(getattr(a, field)) != as_text(getattr(b, field)):

            def take(session: Session, field: str = field) -> Session:
                source = _instrument(session, new.id)
                return with_strip(
                    session, session.track(new.id).replace(source=source.replace(**{field: getattr(b, field)}))
                )

            yield Difference(f"{new.id} {field}", f"{new.name}: {word}", take)
    before, after = ({layer.id: layer for layer in source.layers} for source in (a, b))
    for layer_id in dict.fromkeys((*before, *after)):
        if before.get(layer_id) == after.get(layer_id):
            continue

        def put(session: Session, layer_id: str = layer_id) -> Session:
            source = _instrument(session, new.id)
            wanted = {
                **{layer.id: layer for layer in source.layers},
                **({layer_id: after[layer_id]} if layer_id in after else {}),
            }
            if layer_id not in after:
                wanted.pop(layer_id, None)
            return with_strip(
                session, session.track(new.id).replace(source=source.replace(layers=tuple(wanted.values())))
            )

        if layer_id not in after:
            text = f"layer {before[layer_id].name} taken out"
        elif layer_id not in before:
            text = f"layer {after[layer_id].name} is new"
        else:
            text = f"layer {after[layer_id].name}, {_fields(before[layer_id], after[layer_id])}"
        yield Difference(f"{new.id} layer {layer_id}", f"{new.name}: {text}", put)


def _instrument(session: Session, track_id: str) -> InstrumentSource:
    source = session.track(track_id).source
    assert isinstance(source, InstrumentSource)
    return source


_LAYER_WORDS = {
    "level_db": "level", "pan_pct": "pan", "sound": "its sound", "filter": "its filter", "filter2": "its second filter", "filters_beside": "how its filters stand", "envelope": "its envelope", "polarity": "polarity",
    "chain": "its devices", "transpose_semitones": "transposition", "start_ms": "start", "mute": "mute", "lfos": "its LFOs", "routes": "its routes",
}  # fmt: skip


def _fields(old: Any, new: Any) -> str:
    changed = [name for name in type(new).model_fields if getattr(old, name) != getattr(new, name)]
    words = [_LAYER_WORDS.get(name, name.replace("_", " ")) for name in changed]
    return ", ".join(words[:4]) + (" and more" if len(words) > 4 else "")


# --- automation ----------------------------------------------------------------------------------------------------


def _of_lanes(old: Session, new: Session) -> Iterator[Difference]:
    a, b = ({lane.id: lane for lane in version.lanes} for version in (old, new))
    names = {s.id: s.name for version in (old, new) for s in version.strips()}
    for lane_id in dict.fromkeys((*a, *b)):
        if a.get(lane_id) == b.get(lane_id):
            continue

        def take(session: Session, lane_id: str = lane_id) -> Session:
            rest = tuple(lane for lane in session.lanes if lane.id != lane_id)
            return session.replace(lanes=(*rest, b[lane_id]) if lane_id in b else rest)

        lane = b.get(lane_id) or a[lane_id]
        what = "gone" if lane_id not in b else "new" if lane_id not in a else "changed"
        where = f" in {lane.section}" if lane.section else ""
        param = lane.param.replace("_db", "").replace("_pct", "").replace("_", " ")
        yield Difference(
            f"lane {lane_id}", f"{names.get(lane.strip, lane.strip)}: automation of {param}{where} is {what}", take
        )
