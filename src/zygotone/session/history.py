"""What happened to a session, as values: trials, states and log entries.

A *state* is what undo steps through; the *log* only grows, because it is the record.
"""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from zygotone.session.models import Session
from zygotone.session.value import Value

Action = Literal["found", "tried", "kept", "dropped", "undone", "redone", "restored", "made"]


class Reading(Value):
    """A number before and after, with its unit; either may be missing. ``of`` is the id of the strip whose it is, where that is not
    plain from what is on trial."""

    name: str
    label: str
    unit: str = ""
    of: str = ""
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
    stage: str = "fit"  # where it was opened
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
    """``second`` is another trial that stands aside (C); it is no edit's to change."""

    kept: Session
    trial: Trial | None = None
    second: Trial | None = None

    @property
    def current(self) -> Session:
        """What an edit changes and what the stages show: B where there is a trial, else A."""
        return self.trial.session if self.trial else self.kept
