"""The bench: the kept session, the trial beside it, undo, and the log.

All of it is plain values. A *state* is what undo steps through; the *log* only grows, because it is the record.
"""

from __future__ import annotations

import datetime as dt
import time
from collections.abc import Callable
from typing import Annotated, Any, Literal

from pydantic import Field

from zygotone.errors import ParameterError
from zygotone.session.models import Session
from zygotone.session.value import Value

Action = Literal["found", "tried", "kept", "dropped", "undone", "redone", "restored", "made"]

MERGE_WITHIN_S = 1.0
MAX_UNDO = 500


class Reading(Value):
    """A number before and after, with its unit; either may be missing."""

    name: str
    label: str
    unit: str = ""
    before: float | None = None
    after: float | None = None


class Trial(Value):
    """Version B of the session, beside the kept version A."""

    session: Session
    title: str
    finding: str | None = None
    fix: int | None = None  # counts from 1
    rule: str | None = None  # of the finding; tells which numbers the trial is judged by
    tracks: tuple[str, ...] = ()
    layers: tuple[str, ...] = ()  # of the first track, where the finding is about layers
    section: str | None = None
    readings: tuple[Reading, ...] = ()


class LogEntry(Value):
    number: int
    time: str  # ISO 8601 with the offset to UTC
    action: Action
    title: str
    tracks: tuple[str, ...] = ()
    section: str | None = None
    stage: str = "fit"
    readings: tuple[Reading, ...] = ()
    reason: Annotated[str, Field(max_length=2000)] = ""
    finding: str | None = None
    session: Session | None = None  # the version this entry left behind; restore brings it back


class State(Value):
    kept: Session
    trial: Trial | None = None

    @property
    def current(self) -> Session:
        """What an edit changes and what the stages show: B where there is a trial, else A."""
        return self.trial.session if self.trial else self.kept


class Bench:
    """Holds the state; every change goes through here. Listeners are called after each change."""

    def __init__(self, session: Session, *, log: tuple[LogEntry, ...] = (), trial: Trial | None = None) -> None:
        self._state = State(kept=session, trial=trial)
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
    def session(self) -> Session:
        return self._state.current

    @property
    def undo_label(self) -> str | None:
        return self._undo[-1][0] if self._undo else None

    @property
    def redo_label(self) -> str | None:
        return self._redo[-1][0] if self._redo else None

    def listen(self, listener: Callable[[], None]) -> None:
        self._listeners.append(listener)

    # --- changing ------------------------------------------------------------------------------------------

    def _go(self, label: str, state: State, *, merge_key: object = None) -> None:
        if state == self._state:
            return
        now = time.monotonic()
        merges = (
            merge_key is not None
            and self._merge is not None
            and self._merge[0] == merge_key
            and now - self._merge[1] < MERGE_WITHIN_S
            and bool(self._undo)
        )
        if not merges:
            self._undo.append((label, self._state))
            del self._undo[:-MAX_UNDO]
        self._merge = (merge_key, now) if merge_key is not None else None
        self._redo.clear()
        self._state = state
        self._tell()

    def _tell(self) -> None:
        self.changes += 1
        for listener in tuple(self._listeners):
            listener()

    def _write(self, action: Action, title: str, **more: Any) -> None:
        time_now = dt.datetime.now().astimezone().isoformat(timespec="seconds")
        entry = LogEntry(number=len(self.log) + 1, time=time_now, action=action, title=title, **more)
        self.log = (*self.log, entry)

    def edit(self, label: str, change: Callable[[Session], Session], *, merge_key: object = None) -> None:
        """Apply an edit. While a trial is open it belongs to the trial. Edits in quick succession with one
        ``merge_key`` become one undo step."""
        state = self._state
        new = change(state.current)
        if state.trial:
            self._go(label, state.replace(trial=state.trial.replace(session=new)), merge_key=merge_key)
        else:
            self._go(label, State(kept=new), merge_key=merge_key)

    def end_merge(self) -> None:
        """The hand let go: the next edit is a step of its own."""
        self._merge = None

    def try_out(self, trial: Trial, *, stage: str = "fit", found: LogEntry | None = None) -> None:
        """Open a trial. One that is open already is replaced, and logged as dropped."""
        if self._state.trial:
            self._log_drop(self._state.trial, "another fix was tried instead")
        if found is not None and not any(e.action == "found" and e.finding == found.finding for e in self.log):
            self._write("found", found.title, **_log_fields(found))
        self._write(
            "tried", trial.title, tracks=trial.tracks, section=trial.section, stage=stage, readings=trial.readings,
            finding=trial.finding,
        )  # fmt: skip
        self._go(f"Try: {trial.title}", State(kept=self._state.kept, trial=trial))

    def keep(self, reason: str = "", readings: tuple[Reading, ...] | None = None) -> None:
        trial = self._need_trial()
        self._write(
            "kept", trial.title, tracks=trial.tracks, section=trial.section,
            readings=trial.readings if readings is None else readings,
            reason=reason, finding=trial.finding, session=trial.session,
        )  # fmt: skip
        self._go(f"Keep: {trial.title}", State(kept=trial.session))

    def drop(self, reason: str = "", readings: tuple[Reading, ...] | None = None) -> None:
        trial = self._need_trial()
        self._log_drop(trial if readings is None else trial.replace(readings=readings), reason)
        self._go(f"Drop: {trial.title}", State(kept=self._state.kept))

    def _log_drop(self, trial: Trial, reason: str) -> None:
        self._write(
            "dropped", trial.title, tracks=trial.tracks, section=trial.section, readings=trial.readings,
            reason=reason, finding=trial.finding, session=trial.session,
        )  # fmt: skip

    def _need_trial(self) -> Trial:
        if self._state.trial is None:
            raise ParameterError("nothing is on trial")
        return self._state.trial

    def undo(self) -> None:
        self._step(self._undo, self._redo, "undone")

    def redo(self) -> None:
        self._step(self._redo, self._undo, "redone")

    def _step(
        self, back: list[tuple[str, State]], forth: list[tuple[str, State]], action: Literal["undone", "redone"]
    ) -> None:
        if not back:
            return
        label, state = back.pop()
        forth.append((label, self._state))
        self._state = state
        self._merge = None
        if label.startswith(("Keep: ", "Drop: ", "Try: ", "Restore: ")):  # a hand edit is no decision to record
            self._write(action, label)
        self._tell()

    def restore(self, entry: LogEntry) -> None:
        """Bring the version of a log entry back as the kept one."""
        if entry.session is None:
            raise ParameterError(f"log entry {entry.number} holds no version")
        self._write("restored", entry.title, tracks=entry.tracks, section=entry.section, session=entry.session)
        self._go(f"Restore: {entry.title}", State(kept=entry.session))

    def note(self, action: Action, title: str, **more: Any) -> None:
        """A log entry without a change."""
        self._write(action, title, **more)
        self._tell()


def _log_fields(entry: LogEntry) -> dict[str, Any]:
    return {
        "tracks": entry.tracks, "section": entry.section, "stage": entry.stage, "readings": entry.readings,
        "finding": entry.finding,
    }  # fmt: skip
