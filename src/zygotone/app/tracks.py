"""The left side: stages above, tracks below, the same selection everywhere."""

from __future__ import annotations

import math
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import (
    QContextMenuEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
)
from PySide6.QtWidgets import QScrollArea, QSizePolicy, QWidget

from zygotone.app.desk import Desk
from zygotone.app.stages import STAGES
from zygotone.app.theme import colour, number_font, text_font, theme
from zygotone.app.track_actions import TrackActions
from zygotone.app.widgets.asking import menu_button, pop_up
from zygotone.app.widgets.basic import button, clear, column, label, row
from zygotone.app.widgets.keyed import ALT, CTRL, NONE, Keyed, Keys
from zygotone.dsp.levels import gain_to_db
from zygotone.dsp.types import FloatArray
from zygotone.session.edits import change_strip
from zygotone.session.models import Strip, Track

_DRAG_PX = 6.0


class StageButton(QWidget):
    def __init__(self, number: int, stage: str, title: str, desk: Desk, choose: Callable[[str], None]) -> None:
        super().__init__()
        self.setObjectName(f"nav.{stage}")
        self.setAccessibleName(f"Stage {number}, {title}")
        self.setToolTip(f"Alt+{number}")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFixedHeight(30)
        self._number, self._stage, self._title, self._desk, self._choose = number, stage, title, desk, choose
        self.current = False
        for signal in (desk.measuring.findings_changed, theme().changed):
            signal.connect(self.update)

    def waiting(self) -> int:
        return sum(f.stage == self._stage and f.on_purpose is None for f in self._desk.measuring.findings or ())

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            if self.current:
                painter.fillRect(self.rect(), colour("fill"))
                painter.fillRect(QRectF(0, 0, 3, self.height()), colour("ink"))
            if self.hasFocus():
                painter.setPen(QPen(colour("a"), 1, Qt.PenStyle.DotLine))
                painter.drawRect(self.rect().adjusted(4, 2, -5, -3))
            painter.setPen(colour("soft"))
            painter.setFont(number_font(9.5))
            painter.drawText(QRectF(16, 0, 16, self.height()), Qt.AlignmentFlag.AlignVCenter, str(self._number))
            painter.setPen(colour("ink"))
            painter.setFont(text_font(10.5, bold=self.current))
            painter.drawText(QRectF(38, 0, 100, self.height()), Qt.AlignmentFlag.AlignVCenter, self._title)
            count = self.waiting()
            if count:
                box = QRectF(self.width() - 38, 6, 22, 18)
                painter.setPen(QPen(colour("count"), 1.3))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRoundedRect(box, 9, 9)
                painter.setFont(number_font(8.5))
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, str(count))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._choose(self._stage)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._choose(self._stage)
        else:
            super().keyPressEvent(event)


class TrackRow(Keyed):
    """Glyph by role, name, level, seat; mute and solo appear as letters that can be clicked."""

    def __init__(
        self, strip: Strip, desk: Desk, actions: TrackActions, drop_at: Callable[[float], None], step: Callable[[int], None]
    ) -> None:  # fmt: skip
        """``drop_at`` is told where in the list, in pixels from its top, the hand let go of the row; ``step`` how many rows the focus
        is to go on."""
        super().__init__()
        self.strip_id, self._step = strip.id, step
        self._shown: object = None
        self._desk, self._actions, self._drop_at = desk, actions, drop_at
        self._peak: float | None = None
        self._pressed: QPointF | None = None
        self._dragged = False
        self.setObjectName(f"track.{strip.id}")
        self.setAccessibleName(strip.name)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFixedHeight(26)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        is_mix = strip.id == desk.session.mix.id
        self._mute = button(
            "M",
            f"track.{strip.id}.mute",
            lambda: self._toggle("mute"),
            kind="plain",
            tip="Mute (M)",
            accessible=f"Mute {strip.name}",
        )
        self._solo = button(
            "S",
            f"track.{strip.id}.solo",
            lambda: self._toggle("solo"),
            kind="plain",
            tip="Solo (S)",
            accessible=f"Solo {strip.name}",
        )
        for each in (self._mute, self._solo):
            each.setFixedSize(18, 20)
            each.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setLayout(row(1, self._mute, self._solo, spacing=0, margins=(0, 0, 24, 0)))
        for each in (self._mute, self._solo) if is_mix else ():
            each.hide()
        self.show_now()

    @property
    def strip(self) -> Strip:
        return self._desk.session.strip(self.strip_id)

    def _toggle(self, name: str) -> None:
        strip = self.strip
        if strip.id in self._desk.selection.tracks and self._desk.selection.also:
            self._actions.toggle(name)  # of several: all alike
            return
        self._desk.edit(name.capitalize(), lambda s: change_strip(s, strip.id, **{name: not getattr(strip, name)}))

    def show_now(self) -> None:
        c = theme().colours
        strip = self.strip
        shown = (
            strip.name, strip.mute, strip.solo, getattr(strip, "seat", None), getattr(strip, "role", None), c,
            self._desk.selection.track_id == strip.id, strip.id in self._desk.selection.also,
            self._desk.measuring.levels.get(strip.id),
        )  # fmt: skip
        if shown == self._shown:  # most edits are of one track, or of none that is seen here
            return
        self._shown = shown
        for widget, on, ink in ((self._mute, strip.mute, c.b), (self._solo, strip.solo, c.a)):
            style = (
                f"color: {c.sheet}; background: {ink}; border-radius: 4px; font-weight: bold;"
                if on
                else f"color: {c.soft};"
            )
            widget.setStyleSheet(f"QPushButton {{ padding: 0; border: none; {style} }}")
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            strip = self.strip
            if strip.id in self._desk.selection.tracks:
                beside = strip.id in self._desk.selection.also
                painter.setPen(QPen(colour("soft"), 1, Qt.PenStyle.DotLine) if beside else Qt.PenStyle.NoPen)
                painter.setBrush(colour("fill"))
                painter.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 4, 4)
            if self.hasFocus():
                painter.setPen(QPen(colour("a"), 1, Qt.PenStyle.DotLine))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRoundedRect(QRectF(self.rect()).adjusted(1.5, 1.5, -1.5, -1.5), 4, 4)
            draw_glyph(painter, QRectF(8, 6, 14, 14), strip.role if isinstance(strip, Track) else "bus")
            painter.setPen(colour("soft" if strip.mute else "ink"))
            font = text_font(9.5)
            font.setStrikeOut(strip.mute)
            painter.setFont(font)
            name = painter.fontMetrics().elidedText(strip.name, Qt.TextElideMode.ElideRight, 62)
            painter.drawText(QRectF(29, 0, 64, self.height()), Qt.AlignmentFlag.AlignVCenter, name)
            self._paint_level(painter, strip)
            if isinstance(strip, Track):
                painter.setPen(colour("soft"))
                painter.setFont(number_font(9))
                painter.drawText(
                    QRectF(self.width() - 24, 0, 16, self.height()),
                    Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
                    str(strip.seat),
                )

    def _paint_level(self, painter: QPainter, strip: Strip) -> None:
        """While it plays, its peak now, −48 to 0 dBFS; else its loudness in the loop, −50 to −8 LUFS."""
        bar = QRectF(
            93, self.height() / 2 - 2, 22 if self._mute.isHidden() else max(8, min(22, self._mute.x() - 94)), 4
        )
        if self._peak is not None:
            peak_db = float(gain_to_db(self._peak))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(colour("line"))
            painter.drawRect(bar.adjusted(0, -1, 0, 1))
            share = min(1.0, max(0.0, 1.0 + peak_db / 48.0))
            painter.setBrush(colour("b" if self._peak >= 1.0 else "ink"))
            painter.drawRect(QRectF(bar.left(), bar.top() - 1, bar.width() * share, 6))
            return
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour("line"))
        painter.drawRoundedRect(bar, 2, 2)
        lufs = self._desk.measuring.levels.get(strip.id, -math.inf)
        if math.isfinite(lufs):
            share = min(1.0, max(0.04, (lufs + 50.0) / 42.0))
            painter.setBrush(colour("soft" if strip.mute else "ink"))
            painter.drawRoundedRect(QRectF(bar.left(), bar.top(), bar.width() * share, 4), 2, 2)

    def show_peak(self, peak: float | None) -> None:
        """Of what is played now; None where nothing is."""
        if peak != self._peak:
            self._peak = peak
            self.update(90, 0, 28, self.height())

    # --- hand ----------------------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        selection = self._desk.selection
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            selection.toggle_track(self.strip_id)
        elif event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            selection.tracks_to(self.strip_id)
        elif self.strip_id not in selection.tracks or event.button() == Qt.MouseButton.LeftButton:
            self._pressed = event.position()
            if self.strip_id not in selection.also:
                selection.track(self.strip_id)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._pressed is None or not event.buttons() & Qt.MouseButton.LeftButton:
            return
        if (event.position() - self._pressed).manhattanLength() > _DRAG_PX and isinstance(self.strip, Track):
            self._dragged = True
            self.setCursor(Qt.CursorShape.ClosedHandCursor)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        dragged, self._dragged = self._dragged, False
        pressed, self._pressed = self._pressed, None
        self.unsetCursor()
        if dragged:
            self._drop_at(self.y() + event.position().y())
        elif pressed is not None:
            self._desk.selection.track(self.strip_id)  # of several, the one that was clicked alone

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        selection = self._desk.selection
        if self.strip_id not in selection.tracks:
            selection.track(self.strip_id)
        pop_up(self, "tracks.menu", self._actions.entries(), event)

    def keys(self) -> Keys:
        key = Qt.Key
        return {
            (NONE, key.Key_Up): lambda: self._step(-1), (NONE, key.Key_Down): lambda: self._step(1),
            (ALT, key.Key_Up): lambda: self._actions.move(-1), (ALT, key.Key_Down): lambda: self._actions.move(1),
            (CTRL, key.Key_D): self._actions.duplicate, (NONE, key.Key_Delete): self._actions.remove,
        }  # fmt: skip


def draw_glyph(painter: QPainter, box: QRectF, role: str) -> None:
    """A shape for each family of roles, in ink."""
    painter.setPen(QPen(colour("ink"), 1.6))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    x, y, w, h = box.left(), box.top(), box.width(), box.height()
    path = QPainterPath()
    if role in ("kick", "snare", "hats", "percussion"):  # a decay
        path.moveTo(x + 2, y + h)
        path.lineTo(x + 2, y + 1)
        path.lineTo(x + w, y + h)
        path.closeSubpath()
    elif role in ("sub", "bass"):  # half a slow wave
        path.moveTo(x + 1, y + h * 0.65)
        path.arcTo(QRectF(x + 1, y + h * 0.15, w - 2, h), 180, -180)
        path.closeSubpath()
    elif role == "guitar":  # strings
        for i in (0.25, 0.5, 0.75):
            path.moveTo(x + 1, y + h * i)
            path.lineTo(x + w, y + h * i)
    elif role in ("lead", "voice"):  # a peak
        path.moveTo(x + 1, y + h - 2)
        path.lineTo(x + w / 2, y + 2)
        path.lineTo(x + w, y + h - 2)
    elif role in ("keys", "pad"):  # a held tone
        path.addEllipse(QRectF(x + 1, y + h * 0.25, w - 2, h * 0.5))
    elif role == "bus":
        path.addRect(QRectF(x + 2, y + 2, w - 4, h - 4))
    else:
        path.moveTo(QPointF(x + w / 2, y + 1))
        path.lineTo(x + w, y + h / 2)
        path.lineTo(x + w / 2, y + h - 1)
        path.lineTo(x + 1, y + h / 2)
        path.closeSubpath()
    painter.drawPath(path)


class Left(QWidget):
    def __init__(
        self, desk: Desk, choose: Callable[[str], None], take_files: Callable[[list[Path]], None], record: Callable[[], None]
    ) -> None:  # fmt: skip
        super().__init__()
        self.setObjectName("left")
        self.setFixedWidth(190)
        self._desk = desk
        self.hands = TrackActions(desk, self, take_files, record)
        self.stages = {
            stage.key: StageButton(n, stage.key, stage.title, desk, choose) for n, stage in enumerate(STAGES, 1)
        }
        self._space = column(spacing=1)
        self._rows_for: object = None
        self.rows: list[TrackRow] = []
        inner = QWidget()
        inner.setLayout(column(self._space, 1, margins=(7, 0, 7, 6)))
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(inner)
        self.add = menu_button("New…", "tracks.new", self.hands.new_entries, tip="A new track after the selected one")
        heads = row(label("Tracks", "heading"), self.add, 1, label("seat", "soft"), margins=(16, 8, 18, 2))
        self.setLayout(column(*self.stages.values(), heads, scroll, spacing=0, margins=(0, 10, 0, 0)))
        for signal in (desk.session_changed, desk.selection.changed, desk.measuring.levels_changed, theme().changed):
            signal.connect(self._show)
        self._show()

    def show_stage(self, stage: str) -> None:
        for key, each in self.stages.items():
            each.current = key == stage
            each.update()

    def _show(self) -> None:
        strips = self._desk.session.strips()
        wanted = tuple((s.id, s.name, getattr(s, "role", "")) for s in strips)
        if wanted != self._rows_for:
            self._rows_for = wanted
            had_focus = any(each.hasFocus() for each in self.rows)
            clear(self._space)
            self.rows = [
                TrackRow(s, self._desk, self.hands, self._drop_at, lambda steps, n=n: self._go(n + steps))
                for n, s in enumerate(strips)
            ]
            for each in self.rows:
                self._space.addWidget(each)
            if had_focus:
                selected = self.row_of(self._desk.selection.track_id)
                selected.show()  # what is hidden takes no focus
                selected.setFocus()
        for each in self.rows:
            each.show_now()
            # One stop for Tab, which goes by and chooses nothing; the arrow keys go from row to row.
            here = each.strip_id == self._desk.selection.track_id
            each.setFocusPolicy(Qt.FocusPolicy.StrongFocus if here else Qt.FocusPolicy.ClickFocus)

    def _go(self, to: int) -> None:
        if 0 <= to < len(self.rows):
            self._desk.selection.track(self.rows[to].strip_id)
            self.rows[to].setFocus()

    def _drop_at(self, y: float) -> None:
        """The selected tracks go where the hand let go: before the row whose middle is below it."""
        to = sum(each.y() + each.height() / 2 < y for each in self.rows if isinstance(each.strip, Track))
        self.hands.put_at(to)

    def open_new(self) -> None:
        """The menu of new tracks, for the keyboard."""
        menu = self.add.menu()
        menu.popup(self.add.mapToGlobal(self.add.rect().bottomLeft()))
        menu.setActiveAction(menu.actions()[0])

    def show_peaks(self, peaks: FloatArray | None) -> None:
        """Largest samples of all strips, in their order; None where nothing plays."""
        for n, each in enumerate(self.rows):
            each.show_peak(None if peaks is None else round(float(peaks[n]), 3))

    def row_of(self, strip_id: str) -> TrackRow:
        return next(each for each in self.rows if each.strip_id == strip_id)
