"""The tab of a layer's filters."""

from __future__ import annotations

from typing import Any

from PySide6.QtWidgets import QWidget

from zygotone.advise.views import FREQS_HZ
from zygotone.app.stages.sounds.panel import Host, Panel
from zygotone.app.widgets.basic import label
from zygotone.app.widgets.glance import response_db
from zygotone.app.widgets.plot import FREQUENCY, Axis, Curve, Plot
from zygotone.session.instruments import FILTER, FILTERS, FilterName, InstrumentSource, Layer, VoiceFilter
from zygotone.session.params import Param, choice

_MODES = ("off", "lowpass", "highpass", "bandpass", "notch")
FILTER_MODE: dict[FilterName, Param] = {
    "filter": choice("mode", "Filter", _MODES, "off", "What it lets through."),
    "filter2": choice("mode", "Second filter", _MODES, "off", "What it lets through."),
}
SLOPE = choice(
    "slope_db_oct", "Slope", (12, 24), 12, "Steepness in dB an octave.", ("12 dB an octave", "24 dB an octave")
)
STAND = choice(
    "filters_beside", "Both", (False, True), False, "Whether the second hears the first, or both hear the source and the mean of them is heard.",
    ("one after the other", "side by side"),
)  # fmt: skip


class FilterPanel(Panel):
    """One filter or two, and what they do together."""

    def __init__(self, stage: Host) -> None:
        super().__init__(stage)
        self.response = Plot(
            FREQUENCY, Axis(-48, 24, "dB", ticks=(-36, -24, -12, 0, 12)), name="sounds.filter.picture",
            accessible="Filter curve", height=116,
        )  # fmt: skip
        self.keeps = (self.response,)

    def shape(self, source: InstrumentSource, layer: Layer | None) -> object:
        return layer is not None and (layer.filter is None, layer.filter2 is None)

    def show_pictures(self, layer: Layer | None, kept: Layer | None) -> None:
        if layer is not None and (layer.filter is not None or layer.filter2 is not None):
            self.response.show_curves([Curve("at rest", FREQS_HZ, response_db(layer, FREQS_HZ), "ink", "line", 2.0)])

    def make(self, source: InstrumentSource, layer: Layer) -> None:
        some = layer.filter is not None or layer.filter2 is not None
        if some:
            self.add(self.response)
        for which in FILTERS:
            if which == "filter" or some:  # the second is offered once there is a first
                self.add_cells(self._cells(layer, which))
        if layer.filter is not None and layer.filter2 is not None:
            self.add_cells([self.field(STAND, "filters.beside", lambda v: self.change("Filters", filters_beside=v), lambda i, e: e.filters_beside)])  # fmt: skip
        if not some:
            self.add(label("Off: all of the source passes. Choose what it is to let through.", "soft"))

    def _cells(self, layer: Layer, which: FilterName) -> list[QWidget]:
        def set_mode(value: Any) -> None:
            self._change(which, "Filter", mode=value)

        def mode_of(_: Any, of: Layer) -> str:
            f = getattr(of, which)
            return f.mode if f is not None else "off"

        cells = [self.field(FILTER_MODE[which], f"{which}.mode", set_mode, mode_of)]
        if getattr(layer, which) is None:
            return cells
        for p in (SLOPE, *FILTER):

            def change(value: Any, p: Param = p) -> None:
                self._change(which, p.label, **{p.name: value})

            def read(_: Any, of: Layer, p: Param = p) -> Any:
                return getattr(getattr(of, which), p.name)

            name, moves = ("slope", None) if p is SLOPE else (p.name, f"{which}.{p.name}")
            cells.append(self.field(p, f"{which}.{name}", change, read, moves))
        return cells

    def _change(self, which: FilterName, what: str, **values: Any) -> None:
        layer = self.layer
        if layer is None:
            return
        if values.get("mode") == "off":
            self.change(what, merge=None, **{which: None})
            return
        held = getattr(layer, which) or VoiceFilter()
        changed = VoiceFilter.model_validate({**dict(held), **values})
        self.change(what, merge=(self.desk.selection.track_id, layer.id, which, *values), **{which: changed})
