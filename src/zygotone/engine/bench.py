"""The bench: the kept session, the trial beside it, undo, and the log. Its ``apply`` is the one door for edits."""

from __future__ import annotations

import datetime as dt
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal

from zygotone.engine.graph import Graph, compile_session
from zygotone.errors import ParameterError
from zygotone.session.history import Action, LogEntry, Reading, State, Trial
from zygotone.session.models import Session
from zygotone.session.value import ensure_sound

MERGE_WITHIN_S = 1.0
MAX_UNDO = 500


@dataclass(frozen=True, slots=True)
class Edit:
    """A change with the name that undo shows. Edits in quick succession with one ``merge_key`` become one undo step; while the
    hand holds something (``held``) however slow it is."""

    label: str
    change: Callable[[Session], Session]
    merge_key: object = None
    held: bool = False


class Bench:
    """Holds the state, checked and compiled; every change goes through here. Listeners are called after each."""

    def __init__(
        self,
        session: Session,
        *,
        log: tuple[LogEntry, ...] = (),
        trial: Trial | None = None,
        second: Trial | None = None,
    ) -> None:
        self._state = State(kept=session, trial=trial, second=second)
        ensure_sound(session)
        self._kept_graph = compile_session(session)
        self._trial_graph: Graph | None = None
        self._take(self._state)
        self._undo: list[tuple[str, State]] = []
        self._redo: list[tuple[str, State]] = []
        self._merge: tuple[object, float] | None = None
        self.log: tuple[LogEntry, ...] = log
        self._listeners: list[Callable[[], None]] = []
        self.changes = 0  # counts up; a saver compares it

    # --- reading -------------------------------------------------------------------------------------------

    @property
    def state(self) -> State:
        return self._state

    @property
    def kept(self) -> Session:
        return self._state.kept

    @property
    def trial(self) -> Trial | None:
        return self._state.trial

    @property
    def second(self) -> Trial | None:
        """The trial that stands aside (C)."""
        return self._state.second

    @property
    def session(self) -> Session:
        return self._state.current

    @property
    def kept_graph(self) -> Graph:
        """Version A compiled."""
        return self._kept_graph

    @property
    def trial_graph(self) -> Graph | None:
        """Version B compiled, where there is one."""
        return self._trial_graph

    @property
    def graph(self) -> Graph:
        """``session`` compiled."""
        return self._trial_graph or self._kept_graph

    @property
    def undo_label(self) -> str | None:
        return self._undo[-1][0] if self._undo else None

    @property
    def redo_label(self) -> str | None:
        return self._redo[-1][0] if self._redo else None

    @property
    def steps(self) -> tuple[tuple[str, ...], tuple[str, ...]]:
        """What was done, oldest first, and what was undone, in the order in which it would be done again."""
        return tuple(label for label, _ in self._undo), tuple(label for label, _ in reversed(self._redo))

    def listen(self, listener: Callable[[], None]) -> None:
        self._listeners.append(listener)

    # --- changing ------------------------------------------------------------------------------------------

    def apply(self, edit: Edit) -> bool:
        """Makes an edit; while a trial is open it belongs to the trial. Whether anything changed.

        Raises
        ------
        ParameterError, pydantic.ValidationError : the new session does not hold together; nothing has changed.
        LoopError : tracks would listen to each other in a circle; nothing has changed.
        """
        state = self._state
        new = edit.change(state.current)
        if new is state.current:
            return False
        ensure_sound(new)  # before another value takes it in, which would ask again
        if state.trial:
            return self._go(
                edit.label, state.replace(trial=state.trial.replace(session=new)), edit.merge_key, edit.held
            )
        return self._go(edit.label, state.replace(kept=new), edit.merge_key, edit.held)

    def _take(self, state: State) -> None:
        """Checks and compiles both versions; what is as it was keeps its nodes. Raises before anything has changed."""
        kept = self._compiled(state.kept, self._kept_graph)
        trial = self._compiled(state.trial.session, self._trial_graph or kept) if state.trial else None
        self._state, self._kept_graph, self._trial_graph = state, kept, trial

    def _compiled(self, version: Session, before: Graph) -> Graph:
        for known in (self._kept_graph, self._trial_graph):
            if known is not None and known.session is version:
                return known
        ensure_sound(version)
        return compile_session(version, before)

    def _go(self, label: str, state: State, merge_key: object = None, held: bool = False) -> bool:
        old = self._state
        if state == old:
            return False
        self._take(state)
        now = time.monotonic()
        merges = (
            merge_key is not None
            and self._merge is not None
            and self._merge[0] == merge_key
            and (held or now - self._merge[1] < MERGE_WITHIN_S)
            and bool(self._undo)
        )
        if not merges:
            self._undo.append((label, old))
            del self._undo[:-MAX_UNDO]
        self._merge = (merge_key, now) if merge_key is not None else None
        self._redo.clear()
        self._tell()
        return True

    def _tell(self) -> None:
        self.changes += 1
        for listener in tuple(self._listeners):
            listener()

    def _write(self, action: Action, title: str, **more: Any) -> None:
        time_now = dt.datetime.now().astimezone().isoformat(timespec="seconds")
        entry = LogEntry(number=len(self.log) + 1, time=time_now, action=action, title=title, **more)
        self.log = (*self.log, entry)

    def end_merge(self) -> None:
        """The hand let go: the next edit is a step of its own."""
        self._merge = None

    # --- trials --------------------------------------------------------------------------------------------

    def try_out(self, trial: Trial, *, found: LogEntry | None = None) -> None:
        """Open a trial. One that is open already is replaced, and logged as dropped."""
        ensure_sound(trial.session)
        if self._state.trial:
            self._log_trial("dropped", self._state.trial, "another fix was tried instead")
        if found is not None and not any(e.action == "found" and e.finding == found.finding for e in self.log):
            self._write(
                "found", found.title, tracks=found.tracks, section=found.section, stage=found.stage,
                readings=found.readings, finding=found.finding,
            )  # fmt: skip
        self._log_trial("tried", trial)
        self._go(f"Try: {trial.title}", self._state.replace(trial=trial))

    def keep(self, reason: str = "", readings: tuple[Reading, ...] | None = None) -> None:
        trial = self._need_trial()
        self._log_trial("kept", trial if readings is None else trial.replace(readings=readings), reason)
        self._go(f"Keep: {trial.title}", State(kept=trial.session, second=self._state.second))

    def drop(self, reason: str = "", readings: tuple[Reading, ...] | None = None) -> None:
        trial = self._need_trial()
        self._log_trial("dropped", trial if readings is None else trial.replace(readings=readings), reason)
        self._go(f"Drop: {trial.title}", self._state.replace(trial=None))

    def set_aside(self) -> None:
        """The trial (B) stands aside as C; what stood there is on trial in its place.

        Raises
        ------
        ParameterError : there is neither.
        """
        state = self._state
        if state.trial is None and state.second is None:
            raise ParameterError("nothing is on trial")
        self._go("Swap B and C", state.replace(trial=state.second, second=state.trial))

    def drop_second(self) -> None:
        """What stands aside goes; the log keeps it."""
        second = self._state.second
        if second is not None:
            self._log_trial("dropped", second, "it stood aside")
            self._go(f"Drop: {second.title}", self._state.replace(second=None))

    def name_version(self, name: str, sentence: str = "", readings: tuple[Reading, ...] = ()) -> None:
        """Writes the kept version into the log under a name, to be found and brought back."""
        self._write("made", f"Version: {name}", reason=sentence, readings=readings, session=self._state.kept)
        self._tell()

    def _log_trial(self, action: Literal["tried", "kept", "dropped"], trial: Trial, reason: str = "") -> None:
        self._write(
            action, trial.title, tracks=trial.tracks, section=trial.section, stage=trial.stage, readings=trial.readings,
            reason=reason, finding=trial.finding, session=None if action == "tried" else trial.session,
        )  # fmt: skip

    def _need_trial(self) -> Trial:
        if self._state.trial is None:
            raise ParameterError("nothing is on trial")
        return self._state.trial

    # --- steps back ----------------------------------------------------------------------------------------

    def undo(self, steps: int = 1) -> None:
        self._step(self._undo, self._redo, "undone", steps)

    def redo(self, steps: int = 1) -> None:
        self._step(self._redo, self._undo, "redone", steps)

    def go_to_step(self, done: int) -> None:
        """Back or forth until so many of the ``steps`` are done."""
        steps = len(self._undo) - max(0, done)
        if steps > 0:
            self.undo(steps)
        else:
            self.redo(-steps)

    def _step(
        self, back: list[tuple[str, State]], forth: list[tuple[str, State]], action: Literal["undone", "redone"], steps: int
    ) -> None:  # fmt: skip
        """What lies between is passed over: only where it ends is compiled, played and shown."""
        steps = min(steps, len(back))
        if steps <= 0:
            return
        labels, state = [], self._state
        for _ in range(steps):
            label, before = back.pop()
            forth.append((label, state))
            labels.append(label)
            state = before
        self._take(state)
        self._merge = None
        for label in labels:
            if label.startswith(("Keep: ", "Drop: ", "Try: ", "Restore: ")):  # a hand edit is no decision to record
                self._write(action, label)
        self._tell()

    def restore(self, entry: LogEntry) -> bool:
        """Bring the version of a log entry back as the kept one; whether that changes anything.

        Raises
        ------
        ParameterError : the entry holds no version.
        """
        if entry.session is None:
            raise ParameterError(f"log entry {entry.number} holds no version")
        state = State(kept=entry.session, second=self._state.second)
        if state == self._state:
            return False
        ensure_sound(entry.session)
        self._write(
            "restored",
            entry.title,
            tracks=entry.tracks,
            section=entry.section,
            stage=entry.stage,
            session=entry.session,
        )
        return self._go(f"Restore: {entry.title}", state)

    def note(self, action: Action, title: str, **more: Any) -> None:
        """A log entry without a change."""
        self._write(action, title, **more)
        self._tell()
