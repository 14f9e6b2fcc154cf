"""The tab of LFOs, a layer's own and shared ones."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from zygotone.app.stages.sounds.panel import Host, Panel
from zygotone.app.widgets.basic import button, label
from zygotone.app.widgets.shapes import LfoPicture
from zygotone.session.edits import change_instrument
from zygotone.session.instruments import LFO, LFO_SHAPES, InstrumentSource, Layer, Lfo
from zygotone.session.params import choice, switch

LFO_SHAPE = choice("shape", "Shape", LFO_SHAPES, "sine", "Its wave; a drawn one is drawn in the picture.")
ONE_SIDED = switch("one_sided", "From 0 up", False, "On, it goes from 0 to 1, off, from −1 to 1: pushes open a filter and never close it.")  # fmt: skip
LFO_MODE = choice("mode", "Begins", ("retriggered", "free", "one_shot"), "retriggered", "Anew with each note, with the song, or once a note.", ("with each note", "with the song", "once a note"))  # fmt: skip


class LfosPanel(Panel):
    """Drawn or plain waves, in Hz or note values."""

    def __init__(self, stage: Host) -> None:
        super().__init__(stage)
        self.which_lfo = "LFO 1"
        self.lfo = LfoPicture(lambda cycle: self._change_lfo("Draw LFO", cycle=cycle), self.desk.end_merge)
        self.keeps = (self.lfo,)

    def shape(self, source: InstrumentSource, layer: Layer | None) -> object:
        return self.which_lfo, tuple(e.shape for e in (*source.lfos, *(layer.lfos if layer else ())))

    def show_pictures(self, layer: Layer | None, kept: Layer | None) -> None:
        if layer is not None:
            old = self._lfo_of(self.stage.kept()[0], kept) if kept else None
            self.lfo.show_lfo(self._lfo_of(self.source, layer), old)

    def make(self, source: InstrumentSource, layer: Layer) -> None:
        def pick(word: str) -> None:
            self.which_lfo = word
            self.lfo.selected = None
            self.stage.show_all()

        self.add(self.chooser(("LFO 1", "LFO 2", "Shared 1", "Shared 2"), self.which_lfo, "lfo", pick))
        self.add(self.lfo)

        def read(name: str) -> Callable[[InstrumentSource | None, Layer | None], Any]:
            return lambda i, e: getattr(self._lfo_of(i, e), name)

        cells = [
            self.field(LFO_SHAPE, "lfo.shape", lambda v: self._change_lfo("LFO shape", shape=v), read("shape")),
            self.field(ONE_SIDED, "lfo.one_sided", lambda v: self._change_lfo("LFO one-sided", one_sided=v), read("one_sided")),
            self.field(LFO_MODE, "lfo.mode", lambda v: self._change_lfo("LFO begins", mode=v), read("mode")),
            *(self.field(p, f"lfo.{p.name}", lambda v, n=p.name, w=p.label: self._change_lfo(w, **{n: v}), read(p.name)) for p in LFO),
        ]  # fmt: skip
        if self._lfo_of(source, layer).shape == "drawn":
            cells.append(button("Take out point", "sounds.lfo.remove", self._remove_point))
        self.add_cells(cells)
        self.add(
            label(
                "An LFO moves nothing by itself: route it under Routes. A shared one moves all layers as one.",
                "soft",
                wrap=True,
            )
        )

    def _lfo_of(self, source: InstrumentSource | None, layer: Layer | None) -> Lfo:
        at = int(self.which_lfo[-1]) - 1
        owner = source if self.which_lfo.startswith("Shared") else layer
        return owner.lfos[at] if owner is not None else Lfo()

    def _change_lfo(self, what: str, **values: Any) -> None:
        source, layer = self.source, self.layer
        if source is None or layer is None:
            return
        at = int(self.which_lfo[-1]) - 1
        new = Lfo.model_validate({**dict(self._lfo_of(source, layer)), **values})
        if values.get("shape") == "drawn" and not new.cycle:  # something to take hold of
            from zygotone.session.automation import DrawnPoint

            new = new.replace(
                cycle=(DrawnPoint(at=0, height=0), DrawnPoint(at=0.5, height=1), DrawnPoint(at=1, height=0))
            )
        merge = (self.desk.selection.track_id, layer.id, self.which_lfo, *values)
        if self.which_lfo.startswith("Shared"):
            both = tuple(new if i == at else each for i, each in enumerate(source.lfos))
            track = self.desk.selection.track_id
            self.desk.edit(what, lambda s: change_instrument(s, track, lfos=both), merge_key=merge)
        else:
            self.change(what, lfos=tuple(new if i == at else each for i, each in enumerate(layer.lfos)), merge=merge)

    def _remove_point(self) -> None:
        lfo, at = self._lfo_of(self.source, self.layer), self.lfo.selected
        if at is not None and at < len(lfo.cycle):
            self.lfo.selected = None
            self._change_lfo("Take out point", cycle=tuple(p for i, p in enumerate(lfo.cycle) if i != at))
