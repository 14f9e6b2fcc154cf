"""The song as a ribbon of sections: click one to loop it, drag for more; the playhead on top."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QFontMetrics, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from zygotone.app.desk import Desk
from zygotone.app.theme import colour, number_font, text_font, theme
from zygotone.app.widgets.basic import as_plain


class Ribbon(QWidget):
    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.setObjectName("header.ribbon")
        self.setAccessibleName("Song sections")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumWidth(260)
        self.setFixedHeight(40)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self._desk = desk
        self._from: int | None = None
        self._drawn: object = None
        self._pixmap = QPixmap()
        self._drawn_x = 0.0  # where the playhead was painted
        for signal in (desk.session_changed, desk.selection.loop_changed, theme().changed):
            signal.connect(self.update)

    def boxes(self) -> list[tuple[str, QRectF]]:
        """Each section's id and box; widths follow the bars, but a name stays readable."""
        sections = self._desk.song.sections
        total = sum(s.bars for s in sections)
        left, gap = 1.0, 3.0
        room = self.width() - 2 - gap * (len(sections) - 1)
        least = min(24.0, room / len(sections))
        spare = room - least * len(sections)
        boxes = []
        for s in sections:
            width = least + spare * s.bars / total
            boxes.append((s.id, QRectF(left, 1, width, self.height() - 2)))
            left += width + gap
        return boxes

    def show_playhead(self) -> None:
        """While it plays, at a steady rate: only the strips that it leaves and enters are painted."""
        x = self.playhead_x()
        if abs(x - self._drawn_x) >= 0.5:
            for at in (self._drawn_x, x):
                self.update(int(at) - 2, 0, 5, self.height())

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            painter.drawPixmap(0, 0, self._picture())
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            self._drawn_x = x = self.playhead_x()
            painter.setPen(QPen(colour("ink"), 2))
            painter.drawLine(QPointF(x, 0), QPointF(x, self.height()))
            if self.hasFocus():
                painter.setPen(QPen(colour("a"), 1, Qt.PenStyle.DotLine))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5))

    def _picture(self) -> QPixmap:
        """The sections, painted when they have changed."""
        shown = (
            self._desk.song.sections,
            self._desk.selection.loop,
            self.size(),
            self.devicePixelRatio(),
            colour("ink"),
        )
        if shown != self._drawn:
            ratio = self.devicePixelRatio()
            self._drawn, self._pixmap = shown, QPixmap(self.size() * ratio)
            self._pixmap.setDevicePixelRatio(ratio)
            self._pixmap.fill(Qt.GlobalColor.transparent)
            with QPainter(self._pixmap) as painter:
                self._paint_sections(painter)
        return self._pixmap

    def _paint_sections(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        desk = self._desk
        sections = {s.id: s for s in desk.song.sections}
        for section_id, box in self.boxes():
            looped = section_id in desk.selection.loop
            painter.setPen(QPen(colour("a" if looped else "line"), 1.5 if looped else 1))
            painter.setBrush(colour("a_fill" if looped else "fill"))
            painter.drawRoundedRect(box, 3, 3)
            section = sections[section_id]
            painter.setPen(colour("ink" if looped else "soft"))
            painter.setFont(text_font(9))
            name = fitting_name(section.name, painter.fontMetrics(), int(box.width() - 8))
            painter.drawText(box.adjusted(5, 3, -3, 0), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop, name)
            painter.setFont(number_font(8))
            painter.drawText(
                box.adjusted(5, 0, -3, -3), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom, f"{section.bars}"
            )

    def playhead_x(self) -> float:
        desk = self._desk
        frame = desk.listening.player.heard_position()
        for section_id, box in self.boxes():
            start, end = desk.session.section_span(section_id)
            if start <= frame < end:
                return box.left() + box.width() * (frame - start) / (end - start)
        first = next(box for i, box in self.boxes() if i in desk.selection.loop)
        return first.left() + 1

    def _index_at(self, x: float) -> int:
        boxes = self.boxes()
        return next((i for i, (_, box) in enumerate(boxes) if x <= box.right() + 1.5), len(boxes) - 1)

    def _loop(self, first: int, last: int) -> None:
        ids = tuple(s.id for s in self._desk.song.sections)
        low, high = min(first, last), max(first, last)
        if self._desk.selection.loop != ids[low : high + 1]:
            self._desk.selection.set_loop(ids[low : high + 1])

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._from = self._index_at(event.position().x())
        self._loop(self._from, self._from)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        index = self._index_at(event.position().x())
        if event.buttons() & Qt.MouseButton.LeftButton and self._from is not None:
            self._loop(self._from, index)
        section = self._desk.song.sections[index]
        QToolTip.showText(event.globalPosition().toPoint(), as_plain(f"{section.name}, {section.bars} bars"), self)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        ids = [s.id for s in self._desk.song.sections]
        first, last = ids.index(self._desk.selection.loop[0]), ids.index(self._desk.selection.loop[-1])
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()))
        if step is None:
            super().keyPressEvent(event)
        elif event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._loop(first, min(len(ids) - 1, max(first, last + step)))
        else:
            at = min(len(ids) - 1, max(0, first + step))
            self._loop(at, at)


def fitting_name(name: str, metrics: QFontMetrics, room: int) -> str:
    """As much of a section's name as there is room for, in pixels: its end where that tells it from others (Bars 9–16), or its beginning."""
    cut = metrics.elidedText(name, Qt.TextElideMode.ElideRight, room)
    last = name.split()[-1] if name.split() else name
    if cut != name and len(last) > 2 and last[0].isdigit():
        return metrics.elidedText(last, Qt.TextElideMode.ElideRight, room)
    return cut
