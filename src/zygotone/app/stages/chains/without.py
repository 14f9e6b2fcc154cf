"""Hearing a chain without a device, without all that follow it, or with one branch alone, at equal loudness: for as long as one
wants to know."""

from __future__ import annotations

from collections.abc import Callable

from zygotone.advise.questions import LevelMatch, Match
from zygotone.app.desk import Desk
from zygotone.engine.graph import Graph, compile_session
from zygotone.session.edits import chain_of, change_device, edit_chain, layer_of, parent
from zygotone.session.models import Layer, Session, Strip, walk

_SILENT_DB = -60.0  # the lowest level of a branch
_NAME = "match without"  # of the question


def _holder(session: Session, strip_id: str, layer: str | None) -> Strip | Layer:
    return session.strip(strip_id) if layer is None else layer_of(session, strip_id, layer)


class HearingWithout:
    """Nothing of the session changes; an edit, another track or another section ends it. ``changed`` is called as it begins and
    ends."""

    def __init__(self, desk: Desk, changed: Callable[[], None]) -> None:
        self._desk, self._changed = desk, changed
        self.words = ""  # what is heard now, or is about to be
        self._graphs: tuple[Graph, Graph] | None = None
        for signal in (desk.session_changed, desk.selection.changed, desk.selection.loop_changed, desk.opened):
            signal.connect(self.end)

    def toggle(self, strip_id: str, path: str, *, rest: bool, layer: str | None = None) -> None:
        """Without the device at ``path`` of a strip's chain, or of that of one of its layers; with ``rest`` without all that follow
        it either. Once more, and it is back."""
        if self.words:
            self.end()
            return
        desk, session = self._desk, self._desk.session
        where, device_id = parent(path)
        chain = chain_of(_holder(session, strip_id, layer), where)
        at = next(n for n, d in enumerate(chain) if d.id == device_id)
        off = {d.id for n, d in enumerate(chain) if n == at or (rest and n > at)}
        if not any(d.on for d in chain if d.id in off):
            desk.refuse("That is switched off already.")
            return
        without = edit_chain(
            session,
            strip_id,
            where,
            lambda held: tuple(d.replace(on=False) if d.id in off else d for d in held),
            layer=layer,
        )
        self._hear_other(without, f"without {chain[at].title}{' and all that follow' if rest else ''}")

    def toggle_branch(self, strip_id: str, path: str, branch: int, *, layer: str | None = None) -> None:
        """Only one branch of a split, the others as low as they go."""
        if self.words:
            self.end()
            return
        desk = self._desk
        split = dict(walk(_holder(desk.session, strip_id, layer).chain))[path]
        held = tuple(
            each if n == branch else each.replace(gain_db=_SILENT_DB) for n, each in enumerate(split.params["branches"])
        )
        alone = change_device(desk.session, strip_id, path, layer=layer, branches=held)
        self._hear_other(alone, f"with branch {branch + 1} of {split.title} alone")

    def _hear_other(self, other: Session, words: str) -> None:
        desk, graph = self._desk, self._desk.bench.graph
        self._graphs, self.words = (graph, compile_session(other, graph)), words
        desk.message.emit(f"Matching loudness: {words}…")
        desk.measuring.ask(LevelMatch(*self._graphs, desk.selection.loop_span(), name=_NAME), self._hear, urgency=1)
        self._changed()

    def _hear(self, match: Match) -> None:
        if self._graphs is None:
            return
        self._desk.listening.compare(self._graphs, match)
        self._desk.listening.hear(1)
        if not self._desk.listening.playing:
            self._desk.listening.toggle_play()
        self._desk.message.emit(f"You hear it {self.words}, at equal loudness. The same key brings it back.")

    def end(self) -> None:
        if not self.words:
            return
        self._desk.measuring.worker.cancel(_NAME)
        self.words, self._graphs = "", None
        self._desk.listening.compare(None)
        self._changed()
