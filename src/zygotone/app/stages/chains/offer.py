"""The devices that can be added, by what one reaches for them for, or found by typing."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QGridLayout, QLineEdit, QPushButton, QToolButton, QWidget

from zygotone.app.widgets.basic import button, column, label
from zygotone.session.catalogue import DEVICES, PURPOSES, Kind

_COLUMNS = 3


class DeviceOffer(QWidget):
    """``add`` is told the kind. Enter in the field adds the first that is left."""

    def __init__(self, add: Callable[[str], None], *more: QWidget) -> None:
        super().__init__()
        self._add = add
        self.words = QLineEdit()
        self.words.setObjectName("chains.find")
        self.words.setAccessibleName("Find a device")
        self.words.setPlaceholderText("Find a device: a name, or what it does")
        self.words.setClearButtonEnabled(True)
        for clear in self.words.findChildren(QToolButton):
            clear.setObjectName("chains.offer.clear")
            clear.setAccessibleName("Clear what was typed")
        self.words.textChanged.connect(self._show)
        self.words.returnPressed.connect(self._take_first)
        self._groups: list[tuple[QWidget, QGridLayout, list[tuple[Kind, QPushButton]]]] = []
        items: list[QWidget] = []
        for purpose, title in PURPOSES.items():
            kinds = [kind for kind in DEVICES if kind.purpose == purpose]
            if not kinds:
                continue
            made = [(kind, self._button(kind)) for kind in kinds]
            grid = QGridLayout()
            grid.setSpacing(4)
            for i in range(_COLUMNS):
                grid.setColumnStretch(i, 1)
            group = QWidget()
            group.setLayout(column(label(title, "soft"), grid, spacing=2))
            self._groups.append((group, grid, made))
            items.append(group)
        self.setLayout(column(label("Add a device", "heading"), self.words, *items, *more, spacing=5))
        self._show()

    def _button(self, kind: Kind) -> QPushButton:
        return button(
            kind.title, f"chains.add.{kind.kind}", lambda: self._add(kind.kind), tip=kind.summary,
            accessible=f"Add {kind.title}", kind="narrow",
        )  # fmt: skip

    def _fits(self, kind: Kind) -> bool:
        said = f"{kind.title} {kind.summary} {PURPOSES[kind.purpose]} {kind.kind}".lower()
        return all(word in said for word in self.words.text().lower().split())

    def _show(self) -> None:
        for group, grid, made in self._groups:
            fits = [each for kind, each in made if self._fits(kind)]
            for _, each in made:
                grid.removeWidget(each)
                each.setVisible(each in fits)
            for at, each in enumerate(fits):
                grid.addWidget(each, at // _COLUMNS, at % _COLUMNS)
            group.setVisible(bool(fits))

    def _take_first(self) -> None:
        """Of those whose name fits, else of all that fit."""
        words = self.words.text().lower().strip()
        fits = [kind for _, _, made in self._groups for kind, _ in made if self._fits(kind)]
        if words and fits:
            named = [kind for kind in fits if kind.title.lower().startswith(words)] or fits
            self.words.clear()
            self._add(named[0].kind)
