"""One parameter on a scale: shows the kept and the trial value, takes hand, wheel, keys and typed text."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Any

from PySide6.QtCore import QEvent, QObject, QPointF, QRectF, QSize, Qt
from PySide6.QtGui import (
    QColor,
    QContextMenuEvent,
    QFontMetrics,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QComboBox, QGridLayout, QLabel, QLineEdit, QSizePolicy, QWidget

from zygotone.app.theme import colour, number_font, text_font, theme
from zygotone.app.widgets.asking import Menu, pop_up
from zygotone.app.widgets.basic import clear, column, label, last_by_tab, let_go_of_focus, row, say_beside
from zygotone.app.widgets.drawn import drawn_once
from zygotone.errors import ParameterError
from zygotone.session.params import Param

_SIDE = 12
_FIELD_HEIGHT = 20
_BASE = 12.5  # of a scale: where its line lies
_FINE = 0.1
_LEAST_FIELD_PX = 46
_FILLS = Qt.AlignmentFlag(0)


def ruler_ticks(param: Param) -> list[float]:
    """Values that get a number: round ones, about five."""
    if param.scale == "log":
        ticks = []
        for power in range(-2, 6):
            for step in (1, 2, 5):
                value = step * 10.0**power
                if param.low <= value <= param.high * 1.0001:
                    ticks.append(value)
        while len(ticks) > 7:
            ticks = ticks[::2]
        return ticks
    if param.unit == "note":
        return [24.0 * n for n in range(6)]  # every other C
    span = param.high - param.low
    raw = span / 5.0
    magnitude = 10.0 ** math.floor(math.log10(raw))
    stride = next(s * magnitude for s in (1.0, 2.0, 3.0, 5.0, 10.0) if s * magnitude >= raw * 0.999)
    first = math.ceil(param.low / stride - 1e-9) * stride
    return [first + i * stride for i in range(int((param.high - first) / stride + 1e-6) + 1)]


class Scale(QWidget):
    """The scale itself: ticks, a solid marker for the value in force, a hollow one for the kept value."""

    def __init__(
        self, param: Param, name: str, on_change: Callable[[float], None], on_release: Callable[[], None]
    ) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFixedHeight(32)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.stand_for(param, name, on_change, on_release)
        theme().changed.connect(self.update)

    def stand_for(
        self, param: Param, name: str, on_change: Callable[[float], None], on_release: Callable[[], None]
    ) -> None:
        self.setObjectName(name)
        self.setAccessibleName(f"{param.label}, ruler")
        self._param, self._on_change, self._on_release = param, on_change, on_release
        self.value = param.number_of(param.default, bpm=120.0)
        self.setAccessibleDescription(param.format(self.value))
        self.kept: float | None = None
        self.moves: tuple[float, float] | None = None
        self._ticks = ruler_ticks(param)
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(200, 32)

    def show_value(self, value: float, kept: float | None) -> None:
        if (value, kept) == (self.value, self.kept):
            return
        self.value, self.kept = value, kept
        self.setAccessibleDescription(self._param.format(value))
        self.update()

    def show_moves(self, moves: tuple[float, float] | None) -> None:
        """From where to where automation moves the value, if it does."""
        if moves != self.moves:
            self.moves = moves
            self.update()

    def _x(self, value: float) -> float:
        return _SIDE + self._param.position_of(value) * (self.width() - 2 * _SIDE)

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            p, ink = self._param, colour("a" if self.hasFocus() else "ink")
            key = f"scale {p.low} {p.high} {p.scale} {p.unit} {ink.name()} {colour('ink').name()}"
            painter.drawPixmap(0, 0, drawn_once(self, key, lambda within: self._paint_scale(within, ink)))
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            base = _BASE
            if self.moves is not None:
                self._paint_moves(painter, base, *map(self._x, self.moves))
            if self.kept is not None and abs(self.kept - self.value) > 1e-9:
                x = self._x(self.kept)
                painter.setPen(QPen(colour("a"), 1.4))
                painter.setBrush(colour("sheet"))
                painter.drawPolygon(
                    QPolygonF([QPointF(x, base + 1), QPointF(x - 5, base + 11), QPointF(x + 5, base + 11)])
                )
            x = self._x(self.value)
            trial = self.kept is not None and abs(self.kept - self.value) > 1e-9
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(colour("b" if trial else "ink"))
            painter.drawPolygon(QPolygonF([QPointF(x, base - 1), QPointF(x - 5.5, 1), QPointF(x + 5.5, 1)]))

    def _paint_scale(self, painter: QPainter, ink: QColor) -> None:
        base = _BASE
        painter.setPen(QPen(ink, 1.4))
        painter.drawLine(QPointF(_SIDE, base), QPointF(self.width() - _SIDE, base))
        painter.setFont(number_font(7.5))
        previous = None
        for tick in self._ticks:
            x = self._x(tick)
            painter.setPen(QPen(colour("ink"), 1))
            painter.drawLine(QPointF(x, base), QPointF(x, base + 6))
            if previous is not None:
                for part in range(1, 4):  # small ticks between, evenly along the ruler
                    between = previous + (x - previous) * part / 4
                    painter.drawLine(QPointF(between, base), QPointF(between, base + 3))
            previous = x
            painter.setPen(colour("soft"))
            text = f"{tick / 1000:g}k" if tick >= 1000 else f"{tick:g}".replace("-", "−")
            if self._param.unit == "note":
                text = self._param.format(tick)
            box = QRectF(x - 20, base + 6, 40, 13)
            if x < 20:
                box, flag = QRectF(max(0.0, x - 8), base + 6, 40, 13), Qt.AlignmentFlag.AlignLeft
            elif x > self.width() - 20:
                box, flag = QRectF(min(self.width(), x + 10) - 40, base + 6, 40, 13), Qt.AlignmentFlag.AlignRight
            else:
                flag = Qt.AlignmentFlag.AlignHCenter
            painter.drawText(box, flag, text)

    def _paint_moves(self, painter: QPainter, base: float, first: float, last: float) -> None:
        """A bracket under the scale's line over what automation passes through."""
        painter.setPen(QPen(colour("soft"), 1.4))
        y = base + 3.5
        painter.drawPolyline(
            QPolygonF([QPointF(first, base), QPointF(first, y), QPointF(last, y), QPointF(last, base)])
        )
        painter.fillRect(QRectF(first, base, max(1.0, last - first), y - base), colour("soft"))

    def _set_from(self, x: float) -> None:
        self._on_change(self._param.value_at((x - _SIDE) / max(1, self.width() - 2 * _SIDE)))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self._set_from(event.position().x())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if event.buttons() & Qt.MouseButton.LeftButton:
            self._set_from(event.position().x())

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._on_release()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self._on_change(self._param.default)

    def nudge(self, steps: float) -> None:
        """A hundredth of the ruler a step; whole numbers by one."""
        if self._param.type == "int":
            self._on_change(min(self._param.high, max(self._param.low, self.value + math.copysign(1, steps))))
        else:
            self._on_change(self._param.value_at(self._param.position_of(self.value) + 0.01 * steps))

    def wheelEvent(self, event: QWheelEvent) -> None:
        # Only with the focus: scrolling past a ruler must not turn it.
        if not self.hasFocus():
            event.ignore()
            return
        fine = event.modifiers() & Qt.KeyboardModifier.ShiftModifier
        delta = event.angleDelta().y() or event.angleDelta().x()
        self.nudge(delta / 120.0 * (_FINE if fine else 1.0))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        fine = event.modifiers() & Qt.KeyboardModifier.ShiftModifier
        step = {
            Qt.Key.Key_Left: -1, Qt.Key.Key_Down: -1, Qt.Key.Key_Right: 1, Qt.Key.Key_Up: 1,
            Qt.Key.Key_PageUp: 10, Qt.Key.Key_PageDown: -10,
        }.get(Qt.Key(event.key()))  # fmt: skip
        if step is not None:
            self.nudge(step * (_FINE if fine else 1.0))
        elif event.key() == Qt.Key.Key_Home:
            self._on_change(self._param.low)
        elif event.key() == Qt.Key.Key_End:
            self._on_change(self._param.high)
        elif event.key() in (Qt.Key.Key_Backspace, Qt.Key.Key_Delete):
            self._on_change(self._param.default)
        else:
            super().keyPressEvent(event)


class ValueField(QLineEdit):
    """The number of a parameter, to be typed; what cannot be is told, and the old number comes back."""

    def __init__(
        self, param: Param, name: str, *, on_change: Callable[[Any], None], on_release: Callable[[], None],
        bpm: Callable[[], float], on_error: Callable[[str], None],
    ) -> None:  # fmt: skip
        super().__init__()
        self.setProperty("kind", "ruler")
        self.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.setFrame(False)
        self.setFont(number_font(10))
        self.stand_for(param, name, on_change=on_change, on_release=on_release, bpm=bpm, on_error=on_error)
        self.editingFinished.connect(self._typed)

    def stand_for(
        self, param: Param, name: str, *, on_change: Callable[[Any], None], on_release: Callable[[], None],
        bpm: Callable[[], float], on_error: Callable[[str], None],
    ) -> None:  # fmt: skip
        self.setObjectName(f"{name}.value")
        self.setAccessibleName(param.label)
        self._param, self._on_change, self._on_release, self._bpm, self._on_error = (
            param, on_change, on_release, bpm, on_error,
        )  # fmt: skip
        self._shown = ""
        self.setModified(False)

    def show_text(self, text: str) -> None:
        """Showing is never setting, nor does it take away what is being typed."""
        self._shown = text
        if not self.hasFocus() or not self.isModified():
            self.setText(text)

    def _typed(self) -> None:
        text = self.text()
        if text != self._shown:
            try:
                self._on_change(self._param.parse(text, bpm=self._bpm()))
                self._on_release()
            except ParameterError as error:
                words = str(error).removeprefix("value.")
                self._on_error(words)
                say_beside(self, words)
        self.setModified(False)
        self.setText(self._shown)


class NumberField(QWidget):
    """Name and number of a parameter that needs no scale; arrows and wheel step it."""

    def __init__(
        self, param: Param, name: str, *, step: float, on_change: Callable[[Any], None],
        on_release: Callable[[], None] = lambda: None, bpm: Callable[[], float] = lambda: 120.0,
        on_error: Callable[[str], None] = lambda text: None,
    ) -> None:  # fmt: skip
        super().__init__()
        self.setObjectName(name)
        self.setToolTip(param.help)
        self.param, self._step, self._on_change = param, step, on_change
        self.field = ValueField(
            param, name, on_change=on_change, on_release=on_release, bpm=bpm, on_error=on_error
        )  # fmt: skip
        self.field.installEventFilter(self)
        self.field.setMinimumWidth(_LEAST_FIELD_PX)
        self._value: Any = param.default
        self.setLayout(row(label(param.label, "soft"), self.field, spacing=4))

    def show_value(self, value: Any, kept: Any | None) -> None:
        """None where there is nothing to show a number of."""
        self._value = value
        self.field.setEnabled(value is not None)
        self.field.show_text("–" if value is None else self.param.format(value))

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        steps = 0.0
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            steps = {Qt.Key.Key_Up: 1.0, Qt.Key.Key_Down: -1.0}.get(Qt.Key(event.key()), 0.0)
        elif isinstance(event, QWheelEvent) and self.field.hasFocus():
            steps = event.angleDelta().y() / 120.0
        if not steps or self._value is None:
            return False
        self.field.setModified(False)
        new = self._value + steps * self._step
        self._on_change(min(self.param.high, max(self.param.low, new)))
        return True


class Ruler(QWidget):
    """Name, number and scale of one parameter."""

    def __init__(
        self, param: Param, name: str, *, on_change: Callable[[Any], None], on_release: Callable[[], None] = lambda: None,
        bpm: Callable[[], float] = lambda: 120.0, on_error: Callable[[str], None] = lambda text: None,
    ) -> None:  # fmt: skip
        super().__init__()
        self.field = ValueField(
            param, name, on_change=on_change, on_release=on_release, bpm=bpm, on_error=on_error
        )  # fmt: skip
        self.field.setParent(self)
        self.field.textChanged.connect(lambda _: self.update(0, 0, self.width(), _FIELD_HEIGHT))
        self.scale = Scale(param, f"{name}.scale", on_change, on_release)
        self.scale.setParent(self)
        self._moving: QLabel | None = None
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        self._name(param, name, bpm)

    def stand_for(
        self, param: Param, name: str, *, on_change: Callable[[Any], None], on_release: Callable[[], None] = lambda: None,
        bpm: Callable[[], float] = lambda: 120.0, on_error: Callable[[str], None] = lambda text: None,
    ) -> None:  # fmt: skip
        """It is of another parameter from now on, as if it were new."""
        self.field.stand_for(param, name, on_change=on_change, on_release=on_release, bpm=bpm, on_error=on_error)
        self.scale.stand_for(param, f"{name}.scale", on_change, on_release)
        self._name(param, name, bpm)
        self.show_moves(None)
        self.resizeEvent(QResizeEvent(self.size(), self.size()))
        self.updateGeometry()
        self.update()

    def _name(self, param: Param, name: str, bpm: Callable[[], float]) -> None:
        self.setObjectName(name)
        self.setToolTip(param.help)
        self.param, self._bpm = param, bpm
        self._label_width = QFontMetrics(text_font(9)).horizontalAdvance(param.label)
        self.offers: Callable[[], Menu] | None = None  # what a right click, or the menu key, opens

    # A page has dozens of these, made anew for each track: placed and painted by hand they cost a third of what layouts and
    # a label each do.

    def sizeHint(self) -> QSize:
        return QSize(200, _FIELD_HEIGHT + self.scale.height())

    def minimumSizeHint(self) -> QSize:
        return QSize(self._label_width + self._field_width, _FIELD_HEIGHT + self.scale.height())

    @property
    def _field_width(self) -> int:
        return 78 if len(self.param.unit) < 6 else 116

    def resizeEvent(self, event: QResizeEvent) -> None:
        width, field = self.width(), self._field_width
        self.field.setGeometry(width - field, 0, field, _FIELD_HEIGHT)
        self.scale.setGeometry(0, _FIELD_HEIGHT, width, self.scale.height())
        if self._moving is not None:
            size = self._moving.sizeHint().width()
            self._moving.setGeometry(width - field - size, 0, size, _FIELD_HEIGHT)

    def paintEvent(self, event: QPaintEvent) -> None:
        if event.rect().top() >= _FIELD_HEIGHT:
            return  # only the scale is drawn anew
        with QPainter(self) as painter:
            painter.setPen(colour("soft"))
            painter.setFont(text_font(9))
            # The number's field is wider than most numbers; what it leaves free the name may use.
            taken = min(self._field_width, 14 + self.field.fontMetrics().horizontalAdvance(self.field.text()))
            if self._moving is not None and self._moving.isVisible():
                taken = self._field_width + self._moving.width() + 4
            box = QRectF(0.0, 0.0, self.width() - taken, _FIELD_HEIGHT)
            words = painter.fontMetrics().elidedText(self.param.label, Qt.TextElideMode.ElideRight, int(box.width()))
            painter.drawText(box, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, words)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        if self.offers is None:
            super().contextMenuEvent(event)
            return
        pop_up(self, f"{self.objectName()}.menu", self.offers(), event)

    def show_moves(self, moves: tuple[float, float] | None) -> None:
        """Whether automation moves it, and from where to where: then what is set here holds only where no lane plays."""
        self.scale.show_moves(moves)
        if moves is not None:
            if self._moving is None:
                self._moving = label("moves", "soft")
                self._moving.setParent(self)
                self.resizeEvent(QResizeEvent(self.size(), self.size()))
            self._moving.setObjectName(f"{self.objectName()}.moves")
            low, high = map(self.param.format, moves)
            self._moving.setToolTip(f"Automation moves it from {low} to {high}; where it does not, the number holds")
        if self._moving is not None and self._moving.isHidden() != (moves is None):
            self._moving.setVisible(moves is not None)
            self.update()

    def show_value(self, value: Any, kept: Any | None) -> None:
        """Showing is never setting. A note value stands where its time at this tempo lies."""
        bpm = self._bpm()
        on_scale = self.param.number_of(value, bpm=bpm)
        self.scale.show_value(on_scale, None if kept is None else self.param.number_of(kept, bpm=bpm))
        if isinstance(value, str):
            self.setToolTip(f"{self.param.help}\nNow {self.param.format(on_scale)}")
        self.field.show_text(self.param.format(value))


class Choice(QWidget):
    """A parameter with a few possible values, or a switch."""

    def __init__(self, param: Param, name: str, *, on_change: Callable[[Any], None]) -> None:
        super().__init__()
        self.box = QComboBox()
        self._label, self.kept_note = label("", "soft"), label("", "a")
        self.stand_for(param, name, on_change=on_change)
        self.box.activated.connect(lambda index: self._on_change(self._values[index]))
        self.setLayout(column(row(self._label, 1, self.kept_note), self.box, 1, spacing=3))

    def stand_for(self, param: Param, name: str, *, on_change: Callable[[Any], None]) -> None:
        """It is of another parameter from now on, as if it were new."""
        self.setObjectName(name)
        self.setToolTip(param.help)
        self.param, self._on_change = param, on_change
        self._label.setText(param.label)
        self.box.setObjectName(f"{name}.value")
        self.box.setAccessibleName(param.label)
        self._values = [False, True] if param.type == "bool" else list(param.choices)
        words = [param.format(v) for v in self._values]
        if words != [self.box.itemText(i) for i in range(self.box.count())]:
            self.box.clear()
            self.box.addItems(words)

    def show_value(self, value: Any, kept: Any | None) -> None:
        self.box.setCurrentIndex(self._values.index(value))
        self.kept_note.setText(f"A {self.param.format(kept)}" if kept is not None and kept != value else "")


class Fields:
    """Rulers and choices of a page that is made for another track again and again. Those of the last page stand for others on
    the next: to make and style a new one takes several times as long, and a page has dozens. They stay children of the page,
    since with another parent all of their style is worked out anew."""

    def __init__(self, page: QWidget) -> None:
        """``page`` has the grids in its layout."""
        self._page = page
        self._used: list[Ruler | Choice] = []
        self._grids: list[QGridLayout] = []
        self._rulers: list[Ruler] = []
        self._choices: list[Choice] = []

    def ruler(
        self, param: Param, name: str, *, on_change: Callable[[Any], None], on_release: Callable[[], None],
        bpm: Callable[[], float], on_error: Callable[[str], None],
    ) -> Ruler:  # fmt: skip
        if self._rulers:
            made = self._rulers.pop()
            made.stand_for(param, name, on_change=on_change, on_release=on_release, bpm=bpm, on_error=on_error)
        else:
            made = Ruler(param, name, on_change=on_change, on_release=on_release, bpm=bpm, on_error=on_error)
        self._used.append(made)
        return made

    def choice(self, param: Param, name: str, *, on_change: Callable[[Any], None]) -> Choice:
        if self._choices:
            made = self._choices.pop()
            made.stand_for(param, name, on_change=on_change)
        else:
            made = Choice(param, name, on_change=on_change)
        self._used.append(made)
        return made

    def put(self, cells: Sequence[QWidget], grid: QGridLayout, columns: int, align: Qt.AlignmentFlag = _FILLS) -> None:
        """Fields and others into the cells of ``grid``, row by row. Tab comes to them last and in that order, as to new ones."""
        layout = self._page.layout()
        assert layout is not None, "the grid is in it"
        last = last_by_tab(self._page.window())
        layout.setEnabled(False)  # else each that is shown places all of them anew
        for at, cell in enumerate(cells):
            grid.addWidget(cell, at // columns, at % columns, align)
            cell.show()
            for each in (cell, *cell.findChildren(QWidget)):
                # The list that a choice drops down has a window of its own.
                if each.focusPolicy() & Qt.FocusPolicy.TabFocus and each.window() is cell.window():
                    if last is not None and last is not each:
                        QWidget.setTabOrder(last, each)
                    last = each
        layout.setEnabled(True)
        self._grids.append(grid)

    def take_back(self, *, spare: Sequence[QWidget] = ()) -> None:
        """All of the last page: others go, fields and those that are spared are hidden and without a name until they stand for
        something again."""
        for each in (*reversed(self._used), *spare):
            let_go_of_focus(each)
            each.hide()
            for named in (each, *each.findChildren(QWidget)):
                if not named.objectName().startswith("qt_"):  # those within a list are Qt's own
                    named.setObjectName("")
        for each in reversed(self._used):
            if isinstance(each, Ruler):
                self._rulers.append(each)
            else:
                self._choices.append(each)
        for grid in self._grids:
            clear(grid, spare=(*self._used, *spare))
        self._used, self._grids = [], []
