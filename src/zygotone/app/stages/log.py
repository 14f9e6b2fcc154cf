"""Log: what was found, tried, kept or dropped, with its numbers; go there, or bring a version back."""

from __future__ import annotations

import datetime as dt

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QResizeEvent, QShowEvent
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem

from zygotone.app.desk import Desk
from zygotone.app.stages.base import STAGES, Stage, StageWidget
from zygotone.app.theme import colour, theme
from zygotone.app.widgets.basic import as_plain, button, column, label, row
from zygotone.app.widgets.readings import reading_text
from zygotone.session.history import LogEntry

COLUMNS = ("When", "What", "Which", "Tracks", "Section", "Before → after", "Why")


class LogStage(StageWidget):
    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.setObjectName("stage.log")
        self._shown: object = None
        self.table = QTableWidget(0, len(COLUMNS))
        self.table.setObjectName("log.table")
        self.table.setAccessibleName("Log of trials and decisions")
        self.table.setHorizontalHeaderLabels(COLUMNS)
        self.table.verticalHeader().hide()
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setShowGrid(False)
        self.table.setWordWrap(True)
        header = self.table.horizontalHeader()
        for i, width in enumerate((106, 62, 176, 80, 62, 0, 90)):
            header.resizeSection(i, width)
        header.setSectionResizeMode(5, QHeaderView.ResizeMode.Stretch)
        self.table.itemSelectionChanged.connect(self._on_selected)
        self.table.itemDoubleClicked.connect(lambda _: self.go_there())
        self.empty = label(
            "Nothing decided yet. Try a fix in Fit; what you keep or drop is written here, with its numbers.",
            "soft",
            name="log.empty",
            wrap=True,
        )
        self.empty.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.go = button("Go there", "log.go", self.go_there, tip="Open the stage, section and tracks this was about")
        self.back = button(
            "Bring this version back",
            "log.restore",
            self.restore,
            tip="Make the version of this entry the kept one; undo takes it back",
        )
        self.setLayout(
            column(
                row(label("Log", "title"), 1, self.go, self.back), self.empty, self.table, spacing=8, margins=(16, 10, 10, 10)
            )
        )  # fmt: skip
        self.shown_by(self._show_new, desk.session_changed)
        theme().changed.connect(self._list)

    def _show_new(self) -> None:
        desk = self.desk
        shown = (desk.bench.log, desk.song.sections, [s.name for s in desk.session.strips()])
        if shown != self._shown:
            self._shown = shown
            self._list()

    def _list(self) -> None:
        entries = list(reversed(self.desk.bench.log))
        selected = self.selected()
        self.empty.setVisible(not entries)
        self.table.setVisible(bool(entries))
        self.table.setRowCount(len(entries))
        names = {s.id: s.name for s in self.desk.session.strips()}
        sections = {s.id: s.name for s in self.desk.song.sections}
        for at, entry in enumerate(entries):
            when = dt.datetime.fromisoformat(entry.time)
            numbers = "; ".join(filter(None, map(reading_text, entry.readings)))
            texts = (
                when.strftime("%d %b %H:%M:%S"), entry.action, entry.title, ", ".join(names.get(t, t) for t in entry.tracks),
                sections.get(entry.section or "", entry.section or ""), numbers, entry.reason,
            )  # fmt: skip
            for column_, text in enumerate(texts):
                item = QTableWidgetItem(text)
                item.setToolTip(as_plain(text))
                item.setData(Qt.ItemDataRole.UserRole, entry.number)
                item.setTextAlignment(Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft)
                if column_ == 1:
                    item.setForeground(
                        colour(
                            {"kept": "a", "restored": "a", "tried": "b", "dropped": "soft", "found": "count"}.get(
                                entry.action, "soft"
                            )
                        )
                    )
                self.table.setItem(at, column_, item)
        self._fit_rows()
        if selected is not None:
            self.select(selected.number)
        self._on_selected()

    def _fit_rows(self) -> None:
        # Only once the columns have their widths: before that every text would seem to need a tall row.
        if self.isVisible():
            self.table.resizeRowsToContents()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        QTimer.singleShot(0, self._fit_rows)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        QTimer.singleShot(0, self._fit_rows)

    def _number(self, row_: int) -> int:
        """Of the entry in a row."""
        item = self.table.item(row_, 0)
        return int(item.data(Qt.ItemDataRole.UserRole)) if item is not None else 0

    def select(self, number: int) -> None:
        for at in range(self.table.rowCount()):
            if self._number(at) == number:
                self.table.selectRow(at)

    def selected(self) -> LogEntry | None:
        rows = {item.row() for item in self.table.selectedItems()}
        if not rows:
            return None
        number = self._number(min(rows))
        return next((e for e in self.desk.bench.log if e.number == number), None)

    def _on_selected(self) -> None:
        entry = self.selected()
        self.go.setEnabled(entry is not None)
        self.back.setEnabled(entry is not None and entry.session is not None)

    def go_there(self) -> None:
        entry = self.selected()
        if entry is None:
            return
        desk = self.desk
        if entry.section in {s.id for s in desk.song.sections}:
            desk.selection.set_loop((entry.section,))
        known = {s.id for s in desk.session.strips()}
        here = [t for t in entry.tracks if t in known]
        if here:
            desk.selection.track(here[-1])
        desk.stage_wanted.emit(entry.stage)

    def restore(self) -> None:
        entry = self.selected()
        if entry is not None and entry.session is not None:
            self.desk.bench.restore(entry)


STAGES.enter(Stage(key="log", title="Log", order=90, make=LogStage, findings=False))
