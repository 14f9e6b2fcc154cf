"""The tab of a layer's automation."""

from __future__ import annotations

from zygotone.app.stages.sounds.panel import Host, Panel
from zygotone.app.widgets.basic import label
from zygotone.app.widgets.lanes import LanePanel
from zygotone.session.instruments import InstrumentSource, Layer


class MovesPanel(Panel):
    """Lanes over the song or a section."""

    def __init__(self, stage: Host) -> None:
        super().__init__(stage)
        self.lanes = LanePanel(self.desk)
        self.lanes.setObjectName("sounds.lanes")
        self.keeps = (self.lanes,)

    def make(self, source: InstrumentSource, layer: Layer) -> None:
        self.add(label("What moves by itself over the song or a section, on this layer.", "soft"))
        self.add(self.lanes)

    def show_pictures(self, layer: Layer | None, kept: Layer | None) -> None:
        if layer is not None and self.track is not None:
            self.lanes.show_layer(self.track, layer.id)
