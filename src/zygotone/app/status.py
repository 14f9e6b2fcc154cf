"""The status line: output, level, messages, work in progress, engine load, listening time, a few keys."""

from __future__ import annotations

from PySide6.QtCore import QTimer, Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QFrame, QProgressBar

from zygotone.app.desk import Desk
from zygotone.app.theme import theme
from zygotone.app.widgets.basic import OneLine, button, label, row
from zygotone.app.widgets.ears import EarsBar
from zygotone.app.widgets.meter import Meter

MESSAGE_MS = 9000
LONG_LISTENING_S = 45 * 60
SHORT_WORK_S = 0.7
_WIDE_PX, _ENGINE_PX = 1240, 900
_TOO_LOUD = (
    "The mix is over full scale. What you hear is turned down so that it is not louder than the output can be; a render is "
    "not, and would be cut. Turn the mix down, or put a limiter at its end."
)


class StatusLine(QFrame):
    engine_failed = Signal()

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.setObjectName("status")
        self.setFixedHeight(28)
        self.output_label = label("", name="status.output")
        self.meter = Meter()
        self.progress = QProgressBar()
        self.progress.setObjectName("status.progress")
        self.progress.setAccessibleName("Progress")
        self.progress.setFixedSize(150, 14)
        self.stop_work = button(
            "Stop", "status.stop", self._stop_work, kind="plain", accessible="Stop the work in progress"
        )
        for each in (self.progress, self.stop_work):
            each.hide()
        self.message = OneLine(name="status.message")  # gives way to what is always at hand
        self.engine_label = label("", name="status.engine")
        self.ears = EarsBar()
        self.ears.listens.connect(desk.listening.listen)
        self.keys_label = label("F1 keys", name="status.keys")
        self.setLayout(
            row(
                self.output_label,
                self.meter,
                1,
                self.message,
                self.progress,
                self.stop_work,
                1,
                self.engine_label,
                self.ears,
                self.keys_label,
                spacing=14,
                margins=(16, 0, 16, 0),
            )
        )
        self.ears.setMinimumWidth(self.ears.sizeHint().width())
        desk.message.connect(self.say)
        self._quiet = QTimer(self, singleShot=True, interval=MESSAGE_MS)
        self._quiet.timeout.connect(lambda: self.message.say(""))
        self._reminded = False

    def resizeEvent(self, event: QResizeEvent) -> None:
        """In a narrow window what can be found elsewhere gives way."""
        super().resizeEvent(event)
        wide = self.width() >= _WIDE_PX
        for each in (self.keys_label, self.output_label):
            each.setVisible(wide)
        self.engine_label.setVisible(self.width() >= _ENGINE_PX)

    def say(self, text: str) -> None:
        """A message in the status line, readable in full as its tip."""
        self.message.setStyleSheet(f"color: {theme().colours.b};")
        self.message.say(text)
        self._quiet.start()

    def _stop_work(self) -> None:
        name = self.desk.measuring.worker.running
        if name is not None:
            self.desk.measuring.worker.cancel(name)
            self.say(f"Stopped: {name}. Nothing was changed by it.")

    def _show_progress(self) -> None:
        """Work that takes longer than a moment: what it is, how far, and a way to stop it."""
        worker = self.desk.measuring.worker
        long = worker.running_s > SHORT_WORK_S
        for each in (self.progress, self.stop_work):
            each.setVisible(long)
        if long:
            self.progress.setRange(0, 0 if worker.share is None else 100)
            self.progress.setValue(round(100 * (worker.share or 0.0)))
            self.progress.setToolTip(str(worker.running))
            self.progress.setFormat(f"{str(worker.running).split(' kick')[0][:20]}")

    def tick(self) -> None:
        """What changes by itself, at a steady rate."""
        desk, transport = self.desk, self.desk.listening.transport
        if transport.error:
            self.say(transport.error)
            transport.error = None
            self.engine_failed.emit()
        minutes = int(transport.played_s // 60)
        frames = f"{transport.output.name}, {desk.session.rate_hz / 1000:g} kHz"
        self.output_label.setText(frames)
        self.output_label.setToolTip("Where it is played, and at which sample rate")
        drop_outs = f"{transport.drop_outs} drop-outs"
        self.engine_label.setText(f"{100 * transport.load:.0f} % · {drop_outs} · {minutes // 60}:{minutes % 60:02d}")
        held = transport.held_db >= 0.1
        if held:
            self.engine_label.setText(f"{self.engine_label.text()} · too loud, held down by {transport.held_db:.1f} dB")
        self.engine_label.setToolTip(
            _TOO_LOUD if held else "Engine load, drop-outs since the start, how long you have listened"
        )
        meters = transport.meters
        self.meter.show_peak(transport.peak, meters.correlation, meters.balance_db)
        self._show_progress()
        bad = desk.listening.player.bad_samples
        if bad:
            self.engine_label.setText(self.engine_label.text() + f" · {bad} bad samples replaced")
        if desk.listening.playing and transport.played_s > LONG_LISTENING_S and not self._reminded:
            self._reminded = True
            self.say(
                "You have listened for 45 minutes. Ears tire before one notices; a break of ten minutes helps both them and the mix."
            )
