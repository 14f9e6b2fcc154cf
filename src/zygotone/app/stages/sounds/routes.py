"""The tab of what moves what in a layer."""

from __future__ import annotations

from PySide6.QtWidgets import QComboBox, QDoubleSpinBox, QWidget

from zygotone.app.stages.sounds.panel import Panel
from zygotone.app.widgets.basic import button, label, row
from zygotone.session.instruments import ROUTE_SOURCES, InstrumentSource, Layer, Route, layer_params
from zygotone.session.params import Param


def route_sentence(route: Route, layer: Layer) -> str:
    """``Velocity opens Filter cutoff by 2.0 octaves``."""
    p = layer_params(layer)[route.target]
    unit = "octaves" if p.scale == "log" else p.unit
    verb = {"filter.cutoff_hz": ("opens", "closes"), "level_db": ("raises", "lowers"), "pitch": ("raises", "lowers")}
    up, down = verb.get(route.target, ("raises", "lowers"))
    amount = f"{abs(route.amount):.2f}".rstrip("0").rstrip(".")
    what = f"{_group_word(route.target)}{p.label.lower()}"
    return f"{ROUTE_SOURCES[route.source]} {up if route.amount >= 0 else down} {what} by {amount} {unit}".strip()


def _group_word(target: str) -> str:
    if target.startswith("filter."):
        return "filter "
    parts = target.split(".")
    return f"{parts[1].removesuffix('s')} {int(parts[2]) + 1} " if len(parts) > 3 else ""


class RoutesPanel(Panel):
    """Modulation routes as sentences."""

    def shape(self, source: InstrumentSource, layer: Layer | None) -> object:
        return layer and (layer.routes, layer.sound.kind, layer.filter is None)

    def make(self, source: InstrumentSource, layer: Layer) -> None:
        if not layer.routes:
            self.add(
                label("Nothing is routed yet. Choose what moves, what it moves, and by how much.", "soft", wrap=True)
            )
        for i, each in enumerate(layer.routes):
            spin = self._amount_box(each.amount, layer_params(layer)[each.target], f"sounds.route.{i + 1}.amount")
            spin.editingFinished.connect(lambda at=i, box=spin: self._change_route(at, box.value()))
            box = QWidget()
            box.setLayout(
                row(label(route_sentence(each, layer)), 1, spin, button("Remove", f"sounds.route.{i + 1}.remove", lambda at=i: self._remove_route(at)), spacing=8)
            )  # fmt: skip
            self.add(box)
        sources, targets = QComboBox(), QComboBox()
        for name, box in (("source", sources), ("target", targets)):
            box.setObjectName(f"sounds.route.{name}")
            box.setAccessibleName(f"Route {name}")
        for key, words in ROUTE_SOURCES.items():
            sources.addItem(words, key)
        for path, p in layer_params(layer).items():
            targets.addItem(f"{_group_word(path)}{p.label.lower()}".capitalize(), path)
        amount = self._amount_box(1.0, None, "sounds.route.amount")

        def add() -> None:
            route = Route(source=sources.currentData(), target=targets.currentData(), amount=amount.value())
            self.change("Add route", routes=(*self.layer.routes, route), merge=None)

        box = QWidget()
        box.setLayout(
            row(
                sources,
                label("moves", "soft"),
                targets,
                label("by", "soft"),
                amount,
                label("(octaves, or its unit)", "soft"),
                button("Add route", "sounds.route.add", add),
                1,
                spacing=6,
            )
        )
        self.add(box)

    @staticmethod
    def _amount_box(value: float, p: Param | None, name: str) -> QDoubleSpinBox:
        made = QDoubleSpinBox()
        made.setRange(-20000.0, 20000.0)
        made.setDecimals(2)
        made.setSingleStep(0.1 if p is None or p.scale == "log" or p.high - p.low <= 4.0 else 1.0)
        made.setValue(value)
        made.setObjectName(name)
        made.setAccessibleName("Amount")
        return made

    def _change_route(self, at: int, amount: float) -> None:
        routes = list(self.layer.routes)
        if at < len(routes) and routes[at].amount != amount:
            routes[at] = routes[at].replace(amount=amount)
            self.change("Route", routes=tuple(routes), merge=None)

    def _remove_route(self, at: int) -> None:
        self.change("Remove route", routes=tuple(r for i, r in enumerate(self.layer.routes) if i != at), merge=None)
