"""The tab of key and velocity ranges, and of the instrument's voices."""

from __future__ import annotations

from typing import Any

from zygotone.app.stages.sounds.panel import Panel
from zygotone.app.widgets.basic import label
from zygotone.session.edits import change_instrument
from zygotone.session.instruments import LAYER, VOICES, InstrumentSource, Layer
from zygotone.session.params import choice, switch

OUTPUT = choice("output", "Output", ("chain", "direct"), "chain", "Into the track's chain, or straight past it.", ("into the chain", "direct, past it"))  # fmt: skip
POLARITY = switch("polarity", "Polarity turned", False, "Turns the layer's waveform upside down.")
MODE = choice("mode", "Voices", ("poly", "mono", "legato"), "poly", "Chords, one note at a time, or one that goes on where notes overlap.")  # fmt: skip
GLIDE_BY = choice("glide_by", "Glide by", ("time", "rate"), "time", "The glide's time holds for any interval, or for an octave.", ("constant time", "constant rate"))  # fmt: skip
GLIDE_WHEN = choice("glide_when", "Glide when", ("always", "overlap"), "always", "Between all notes, or only where they overlap.")  # fmt: skip


class ZonesPanel(Panel):
    """Where a layer answers, where it goes, and how voices are given out."""

    def make(self, source: InstrumentSource, layer: Layer) -> None:
        cells = [self.layer_field(p) for p in LAYER[2:]]
        cells += [
            self.field(OUTPUT, "output", lambda v: self.change("Output", output=v), lambda i, e: e.output),
            self.field(POLARITY, "polarity", lambda v: self.change("Polarity", polarity=v), lambda i, e: e.polarity),
        ]
        self.add_cells(cells)
        self.add(label("Voices of the whole instrument", "heading"))

        def voices(what: str, **values: Any) -> None:
            track, held = self.desk.selection.track_id, source.voices
            new = type(held).model_validate({**dict(held), **values})
            self.desk.edit(
                what, lambda s: change_instrument(s, track, voices=new), merge_key=(track, "voices", *values)
            )

        self.add_cells(
            [
                *(self.field(p, f"voices.{p.name}", lambda v, n=p.name, w=p.label: voices(w, **{n: v}), lambda i, e, n=p.name: getattr(i.voices, n)) for p in (MODE, GLIDE_BY, GLIDE_WHEN, *VOICES))
            ]
        )  # fmt: skip
