"""The tab of a layer's envelopes."""

from __future__ import annotations

import numpy as np

from zygotone.app.stages.sounds.panel import Host, Panel
from zygotone.app.widgets.basic import label
from zygotone.app.widgets.shapes import EnvelopePicture
from zygotone.session.instruments import BEND, ENVELOPE, Envelope, InstrumentSource, Layer, VoiceFilter
from zygotone.sources.instrument import rings_by_itself

SECOND = "Second filter"


class EnvelopesPanel(Panel):
    """Level, filter and pitch envelope, drawn by hand or by number."""

    def __init__(self, stage: Host) -> None:
        super().__init__(stage)
        self.which_envelope = "Level"
        desk = self.desk
        self.envelope = EnvelopePicture(self._envelope_dragged, desk.end_merge, lambda: desk.song.tempo_bpm)
        self.keeps = (self.envelope,)

    def shape(self, source: InstrumentSource, layer: Layer | None) -> object:
        return self.which_envelope, layer is not None and (self._rings(layer), layer.filter2 is None)

    def _rings(self, layer: Layer) -> bool:
        return rings_by_itself(layer, lambda name: np.zeros((2, 48000)))

    def show_pictures(self, layer: Layer | None, kept: Layer | None) -> None:
        if layer is not None:
            self.envelope.show_envelope(self._envelope_of(layer), self._envelope_of(kept) if kept else None)

    def make(self, source: InstrumentSource, layer: Layer) -> None:
        def pick(word: str) -> None:
            self.which_envelope = word
            self.stage.show_all()

        if self.which_envelope == SECOND and layer.filter2 is None:
            self.which_envelope = "Filter"
        second = (SECOND,) if layer.filter2 is not None else ()
        self.add(self.chooser(("Level", "Filter", *second, "Pitch"), self.which_envelope, "envelope", pick))
        if self.which_envelope == "Level" and self._rings(layer):
            self.add(
                label(
                    "It rings to its own end, whatever the note. For this envelope to act, turn on “Ends with the note” under Source.",
                    "soft",
                )
            )
        self.add(self.envelope)
        cells = [
            self.field(p, f"envelope.{p.name}", lambda v, n=p.name, w=p.label: self._change_envelope(w, **{n: v}), lambda i, e, n=p.name: getattr(self._envelope_of(e), n))
            for p in ENVELOPE
        ]  # fmt: skip
        if self.which_envelope == "Pitch":
            cells.append(
                self.field(
                    BEND,
                    "bend",
                    lambda v: self.change("Pitch envelope", bend_semitones=v),
                    lambda i, e: e.bend_semitones,
                )
            )
        self.add_cells(cells)

    def _envelope_of(self, layer: Layer) -> Envelope:
        if self.which_envelope == "Pitch":
            return layer.bend
        if self.which_envelope in (SECOND, "Filter"):
            f = layer.filter2 if self.which_envelope == SECOND else layer.filter
            return f.envelope if f is not None else Envelope(sustain=0.0)
        return layer.envelope

    def _change_envelope(self, what: str, **values: float) -> None:
        layer = self.layer
        if layer is None:
            return
        new = Envelope.model_validate({**dict(self._envelope_of(layer)), **values})
        merge = (self.desk.selection.track_id, layer.id, self.which_envelope, *values)
        if self.which_envelope == "Pitch":
            self.change(what, bend=new, merge=merge)
        elif self.which_envelope in (SECOND, "Filter"):
            which = "filter2" if self.which_envelope == SECOND else "filter"
            held = getattr(layer, which) or VoiceFilter()
            self.change(what, merge=merge, **{which: held.replace(envelope=new)})
        else:
            self.change(what, envelope=new, merge=merge)

    def _envelope_dragged(self, values: dict[str, float]) -> None:
        self._change_envelope("Draw envelope", **values)
