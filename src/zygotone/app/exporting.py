"""Asks what is to be written to files, and has it written in the background, with progress and a way to stop."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QFormLayout,
    QLineEdit,
    QWidget,
)

from zygotone.app.desk import Desk
from zygotone.app.widgets.basic import button, column, label, row
from zygotone.errors import printable
from zygotone.reports.exporting import FORMATS, ExportFiles, ExportSpec


class ExportDialog(QDialog):
    def __init__(self, parent: QWidget, desk: Desk) -> None:
        super().__init__(parent)
        self.setObjectName("export")
        self.setWindowTitle("Export")
        self._desk = desk
        self.mix, self.stems, self.buses, self.sections = (
            QCheckBox("the mix"), QCheckBox("every track"), QCheckBox("every bus"), QCheckBox("each section by itself"),
        )  # fmt: skip
        self.only = QCheckBox(f"only {desk.selection.section.name}")
        for name, check in (
            ("mix", self.mix), ("stems", self.stems), ("buses", self.buses), ("sections", self.sections), ("only", self.only),
        ):  # fmt: skip
            check.setObjectName(f"export.{name}")
            check.toggled.connect(self._show)
        self.format = QComboBox()
        self.format.setObjectName("export.format")
        self.format.setAccessibleName("Format")
        for words in FORMATS:
            self.format.addItem(words, words)
        self.folder = QLineEdit(str(desk.files.path.parent if desk.files.path else Path.home()))
        self.folder.setObjectName("export.folder")
        self.folder.setAccessibleName("Folder")
        self.folder.textChanged.connect(self._show)
        self.told = label("", "soft", name="export.told", wrap=True)
        form = QFormLayout()
        form.addRow("What", column(self.mix, self.stems, self.buses, spacing=2))
        form.addRow("Of it", column(self.only, self.sections, spacing=2))
        form.addRow("Format", self.format)
        form.addRow("Folder", row(self.folder, button("Choose…", "export.choose", self._choose), spacing=5))
        self.buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        self.buttons.button(QDialogButtonBox.StandardButton.Ok).setText("Export")
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        self.setLayout(column(form, self.told, self.buttons, spacing=10, margins=(14, 12, 14, 12)))
        self.resize(460, 320)
        self.mix.setChecked(True)

    def spec(self) -> ExportSpec:
        section = self._desk.selection.section.id if self.only.isChecked() else None
        return ExportSpec(
            Path(self.folder.text()).expanduser(), self.mix.isChecked(), self.stems.isChecked(), self.buses.isChecked(),
            self.sections.isChecked(), section, self.format.currentData(),
        )  # fmt: skip

    def _choose(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, "Folder for the files", self.folder.text())
        if folder:
            self.folder.setText(folder)

    def _show(self) -> None:
        """How many files there will be, which of them are there already, or what is missing."""
        if self.only.isChecked() and self.sender() is self.only:
            self.sections.setChecked(False)
        if self.sections.isChecked() and self.sender() is self.sections:
            self.only.setChecked(False)
        spec = self.spec()
        names = spec.file_names(self._desk.session)
        there = sum((spec.folder / name).exists() for name in names) if spec.folder.is_dir() else 0
        words = f"{len(names)} file{'s' if len(names) != 1 else ''}."
        if not names:
            words = "Choose what to write."
        elif not spec.folder.is_dir():
            words += " The folder is not there yet; it is made."
        elif there:
            words += f" {there} of them are there already and are written anew."
        self.told.setText(words)
        self.buttons.button(QDialogButtonBox.StandardButton.Ok).setEnabled(
            bool(names) and bool(self.folder.text().strip())
        )


def ask_and_export(parent: QWidget, desk: Desk) -> None:
    dialog = ExportDialog(parent, desk)
    if dialog.exec() == QDialog.DialogCode.Accepted:
        export(desk, dialog.spec())


def export(desk: Desk, spec: ExportSpec) -> None:
    desk.message.emit("Exporting… Stop ends it, and leaves no half file.")

    def done(clipped: dict[str, int]) -> None:
        count = len(spec.file_names(desk.session))
        over = f"; over full scale: {', '.join(Path(name).stem for name in clipped)}" if clipped else ""
        desk.message.emit(
            f"Exported {count} file{'s' if count != 1 else ''} to {printable(str(spec.folder), 60)}{over}"
        )

    desk.measuring.ask(ExportFiles(desk.session, spec), done, urgency=1)
