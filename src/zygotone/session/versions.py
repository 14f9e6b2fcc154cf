"""Versions of a session as files keep them: each part of each version once, under its digest.

A *part* is a song, track, bus, layer, phrase or automation lane, one JSON object a line; a version is a part too, and names
the others by their digests. Two versions that differ in one phrase share all but that phrase, the track that names it,
and the list of tracks.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Iterator
from typing import Any

from zygotone.errors import BadFileError
from zygotone.session.automation import Lane
from zygotone.session.instruments import Layer, Phrase
from zygotone.session.models import Bus, InstrumentSource, Session, Song, Track
from zygotone.session.parsing import parse_json, parse_model
from zygotone.session.value import Value, read_as_sound

# What a part is called in files; which of its fields name other parts, and what those are.
_KINDS: dict[str, type[Value]] = {
    "session": Session, "song": Song, "track": Track, "bus": Bus, "layer": Layer, "phrase": Phrase, "lane": Lane,
}  # fmt: skip
_NAMED: dict[str, dict[str, str]] = {
    "session": {"song": "song", "tracks": "track", "buses": "bus", "mix": "bus", "lanes": "lane"},
    "instrument": {"layers": "layer", "phrases": "phrase"},
}


def _parts_of(session: Session) -> Iterator[tuple[str, Value]]:
    """A version and all its parts, each with what it is called."""
    yield "session", session
    yield "song", session.song
    yield "bus", session.mix
    for kind, values in (("track", session.tracks), ("bus", session.buses), ("lane", session.lanes)):
        yield from ((kind, value) for value in values)
    for track in session.tracks:
        if isinstance(track.source, InstrumentSource):
            yield from (("layer", layer) for layer in track.source.layers)
            yield from (("phrase", phrase) for phrase in track.source.phrases)


def part_digests(session: Session) -> Iterator[str]:
    """Those of a version and of all its parts."""
    return (value.digest for _, value in _parts_of(session))


class PartWriter:
    """Collects the parts of versions that are not among the ``known`` ones."""

    def __init__(self, known: Iterable[str] = ()) -> None:
        self._known = set(known)
        self.new: dict[str, str] = {}  # lines by digest, what is named before what names it

    @property
    def known(self) -> frozenset[str]:
        """Digests of all that is written, or was."""
        return frozenset(self._known)

    def forget(self, digests: Iterable[str]) -> None:
        """They are to be written again where they are named again."""
        self._known.difference_update(digests)

    def session(self, session: Session) -> str:
        """Enters a version; its digest."""

        def fields() -> dict[str, Any]:
            return {
                **session.model_dump(mode="json", exclude={"song", "tracks", "buses", "mix", "lanes"}),
                "song": self._plain("song", session.song),
                "tracks": [self._track(track) for track in session.tracks],
                "buses": [self._plain("bus", bus) for bus in session.buses],
                "mix": self._plain("bus", session.mix),
                "lanes": [self._plain("lane", lane) for lane in session.lanes],
            }

        return self._put("session", session, fields)

    def _track(self, track: Track) -> str:
        def fields() -> dict[str, Any]:
            source = track.source
            if not isinstance(source, InstrumentSource):
                return track.model_dump(mode="json")
            data = track.model_dump(mode="json", exclude={"source": {"layers", "phrases"}})
            data["source"]["layers"] = [self._plain("layer", layer) for layer in source.layers]
            data["source"]["phrases"] = [self._plain("phrase", phrase) for phrase in source.phrases]
            return data

        return self._put("track", track, fields)

    def _plain(self, kind: str, value: Value) -> str:
        return self._put(kind, value, lambda: value.model_dump(mode="json"))

    def _put(self, kind: str, value: Value, fields: Callable[[], dict[str, Any]]) -> str:
        digest = value.digest
        if digest not in self._known:
            self._known.add(digest)
            data = {"digest": digest, "is": kind, kind: fields()}
            self.new[digest] = json.dumps(data, ensure_ascii=False, separators=(",", ":"))
        return digest


class PartReader:
    """Builds versions from lines; what two versions share is one object."""

    def __init__(self, file: object) -> None:
        self._file = file
        self._data: dict[str, tuple[str, Any, str]] = {}
        self._made: dict[str, Value] = {}

    def add(self, lines: Iterable[tuple[Any, str]]) -> None:
        """Parts as JSON, each with the place that errors name.

        Raises
        ------
        BadFileError : one is no part.
        """
        for data, place in lines:
            if not isinstance(data, dict) or not isinstance(data.get("digest"), str):
                raise BadFileError(self._file, place, "is no part of a version")
            kind = data.get("is")
            if not isinstance(kind, str) or kind not in _KINDS or not isinstance(data.get(kind), dict):
                raise BadFileError(self._file, place, f"does not say what it is ({', '.join(_KINDS)})")
            if data["digest"] in self._data:
                raise BadFileError(self._file, place, f"{data['digest'][:12]}… is there twice")
            self._data[data["digest"]] = (kind, data[kind], place)

    @property
    def known(self) -> frozenset[str]:
        return frozenset(self._data)

    def hold(self, session: Session) -> None:
        """Takes a version that is there already, with all its parts: what names them is made of these very objects."""
        for kind, value in _parts_of(session):
            self._data[value.digest] = (kind, None, "")
            self._made[value.digest] = value

    def forget(self, digests: Iterable[str]) -> None:
        for digest in digests:
            self._data.pop(digest, None)
            self._made.pop(digest, None)

    def session(self, digest: Any, file: object, place: str) -> Session:
        """Raises BadFileError, from ``place``, where it or a part of it is missing or wrong."""
        made = self._build("session", digest, place)
        assert isinstance(made, Session)
        read_as_sound(made)
        return made

    def _build(self, kind: str, digest: Any, asked_by: str) -> Value:
        if not isinstance(digest, str) or digest not in self._data:
            raise BadFileError(self._file, asked_by, f"names a {kind} that is missing ({str(digest)[:12]})")
        is_a, data, place = self._data[digest]
        if is_a != kind:
            raise BadFileError(self._file, asked_by, f"names a {kind}, but {digest[:12]}… is a {is_a}")
        if digest not in self._made:
            data = self._with_parts(data, _NAMED.get(kind, {}), place)
            if kind == "track" and isinstance(data.get("source"), dict) and data["source"].get("type") == "instrument":
                data = {**data, "source": self._with_parts(data["source"], _NAMED["instrument"], place)}
            self._made[digest] = parse_model(_KINDS[kind], data, self._file, place)
        return self._made[digest]

    def _with_parts(self, data: dict[str, Any], named: dict[str, str], place: str) -> dict[str, Any]:
        """The fields, with the parts that some of them name in their place."""
        found = dict(data)
        for name, kind in named.items():
            held = data.get(name)
            if isinstance(held, list):
                found[name] = tuple(self._build(kind, each, place) for each in held)
            elif held is not None:
                found[name] = self._build(kind, held, place)
        return found


def parts_as_lines(text: bytes, file: object, place: str) -> Iterator[tuple[Any, str]]:
    """JSON objects, one a line, each with its place."""
    for n, line in enumerate(text.splitlines(), 1):
        if line.strip():
            where = f"{place} line {n}"
            yield parse_json(line, file, where), where
