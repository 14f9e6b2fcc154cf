"""The list of steps: what was done, what was undone, and a way to any of them."""

from __future__ import annotations

from PySide6.QtWidgets import QDialog, QListWidget, QListWidgetItem, QWidget

from zygotone.app.widgets.basic import button, column, label, row
from zygotone.engine.bench import Bench


class HistoryDialog(QDialog):
    """Newest at the bottom; a click goes there, and what is after it can still be done again."""

    def __init__(self, parent: QWidget, bench: Bench) -> None:
        super().__init__(parent)
        self.setObjectName("history")
        self.setWindowTitle("History")
        self.resize(360, 460)
        self._bench = bench
        self.list = QListWidget()
        self.list.setObjectName("history.list")
        self.list.setAccessibleName("Steps")
        self.list.currentRowChanged.connect(self._go)
        told = label(
            "Choose a step to be there again. Nothing after it is lost until you do something else.", "soft", wrap=True
        )
        close = button("Close", "history.close", self.accept)
        self.setLayout(
            column(label("History", "title"), told, self.list, row(1, close), spacing=8, margins=(14, 12, 14, 12))
        )  # fmt: skip
        self._fill()

    def _fill(self) -> None:
        done, undone = self._bench.steps
        self.list.blockSignals(True)
        self.list.clear()
        self.list.addItem("As it was opened")
        for words in done:
            self.list.addItem(words)
        for words in undone:
            item = QListWidgetItem(f"{words} (undone)")
            font = item.font()
            font.setItalic(True)
            item.setFont(font)
            self.list.addItem(item)
        self.list.setCurrentRow(len(done))
        self.list.scrollToItem(self.list.currentItem())
        self.list.blockSignals(False)

    def _go(self, at: int) -> None:
        if at >= 0:
            self._bench.go_to_step(at)
            self._fill()
