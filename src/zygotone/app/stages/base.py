"""What a stage is to the window, and the table of all stages.

A stage is one module of this package that enters a ``Stage``; a new one is found by itself, and stands in the window, the keys
and the pictures by its place in the order.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import SignalInstance
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QWidget

from zygotone.advise.findings import Finding
from zygotone.app.desk import Desk
from zygotone.app.midi_ports import MidiInput


@dataclass(frozen=True, slots=True)
class Action:
    """A command of a stage in the Edit menu."""

    text: str
    name: str
    slot: Callable[[], None]
    key: str | None = None


class StageWidget(QWidget):
    """The page of a stage. What it does not offer it need not say."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self._show: Callable[[], None] = lambda: None
        self._stale = False

    def shown_by(self, show: Callable[[], None], *signals: SignalInstance) -> None:
        """``show`` is called now and after each of these signals: at once where somebody sees the page, else when somebody
        does."""
        self._show = show
        for signal in signals:
            signal.connect(self._follow)
        show()

    def _follow(self) -> None:
        if self.isVisible():
            self._show()
        else:
            self._stale = True

    def bring_up_to_date(self) -> None:
        """Where something has changed since it was seen."""
        if self._stale:
            self._stale = False
            self._show()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.bring_up_to_date()

    def offer(self) -> QWidget | None:
        """What stands in the margin under the findings while the stage is shown: things to add."""
        return None

    def actions_offered(self) -> tuple[Action, ...]:
        return ()

    def show_finding(self, finding: Finding) -> None:
        """Shows the ladder of a finding whose rule says that its stage does."""

    def delete(self) -> None:
        """The Delete key, where nothing within the page took it."""

    def copy(self) -> None:
        """What is selected on the page goes into the clipboard."""

    def cut(self) -> None: ...

    def paste(self) -> None: ...

    def select_all(self) -> None: ...

    def take_files(self, paths: list[Path]) -> None:
        """Files were dropped, or chosen, while the stage is where files go."""

    def ask_for_files(self) -> None:
        """Asks which, where the stage is where files go."""

    def listen_to_midi(self, midi: MidiInput) -> None:
        """A keyboard plays."""

    def let_keys_go(self) -> None:
        """The keyboard is gone."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Stage:
    key: str
    title: str
    order: int
    make: Callable[[Desk], StageWidget]
    margin: bool = True  # whether the right margin is there
    findings: bool = True  # whether its findings are listed there
    begins: bool = False  # whether a new project begins here, and files go here
    leads: bool = False  # whether a project that is opened is shown here first
    ladders: bool = False  # whether the ladders of all stages' findings are shown here


class Stages:
    """All stages by their order. The modules of this package enter theirs."""

    def __init__(self) -> None:
        self._entered: dict[str, Stage] = {}

    def enter(self, stage: Stage) -> Stage:
        self._entered[stage.key] = stage
        return stage

    def leave(self, key: str) -> None:
        del self._entered[key]

    def __iter__(self) -> Iterator[Stage]:
        return iter(sorted(self._entered.values(), key=lambda stage: (stage.order, stage.key)))

    def get(self, key: str) -> Stage | None:
        return self._entered.get(key)

    @property
    def first(self) -> Stage:
        """Where a new project begins."""
        return next((s for s in self if s.begins), next(iter(self)))

    @property
    def of_ladders(self) -> Stage:
        """Where the ladder of a finding is shown."""
        return next((s for s in self if s.ladders), self.leading)

    @property
    def leading(self) -> Stage:
        """Where an opened project is shown."""
        return next((s for s in self if s.leads), self.first)


STAGES = Stages()
