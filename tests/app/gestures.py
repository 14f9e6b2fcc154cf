"""A hand that counts: one gesture is a click, a drag, a chord of keys, one choice in an open list or menu, or one text typed with
its Enter."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QAction, QContextMenuEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox, QLineEdit, QMenu, QPushButton, QWidget

from zygotone.app.stages import STAGES
from zygotone.app.widgets.note_grid import NoteGrid
from zygotone.app.window import Window

NONE = Qt.KeyboardModifier.NoModifier


class Hand:
    def __init__(self, window: Window) -> None:
        self.window = window
        self.count = 0
        self.told: list[str] = []
        window.desk.message.connect(self.told.append)

    def _one(self) -> None:
        self.count += 1
        QApplication.processEvents()

    def find(self, kind: type[QWidget], name: str) -> Any:
        """What can be seen of that name, the newest of it: pages are made anew, and what is old goes a moment later."""
        found = self.window.findChildren(kind, name)
        assert found, f"there is no {name}"
        seen = [each for each in found if each.isVisible()]
        return (seen or found)[-1]

    # --- gestures ------------------------------------------------------------------------------------------

    def click(self, name: str) -> None:
        widget = self.find(QWidget, name)
        assert widget.isEnabled(), f"{name} cannot be pressed"
        if isinstance(widget, QPushButton):
            widget.click()
        else:
            QTest.mouseClick(widget, Qt.MouseButton.LeftButton)
        self._one()

    def stage(self, number: int) -> None:
        """Alt and its number: by the command, as a window that is not in front takes no keys."""
        stage = list(STAGES)[number - 1]
        self.shortcut(f"view.{stage.key}")
        page = self.window.stages[stage.key]
        for _ in range(50):
            if page.isVisible():
                break
            QTest.qWait(10)

    def choose(self, name: str, text: str) -> None:
        """Opens a list and chooses of it."""
        box = self.find(QComboBox, name)
        at = next((i for i in range(box.count()) if box.itemText(i) == text), None)
        assert at is not None, f"{name} has no {text!r}, but {[box.itemText(i) for i in range(box.count())]}"
        self._one()
        box.setCurrentIndex(at)
        box.activated.emit(at)
        self._one()

    def menu(self, name: str, *entries: str) -> None:
        """Opens the menu of a button and chooses, through the menus within."""
        menu = self.find(QPushButton, name).menu()
        menu.aboutToShow.emit()
        self._one()
        self._through(menu, *entries)

    def context(self, widget: QWidget, *entries: str) -> None:
        """A right click, and a choice."""
        at = widget.rect().center()
        event = QContextMenuEvent(QContextMenuEvent.Reason.Mouse, at, widget.mapToGlobal(at))
        QApplication.sendEvent(widget, event)
        self._one()
        menus = [m for m in widget.findChildren(QMenu) if m.isVisible()]
        self._through(menus[-1], *entries)
        menus[-1].close()

    def _through(self, menu: QMenu, *entries: str) -> None:
        for n, text in enumerate(entries):
            action = next((a for a in menu.actions() if a.text() == text), None)
            assert action is not None, f"there is no {text!r}, but {[a.text() for a in menu.actions()]}"
            if n + 1 < len(entries):
                menu = action.menu()
                assert isinstance(menu, QMenu)
            else:
                action.trigger()
            self._one()

    def shortcut(self, name: str) -> None:
        """A command by its keys, as the menu has them."""
        action = self.window.findChild(QAction, name)
        assert action is not None
        assert not action.shortcut().isEmpty(), f"{name} has no keys"
        action.trigger()
        self._one()

    def key(self, widget: QWidget, key: Qt.Key, modifiers: Qt.KeyboardModifier = NONE, *, times: int = 1) -> None:
        for _ in range(times):
            QTest.keyClick(widget, key, modifiers)
            self._one()

    def tab_to(self, name: str, *, back: bool = False) -> QWidget:
        """With Tab, press by press, as far as what is called so."""
        seen: list[str] = []
        for _ in range(150):
            widget = QApplication.focusWidget()
            assert widget is not None
            seen.append(widget.objectName())
            if widget.objectName() == name:
                return widget
            self.key(widget, Qt.Key.Key_Backtab if back else Qt.Key.Key_Tab)
        raise AssertionError(f"Tab does not come to {name}, but to {seen}")

    def key_through(self, menu: QMenu, *entries: str) -> None:
        """Down a menu that is open with the arrows, into the menus within with →, and Enter on the last."""
        for n, text in enumerate(entries):
            while menu.activeAction() is None or menu.activeAction().text() != text:
                before = menu.activeAction()
                self.key(menu, Qt.Key.Key_Down)
                assert menu.activeAction() is not before, f"there is no {text!r}"
            if n + 1 == len(entries):
                self.key(menu, Qt.Key.Key_Return)
                self._back_in_the_window()
                return
            inner = menu.activeAction().menu()
            self.key(menu, Qt.Key.Key_Right)
            for _ in range(100):
                if inner.isVisible():
                    break
                QTest.qWait(10)
            assert inner.isVisible()
            menu = inner

    def _back_in_the_window(self) -> None:
        """As whoever manages windows sees to when a menu has closed; without a screen nobody does."""
        for _ in range(100):
            at = QApplication.focusWidget()
            if at is not None and at.window() is self.window and at.isVisible():
                return
            self.window.activateWindow()
            self.window.setFocus()
            QTest.qWait(10)

    def typed(self, name: str, text: str) -> None:
        """Into a field that is clicked first."""
        field = self.find(QLineEdit, f"{name}.value" if not name.startswith("=") else name[1:])
        field.setFocus()
        self._one()
        field.selectAll()
        QTest.keyClicks(field, text)
        QTest.keyClick(field, Qt.Key.Key_Return)
        self._one()

    def drag(self, widget: QWidget, start: QPointF, end: QPointF, modifiers: Qt.KeyboardModifier = NONE) -> None:
        left = Qt.MouseButton.LeftButton
        QTest.mousePress(widget, left, modifiers, start.toPoint())
        steps = 8
        for n in range(1, steps + 1):
            at = start + (end - start) * (n / steps)
            QTest.mouseMove(widget, at.toPoint())
        QTest.mouseRelease(widget, left, modifiers, end.toPoint())
        self._one()

    # --- the grid of notes ---------------------------------------------------------------------------------

    @property
    def grid(self) -> NoteGrid:
        return self.window.stages["sounds"].notes.grid

    def place(self, beat: float, pitch: int, *, into: float = 0.3) -> QPointF:
        """A place in the grid, a little after the beat; the grid is looked along until it is there."""
        grid = self.grid
        if not grid._low <= pitch < grid._low + grid._rows:
            grid.bring_into_view(beat, pitch)
        return QPointF(grid._x(beat + into * grid.step), grid._y(pitch) + grid._row_height() / 2)

    def note(self, beat: float, pitch: int) -> None:
        QTest.mouseClick(self.grid, Qt.MouseButton.LeftButton, NONE, self.place(beat, pitch).toPoint())
        self._one()

    def run(self, first: float, last: float, pitch: int) -> None:
        """A note on each line of the grid, with Ctrl held down."""
        self.drag(self.grid, self.place(first, pitch), self.place(last, pitch), Qt.KeyboardModifier.ControlModifier)

    def sweep(self, first: tuple[float, float], last: tuple[float, float]) -> None:
        """Velocities from one (beat, velocity) to another."""
        grid = self.grid
        ends = [QPointF(grid._x(beat), grid._velocity_y(v)) for beat, v in (first, last)]
        self.drag(grid, *ends)


def pump() -> None:
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    QApplication.processEvents()


def middle(widget: QWidget) -> QPoint:
    return widget.rect().center()
