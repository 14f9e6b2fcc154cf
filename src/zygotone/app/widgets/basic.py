"""Labels, buttons and cards with their names set, and little else."""

from __future__ import annotations

import html
from collections.abc import Callable, Sequence
from typing import TypeVar

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QResizeEvent, QValidator
from PySide6.QtWidgets import (
    QApplication,
    QBoxLayout,
    QComboBox,
    QDoubleSpinBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLayout,
    QPushButton,
    QSizePolicy,
    QSpinBox,
    QStyle,
    QStyleOptionComboBox,
    QStylePainter,
    QToolTip,
    QVBoxLayout,
    QWidget,
)

from zygotone.app.theme import colour, text_font

_INDENT = 6  # of the chosen line of a list, on both sides of it


def label(text: str, kind: str = "", *, name: str = "", wrap: bool = False) -> QLabel:
    """``kind``: title, heading, soft, number, a, b or nothing."""
    made = QLabel(text)
    made.setTextFormat(Qt.TextFormat.PlainText)  # a track's name from a stranger's file is text, not markup
    if kind:
        made.setProperty("kind", kind)
    if name:
        made.setObjectName(name)
    if wrap:
        made.setWordWrap(True)
        made.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Minimum)
    return made


class OneLine(QLabel):
    """A sentence that ends in an ellipsis where there is too little room for it, and is whole in its tip."""

    def __init__(self, *, name: str) -> None:
        super().__init__()
        self.setObjectName(name)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setMinimumWidth(1)
        self._whole = ""

    def say(self, text: str) -> None:
        self._whole = text
        self.setToolTip(as_plain(text))
        self.setAccessibleName(text)
        self.updateGeometry()
        self._fit()

    def sizeHint(self) -> QSize:
        return QSize(self.fontMetrics().horizontalAdvance(self._whole) + 2, super().sizeHint().height())

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        self.setText(self.fontMetrics().elidedText(self._whole, Qt.TextElideMode.ElideRight, self.width()))


def as_plain(text: str) -> str:
    """For tips and messages: words from outside that look like markup would else be read as such."""
    return f"<span>{html.escape(text).replace(chr(10), '<br>')}</span>" if "<" in text or "&" in text else text


def as_action(text: str) -> str:
    """For menus and buttons, where an ampersand would else mark a key."""
    return text.replace("&", "&&")


class _Saying:
    """A box that lets one type anything, and says why it does not take it; the number from before comes back."""

    def validate(self, text: str, at: int) -> object:
        state, text, at = super().validate(text, at)
        return (QValidator.State.Intermediate if state == QValidator.State.Invalid else state), text, at

    def fixup(self, text: str) -> str:
        assert isinstance(self, (QDoubleSpinBox, QSpinBox))
        typed = text.removeprefix(self.prefix()).removesuffix(self.suffix()).strip()
        digits = self.decimals() if isinstance(self, QDoubleSpinBox) else 0
        low, high = (f"{edge:.{digits}f}" for edge in (self.minimum(), self.maximum()))
        say_beside(self, f"{typed or 'Nothing'} is no number from {low} to {high}{self.suffix()}")
        return text


class _NumberBox(_Saying, QDoubleSpinBox):
    pass


class _WholeNumberBox(_Saying, QSpinBox):
    pass


class SentenceBox(QComboBox):
    """A list of sentences. The chosen one ends in an ellipsis where there is no room for it, and its tip tells it whole."""

    def __init__(self) -> None:
        super().__init__()
        self.currentTextChanged.connect(lambda text: self.setToolTip(as_plain(text)))

    @property
    def shown_text(self) -> str:
        """What there is room for."""
        option = QStyleOptionComboBox()
        self.initStyleOption(option)
        style = self.style()
        box = QStyle.ComplexControl.CC_ComboBox, QStyle.SubControl.SC_ComboBoxEditField
        room = style.subControlRect(box[0], option, box[1], self).width() - _INDENT
        return self.fontMetrics().elidedText(self.currentText(), Qt.TextElideMode.ElideRight, room)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QStylePainter(self)
        option = QStyleOptionComboBox()
        self.initStyleOption(option)
        option.currentText = self.shown_text
        painter.drawComplexControl(QStyle.ComplexControl.CC_ComboBox, option)
        painter.drawControl(QStyle.ControlElement.CE_ComboBoxLabel, option)


def fill(box: QComboBox, items: Sequence[tuple[str, object]]) -> None:
    """More to choose from, words and what they stand for: all at once, which takes a quarter of the time of one by one."""
    begin = box.count()
    box.addItems([words for words, _ in items])
    for at, (_, data) in enumerate(items, begin):
        box.setItemData(at, data)


def number_box() -> QDoubleSpinBox:
    """A number to type or scroll."""
    made = _NumberBox()
    _give_room(made)
    return made


def whole_number_box() -> QSpinBox:
    made = _WholeNumberBox()
    _give_room(made)
    return made


def _give_room(box: QDoubleSpinBox | QSpinBox) -> None:
    """As far from the edge as the text of other fields; a style sheet does not reach the field within."""
    box.lineEdit().setTextMargins(5, 0, 0, 0)


def button(
    text: str, name: str, clicked: Callable[[], object], *, kind: str = "", tip: str = "", accessible: str = ""
) -> QPushButton:
    made = QPushButton(text)
    made.setObjectName(name)
    made.setAccessibleName(accessible or text)
    if kind:
        made.setProperty("kind", kind)
    if tip:
        made.setToolTip(tip)
    made.clicked.connect(lambda _=False: clicked())
    return made


def restyle(widget: QWidget, **properties: object) -> None:
    """Change properties that the style sheet looks at."""
    changed = False
    for name, value in properties.items():
        if widget.property(name) != value:
            widget.setProperty(name, value)
            changed = True
    if changed:
        widget.style().unpolish(widget)
        widget.style().polish(widget)


def column(
    *items: QWidget | QLayout | int, spacing: int = 6, margins: tuple[int, int, int, int] = (0, 0, 0, 0)
) -> QVBoxLayout:
    """A vertical layout; a number is a stretch."""
    return _fill(QVBoxLayout(), items, spacing, margins)


def row(
    *items: QWidget | QLayout | int, spacing: int = 6, margins: tuple[int, int, int, int] = (0, 0, 0, 0)
) -> QHBoxLayout:
    return _fill(QHBoxLayout(), items, spacing, margins)


_Box = TypeVar("_Box", bound=QBoxLayout)


def _fill(
    layout: _Box, items: Sequence[QWidget | QLayout | int], spacing: int, margins: tuple[int, int, int, int]
) -> _Box:
    layout.setSpacing(spacing)
    layout.setContentsMargins(*margins)
    for item in items:
        if isinstance(item, int):
            layout.addStretch(item)
        elif isinstance(item, QLayout):
            layout.addLayout(item)
        else:
            layout.addWidget(item)
    return layout


def card(layout: QLayout, *, kind: str = "card", name: str = "") -> QFrame:
    frame = QFrame()
    frame.setProperty("kind", kind)
    if name:
        frame.setObjectName(name)
    frame.setLayout(layout)
    return frame


def let_go_of_focus(widget: QWidget) -> None:
    """Before it goes: else the focus is handed on to the next, which may be about to go too."""
    focus = QApplication.focusWidget()
    if focus is not None and (focus is widget or widget.isAncestorOf(focus)):
        focus.window().setFocus()


def clear(layout: QLayout, *, spare: Sequence[QWidget] = ()) -> None:
    """Take everything out of a layout and let it go, but those that are spared."""
    while (item := layout.takeAt(0)) is not None:
        widget, inner = item.widget(), item.layout()
        if widget is not None and widget not in spare:
            let_go_of_focus(widget)
            widget.hide()
            widget.deleteLater()
        elif inner is not None:
            clear(inner, spare=spare)


def last_by_tab(window: QWidget) -> QWidget | None:
    """Whom Tab comes to last."""
    at = window.previousInFocusChain()
    while at is not None and at is not window:
        if at.focusPolicy() & Qt.FocusPolicy.TabFocus and at.focusProxy() is None:
            return at
        at = at.previousInFocusChain()
    return None


def stretch(widget: QWidget, at: int, share: int) -> None:
    """What share of the room left over the item ``at`` of a widget's row or column takes."""
    layout = widget.layout()
    assert isinstance(layout, QBoxLayout)
    layout.setStretch(at, share)


def framed(widget: QWidget) -> QPainter:
    """A painter for a picture, with the picture's frame drawn: its edge says whether it has the focus. As each painter
    to be used by ``with``: one that outlives its picture, since that failed, ends the whole window."""
    painter = QPainter(widget)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(colour("a" if widget.hasFocus() else "line"), 1))
    painter.setBrush(colour("sheet"))
    painter.drawRoundedRect(QRectF(widget.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 5, 5)
    return painter


def say_instead(painter: QPainter, box: QRectF, words: str) -> None:
    """In the place of a picture of which there is nothing to draw: why, or what to do."""
    painter.setPen(colour("soft"))
    painter.setFont(text_font(10))
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, words)


def say_beside(widget: QWidget, words: str) -> None:
    """Right under what it is about, for a while: why something was refused."""
    QToolTip.showText(widget.mapToGlobal(widget.rect().bottomLeft()), as_plain(words), widget)


def signed(value: float, unit: str, digits: int = 1) -> str:
    """A change, with a sign that reads as one."""
    text = f"{value:+.{digits}f}"
    if float(text) == 0.0:
        text = f"{0.0:.{digits}f}"
    return f"{text} {unit}".strip().replace("-", "−")
