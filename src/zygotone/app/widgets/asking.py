"""Small questions: a few numbers, or what a menu offers."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import Qt
from PySide6.QtGui import QContextMenuEvent
from PySide6.QtWidgets import QDialog, QDialogButtonBox, QFormLayout, QMenu, QPushButton, QSpinBox, QWidget

from zygotone.app.widgets.basic import as_action, button, column, label, whole_number_box

# Words, object name, and what it does or what it opens. In a menu None is a line between entries, and a text a heading.
Entry = tuple[str, str, "Callable[[], object] | Menu"]
Menu = Sequence["Entry | str | None"]


def fill_menu(menu: QMenu, entries: Menu) -> None:
    """What is offered goes into an empty menu."""
    for entry in entries:
        if entry is None:
            menu.addSeparator()
        elif isinstance(entry, str):
            menu.addSection(as_action(entry))
        elif callable(entry[2]):
            words, name, act = entry
            action = menu.addAction(as_action(words))
            action.setObjectName(name)
            action.triggered.connect(lambda _=False, a=act: a())
        else:
            inner = menu.addMenu(as_action(entry[0]))
            inner.setObjectName(entry[1])
            fill_menu(inner, entry[2])


def menu_button(text: str, name: str, entries: Menu | Callable[[], Menu], *, tip: str = "") -> QPushButton:
    """A button that opens a menu, which is filled as it opens."""
    made = button(text, name, lambda: None, tip=tip)
    menu = QMenu(made)
    menu.setObjectName(f"{name}.menu")

    def fill() -> None:
        menu.clear()
        fill_menu(menu, entries() if callable(entries) else entries)

    menu.aboutToShow.connect(fill)  # not before: pages are made anew often, and menus are opened seldom
    made.setMenu(menu)
    return made


def pop_up(widget: QWidget, name: str, entries: Menu, event: QContextMenuEvent) -> None:
    """The menu of a right click, or of the menu key."""
    menu = QMenu(widget)
    menu.setObjectName(name)
    fill_menu(menu, entries)
    menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    menu.popup(event.globalPos())


class NumbersDialog(QDialog):
    """A few whole numbers, each with its name and range."""

    def __init__(self, parent: QWidget, title: str, told: str, asked: Sequence[tuple[str, int, int, int]]) -> None:
        super().__init__(parent)
        self.setObjectName("asking.numbers")
        self.setWindowTitle(title)
        form = QFormLayout()
        self.boxes: list[QSpinBox] = []
        for n, (words, value, low, high) in enumerate(asked):
            box = whole_number_box()
            box.setObjectName(f"asking.number.{n + 1}")
            box.setAccessibleName(words)
            box.setRange(low, high)
            box.setValue(value)
            self.boxes.append(box)
            form.addRow(words, box)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        self.setLayout(column(label(told, "soft", wrap=True), form, buttons, spacing=10, margins=(14, 12, 14, 12)))

    def numbers(self) -> tuple[int, ...]:
        return tuple(box.value() for box in self.boxes)


def ask_numbers(
    parent: QWidget, title: str, told: str, asked: Sequence[tuple[str, int, int, int]]
) -> tuple[int, ...] | None:  # fmt: skip
    """``asked`` are a name, a first value, the lowest and the highest each. None where the person thinks better of it."""
    dialog = NumbersDialog(parent, title, told, asked)
    return dialog.numbers() if dialog.exec() == QDialog.DialogCode.Accepted else None
