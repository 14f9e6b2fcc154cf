"""The tab of what moves what in a layer."""

from __future__ import annotations

from PySide6.QtWidgets import QComboBox, QDoubleSpinBox, QWidget

from zygotone.app.stages.sounds.panel import Panel
from zygotone.app.widgets.basic import button, label, number_box, row
from zygotone.app.widgets.target_words import device_target_title, target_title, target_words
from zygotone.session.instruments import ROUTE_SOURCES, InstrumentSource, Layer, Route, layer_params, routable
from zygotone.session.kinds import continuous_params, walk
from zygotone.session.params import Param


def route_sentence(route: Route, layer: Layer) -> str:
    """``Velocity opens filter cutoff by 2 octaves``; ``LFO 1, scaled by wheel, raises pitch by 0.3 semitones``."""
    p = routable(layer, route.device)[route.target]
    up, down = ("opens", "closes") if route.target.endswith(".cutoff_hz") else ("raises", "lowers")
    amount = f"{abs(route.amount):.2f}".rstrip("0").rstrip(".")
    scaled = f", scaled by {_within(ROUTE_SOURCES[route.scaled_by])}," if route.scaled_by is not None else ""
    begins = ", as the note begins" if p.at_start else ""
    moves = f"{ROUTE_SOURCES[route.source]}{scaled} {up if route.amount >= 0 else down} {route_target_words(layer, route, p)}"
    return f"{moves} by {amount} {_unit(p, route.amount)}".strip() + begins


def route_target_words(layer: Layer, route: Route, p: Param) -> str:
    """As within a sentence: ``filter cutoff``, or of a device of its chain ``Drive: Wet / dry``."""
    if route.device is None:
        return target_words(route.target, p)
    return device_target_title(dict(walk(layer.chain))[route.device], route.target, p)


def _unit(p: Param, amount: float) -> str:
    unit = "octaves" if p.scale == "log" else p.unit
    return unit.removesuffix("s") if abs(amount) == 1.0 and unit in ("octaves", "semitones", "cents") else unit


def _within(words: str) -> str:
    """As within a sentence."""
    return words if words.startswith("LFO") else words[0].lower() + words[1:]


class RoutesPanel(Panel):
    """Modulation routes as sentences."""

    def shape(self, source: InstrumentSource, layer: Layer | None) -> object:
        devices = tuple((path, d.kind, d.label) for path, d in walk(layer.chain)) if layer else ()
        return layer and (layer.routes, layer.sound.kind, layer.filter is None, layer.filter2 is None, devices)

    def make(self, source: InstrumentSource, layer: Layer) -> None:
        if not layer.routes:
            self.add(
                label("Nothing is routed yet. Choose what moves, what it moves, and by how much.", "soft", wrap=True)
            )
        for i, each in enumerate(layer.routes):
            spin = self._amount_box(
                each.amount, routable(layer, each.device)[each.target], f"sounds.route.{i + 1}.amount"
            )
            spin.editingFinished.connect(lambda at=i, box=spin: self._change_route(at, box.value()))
            box = QWidget()
            box.setLayout(
                row(label(route_sentence(each, layer)), 1, spin, button("Remove", f"sounds.route.{i + 1}.remove", lambda at=i: self._remove_route(at)), spacing=8)
            )  # fmt: skip
            self.add(box)
        sources, scales, targets = QComboBox(), QComboBox(), QComboBox()
        for name, box in (("source", sources), ("scale", scales), ("target", targets)):
            box.setObjectName(f"sounds.route.{name}")
            box.setAccessibleName(f"Route {name}")
        for key, words in ROUTE_SOURCES.items():
            sources.addItem(words, key)
            scales.addItem(f"scaled by {_within(words)}", key)
        scales.insertItem(0, "as it is", None)
        scales.setCurrentIndex(0)
        for path, p in layer_params(layer).items():
            targets.addItem(target_title(path, p), (None, path))
        for device_path, device in walk(layer.chain):
            for path, p in continuous_params(device).items():
                targets.addItem(device_target_title(device, path, p), (device_path, path))
        targets.setMaxVisibleItems(24)
        amount, unit = self._amount_box(1.0, None, "sounds.route.amount"), label("", "soft")

        def show_unit() -> None:
            device, target = targets.currentData()
            unit.setText(_unit(routable(layer, device)[target], amount.value()))

        def add() -> None:
            device, target = targets.currentData()
            route = Route(
                source=sources.currentData(), target=target, amount=amount.value(), scaled_by=scales.currentData(),
                device=device,
            )  # fmt: skip
            self.change("Add route", routes=(*self.the_layer.routes, route), merge=None)

        targets.currentIndexChanged.connect(show_unit)
        amount.valueChanged.connect(show_unit)
        show_unit()
        for parts in (
            (sources, scales, label("moves", "soft"), 1),
            (targets, label("by", "soft"), amount, unit, button("Add route", "sounds.route.add", add), 1),
        ):
            box = QWidget()
            box.setLayout(row(*parts, spacing=6))
            self.add(box)

    @staticmethod
    def _amount_box(value: float, p: Param | None, name: str) -> QDoubleSpinBox:
        made = number_box()
        made.setRange(-20000.0, 20000.0)
        made.setDecimals(2)
        made.setSingleStep(0.1 if p is None or p.scale == "log" or p.high - p.low <= 4.0 else 1.0)
        made.setValue(value)
        if p is not None:
            made.setSuffix(f" {_unit(p, value)}".rstrip())
        made.setObjectName(name)
        made.setAccessibleName("Amount")
        return made

    def _change_route(self, at: int, amount: float) -> None:
        routes = list(self.the_layer.routes)
        if at < len(routes) and routes[at].amount != amount:
            routes[at] = routes[at].replace(amount=amount)
            self.change("Route", routes=tuple(routes), merge=None)

    def _remove_route(self, at: int) -> None:
        self.change("Remove route", routes=tuple(r for i, r in enumerate(self.the_layer.routes) if i != at), merge=None)
