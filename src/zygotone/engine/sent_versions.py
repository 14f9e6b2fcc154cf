"""Versions as they go from one process to another: as the parts of the file format, only what is new, by digest."""

from __future__ import annotations

import json
import threading
from collections import OrderedDict
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

from zygotone.engine.child import Served
from zygotone.engine.graph import Graph, compile_session
from zygotone.session.audio_store import AudioStore, Blob
from zygotone.session.models import Asset, Session
from zygotone.session.versions import PartReader, PartWriter, part_digests

_KEPT = 40  # versions whose parts the other side keeps, beside those that are in use
_TIDY_EVERY = 64  # versions
_GRAPHS = 6


class VersionSender:
    """Says what another process does not know yet of a version. What nobody uses any more it is told to forget."""

    def __init__(self, store: AudioStore) -> None:
        self._store = store
        self._parts = PartWriter()
        self._clips: set[tuple[str, str, int]] = set()
        self._recent: OrderedDict[str, Session] = OrderedDict()
        self._sent = 0

    @property
    def known(self) -> frozenset[str]:
        """Digests of the parts that the other side holds."""
        return self._parts.known

    def news(self, sessions: Iterable[Session], in_use: Iterable[Session] = ()) -> Iterator[tuple[Any, ...]]:
        """The messages that go before one that names ``sessions`` by their digests."""
        sessions = tuple(sessions)
        for session in sessions:
            self._recent[self._parts.session(session)] = session
            self._recent.move_to_end(session.digest)
        while len(self._recent) > _KEPT:
            self._recent.popitem(last=False)
        new = list(self._parts.new.values())
        self._parts.new.clear()
        if new:
            yield "parts", new
        clips = []
        for session in sessions:
            for asset in session.assets:
                blob = self._store.blob_of(asset.id)
                place = (asset.id, str(blob.path), blob.offset)
                if place not in self._clips:
                    self._clips.add(place)
                    clips.append((asset.model_dump(mode="json"), str(blob.path), blob.offset, blob.length))
        if clips:
            yield "clips", clips
        self._sent += 1
        if self._sent % _TIDY_EVERY == 0:
            used = {d for session in (*self._recent.values(), *in_use) for d in part_digests(session)}
            old = self._parts.known - used
            self._parts.forget(old)
            if old:
                yield "forget", old


class VersionReceiver:
    """Makes sessions and graphs of what a ``VersionSender`` says. Used from several threads."""

    def __init__(self, store: AudioStore, who: str) -> None:
        self.store, self._who = store, who
        self._parts = PartReader(who)
        self._graphs: OrderedDict[str, Graph] = OrderedDict()  # what is as it was keeps its nodes
        # Two: who takes parts waits for no graph, which takes long when it is the first.
        self._parts_lock, self._graphs_lock = threading.Lock(), threading.Lock()

    def take_parts(self, lines: list[str]) -> None:
        with self._parts_lock:
            known = self._parts.known
            given = (json.loads(line) for line in lines)
            self._parts.add((part, self._who) for part in given if part["digest"] not in known)

    def take_clips(self, clips: list[tuple[dict[str, Any], str, int, int]]) -> None:
        for asset, path, start, size in clips:
            self.store.add_blob(Asset.model_validate(asset), Blob(Path(path), start, size))

    def forget(self, digests: Iterable[str]) -> None:
        with self._parts_lock:
            self._parts.forget(digests)

    def session(self, digest: str) -> Session:
        """Raises BadFileError where it was not sent."""
        with self._parts_lock:
            return self._parts.session(digest, self._who, "version")

    def graph(self, digest: str) -> Graph:
        """Raises BadFileError where its version was not sent, LoopError where it listens to itself."""
        with self._graphs_lock:
            held = self._graphs.get(digest)
            if held is None:
                last = next(reversed(self._graphs.values()), None)
                held = self._graphs[digest] = compile_session(self.session(digest), last)
            self._graphs.move_to_end(digest)
            while len(self._graphs) > _GRAPHS:
                self._graphs.popitem(last=False)
            return held


class ServedVersions(Served):
    """The side of a process that is told of versions. A large one takes its time: it is no reason to be silent."""

    received: VersionReceiver

    def do_parts(self, lines: list[str]) -> None:
        self.patiently(lambda: self.received.take_parts(lines))

    def do_clips(self, clips: list[tuple[dict[str, Any], str, int, int]]) -> None:
        self.patiently(lambda: self.received.take_clips(clips))

    def do_forget(self, digests: Iterable[str]) -> None:
        self.received.forget(digests)
