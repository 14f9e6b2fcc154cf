"""The header: the song, its ribbon, play, the A/B switch with its level match, loudness and true peak."""

from __future__ import annotations

import math
import time

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPolygonF
from PySide6.QtWidgets import QFrame, QPushButton, QWidget

from zygotone.app.desk import Desk
from zygotone.app.theme import colour, number_font, text_font, theme
from zygotone.app.widgets.basic import column, label, row, stretch
from zygotone.app.widgets.ribbon import Ribbon
from zygotone.session.params import format_number


class PlayButton(QPushButton):
    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self.setObjectName("header.play")
        self.setAccessibleName("Play or stop")
        self.setToolTip("Play the loop, or stop (Space)")
        self.setFixedSize(36, 36)
        self.clicked.connect(desk.listening.toggle_play)
        theme().changed.connect(self.update)

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(colour("a" if self.hasFocus() else "ink"))
            painter.drawEllipse(QRectF(1, 1, 34, 34))
            painter.setBrush(colour("sheet"))
            if self._desk.listening.playing:
                painter.drawRect(QRectF(12, 12, 12, 12))
            else:
                painter.drawPolygon(QPolygonF([QPointF(14, 11), QPointF(14, 25), QPointF(26, 18)]))


class Swap(QWidget):
    """A and B: the one that is heard is filled."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self.setObjectName("header.swap")
        self.setAccessibleName("Hear A, kept, or B, trial")
        self.setToolTip("Swap A and B at equal loudness (X)")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFixedSize(124, 32)
        for signal in (desk.listening.changed, desk.session_changed, theme().changed):
            signal.connect(self.update)

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            trial = self._desk.bench.trial is not None
            painter.setPen(colour("a" if self.hasFocus() else "line"))
            painter.setBrush(colour("ground"))
            painter.drawRoundedRect(QRectF(0.5, 0.5, self.width() - 1, self.height() - 1), 16, 16)
            painter.setFont(text_font(10, bold=True))
            half = self.width() / 2
            for index, (text, ink) in enumerate((("A kept", "a"), ("B trial", "b"))):
                box = QRectF(index * half + 3, 3, half - 6, self.height() - 6)
                heard = self._desk.listening.heard == index
                alive = trial or index == 0
                painter.setPen(colour(ink if alive else "line"))
                painter.setBrush(colour(ink) if heard and alive else colour("sheet"))
                painter.drawRoundedRect(box, 12, 12)
                painter.setPen(
                    colour("sheet" if index == 0 else "on_b") if heard and alive else colour(ink if alive else "soft")
                )
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        index = int(event.position().x() > self.width() / 2)
        if index == 1 and self._desk.bench.trial is None:
            self._desk.listening.swap()  # says why there is nothing to hear
        self._desk.listening.hear(index)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self._desk.listening.hear(int(event.key() == Qt.Key.Key_Right))
        else:
            super().keyPressEvent(event)


class Header(QFrame):
    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.setObjectName("header")
        self.setFixedHeight(58)
        self._desk = desk
        self.title = label("", "title", name="header.title")
        self.title.setMaximumWidth(170)
        self.saved = label("", "soft", name="header.saved")
        self.tempo = label("", name="header.tempo")
        self.tempo.setFont(number_font(10))
        self.key = label("", "soft", name="header.key")
        self.ribbon = Ribbon(desk)
        self.play = PlayButton(desk)
        self.swap = Swap(desk)
        self.match_title, self.match = label("level-matched", "soft"), label("", "number", name="header.match")
        self.match_title.setFixedWidth(92)
        self.lufs, self.dbtp = label("", name="header.lufs"), label("", "soft", name="header.dbtp")
        self.lufs.setFont(number_font(11))
        self.dbtp.setFont(number_font(9.5))
        for each in (self.lufs, self.dbtp):
            each.setAlignment(Qt.AlignmentFlag.AlignRight)
            each.setFixedWidth(98)
        self.setLayout(
            row(
                column(self.title, self.saved, spacing=0), column(self.tempo, self.key, spacing=1), self.ribbon, self.play, self.swap,
                column(1, self.match_title, self.match, 1, spacing=0), column(1, self.lufs, self.dbtp, 1, spacing=0),
                spacing=14, margins=(16, 6, 16, 6),
            )
        )  # fmt: skip
        stretch(self, 2, 1)
        for signal in (desk.session_changed, desk.measuring.match_changed, desk.listening.changed, desk.files.changed):
            signal.connect(self.show_now)
        self.show_now()

    def show_now(self) -> None:
        desk, song = self._desk, self._desk.song
        self.title.setText(
            self.title.fontMetrics().elidedText(song.title or "Untitled", Qt.TextElideMode.ElideRight, 165)
        )
        if desk.files.saved_at is None:
            saved = "not saved yet"
        elif desk.files.dirty:
            saved = "changed"
        else:
            minutes = int((time.time() - desk.files.saved_at) / 60)
            saved = "saved" if minutes < 1 else f"saved {minutes} min ago"
        self.saved.setText(saved)
        self.tempo.setText(f"{song.tempo_bpm:g} BPM")
        self.key.setText(f"{song.key or 'no key'} · {song.beats_per_bar}/{song.beat_unit}")
        match, trial = desk.measuring.match, desk.bench.trial
        numbers = None if match is None else (match.b if desk.listening.heard == 1 and match.b is not None else match.a)
        self.lufs.setText(
            f"{format_number(numbers.lufs, 'LUFS')}" if numbers and math.isfinite(numbers.lufs) else "– LUFS"
        )
        self.dbtp.setText(f"{format_number(numbers.dbtp, 'dB')}TP" if numbers else "– dBTP")
        for each in (self.lufs, self.dbtp):
            each.setToolTip("The mix over the loop, before the level match")
        if trial is None:
            self.match.setText("")
            self.match_title.setText("nothing on trial")
        else:
            self.match_title.setText("level-matched")
            if match is None or match.b is None:
                self.match.setText("measuring…")
            else:
                word, gain = ("B", match.b_gain_db) if match.b_gain_db < 0 else ("A", match.a_gain_db)
                self.match.setText(f"{word} {format_number(gain, 'dB')}" if round(gain, 1) else "equal already")
        self.play.update()
