"""The tab of a layer's filter."""

from __future__ import annotations

from typing import Any

import numpy as np

from zygotone.advise.views import FREQS_HZ
from zygotone.app.stages.sounds.panel import Host, Panel
from zygotone.app.widgets.basic import label
from zygotone.app.widgets.plot import FREQUENCY, Axis, Curve, Plot
from zygotone.session.instruments import FILTER, InstrumentSource, Layer, VoiceFilter
from zygotone.session.params import choice

FILTER_MODE = choice(
    "mode", "Filter", ("off", "lowpass", "highpass", "bandpass", "notch"), "off", "What it lets through."
)
SLOPE = choice(
    "slope_db_oct", "Slope", (12, 24), 12, "Steepness in dB an octave.", ("12 dB an octave", "24 dB an octave")
)


class FilterPanel(Panel):
    """The filter and its curve."""

    def __init__(self, stage: Host) -> None:
        super().__init__(stage)
        self.response = Plot(
            FREQUENCY, Axis(-48, 24, "dB", ticks=(-36, -24, -12, 0, 12)), name="sounds.filter.picture",
            accessible="Filter curve", height=150,
        )  # fmt: skip
        self.keeps = (self.response,)

    def shape(self, source: InstrumentSource, layer: Layer | None) -> object:
        return layer is not None and layer.filter is None

    def show_pictures(self, layer: Layer | None, kept: Layer | None) -> None:
        if layer is not None:
            self._show_filter(layer.filter)

    def make(self, source: InstrumentSource, layer: Layer) -> None:
        cells = [
            self.field(
                FILTER_MODE,
                "filter.mode",
                lambda v: self._change_filter("Filter", mode=v),
                lambda i, e: e.filter.mode if e.filter else "off",
            )
        ]
        if layer.filter is not None:
            cells.append(
                self.field(
                    SLOPE,
                    "filter.slope",
                    lambda v: self._change_filter("Slope", slope_db_oct=v),
                    lambda i, e: e.filter.slope_db_oct,
                )
            )
            cells += [
                self.field(p, f"filter.{p.name}", lambda v, n=p.name, w=p.label: self._change_filter(w, **{n: v}), lambda i, e, n=p.name: getattr(e.filter, n), f"filter.{p.name}")
                for p in FILTER
            ]  # fmt: skip
            self.add(self.response)
        self.add_cells(cells)
        if layer.filter is None:
            self.add(label("Off: all of the source passes. Choose what it is to let through.", "soft"))

    def _change_filter(self, what: str, **values: Any) -> None:
        layer = self.layer
        if layer is None:
            return
        if values.get("mode") == "off":
            self.change(what, filter=None, merge=None)
            return
        held = layer.filter or VoiceFilter()
        self.change(
            what,
            filter=VoiceFilter.model_validate({**dict(held), **values}),
            merge=(self.desk.selection.track_id, layer.id, "filter", *values),
        )

    def _show_filter(self, f: VoiceFilter | None) -> None:
        if f is None:
            return
        ratio = 1j * FREQS_HZ / f.cutoff_hz
        k = 2.0 - 1.98 * f.resonance
        below = ratio**2 + k * ratio + 1.0
        shape = {
            "lowpass": 1.0 / below,
            "highpass": ratio**2 / below,
            "bandpass": k * ratio / below,
            "notch": (ratio**2 + 1.0) / below,
        }[f.mode]
        if f.slope_db_oct == 24:
            flat = ratio**2 + np.sqrt(2.0) * ratio + 1.0
            shape = (
                shape
                * {"lowpass": 1.0, "highpass": ratio**2, "bandpass": np.sqrt(2.0) * ratio, "notch": ratio**2 + 1.0}[
                    f.mode
                ]
                / flat
            )
        db = 20.0 * np.log10(np.maximum(np.abs(shape), 1e-4))
        self.response.show_curves([Curve("at rest", FREQS_HZ, db, "ink", "line", 2.0)])
