"""Hearing a chain without a device, or without it and all that follow, at equal loudness: for as long as one wants to know."""

from __future__ import annotations

from collections.abc import Callable

from zygotone.advise.questions import LevelMatch, Match
from zygotone.app.desk import Desk
from zygotone.engine.graph import Graph, compile_session
from zygotone.session.edits import chain_of, edit_chain, parent

_NAME = "match without"  # of the question


class HearingWithout:
    """Nothing of the session changes; an edit, another track or another section ends it. ``changed`` is called as it begins and
    ends."""

    def __init__(self, desk: Desk, changed: Callable[[], None]) -> None:
        self._desk, self._changed = desk, changed
        self.words = ""  # what is heard now, or is about to be
        self._graphs: tuple[Graph, Graph] | None = None
        for signal in (desk.session_changed, desk.selection.changed, desk.selection.loop_changed, desk.opened):
            signal.connect(self.end)

    def toggle(self, strip_id: str, path: str, *, rest: bool) -> None:
        """Without the device at ``path``; with ``rest`` without all that follow it either. Once more, and it is back."""
        if self.words:
            self.end()
            return
        desk, session = self._desk, self._desk.session
        where, device_id = parent(path)
        chain = chain_of(session.strip(strip_id), where)
        at = next(n for n, d in enumerate(chain) if d.id == device_id)
        off = {d.id for n, d in enumerate(chain) if n == at or (rest and n > at)}
        if not any(d.on for d in chain if d.id in off):
            desk.message.emit("That is switched off already.")
            return
        without = edit_chain(
            session, strip_id, where, lambda held: tuple(d.replace(on=False) if d.id in off else d for d in held)
        )
        graph = desk.bench.graph
        self._graphs = graph, compile_session(without, graph)
        named = chain[at].title
        self.words = f"without {named}{' and all that follow' if rest else ''}"
        desk.message.emit(f"Matching loudness: {self.words}…")
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
