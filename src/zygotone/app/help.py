"""What the help menu shows: the keys, care for hearing, and what this is."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QDialog, QGridLayout, QMessageBox

from zygotone.app.widgets.basic import button, column, label, row

if TYPE_CHECKING:
    from zygotone.app.window import Window


def show_keys(window: Window) -> None:
    dialog = QDialog(window)
    dialog.setObjectName("help.keys.dialog")
    dialog.setWindowTitle("Keys")
    grid = QGridLayout()
    grid.setHorizontalSpacing(18)
    grid.setVerticalSpacing(3)
    plain = {window.undo_action: "Undo", window.redo_action: "Redo"}
    actions = [a for a in window.findChildren(QAction) if not a.shortcut().isEmpty()]
    keys = [(a.shortcut().toString(), plain.get(a, a.text())) for a in actions]
    keys += [
        ("Tab", "To the next part of the window"),
        ("Enter on a button", "Press it"),
        ("↑ ↓ on a track", "Choose another"),
        ("← → on a ruler", "A hundredth; with Shift a thousandth"),
        ("Page Up, Page Down", "A tenth of a ruler"),
        ("Home, End", "The ends of a ruler"),
        ("Backspace on a ruler", "Back to the usual value; so does a double-click"),
        ("Enter in a number", "Take what was typed: 250, 2.5k, A#2, −3, 1/8d"),
        ("← → on a plot", "Move the reading"),
        ("← → on the ribbon", "Loop another section; with Shift, more of them"),
        ("Enter in the note grid", "A note at the caret; with Shift it stays, for a chord"),
        ("N, P in the note grid", "The next note; all of its pitch"),
        ("Arrows on chosen notes", "Move; with Shift a beat or an octave, with Alt nudge and hardness"),
        ("[ ] on chosen notes", "Shorter, longer"),
        ("Ctrl+D on notes, tracks", "Once more"),
        ("Alt+↑ ↓ on a track", "Up and down in the list"),
        ("Ctrl, Shift and a click on layers", "Choose several, to change them together"),
    ]
    half = (len(keys) + 1) // 2
    for at, (key, text) in enumerate(keys):
        side = 0 if at < half else 2
        grid.addWidget(label(key, "number"), at % half, side)
        grid.addWidget(label(text), at % half, side + 1)
    dialog.setLayout(
        column(
            label("Keys", "title"),
            grid,
            row(1, button("Close", "help.keys.close", dialog.accept)),
            spacing=12,
            margins=(20, 16, 20, 14),
        )
    )
    dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    dialog.open()


def show_hearing(window: Window) -> None:
    QMessageBox.information(
        window, "Hearing",
        "Zygotone cannot know how loud your room or headphones are. Keep the level where you can talk over it, and take "
        "breaks. Output never exceeds full scale and versions are swapped without a jump, but full scale can still be far too "
        "loud. This is no medical device; the rules of your country and hearing professionals come first.",
    )  # fmt: skip


def show_about(window: Window) -> None:
    from zygotone import __version__

    QMessageBox.information(
        window, "About",
        f"Zygotone {__version__}, Apache-2.0.\nText is set in Karla, numbers in B612, both under the SIL Open Font License; "
        "the licences are beside the fonts.",
    )  # fmt: skip
