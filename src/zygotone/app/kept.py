"""Chains and phrases in the library: kept with a name and a note, found again by their words."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import (
    QApplication,
    QDialog,
    QDialogButtonBox,
    QFormLayout,
    QLineEdit,
    QListWidget,
    QPlainTextEdit,
    QWidget,
)

from zygotone.app.desk import Desk
from zygotone.app.widgets.basic import button, column, label, row
from zygotone.errors import ZygotoneError
from zygotone.reports.library import Kept, Library
from zygotone.session.clipboard import What, as_text

_WORDS = {"devices": "chain", "phrase": "phrase"}


def library_of(desk: Desk) -> Library:
    """Raises BadFileError where it cannot be read."""
    return Library(desk.files.data_folder / "sounds.sqlite")


class KeepDialog(QDialog):
    def __init__(self, parent: QWidget, what: str, name: str) -> None:
        super().__init__(parent)
        self.setObjectName("kept.keep")
        self.setWindowTitle(f"Keep the {what} in the library")
        self.name, self.notes = QLineEdit(name), QPlainTextEdit()
        self.name.setObjectName("kept.name")
        self.name.setMaxLength(120)
        self.notes.setObjectName("kept.notes")
        self.notes.setPlaceholderText("What it is for, or how it is meant")
        self.notes.setTabChangesFocus(True)
        form = QFormLayout()
        form.addRow("Name", self.name)
        form.addRow("Note", self.notes)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        self.setLayout(column(form, buttons, spacing=10, margins=(14, 12, 14, 12)))
        self.resize(380, 220)


def ask_and_keep(parent: QWidget, desk: Desk, what: What, name: str) -> None:
    kind = what.type
    dialog = KeepDialog(parent, _WORDS[kind], name)
    if dialog.exec() != QDialog.DialogCode.Accepted:
        return
    try:
        text = as_text(what, desk.session, desk.store)
        library_of(desk).keep(kind, dialog.name.text(), dialog.notes.toPlainText(), text)
    except ZygotoneError as error:
        desk.refuse(str(error))
        return
    desk.message.emit(f"Kept {dialog.name.text().strip()} in the library.")


class KeptDialog(QDialog):
    """``use`` is called with what was chosen in the clipboard: it is pasted, as if it had been copied."""

    def __init__(self, parent: QWidget, desk: Desk, kind: str, use: Callable[[], None]) -> None:
        super().__init__(parent)
        self.setObjectName("kept.dialog")
        self.setWindowTitle(f"Library: {_WORDS[kind]}s")
        self.resize(420, 420)
        self._library, self._kind, self._use = library_of(desk), kind, use
        self._found: list[Kept] = []
        self.words = QLineEdit()
        self.words.setObjectName("kept.words")
        self.words.setPlaceholderText("Words in name or note")
        self.words.textChanged.connect(self._fill)
        self.list = QListWidget()
        self.list.setObjectName("kept.list")
        self.list.setAccessibleName(f"{_WORDS[kind].capitalize()}s")
        self.list.currentRowChanged.connect(self._show)
        self.list.itemDoubleClicked.connect(lambda _: self.use())
        self.note = label("", "soft", name="kept.note", wrap=True)
        self.setLayout(
            column(
                self.words, self.list, self.note,
                row(
                    button("Use", "kept.use", self.use, kind="strong"), 1, button("Take out", "kept.remove", self.remove),
                    button("Close", "kept.close", self.reject), spacing=6,
                ),
                spacing=8, margins=(14, 12, 14, 12),
            )
        )  # fmt: skip
        self._fill()

    @property
    def chosen(self) -> Kept | None:
        at = self.list.currentRow()
        return self._found[at] if 0 <= at < len(self._found) else None

    def _fill(self) -> None:
        self._found = self._library.kept(self._kind, self.words.text())
        self.list.clear()
        for each in self._found:
            self.list.addItem(each.name)
        self.list.setCurrentRow(0)
        self._show()

    def _show(self) -> None:
        empty = f"No {_WORDS[self._kind]} is kept yet. Keep one from its menu."
        words = "No name or note has these words." if self.words.text() else empty
        self.note.setText(self.chosen.notes if self.chosen is not None else words)

    def use(self) -> None:
        if self.chosen is not None:
            QApplication.clipboard().setText(self.chosen.text)
            self.accept()
            self._use()

    def remove(self) -> None:
        if self.chosen is not None:
            self._library.forget(self.chosen.id)
            self._fill()


def open_kept(parent: QWidget, desk: Desk, kind: str, use: Callable[[], None]) -> None:
    try:
        dialog = KeptDialog(parent, desk, kind, use)
    except ZygotoneError as error:
        desk.refuse(str(error))
        return
    dialog.exec()
