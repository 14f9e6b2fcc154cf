"""The library: factory sounds and one's own, found by words and by what they measure."""

from __future__ import annotations

import math
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QDialog,
    QHeaderView,
    QInputDialog,
    QLineEdit,
    QTableWidget,
    QTableWidgetItem,
)

from zygotone.app.widgets.basic import button, column, label, row
from zygotone.errors import ZygotoneError
from zygotone.reports.library import COMPARISONS, ORDERS, Entry, Library
from zygotone.session.audio_files import AudioData
from zygotone.session.models import ROLES
from zygotone.session.params import format_number
from zygotone.session.saved_sounds import SavedSound


class LibraryDialog(QDialog):
    """``stage`` is the Sounds stage: a sound that is chosen goes into its track."""

    def __init__(self, stage: Any) -> None:
        super().__init__(stage)
        self.setObjectName("library.dialog")
        self.setWindowTitle("Library of sounds")
        self.resize(860, 560)
        self.stage = stage
        self.library = Library(stage.desk.files.data_folder / "sounds.sqlite")
        self.beside: Entry | None = None
        self.entries: list[Entry] = []
        self.words = QLineEdit()
        self.words.setObjectName("library.words")
        self.words.setPlaceholderText("Words in name, tags or notes")
        self.words.setAccessibleName("Search words")
        self.words.textChanged.connect(self._list)
        self.role, self.order, self.compare = QComboBox(), QComboBox(), QComboBox()
        for box, name, items in (
            (self.role, "role", [("all roles", None), *((r, r) for r in ROLES)]),
            (self.order, "order", [(words, words) for words in ORDERS]),
            (self.compare, "compare", [("beside nothing", None), *((c, c) for c in COMPARISONS)]),
        ):
            box.setObjectName(f"library.{name}")
            box.setAccessibleName(name.capitalize())
            for words, data in items:
                box.addItem(words, data)
            box.activated.connect(self._list)
        self.beside_label = label("(choose a sound, then “Compare with this”)", "soft", name="library.beside")
        self.table = QTableWidget(0, 7)
        self.table.setObjectName("library.table")
        self.table.setAccessibleName("Sounds")
        self.table.setHorizontalHeaderLabels(["Sound", "Role", "Tags", "Brightness", "Attack", "Decay", "Width"])
        self.table.verticalHeader().hide()
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.horizontalHeader().setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        self.table.itemSelectionChanged.connect(self._selected)
        self.table.itemDoubleClicked.connect(lambda _: self.use())
        self.notes = label("", "soft", name="library.notes", wrap=True)
        self.setLayout(
            column(
                row(self.words, self.role, self.order, spacing=6), row(self.compare, self.beside_label, 1, button("Compare with this", "library.set", self.compare_with)),
                self.table, self.notes,
                row(
                    button("Listen", "library.listen", self.listen), button("Use in this track", "library.use", self.use, kind="strong"), 1,
                    button("Keep this track's sound…", "library.keep", self.keep), button("Take out", "library.remove", self.remove),
                    button("Close", "library.close", self.accept), spacing=6,
                ),
                spacing=8, margins=(14, 12, 14, 12),
            )
        )  # fmt: skip
        role = stage.track.role if stage.track is not None else None
        self.role.setCurrentIndex(max(0, self.role.findData(role)))
        self._list()

    @property
    def entry(self) -> Entry | None:
        at = self.table.currentRow()
        return self.entries[at] if 0 <= at < len(self.entries) else None

    def _list(self, *_: object) -> None:
        try:
            self._fill()
        except ZygotoneError as error:
            self.notes.setText(str(error))

    def _sound(self, entry: Entry) -> tuple[SavedSound, dict[str, AudioData]] | None:
        """As the library holds it; None, and said why, where it cannot be read."""
        try:
            return self.library.sound(entry.id)
        except ZygotoneError as error:
            self.notes.setText(str(error))
            return None

    def _fill(self) -> None:
        comparison = self.compare.currentData() if self.beside is not None else None
        self.entries = self.library.find(
            text=self.words.text(), role=self.role.currentData(), order=self.order.currentData(), comparison=comparison,
            beside=self.beside.id if self.beside is not None else None,
        )  # fmt: skip
        self.table.setRowCount(len(self.entries))
        for at, e in enumerate(self.entries):
            f = e.features
            cells = [
                e.name if e.factory else f"{e.name} (yours)", e.role, " ".join(e.tags), _number(f.centroid_hz, "Hz"), _number(f.attack_ms, "ms"),
                _number(f.decay_ms, "ms"), f"{100 * f.side_share:.0f} %" if math.isfinite(f.side_share) else "–",
            ]  # fmt: skip
            for c, text in enumerate(cells):
                item = QTableWidgetItem(text)
                if c >= 3:
                    item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                self.table.setItem(at, c, item)
        self.table.resizeColumnsToContents()
        self.table.horizontalHeader().setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        self.notes.setText("" if self.entries else "No sound is like that. Fewer words, or another role, find more.")

    def _selected(self) -> None:
        if self.entry is not None:
            self.notes.setText(self.entry.notes)

    def compare_with(self) -> None:
        if self.entry is not None:
            self.beside = self.entry
            self.beside_label.setText(self.entry.name)
            if self.compare.currentData() is None:
                self.compare.setCurrentIndex(1)
            self._list()

    def listen(self) -> None:
        """The selected sound's test note, alone."""
        from zygotone.factory.features import ProbeNote

        entry, desk = self.entry, self.stage.desk
        held = self._sound(entry) if entry is not None else None
        if held is None:
            return
        sound, clips = held

        def play(heard: Any) -> None:
            desk.listening.player.live.add("library", heard)
            desk.listening.wake_for_notes()

        desk.listening.ask(ProbeNote(sound, tuple(clips.items()), desk.session.rate_hz), play)

    def use(self) -> None:
        held = self._sound(self.entry) if self.entry is not None else None
        if held is not None:
            self.stage.use_sound(*held)
            self.accept()

    def keep(self) -> None:
        stage = self.stage
        if stage.source is None or not stage.source.layers:
            return
        name, good = QInputDialog.getText(self, "Keep the sound", "Name in the library:", text=stage.track.name)
        if good and name.strip():
            self.keep_as(name.strip()[:120])

    def keep_as(self, name: str) -> None:
        try:
            self.library.add(*self.stage.present_sound(name))
        except ZygotoneError as error:
            self.notes.setText(str(error))
            return
        self._list()

    def remove(self) -> None:
        if self.entry is not None:
            try:
                self.library.remove(self.entry.id)
            except ZygotoneError as error:
                self.notes.setText(str(error))
                return
            self._list()


def _number(value: float, unit: str) -> str:
    return format_number(round(value, 1), unit) if math.isfinite(value) else "–"
