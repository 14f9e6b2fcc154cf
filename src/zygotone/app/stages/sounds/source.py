"""The tab that shows and sets what makes a layer's sound."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtWidgets import QFileDialog, QWidget

from zygotone.advise.questions import SourceViewOf
from zygotone.advise.sound_views import WAVE_POINTS, SourceView, drum_view, string_view
from zygotone.advise.views import FREQS_HZ
from zygotone.app.stages.sounds.panel import Host, Panel
from zygotone.app.widgets.basic import button, column, label, row
from zygotone.app.widgets.operator_graph import OperatorGraph
from zygotone.app.widgets.plot import FREQUENCY, Axis, Curve, Plot
from zygotone.app.widgets.sound_pictures import DrumPicture, StringPicture
from zygotone.errors import ZygotoneError
from zygotone.music.pitch import midi_to_hz, name_pitch
from zygotone.session.audio_files import AUDIO_SUFFIXES, read_audio
from zygotone.session.catalogue import SOURCES
from zygotone.session.edits import add_asset, change_layer
from zygotone.session.instruments import JOBS, LAYER, InstrumentSource, Layer
from zygotone.session.models import Session
from zygotone.session.params import Param, choice

_PARTIALS = replace(FREQUENCY, ticks=(30, 100, 300, 1000, 3000, 10000))
JOB = choice("job", "Job", JOBS, "body", "What the layer is for; the bench measures whether it does it.")


class SourcePanel(Panel):
    """The source, its entries and files, and its live pictures."""

    def __init__(self, stage: Host) -> None:
        super().__init__(stage)
        self.entry = 0  # of the source's list, such as an operator
        self._view: tuple[object, SourceView] | None = None
        self.wave = Plot(
            Axis(0, 1, "ms"),
            Axis(-1.1, 1.1, "", ticks=(-1, 0, 1)),
            name="sounds.wave",
            accessible="Waveform",
            height=150,
        )
        self.partials = Plot(
            _PARTIALS,
            Axis(-80, 3, "dB", ticks=(-72, -48, -24, 0)),
            name="sounds.partials",
            accessible="Spectrum",
            height=150,
        )
        self.operators, self.string, self.drum = OperatorGraph(), StringPicture(), DrumPicture()
        self.keeps = (self.wave, self.partials, self.operators, self.string, self.drum)

    def shape(self, source: InstrumentSource, layer: Layer | None) -> object:
        if layer is None:
            return None
        return layer.sound.kind, self.entry, tuple(len(v) for v in layer.sound.params.values() if isinstance(v, tuple))

    def show_pictures(self, layer: Layer | None, kept: Layer | None) -> None:
        if layer is None:
            return
        params, picture = layer.sound.params, layer.sound.spec.picture
        if picture == "operators":
            self.operators.show_sound(params, self.entry)
        elif picture == "string":
            self.string.show_string(
                string_view(params, pitch_hz=self._pitch_hz(layer), rate_hz=self.desk.session.rate_hz)
            )
        elif picture == "drum":
            self.drum.show_drum(drum_view(params, pitch_hz=self._pitch_hz(layer)))
        self._ask_view(layer)

    def _pitch_hz(self, layer: Layer) -> float:
        """Of the note that the pictures are of."""
        low = layer.job == "sub" or (self.track is not None and self.track.role in ("bass", "sub"))
        return float(midi_to_hz(36 if low else 60))

    def make(self, source: InstrumentSource, layer: Layer) -> None:
        kinds = choice("kind", "Source", tuple(k.kind for k in SOURCES), layer.sound.kind, "What makes the sound.", tuple(k.title for k in SOURCES))  # fmt: skip
        cells = [
            self.field(kinds, "kind", lambda v: self.change("Source", sound={"kind": v}, merge=None), lambda i, e: e.sound.kind),
            self.field(JOB, "job", lambda v: self.change("Job", job=v), lambda i, e: e.job),
            self.layer_field(LAYER[0]), self.layer_field(LAYER[1]),
        ]  # fmt: skip
        own = {"fm": self.operators, "string": self.string, "drum": self.drum}.get(layer.sound.kind)
        stacked = own is self.string or own is self.drum
        for plot in (self.wave, self.partials):
            plot.setMinimumHeight(112 if stacked else 150)
        pictures = QWidget()
        if not stacked:
            drawn = [self.wave, self.partials, *([own] if own is not None else [])]
            pictures.setLayout(row(*drawn, spacing=8))
        else:
            pictures.setLayout(
                row(column(self.wave, self.partials, spacing=4), *([own] if own is not None else []), spacing=8)
            )
        for each in pictures.findChildren(QWidget):
            each.show()  # what was kept may have been hidden with its old place
        entries = None
        for p in layer.sound.spec.params:
            if p.type == "list":
                if p.entries == "values":
                    entries = p
                elif p.items[0].type == "file":
                    cells.append(self._files_cell(p))
                continue
            if p.type == "file":
                cells.append(self._file_cell(p))
                continue
            cells.append(self.field(p, p.name, lambda v, n=p.name, w=p.label: self._change_sound(w, **{n: v}), lambda i, e, n=p.name: e.sound.params[n], f"sound.{p.name}"))  # fmt: skip
        self.add(label(layer.sound.spec.summary, "soft", wrap=True))
        self.add_cells(cells[:4])
        self.add(pictures)
        self.add_cells(cells[4:])
        if entries is not None:
            self._make_entries(layer, entries)

    def _change_sound(self, what: str, **values: Any) -> None:
        layer = self.layer
        if layer is not None:
            self.change(what, sound=values, merge=(self.desk.selection.track_id, layer.id, "sound", *values))

    def _make_entries(self, layer: Layer, p: Param) -> None:
        one = p.label.removesuffix("s")
        values = layer.sound.params[p.name]
        self.entry = min(self.entry, max(0, len(values) - 1))
        buttons = [
            button(
                f"{one} {i + 1}",
                f"sounds.entry.{i + 1}",
                lambda n=i: self._choose_entry(n),
                kind="chosen" if i == self.entry else "",
            )
            for i in range(len(values))
        ]
        add = button(f"Add {one.lower()}", "sounds.entry.add", lambda: self._resize_entries(p, 1))
        add.setEnabled(len(values) < p.max_items)
        box = QWidget()
        box.setLayout(
            row(
                *buttons,
                add,
                button("Remove last", "sounds.entry.remove", lambda: self._resize_entries(p, -1)),
                1,
                spacing=4,
            )
        )
        self.add(box)
        if not values:
            return

        def change(value: Any, name: str, words: str) -> None:
            entries = list(self.the_layer.sound.params[p.name])
            entries[self.entry] = entries[self.entry].replace(**{name: value})
            self.change(
                words,
                sound={p.name: [e.to_json() for e in entries]},
                merge=(self.desk.selection.track_id, p.name, self.entry, name),
            )

        self.add_cells(
            [
                self.field(q, f"entry.{q.name}", lambda v, n=q.name, w=q.label: change(v, n, w), lambda i, e, n=q.name: e.sound.params[p.name][self.entry][n], f"sound.{p.name}.{self.entry}.{q.name}")
                for q in p.items
                if q.type != "list"
            ]
        )  # fmt: skip

    def _choose_entry(self, at: int) -> None:
        self.entry = at
        self.stage.show_all()

    def _resize_entries(self, p: Param, step: int) -> None:
        values = [e.to_json() for e in self.the_layer.sound.params[p.name]]
        self.change(p.label, sound={p.name: [*values, {}] if step > 0 else values[:-1]}, merge=None)

    def _asset_name(self, asset_id: str) -> str:
        return next((a.name for a in self.desk.session.assets if a.id == asset_id), asset_id[:8])

    def _use_audio(self, what: str, changes: Callable[[str, float], dict[str, Any]]) -> None:
        """Take a file in and give it to the source in one step of undo."""
        from zygotone.measure.pitch import fundamental_hz

        names = " ".join(f"*{suffix}" for suffix in AUDIO_SUFFIXES)
        path, _ = QFileDialog.getOpenFileName(self, what, "", f"Audio ({names})")
        layer, track = self.layer, self.desk.selection.track_id
        if not path or layer is None:
            return
        self.use_audio_file(Path(path), what, layer.id, track, changes, fundamental_hz)

    def use_audio_file(self, path: Path, what: str, layer_id: str, track: str, changes: Callable[[str, float], dict[str, Any]], pitch_of: Callable[[Any, int], float]) -> None:  # fmt: skip
        try:
            audio = read_audio(path)
        except ZygotoneError as error:
            self.desk.refuse(str(error))
            return
        asset = self.desk.store.add(audio, path.name, self.desk.session.rate_hz)
        hz = pitch_of(audio.data, audio.rate_hz)
        found = hz if np.isfinite(hz) else 0.0

        def put(session: Session) -> Session:
            return change_layer(add_asset(session, asset), track, layer_id, sound=changes(asset.id, found))

        self.desk.edit(what, put)

    def _file_cell(self, p: Param) -> QWidget:
        held = self.the_layer.sound.params[p.name]
        box = QWidget()
        choose = button(
            "Choose…", f"sounds.{p.name}.choose", lambda: self._use_audio(p.label, lambda asset, hz: {p.name: asset})
        )
        away = button("None", f"sounds.{p.name}.none", lambda: self._change_sound(p.label, **{p.name: ""}))
        away.setEnabled(bool(held))
        box.setLayout(
            column(
                row(label(p.label, "soft"), 1, label(self._asset_name(held) if held else "none", "number")),
                row(choose, away, 1),
                1,
                spacing=3,
            )
        )
        box.setToolTip(p.help)
        return box

    def _files_cell(self, p: Param) -> QWidget:
        held = self.the_layer.sound.params[p.name]

        def add(asset: str, hz: float) -> dict[str, Any]:
            values: dict[str, Any] = {p.name: [*held, asset]}
            return values | ({"root_hz": hz} if hz and not held else {})

        box = QWidget()
        more = button("Add…", f"sounds.{p.name}.add", lambda: self._use_audio(p.label, add))
        fewer = button(
            "Remove last", f"sounds.{p.name}.remove", lambda: self._change_sound(p.label, **{p.name: list(held[:-1])})
        )
        fewer.setEnabled(bool(held))
        names = ", ".join(self._asset_name(each) for each in held) or "none yet"
        box.setLayout(column(row(label(p.label, "soft"), 1, label(names, "number")), row(more, fewer, 1), 1, spacing=3))
        box.setToolTip(p.help)
        return box

    def _ask_view(self, layer: Layer) -> None:
        key = (layer.sound, self.desk.session.rate_hz)
        if self._view is not None and self._view[0] == key:
            self._draw_view(self._view[1])
            return
        low = layer.job == "sub" or (self.track is not None and self.track.role in ("bass", "sub"))
        pitch_hz = midi_to_hz(36 if low else 60)

        def done(view: SourceView) -> None:
            self._view = (key, view)
            self._draw_view(view)

        self.desk.measuring.ask(SourceViewOf(self.desk.session, layer, pitch_hz), done, urgency=2)

    def _draw_view(self, view: SourceView) -> None:
        ms = 1000.0 * view.seconds
        step = next(s for s in (0.5, 1, 2, 5, 10, 20, 50) if ms / s <= 8)
        top = max(0.1, float(np.max(np.abs(view.wave))))
        self.wave.set_axes(
            Axis(0.0, ms, "ms", ticks=tuple(round(step * i, 2) for i in range(int(ms / step) + 1))),
            Axis(-1.1 * top, 1.1 * top, "", ticks=(-round(top, 2), 0, round(top, 2))),
        )
        self.wave.show_curves(
            [Curve(f"played at {name_pitch(view.pitch_hz).note}", np.linspace(0.0, ms, WAVE_POINTS), view.wave, "ink")]
        )
        self.partials.show_curves([Curve("spectrum", FREQS_HZ, view.spectrum_db, "soft", "fill")])
