"""What the Fit stage asks: why a finding is meant, and within which limits to settle a section."""

from __future__ import annotations

import time

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QProgressBar,
    QWidget,
)

from zygotone.advise.findings import RULES, Finding
from zygotone.advise.fit_views import SettleOf
from zygotone.advise.on_purpose import room_of
from zygotone.advise.settling import Limits, Settled
from zygotone.app.desk import Desk
from zygotone.app.widgets.basic import button, card, clear, column, label, number_box, row, whole_number_box
from zygotone.measure.quantities import find_quantity


def ask_reason(parent: QWidget, finding: Finding) -> tuple[str, float, bool] | None:
    """The reason, how far its number may still get worse, and whether everywhere; None where it was called off."""
    dialog = OnPurposeDialog(parent, finding)
    return dialog.said() if dialog.exec() == QDialog.DialogCode.Accepted else None


class OnPurposeDialog(QDialog):
    def __init__(self, parent: QWidget, finding: Finding) -> None:
        super().__init__(parent)
        self.setObjectName("fit.on_purpose.dialog")
        self.setWindowTitle("On purpose")
        quantity = find_quantity(RULES[finding.rule].reads[0])
        self._times = quantity.shown_times
        self.reason = QLineEdit()
        self.reason.setObjectName("fit.on_purpose.reason")
        self.reason.setAccessibleName("Why it is meant")
        self.reason.setPlaceholderText("Why is it meant?")
        self.reason.setMaxLength(500)
        self.room = number_box()
        self.room.setObjectName("fit.on_purpose.room")
        self.room.setAccessibleName("How far it may get worse")
        self.room.setRange(0.0, 1000.0)
        self.room.setDecimals(max(1, quantity.digits))
        self.room.setValue(room_of(finding) * self._times)
        self.room.setSuffix(f" {quantity.unit}" if quantity.unit else "")
        self.everywhere = QCheckBox("In all sections")
        self.everywhere.setObjectName("fit.on_purpose.everywhere")
        self.everywhere.setChecked(True)
        self.setLayout(
            column(
                label(finding.sentence, "heading", wrap=True), self.reason,
                row(label(f"Speak up again when “{quantity.label}” gets worse by more than"), self.room, 1), self.everywhere,
                row(1, button("Leave it", "fit.on_purpose.cancel", self.reject), button("It is meant", "fit.on_purpose.accept", self.accept, kind="keep"), spacing=8),
                spacing=10, margins=(18, 16, 18, 14),
            )
        )  # fmt: skip
        self.setMinimumWidth(480)

    def said(self) -> tuple[str, float, bool]:
        return self.reason.text().strip(), self.room.value() / self._times, self.everywhere.isChecked()


class SettleDialog(QDialog):
    """Limits, the search, and the trials it came back with."""

    def __init__(self, parent: QWidget, desk: Desk) -> None:
        super().__init__(parent)
        self.setObjectName("fit.settle.dialog")
        self.setWindowTitle(f"Settle {desk.selection.section.name}")
        self.desk = desk
        self.found: tuple[Settled, ...] | None = None
        self.where = QComboBox()
        self.where.setObjectName("fit.settle.where")
        self.where.setAccessibleName("What is settled")
        self.where.addItem(desk.selection.section.name, desk.selection.section)
        self.where.addItem("the whole song, section by section", None)
        self.deepest = number_box()
        self.deepest.setDecimals(1)
        self.deepest.setRange(-24.0, -0.5)
        self.deepest.setValue(-9.0)
        self.deepest.setSuffix(" dB")
        self.deepest.setObjectName("fit.settle.deepest")
        self.deepest.setAccessibleName("Deepest cut, dip or fader")
        self.devices = whole_number_box()
        self.devices.setRange(0, 64)
        self.devices.setValue(16)
        self.devices.setObjectName("fit.settle.devices")
        self.devices.setAccessibleName("New devices at most")
        self.ducking = QCheckBox("Tracks may duck under others")
        self.ducking.setObjectName("fit.settle.ducking")
        self.ducking.setChecked(True)
        self.tracks = QListWidget()
        self.tracks.setObjectName("fit.settle.untouched")
        self.tracks.setAccessibleName("Tracks that stay as they are")
        self.tracks.setMaximumHeight(150)
        for strip in desk.session.strips():
            item = QListWidgetItem(strip.name)
            item.setData(Qt.ItemDataRole.UserRole, strip.id)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Unchecked)
            self.tracks.addItem(item)
        self.bar = QProgressBar()
        self.bar.setRange(0, 0)
        self.bar.setTextVisible(False)
        self.bar.hide()
        self.words = label(
            "The search takes the gravest finding first, and of its fixes the least harmful that does away with it.",
            "soft",
            wrap=True,
            name="fit.settle.words",
        )
        self.start = button("Search", "fit.settle.start", self.search, kind="keep")
        self.stop = button("Close", "fit.settle.stop", self.reject)
        self._trials = column(spacing=8)
        self.setLayout(
            column(
                row(label("Settle"), self.where, 1, spacing=10),
                row(label("Deepest cut"), self.deepest, label("New devices at most"), self.devices, self.ducking, 1, spacing=10),
                label("Tracks that stay as they are", "soft"), self.tracks, self.words, self.bar, self._trials,
                row(1, self.stop, self.start, spacing=8), spacing=9, margins=(18, 16, 18, 14),
            )
        )  # fmt: skip
        self.setMinimumWidth(620)
        self._began = 0.0
        self._clock = QTimer(self, interval=500)
        self._clock.timeout.connect(self._tick)

    def limits(self) -> Limits:
        items = [self.tracks.item(i) for i in range(self.tracks.count())]
        kept = tuple(i.data(Qt.ItemDataRole.UserRole) for i in items if i.checkState() == Qt.CheckState.Checked)
        return Limits(self.deepest.value(), kept, self.ducking.isChecked(), self.devices.value())

    def search(self) -> None:
        bench = self.desk.bench
        self._for, self._whole = bench.kept, self.where.currentData() is None
        self.start.setEnabled(False)
        self.stop.setText("Stop")
        self.bar.show()
        self._began = time.monotonic()
        self._clock.start()
        clear(self._trials)
        self.desk.measuring.ask(
            SettleOf(bench.kept_graph, self.where.currentData(), self.limits()), self._on_found, urgency=3
        )

    def _tick(self) -> None:
        share = self.desk.measuring.worker.share if self.desk.measuring.worker.running == "settle" else None
        self.bar.setRange(0, 0 if share is None else 100)
        self.bar.setValue(round(100 * (share or 0.0)))
        self.words.setText(f"Searching: every rung is rendered and measured… {time.monotonic() - self._began:.0f} s")

    def _rest(self) -> None:
        self._clock.stop()
        self.bar.hide()
        self.start.setEnabled(True)
        self.stop.setText("Close")

    def reject(self) -> None:
        if self._clock.isActive():
            self.desk.measuring.worker.cancel("settle")
            self._rest()
            self.words.setText("Stopped; nothing has changed.")
            return
        super().reject()

    def _on_found(self, found: tuple[Settled, ...]) -> None:
        self._rest()
        self.found = found
        clear(self._trials)
        if not found:
            self.words.setText("Nothing was found that could be mended within these limits.")
            return
        self.words.setText("Put one on trial: then A and B can be compared at equal loudness.")
        for n, trial in enumerate(found, 1):
            before, after = trial.severity
            steps = "\n".join(
                f"· {s.fix.label}: {s.fix.detail}" if s.fix.detail else f"· {s.fix.label}" for s in trial.steps[:6]
            )
            more = f"\n· and {len(trial.steps) - 6} more" if len(trial.steps) > 6 else ""
            left = "nothing is left" if not trial.left else f"{len(trial.left)} left"
            cost = f"mix {trial.cost.get('mix_change_lu', 0.0):+.1f} LU".replace("-", "−")
            head = row(
                label(trial.title, "heading"), label(f"severity {before:.1f} → {after:.1f}, {left}, {cost}", "soft"), 1,
                button("Put on trial", f"fit.settle.{n}.try", lambda trial=trial: self._take(trial)), spacing=10,
            )  # fmt: skip
            self._trials.addWidget(
                card(column(head, label(steps + more, "soft", wrap=True), spacing=3, margins=(12, 8, 10, 8)))
            )

    def _take(self, trial: Settled) -> None:
        if self.desk.bench.kept is not self._for:
            self.words.setText("The kept version has changed since; search again.")
            return
        self.desk.try_settled(trial, whole=self._whole)
        self.accept()

    def done(self, result: int) -> None:
        self._clock.stop()
        self.desk.measuring.worker.cancel("settle")
        super().done(result)
