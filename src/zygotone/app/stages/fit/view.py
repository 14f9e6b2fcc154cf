"""What the four views of the Fit stage have in common."""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

from zygotone.advise.findings import Finding
from zygotone.app.desk import Desk


class FitView(QWidget):
    """A page that shows a section one way."""

    def __init__(self, desk: Desk, name: str) -> None:
        super().__init__()
        self.setObjectName(name)
        self.desk = desk

    @property
    def title(self) -> str:
        raise NotImplementedError

    def bring_up_to_date(self) -> None:
        """Something has changed, or somebody looks again."""

    def show_finding(self, finding: Finding) -> None:
        """Shows the tracks of a finding, as far as it can."""

    def quiet_words(self) -> str:
        """What is said where nothing is wrong."""
        return "Nothing wrong was found in this section."
