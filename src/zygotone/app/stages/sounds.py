"""Sounds: the layers of the selected track, who owns which octave, and the selected layer taken apart."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QComboBox,
    QDoubleSpinBox,
    QFileDialog,
    QGridLayout,
    QInputDialog,
    QLineEdit,
    QScrollArea,
    QWidget,
)

from zygotone.advise.sound_views import WAVE_POINTS, LayerMapView, SourceView, layer_map, source_view
from zygotone.advise.views import FREQS_HZ
from zygotone.app.desk import Desk
from zygotone.app.stages.library import LibraryDialog
from zygotone.app.widgets.basic import button, clear, column, label, row
from zygotone.app.widgets.lanes import LanePanel
from zygotone.app.widgets.layer_map import LayerMap
from zygotone.app.widgets.note_grid import NoteGrid
from zygotone.app.widgets.operator_graph import OperatorGraph
from zygotone.app.widgets.piano import Piano
from zygotone.app.widgets.plot import FREQUENCY, Axis, Curve, Plot
from zygotone.app.widgets.ruler import Choice, Ruler
from zygotone.app.widgets.shapes import EnvelopePicture, LfoPicture
from zygotone.errors import ParameterError, ZygotoneError
from zygotone.music.chords import parse_chord_line
from zygotone.music.generators import accelerating_roll, arpeggio, chord_line, offbeat_line, rolling_bass, root_line
from zygotone.music.midi_files import read_midi, write_midi
from zygotone.music.notes import NoteEvent, humanized, quantized, strummed, swung
from zygotone.music.pitch import midi_to_hz
from zygotone.session.audio_files import AUDIO_SUFFIXES, read_audio
from zygotone.session.catalogue import DEVICES, SOURCES
from zygotone.session.edits import (
    add_asset,
    change_instrument,
    change_layer,
    make_id,
    move_layer,
    put_layer,
    put_phrase,
    remove_layer,
    set_part,
)
from zygotone.session.instruments import (
    ENVELOPE,
    FILTER,
    JOBS,
    LAYER,
    LFO,
    LFO_SHAPES,
    ROUTE_SOURCES,
    VOICES,
    Envelope,
    InstrumentSource,
    Layer,
    Lfo,
    Note,
    Phrase,
    Route,
    VoiceFilter,
    layer_params,
)
from zygotone.session.models import Device, Session, Track
from zygotone.session.params import Param, choice, format_number, switch
from zygotone.session.saved_sounds import SavedSound, load_sound, save_sound, with_clip_names

# Fewer numbers than elsewhere, since the plot is narrow where the operator graph stands beside it.
_PARTIALS = replace(FREQUENCY, ticks=(30, 100, 300, 1000, 3000, 10000))
TABS = ("Source", "Envelopes", "LFOs", "Filter", "Routes", "Zones", "Chain", "Moves", "Notes")
_COLUMNS = 4
JOB = choice("job", "Job", JOBS, "body", "What the layer is for; the bench measures whether it does it.")
OUTPUT = choice("output", "Output", ("chain", "direct"), "chain", "Into the track's chain, or straight past it.", ("into the chain", "direct, past it"))  # fmt: skip
POLARITY = switch("polarity", "Polarity turned", False, "Turns the layer's waveform upside down.")
MODE = choice("mode", "Voices", ("poly", "mono", "legato"), "poly", "Chords, one note at a time, or one that goes on where notes overlap.")  # fmt: skip
GLIDE_BY = choice("glide_by", "Glide by", ("time", "rate"), "time", "The glide's time holds for any interval, or for an octave.", ("constant time", "constant rate"))  # fmt: skip
GLIDE_WHEN = choice("glide_when", "Glide when", ("always", "overlap"), "always", "Between all notes, or only where they overlap.")  # fmt: skip
FILTER_MODE = choice(
    "mode", "Filter", ("off", "lowpass", "highpass", "bandpass", "notch"), "off", "What it lets through."
)
SLOPE = choice(
    "slope_db_oct", "Slope", (12, 24), 12, "Steepness in dB an octave.", ("12 dB an octave", "24 dB an octave")
)
LFO_SHAPE = choice("shape", "Shape", LFO_SHAPES, "sine", "Its wave; a drawn one is drawn in the picture.")
LFO_MODE = choice("mode", "Begins", ("retriggered", "free", "one_shot"), "retriggered", "Anew with each note, with the song, or once a note.", ("with each note", "with the song", "once a note"))  # fmt: skip
BEND = Param(name="bend_semitones", label="Pitch envelope", unit="semitones", low=-48.0, high=48.0, default=0.0, help="How far the pitch envelope moves the pitch.")  # fmt: skip


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


class SoundsStage(QWidget):
    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.setObjectName("stage.sounds")
        self.desk = desk
        self.tab = "Source"
        self.entry = 0  # of the source's list, such as an operator
        self.which_envelope, self.which_lfo = "Level", "LFO 1"
        self.device_at = 0
        self._chosen: dict[str, str] = {}  # the layer selected on each track
        self._map: LayerMapView | None = None
        self._view: tuple[object, SourceView] | None = None
        self._fields: list[tuple[Any, Callable[[InstrumentSource, Layer], Any]]] = []
        self._movable: list[tuple[Ruler, str]] = []  # rulers with the path of their parameter in the layer
        self._made_for: object = None
        self.record = False
        self._recorded: dict[int, tuple[float, float]] = {}

        self.title = label("", "title", name="sounds.title")
        self.told = label("", "soft", name="sounds.told")
        self.add_box = QComboBox()
        self.add_box.setObjectName("sounds.add")
        self.add_box.setAccessibleName("Add a layer")
        self.add_box.addItem("Add layer…", None)
        for kind in SOURCES:
            self.add_box.addItem(kind.title, kind.kind)
            self.add_box.setItemData(self.add_box.count() - 1, kind.summary, Qt.ItemDataRole.ToolTipRole)
        self.add_box.activated.connect(self._add_chosen)
        self.top = QWidget()
        self.top.setLayout(
            row(
                self.add_box, button("Duplicate", "sounds.duplicate", self.duplicate),
                button("↑", "sounds.up", lambda: self._move(-1), accessible="Layer up"),
                button("↓", "sounds.down", lambda: self._move(1), accessible="Layer down"),
                button("Rename…", "sounds.rename", self._rename), button("Remove", "sounds.remove", self.remove), 1,
                button("Library…", "sounds.library", self.open_library, tip="Factory sounds and your own"),
                button("Import…", "sounds.import", self._import), button("Export…", "sounds.export", self._export), spacing=5,
            )
        )  # fmt: skip
        self.map = LayerMap(self.choose, lambda i, what, changes: self.change(what, i, **changes))
        self._tabs = row(spacing=4)
        self._tab_buttons = {
            name: button(name, f"sounds.tab.{name.lower()}", lambda n=name: self.show_tab(n)) for name in TABS
        }
        for each in self._tab_buttons.values():
            self._tabs.addWidget(each)
        self._tabs.addStretch(1)
        self._panel = column(spacing=6)
        self.empty = label(
            "This track plays a clip, which has no layers. Choose a track with an instrument, or make one here.", "soft",
            name="sounds.empty", wrap=True,
        )  # fmt: skip
        self.new_button = button("Make an instrument track", "sounds.new", self.new_track)
        self.piano = Piano(self._pressed, self._let_go)

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
        self.operators = OperatorGraph()
        self.envelope = EnvelopePicture(self._envelope_dragged, desk.bench.end_merge, lambda: desk.song.tempo_bpm)
        self.lfo = LfoPicture(lambda cycle: self._change_lfo("Draw LFO", cycle=cycle), desk.bench.end_merge)
        self.response = Plot(
            FREQUENCY,
            Axis(-48, 24, "dB", ticks=(-36, -24, -12, 0, 12)),
            name="sounds.filter.picture",
            accessible="Filter curve",
            height=150,
        )
        self.grid = NoteGrid(self._notes_changed, lambda pitch: self._audition(pitch))
        self._kept_panels = (
            self.wave,
            self.partials,
            self.operators,
            self.envelope,
            self.lfo,
            self.response,
            self.grid,
        )
        inner = QWidget()
        inner.setLayout(
            column(
                row(self.title, self.told, 1, spacing=10), self.empty, row(self.new_button, 1), self.top, self.map, self._tabs,
                self._panel, 1, spacing=7, margins=(16, 10, 10, 6),
            )
        )  # fmt: skip
        self.scroll = QScrollArea()
        self.scroll.setWidgetResizable(True)
        self.scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.scroll.setWidget(inner)
        self.setLayout(column(self.scroll, self.piano, spacing=0))
        for signal in (desk.session_changed, desk.selection_changed, desk.loop_changed):
            signal.connect(self._show)
        self._show()

    # --- what is shown -------------------------------------------------------------------------------------

    @property
    def track(self) -> Track | None:
        strip = self.desk.session.strip(self.desk.track_id)
        return strip if isinstance(strip, Track) else None

    @property
    def source(self) -> InstrumentSource | None:
        track = self.track
        return track.source if track is not None and isinstance(track.source, InstrumentSource) else None

    @property
    def layer(self) -> Layer | None:
        source = self.source
        if source is None or not source.layers:
            return None
        wanted = self._chosen.get(self.desk.track_id)
        return next((each for each in source.layers if each.id == wanted), source.layers[0])

    @property
    def phrase(self) -> Phrase | None:
        source = self.source
        if source is None:
            return None
        phrase = {p.section: p.phrase for p in source.parts}.get(self.desk.section.id)
        return next((p for p in source.phrases if p.id == phrase), None)

    def _kept(self) -> tuple[InstrumentSource | None, Layer | None]:
        """Instrument and layer as they are in A."""
        strip = {s.id: s for s in self.desk.bench.kept.strips()}.get(self.desk.track_id)
        source = strip.source if isinstance(strip, Track) and isinstance(strip.source, InstrumentSource) else None
        layer = self.layer
        found = next((e for e in source.layers if layer is not None and e.id == layer.id), None) if source else None
        return source, found

    def _show(self) -> None:
        source, layer, track = self.source, self.layer, self.track
        self.title.setText(self.desk.session.strip(self.desk.track_id).name)
        has = source is not None
        for widget in (self.top, self.map, self.piano):
            widget.setVisible(has)
        self.empty.setVisible(not has)
        self.new_button.setVisible(not has)
        for name, each in self._tab_buttons.items():
            each.setVisible(has and (layer is not None or name == "Notes"))
            each.setProperty("kind", "chosen" if name == self.tab else "")
            each.style().unpolish(each)
            each.style().polish(each)
        if source is None or track is None:
            self.told.setText("")
            self._clear_panel()
            self._made_for = None
            return
        count = len(source.layers)
        direct = sum(each.output == "direct" for each in source.layers)
        voices = {"poly": f"chords of {source.voices.limit}", "mono": "one note at a time", "legato": "legato"}[
            source.voices.mode
        ]
        self.told.setText(
            f"{count} layer{'s' if count != 1 else ''} · {voices}"
            + (f" · {direct} direct, past the chain" if direct else "")
        )
        self.map.show_layers(source, self._map, layer.id if layer else None)
        self._show_panel(source, layer)
        self._measure()

    def show_tab(self, tab: str) -> None:
        self.tab = tab
        self._show()

    def choose(self, layer_id: str) -> None:
        self._chosen[self.desk.track_id] = layer_id
        self.entry = self.device_at = 0
        self._show()

    def _clear_panel(self) -> None:
        for kept in self._kept_panels:
            kept.setParent(None)
        clear(self._panel)
        self._fields, self._movable = [], []

    def _show_panel(self, source: InstrumentSource, layer: Layer | None) -> None:
        phrase = self.phrase
        wanted = (
            self.desk.track_id, self.tab, layer.id if layer else None, self.entry, self.which_envelope, self.which_lfo, self.device_at, tuple(e.shape for e in (*source.lfos, *(layer.lfos if layer else ()))),
            layer and (layer.sound.kind, layer.filter is None, len(layer.routes), layer.routes, tuple(d.id for d in layer.chain)),
            layer and tuple(len(v) for v in layer.sound.params.values() if isinstance(v, tuple)),
            tuple((p.id, p.beats) for p in source.phrases), phrase and phrase.id, self.desk.section.id,
        )  # fmt: skip
        if wanted != self._made_for:
            self._made_for = wanted
            self._clear_panel()
            if self.tab == "Notes":
                self._make_notes(source)
            elif layer is None:
                self._panel.addWidget(label("No layer yet. Add one above: a source with a job.", "soft"))
            else:
                getattr(self, f"_make_{self.tab.lower()}")(source, layer)
        kept_source, kept_layer = self._kept()
        trial = self.desk.bench.trial is not None
        for field, read in self._fields:
            try:
                old = read(kept_source, kept_layer) if trial else None
            except (AttributeError, KeyError, IndexError, TypeError):
                old = None
            field.show_value(read(source, layer), old)
        if layer is not None:
            session, track = self.desk.session, self.desk.track_id
            for ruler, path in self._movable:
                ruler.show_moves(session.automated_range(track, path, layer=layer.id))
        self._show_pictures(layer, kept_layer if trial else None)

    def _show_pictures(self, layer: Layer | None, kept: Layer | None) -> None:
        if self.tab == "Notes":
            self.grid.show_phrase(self.phrase)
        if layer is None:
            return
        if self.tab == "Envelopes":
            self.envelope.show_envelope(self._envelope_of(layer), self._envelope_of(kept) if kept else None)
        elif self.tab == "LFOs":
            self.lfo.show_lfo(self._lfo_of(self.source, layer), self._lfo_of(self._kept()[0], kept) if kept else None)
        elif self.tab == "Filter":
            self._show_filter(layer.filter)
        elif self.tab == "Moves" and self.track is not None:
            self._lanes.show_layer(self.track, layer.id)
        elif self.tab == "Source":
            if layer.sound.kind == "fm":
                self.operators.show_sound(layer.sound.params, self.entry)
            self._ask_view(layer)

    # --- building blocks -----------------------------------------------------------------------------------

    def _cells(self, cells: list[QWidget]) -> None:
        box = QWidget()
        grid = QGridLayout()
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(12)
        grid.setVerticalSpacing(4)
        for i in range(_COLUMNS):
            grid.setColumnStretch(i, 1)
        for at, cell in enumerate(cells):
            grid.addWidget(cell, at // _COLUMNS, at % _COLUMNS)
        box.setLayout(grid)
        self._panel.addWidget(box)

    def _field(
        self,
        p: Param,
        name: str,
        change: Callable[[Any], None],
        read: Callable[[Any, Any], Any],
        moves: str | None = None,
    ) -> QWidget:
        """``moves`` is the parameter's path in its layer, where automation would find it."""
        if p.has_range:
            made: Any = Ruler(
                p, f"sounds.{name}", on_change=change, on_release=self.desk.bench.end_merge,
                bpm=lambda: self.desk.song.tempo_bpm, on_error=self.desk.message.emit,
            )  # fmt: skip
        else:
            made = Choice(p, f"sounds.{name}", on_change=change)
        self._fields.append((made, read))
        if moves is not None and p.has_range:
            self._movable.append((made, moves))
        return made

    def change(self, what: str, layer_id: str | None = None, *, merge: object = "value", **changes: Any) -> None:
        layer = self.layer
        layer_id = layer_id or (layer.id if layer else None)
        if layer_id is None:
            return
        track = self.desk.track_id
        key = (track, layer_id, what, *sorted(changes)) if merge == "value" else merge
        self.desk.edit(what, lambda s: change_layer(s, track, layer_id, **changes), merge_key=key)

    # --- source --------------------------------------------------------------------------------------------

    def _make_source(self, source: InstrumentSource, layer: Layer) -> None:
        kinds = choice("kind", "Source", tuple(k.kind for k in SOURCES), layer.sound.kind, "What makes the sound.", tuple(k.title for k in SOURCES))  # fmt: skip
        cells = [
            self._field(kinds, "kind", lambda v: self.change("Source", sound={"kind": v}, merge=None), lambda i, e: e.sound.kind),
            self._field(JOB, "job", lambda v: self.change("Job", job=v), lambda i, e: e.job),
            self._layer_field(LAYER[0]), self._layer_field(LAYER[1]),
        ]  # fmt: skip
        pictures = QWidget()
        self.operators.setVisible(layer.sound.kind == "fm")
        pictures.setLayout(row(self.wave, self.partials, self.operators, spacing=8))
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
            cells.append(self._field(p, p.name, lambda v, n=p.name, w=p.label: self._change_sound(w, **{n: v}), lambda i, e, n=p.name: e.sound.params[n], f"sound.{p.name}"))  # fmt: skip
        self._panel.addWidget(label(layer.sound.spec.summary, "soft", wrap=True))
        self._cells(cells[:4])
        self._panel.addWidget(pictures)
        self._cells(cells[4:])
        if entries is not None:
            self._make_entries(layer, entries)

    def _layer_field(self, p: Param) -> QWidget:
        return self._field(
            p,
            p.name,
            lambda v, n=p.name, w=p.label: self.change(w, **{n: v}),
            lambda i, e, n=p.name: getattr(e, n),
            p.name,
        )

    def _change_sound(self, what: str, **values: Any) -> None:
        layer = self.layer
        if layer is not None:
            self.change(what, sound=values, merge=(self.desk.track_id, layer.id, "sound", *values))

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
        self._panel.addWidget(box)
        if not values:
            return

        def change(value: Any, name: str, words: str) -> None:
            entries = list(self.layer.sound.params[p.name])
            entries[self.entry] = entries[self.entry].replace(**{name: value})
            self.change(
                words,
                sound={p.name: [e.to_json() for e in entries]},
                merge=(self.desk.track_id, p.name, self.entry, name),
            )

        self._cells(
            [
                self._field(q, f"entry.{q.name}", lambda v, n=q.name, w=q.label: change(v, n, w), lambda i, e, n=q.name: e.sound.params[p.name][self.entry][n], f"sound.{p.name}.{self.entry}.{q.name}")
                for q in p.items
                if q.type != "list"
            ]
        )  # fmt: skip

    def _choose_entry(self, at: int) -> None:
        self.entry = at
        self._show()

    def _resize_entries(self, p: Param, step: int) -> None:
        values = [e.to_json() for e in self.layer.sound.params[p.name]]
        self.change(p.label, sound={p.name: [*values, {}] if step > 0 else values[:-1]}, merge=None)

    def _asset_name(self, asset_id: str) -> str:
        return next((a.name for a in self.desk.session.assets if a.id == asset_id), asset_id[:8])

    def _use_audio(self, what: str, changes: Callable[[str, float], dict[str, Any]]) -> None:
        """Take a file in and give it to the source in one step of undo."""
        from zygotone.measure.pitch import fundamental_hz

        names = " ".join(f"*{suffix}" for suffix in AUDIO_SUFFIXES)
        path, _ = QFileDialog.getOpenFileName(self, what, "", f"Audio ({names})")
        layer, track = self.layer, self.desk.track_id
        if not path or layer is None:
            return
        self.use_audio_file(Path(path), what, layer.id, track, changes, fundamental_hz)

    def use_audio_file(self, path: Path, what: str, layer_id: str, track: str, changes: Callable[[str, float], dict[str, Any]], pitch_of: Callable[[Any, int], float]) -> None:  # fmt: skip
        try:
            audio = read_audio(path)
        except ZygotoneError as error:
            self.desk.message.emit(str(error))
            return
        asset = self.desk.store.add(audio, path.name, self.desk.session.rate_hz)
        hz = pitch_of(audio.data, audio.rate_hz)
        found = hz if np.isfinite(hz) else 0.0

        def put(session: Session) -> Session:
            return change_layer(add_asset(session, asset), track, layer_id, sound=changes(asset.id, found))

        self.desk.edit(what, put)

    def _file_cell(self, p: Param) -> QWidget:
        held = self.layer.sound.params[p.name]
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
        held = self.layer.sound.params[p.name]

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
        rate, clip = self.desk.session.rate_hz, self.desk.renderer.clip_reader(self.desk.session.rate_hz)
        low = layer.job == "sub" or (self.track is not None and self.track.role in ("bass", "sub"))
        pitch_hz = midi_to_hz(36 if low else 60)

        def run(cancel: Callable[[], bool]) -> tuple[object, SourceView]:
            return key, source_view(layer, pitch_hz=pitch_hz, rate_hz=rate, clip=clip)

        def done(found: tuple[object, SourceView]) -> None:
            self._view = found
            self._draw_view(found[1])

        self.desk.worker.submit("source view", run, done, urgency=2)

    def _draw_view(self, view: SourceView) -> None:
        ms = 1000.0 * view.seconds
        step = next(s for s in (0.5, 1, 2, 5, 10, 20, 50) if ms / s <= 8)
        top = max(0.1, float(np.max(np.abs(view.wave))))
        self.wave.set_axes(
            Axis(0.0, ms, "ms", ticks=tuple(round(step * i, 2) for i in range(int(ms / step) + 1))),
            Axis(-1.1 * top, 1.1 * top, "", ticks=(-round(top, 2), 0, round(top, 2))),
        )
        self.wave.show_curves(
            [Curve(f"at {format_number(view.pitch_hz, 'Hz')}", np.linspace(0.0, ms, WAVE_POINTS), view.wave, "ink")]
        )
        self.partials.show_curves([Curve("spectrum", FREQS_HZ, view.spectrum_db, "soft", "fill")])

    # --- envelopes -----------------------------------------------------------------------------------------

    def _envelope_of(self, layer: Layer) -> Envelope:
        if self.which_envelope == "Pitch":
            return layer.bend
        if self.which_envelope == "Filter":
            return layer.filter.envelope if layer.filter is not None else Envelope(sustain=0.0)
        return layer.envelope

    def _change_envelope(self, what: str, **values: float) -> None:
        layer = self.layer
        if layer is None:
            return
        new = Envelope.model_validate({**dict(self._envelope_of(layer)), **values})
        merge = (self.desk.track_id, layer.id, self.which_envelope, *values)
        if self.which_envelope == "Pitch":
            self.change(what, bend=new, merge=merge)
        elif self.which_envelope == "Filter":
            held = layer.filter or VoiceFilter()
            self.change(what, filter=held.replace(envelope=new), merge=merge)
        else:
            self.change(what, envelope=new, merge=merge)

    def _envelope_dragged(self, values: dict[str, float]) -> None:
        self._change_envelope("Draw envelope", **values)

    def _chooser(self, words: tuple[str, ...], chosen: str, name: str, pick: Callable[[str], None]) -> QWidget:
        box = QWidget()
        box.setLayout(row(*(button(w, f"sounds.{name}.{w.lower().replace(' ', '-')}", lambda v=w: pick(v), kind="chosen" if w == chosen else "") for w in words), 1, spacing=4))  # fmt: skip
        return box

    def _make_envelopes(self, source: InstrumentSource, layer: Layer) -> None:
        def pick(word: str) -> None:
            self.which_envelope = word
            self._show()

        self._panel.addWidget(self._chooser(("Level", "Filter", "Pitch"), self.which_envelope, "envelope", pick))
        self._panel.addWidget(self.envelope)
        cells = [
            self._field(p, f"envelope.{p.name}", lambda v, n=p.name, w=p.label: self._change_envelope(w, **{n: v}), lambda i, e, n=p.name: getattr(self._envelope_of(e), n))
            for p in ENVELOPE
        ]  # fmt: skip
        if self.which_envelope == "Pitch":
            cells.append(
                self._field(
                    BEND,
                    "bend",
                    lambda v: self.change("Pitch envelope", bend_semitones=v),
                    lambda i, e: e.bend_semitones,
                )
            )
        self._cells(cells)

    # --- LFOs ----------------------------------------------------------------------------------------------

    def _lfo_of(self, source: InstrumentSource | None, layer: Layer | None) -> Lfo:
        at = int(self.which_lfo[-1]) - 1
        if self.which_lfo.startswith("Shared"):
            return source.lfos[at]
        return layer.lfos[at]

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
        merge = (self.desk.track_id, layer.id, self.which_lfo, *values)
        if self.which_lfo.startswith("Shared"):
            both = tuple(new if i == at else each for i, each in enumerate(source.lfos))
            track = self.desk.track_id
            self.desk.edit(what, lambda s: change_instrument(s, track, lfos=both), merge_key=merge)
        else:
            self.change(what, lfos=tuple(new if i == at else each for i, each in enumerate(layer.lfos)), merge=merge)

    def _make_lfos(self, source: InstrumentSource, layer: Layer) -> None:
        def pick(word: str) -> None:
            self.which_lfo = word
            self.lfo.selected = None
            self._show()

        self._panel.addWidget(self._chooser(("LFO 1", "LFO 2", "Shared 1", "Shared 2"), self.which_lfo, "lfo", pick))
        self._panel.addWidget(self.lfo)
        read = lambda name: lambda i, e: getattr(self._lfo_of(i, e), name)  # noqa: E731
        cells = [
            self._field(LFO_SHAPE, "lfo.shape", lambda v: self._change_lfo("LFO shape", shape=v), read("shape")),
            self._field(LFO_MODE, "lfo.mode", lambda v: self._change_lfo("LFO begins", mode=v), read("mode")),
            *(self._field(p, f"lfo.{p.name}", lambda v, n=p.name, w=p.label: self._change_lfo(w, **{n: v}), read(p.name)) for p in LFO),
        ]  # fmt: skip
        if self._lfo_of(source, layer).shape == "drawn":
            cells.append(button("Take out point", "sounds.lfo.remove", self._remove_point))
        self._cells(cells)
        self._panel.addWidget(
            label(
                "An LFO moves nothing by itself: route it under Routes. A shared one moves all layers as one.",
                "soft",
                wrap=True,
            )
        )

    def _remove_point(self) -> None:
        lfo, at = self._lfo_of(self.source, self.layer), self.lfo.selected
        if at is not None and at < len(lfo.cycle):
            self.lfo.selected = None
            self._change_lfo("Take out point", cycle=tuple(p for i, p in enumerate(lfo.cycle) if i != at))

    # --- filter --------------------------------------------------------------------------------------------

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
            merge=(self.desk.track_id, layer.id, "filter", *values),
        )

    def _make_filter(self, source: InstrumentSource, layer: Layer) -> None:
        cells = [
            self._field(
                FILTER_MODE,
                "filter.mode",
                lambda v: self._change_filter("Filter", mode=v),
                lambda i, e: e.filter.mode if e.filter else "off",
            )
        ]
        if layer.filter is not None:
            cells.append(
                self._field(
                    SLOPE,
                    "filter.slope",
                    lambda v: self._change_filter("Slope", slope_db_oct=v),
                    lambda i, e: e.filter.slope_db_oct,
                )
            )
            cells += [
                self._field(p, f"filter.{p.name}", lambda v, n=p.name, w=p.label: self._change_filter(w, **{n: v}), lambda i, e, n=p.name: getattr(e.filter, n), f"filter.{p.name}")
                for p in FILTER
            ]  # fmt: skip
            self._panel.addWidget(self.response)
        self._cells(cells)
        if layer.filter is None:
            self._panel.addWidget(label("Off: all of the source passes. Choose what it is to let through.", "soft"))

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

    # --- routes --------------------------------------------------------------------------------------------

    def _make_routes(self, source: InstrumentSource, layer: Layer) -> None:
        if not layer.routes:
            self._panel.addWidget(
                label("Nothing is routed yet. Choose what moves, what it moves, and by how much.", "soft", wrap=True)
            )
        for i, each in enumerate(layer.routes):
            spin = self._amount_box(each.amount, layer_params(layer)[each.target], f"sounds.route.{i + 1}.amount")
            spin.editingFinished.connect(lambda at=i, box=spin: self._change_route(at, box.value()))
            box = QWidget()
            box.setLayout(
                row(label(route_sentence(each, layer)), 1, spin, button("Remove", f"sounds.route.{i + 1}.remove", lambda at=i: self._remove_route(at)), spacing=8)
            )  # fmt: skip
            self._panel.addWidget(box)
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
        self._panel.addWidget(box)

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

    # --- zones and voices ----------------------------------------------------------------------------------

    def _make_zones(self, source: InstrumentSource, layer: Layer) -> None:
        cells = [self._layer_field(p) for p in LAYER[2:]]
        cells += [
            self._field(OUTPUT, "output", lambda v: self.change("Output", output=v), lambda i, e: e.output),
            self._field(POLARITY, "polarity", lambda v: self.change("Polarity", polarity=v), lambda i, e: e.polarity),
        ]
        self._cells(cells)
        self._panel.addWidget(label("Voices of the whole instrument", "heading"))

        def voices(what: str, **values: Any) -> None:
            track, held = self.desk.track_id, self.source.voices
            new = type(held).model_validate({**dict(held), **values})
            self.desk.edit(
                what, lambda s: change_instrument(s, track, voices=new), merge_key=(track, "voices", *values)
            )

        self._cells(
            [
                *(self._field(p, f"voices.{p.name}", lambda v, n=p.name, w=p.label: voices(w, **{n: v}), lambda i, e, n=p.name: getattr(i.voices, n)) for p in (MODE, GLIDE_BY, GLIDE_WHEN, *VOICES))
            ]
        )  # fmt: skip

    # --- the layer's own chain -----------------------------------------------------------------------------

    def _make_chain(self, source: InstrumentSource, layer: Layer) -> None:
        self.device_at = min(self.device_at, max(0, len(layer.chain) - 1))
        add = QComboBox()
        add.setObjectName("sounds.chain.add")
        add.setAccessibleName("Add a device to the layer")
        add.addItem("Add device…", None)
        for kind in DEVICES:
            if kind.kind != "split":
                add.addItem(kind.title, kind.kind)
        add.activated.connect(lambda i: self._add_device(add.itemData(i)))
        box = QWidget()
        buttons = [
            button(
                d.title,
                f"sounds.chain.{d.id}",
                lambda n=i: self._choose_device(n),
                kind="chosen" if i == self.device_at else "",
            )
            for i, d in enumerate(layer.chain)
        ]
        box.setLayout(row(*buttons, add, 1, spacing=4))
        self._panel.addWidget(box)
        if not layer.chain:
            self._panel.addWidget(
                label(
                    "No device of its own. What is here works on this layer alone, before it meets the others.",
                    "soft",
                    wrap=True,
                )
            )
            return
        device = layer.chain[self.device_at]
        cells: list[QWidget] = [
            button("Remove", "sounds.chain.remove", self._remove_device),
            self._field(
                switch("on", "On", True, "On or off"),
                "chain.on",
                lambda v: self._change_device("Switch", on=v),
                lambda i, e: e.chain[self.device_at].on,
            ),
        ]
        for p in device.spec.params:
            if p.type == "list" and p.entries == "values" and device.params[p.name]:
                for n in range(len(device.params[p.name])):
                    for q in p.items:
                        if q.has_range or q.type == "choice":
                            named = replace(q, label=f"{n + 1}: {q.label}")
                            cells.append(self._field(named, f"chain.{p.name}.{n}.{q.name}", lambda v, a=p.name, b=n, c=q.name: self._change_entry(a, b, c, v), lambda i, e, a=p.name, b=n, c=q.name: e.chain[self.device_at].params[a][b][c]))  # fmt: skip
            elif p.type not in ("list", "file"):
                cells.append(self._field(p, f"chain.{p.name}", lambda v, n=p.name, w=p.label: self._change_device(w, **{n: v}), lambda i, e, n=p.name: e.chain[self.device_at].params[n]))  # fmt: skip
        self._cells(cells)

    def _choose_device(self, at: int) -> None:
        self.device_at = at
        self._show()

    def _add_device(self, kind: str | None) -> None:
        if kind is None or self.layer is None:
            return
        chain = self.layer.chain
        values = {"bands": [{}]} if kind == "eq" else {}
        device = Device.model_validate({"id": make_id(kind, (d.id for d in chain)), "kind": kind, **values})
        self.device_at = len(chain)
        self.change("Add device", chain=(*chain, device), merge=None)

    def _remove_device(self) -> None:
        self.change(
            "Remove device", chain=tuple(d for i, d in enumerate(self.layer.chain) if i != self.device_at), merge=None
        )

    def _change_device(self, what: str, **values: Any) -> None:
        chain = list(self.layer.chain)
        chain[self.device_at] = Device.model_validate({**chain[self.device_at].model_dump(), **values})
        self.change(
            what, chain=tuple(chain), merge=(self.desk.track_id, self.layer.id, "chain", self.device_at, *values)
        )

    def _change_entry(self, name: str, at: int, field: str, value: Any) -> None:
        entries = [e.to_json() for e in self.layer.chain[self.device_at].params[name]]
        entries[at][field] = value
        self._change_device(field.replace("_", " "), **{name: entries})

    # --- automation ----------------------------------------------------------------------------------------

    def _make_moves(self, source: InstrumentSource, layer: Layer) -> None:
        self._panel.addWidget(label("What moves by itself over the song or a section, on this layer.", "soft"))
        self._lanes = LanePanel(self.desk)
        self._lanes.setObjectName("sounds.lanes")
        self._panel.addWidget(self._lanes)

    # --- notes ---------------------------------------------------------------------------------------------

    def _make_notes(self, source: InstrumentSource) -> None:
        phrases = QComboBox()
        phrases.setObjectName("sounds.phrase")
        phrases.setAccessibleName("Phrase of this section")
        phrases.addItem("no phrase", None)
        for p in source.phrases:
            phrases.addItem(f"{p.id} ({p.beats:g} beats)", p.id)
        now = self.phrase
        phrases.setCurrentIndex(
            next((i for i in range(phrases.count()) if phrases.itemData(i) == (now.id if now else None)), 0)
        )
        phrases.activated.connect(
            lambda i: self._edit(
                "Phrase", lambda s: set_part(s, self.desk.track_id, self.desk.section.id, phrases.itemData(i))
            )
        )
        steps = QComboBox()
        steps.setObjectName("sounds.step")
        steps.setAccessibleName("Grid")
        for words, beats in (
            ("1/4", 1.0),
            ("1/8", 0.5),
            ("1/8 t", 1 / 3),
            ("1/16", 0.25),
            ("1/16 t", 1 / 6),
            ("1/32", 0.125),
        ):
            steps.addItem(words, beats)
        steps.setCurrentIndex(steps.findData(self.grid.step))
        steps.activated.connect(lambda i: setattr(self.grid, "step", steps.itemData(i)))
        self.chords = QLineEdit("F#m9 | Dmaj7 | Bm7 | C#m7")
        self.chords.setObjectName("sounds.chords")
        self.chords.setAccessibleName("Chord line")
        self.chords.setToolTip("Bars parted by |, chords within a bar by spaces")
        makes = QComboBox()
        makes.setObjectName("sounds.make")
        makes.setAccessibleName("Make notes from the chords")
        for words in (
            "Make…",
            "Chords",
            "Roots in eighths",
            "Off-beats",
            "Arpeggio in sixteenths",
            "Rolling bass",
            "Accelerating roll",
        ):
            makes.addItem(words)
        makes.activated.connect(lambda i: (self.generate(i), makes.setCurrentIndex(0)))
        shape = QComboBox()
        shape.setObjectName("sounds.shape")
        shape.setAccessibleName("Change all notes")
        for words in ("All notes…", "Quantize wholly", "Quantize by half", "Swing by half", "Humanize", "Strum 24 ms"):
            shape.addItem(words)
        shape.activated.connect(lambda i: (self.reshape(i), shape.setCurrentIndex(0)))
        recording = button("Stop recording" if self.record else "Record", "sounds.record", self._toggle_record, kind="chosen" if self.record else "", tip="What the keyboard plays goes into the phrase while the song plays")  # fmt: skip
        one, two = QWidget(), QWidget()
        one.setLayout(
            row(
                label(f"{self.desk.section.name} plays", "soft"),
                phrases,
                button("New phrase", "sounds.phrase.new", self.new_phrase),
                label("grid", "soft"),
                steps,
                shape,
                recording,
                1,
                spacing=5,
            )
        )
        two.setLayout(
            row(
                label("Chords", "soft"),
                self.chords,
                makes,
                button("MIDI in…", "sounds.midi.in", self._midi_in),
                button("MIDI out…", "sounds.midi.out", self._midi_out),
                spacing=5,
            )
        )
        for each in (one, two, self.grid):
            self._panel.addWidget(each)
        nudge = Param(
            name="nudge_ms",
            label="Phrase nudge",
            unit="ms",
            low=-200.0,
            high=200.0,
            default=0.0,
            help="Moves the whole phrase: below 0 earlier.",
        )
        note_nudge = replace(nudge, label="Note nudge", help="Moves the selected note: below 0 earlier.")
        cells = []
        if now is not None:
            cells = [
                self._field(nudge, "phrase.nudge", lambda v: self._change_phrase("Phrase nudge", nudge_ms=v), lambda i, e: self.phrase.nudge_ms if self.phrase else 0.0),
                self._field(note_nudge, "note.nudge", lambda v: self.grid.change_selected("Note nudge", ("nudge", self.grid.selected), nudge_ms=v), lambda i, e: self._selected_note("nudge_ms")),
            ]  # fmt: skip
            for n in range(4):
                macro = Param(
                    name=f"macro{n + 1}",
                    label=f"Macro {n + 1} of the note",
                    low=0.0,
                    high=1.0,
                    default=0.0,
                    help="For routes, note by note.",
                )
                cells.append(self._field(macro, f"note.macro{n + 1}", lambda v, at=n: self._set_macro(at, v), lambda i, e, at=n: (self._selected_note("macros") or (0.0,) * 4)[at]))  # fmt: skip
        self._cells(cells)

    def _selected_note(self, field: str) -> Any:
        phrase, at = self.phrase, self.grid.selected
        if phrase is None or at is None or at >= len(phrase.notes):
            return 0.0 if field == "nudge_ms" else None
        return getattr(phrase.notes[at], field)

    def _set_macro(self, at: int, value: float) -> None:
        held = self._selected_note("macros")
        if held is not None:
            self.grid.change_selected(
                "Macro", ("macro", at), macros=tuple(value if i == at else v for i, v in enumerate(held))
            )

    def _edit(self, what: str, change: Callable[[Session], Session], merge: object = None) -> None:
        self.desk.edit(what, change, merge_key=merge)

    def _change_phrase(self, what: str, *, merge: object = None, **values: Any) -> None:
        phrase, track = self.phrase, self.desk.track_id
        if phrase is not None:
            new = Phrase.model_validate({**dict(phrase), **values})
            self._edit(what, lambda s: put_phrase(s, track, new), merge or (track, phrase.id, *values))

    def _notes_changed(self, what: str, notes: tuple[Note, ...], merge: object) -> None:
        self._change_phrase(
            what, notes=notes, merge=(self.desk.track_id, "notes", what, merge) if merge is not None else object()
        )

    def new_phrase(self, *, beats: float | None = None, notes: tuple[Note, ...] = (), name: str = "phrase") -> None:
        source, track, section = self.source, self.desk.track_id, self.desk.section
        if source is None:
            return
        made = Phrase(
            id=make_id(name, (p.id for p in source.phrases)), beats=beats or 4.0 * self.desk.song.bar_beats, notes=notes
        )
        self._edit("New phrase", lambda s: set_part(put_phrase(s, track, made), track, section.id, made.id))

    def _set_notes(self, what: str, events: list[NoteEvent], beats: float | None = None) -> None:
        notes = tuple(note_of(e) for e in events)
        if self.phrase is None:
            self.new_phrase(beats=beats, notes=notes)
        else:
            self._change_phrase(what, notes=notes, merge=object(), **({"beats": beats} if beats else {}))

    def generate(self, which: int) -> None:
        """Notes from the chord line, by rule."""
        if which == 0:
            return
        try:
            bars = parse_chord_line(self.chords.text())
        except ParameterError as error:
            self.desk.message.emit(str(error))
            return
        bar = self.desk.song.bar_beats
        low = 28 if self.track is not None and self.track.role in ("bass", "sub") else 50
        made = {
            1: lambda: chord_line(bars, bar_beats=bar, lowest=low), 2: lambda: root_line(bars, bar_beats=bar, step_beats=0.5, lowest=low),
            3: lambda: offbeat_line(bars, bar_beats=bar, lowest=low), 4: lambda: arpeggio(bars, bar_beats=bar, step_beats=0.25, lowest=low, octaves=2),
            5: lambda: rolling_bass(bars, bar_beats=bar, lowest=low),
            6: lambda: accelerating_roll(beats=bar * len(bars), pitch=self._roll_pitch()),
        }[which]()  # fmt: skip
        self._set_notes("Make notes", made, bar * len(bars))

    def _roll_pitch(self) -> int:
        """The selected note's pitch, or where drums are as they were tuned."""
        phrase, at = self.phrase, self.grid.selected
        return phrase.notes[at].pitch if phrase is not None and at is not None and at < len(phrase.notes) else 60

    def reshape(self, which: int) -> None:
        """A change of all notes of the phrase."""
        phrase = self.phrase
        if which == 0 or phrase is None:
            return
        notes = [event_of(n) for n in phrase.notes]
        step = self.grid.step
        made = {
            1: lambda: quantized(notes, step), 2: lambda: quantized(notes, step, strength=0.5), 3: lambda: swung(notes, step, 0.5),
            4: lambda: humanized(notes, time_ms=6.0, velocity=0.06, seed=1), 5: lambda: strummed(notes, 24.0),
        }[which]()  # fmt: skip
        self._set_notes("Change all notes", made)

    def _midi_in(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Bring in notes", "", "MIDI (*.mid *.midi)")
        if path:
            self.bring_in_midi(Path(path))

    def bring_in_midi(self, path: Path) -> None:
        try:
            song = read_midi(path)
        except ZygotoneError as error:
            self.desk.message.emit(str(error))
            return
        notes = song.notes
        bar = self.desk.song.bar_beats
        beats = bar * max(1, int(np.ceil(max(n.start_beat + n.length_beats for n in notes) / bar - 1e-9)))
        self.new_phrase(beats=beats, notes=tuple(note_of(n) for n in notes), name=path.stem)

    def _midi_out(self) -> None:
        phrase = self.phrase
        if phrase is None:
            self.desk.message.emit("There is no phrase here to write.")
            return
        path, _ = QFileDialog.getSaveFileName(self, "Write notes", f"{phrase.id}.mid", "MIDI (*.mid)")
        if path:
            song = self.desk.song
            try:
                write_midi(path, [(self.track.name, [event_of(n) for n in phrase.notes])], tempo_bpm=song.tempo_bpm, beats_per_bar=song.beats_per_bar, beat_unit=song.beat_unit)  # fmt: skip
            except ZygotoneError as error:
                self.desk.message.emit(str(error))

    # --- playing and recording -----------------------------------------------------------------------------

    def _song_beat(self) -> float:
        """Where in the section the song is now, in beats; what is heard, not what is worked out."""
        first, _ = self.desk.loop_span()
        at = self.desk.player.heard_position() - first
        return max(0.0, at / self.desk.session.rate_hz * self.desk.song.tempo_bpm / 60.0)

    def _pressed(self, pitch: int, velocity: float) -> None:
        self.desk.press_note(pitch, velocity)
        if self.record and self.desk.playing and self.phrase is not None:
            self._recorded[pitch] = (self._song_beat(), velocity)

    def _let_go(self, pitch: int) -> None:
        self.desk.release_note(pitch)
        taken, phrase = self._recorded.pop(pitch, None), self.phrase
        if taken is None or phrase is None:
            return
        begun, velocity = taken
        length = max(0.05, self._song_beat() - begun)
        note = Note(
            start_beat=begun % phrase.beats,
            length_beats=length,
            pitch=pitch,
            velocity=round(velocity, 2),
            wheel=round(self.desk.wheel, 3),
        )
        self._change_phrase(
            "Record", notes=tuple(sorted((*phrase.notes, note), key=lambda n: n.start_beat)), merge=object()
        )

    def _toggle_record(self) -> None:
        self.record = not self.record
        if self.record and self.phrase is None:
            self.new_phrase()
        self._made_for = None
        self._show()

    def _audition(self, pitch: int) -> None:
        from PySide6.QtCore import QTimer

        self.desk.press_note(pitch, 0.8)
        QTimer.singleShot(250, lambda: self.desk.release_note(pitch))

    # --- layers and sounds ---------------------------------------------------------------------------------

    def _add_chosen(self, index: int) -> None:
        kind = self.add_box.itemData(index)
        self.add_box.setCurrentIndex(0)
        if kind is not None:
            self.add_layer(kind)

    def add_layer(self, kind: str) -> None:
        source, track = self.source, self.desk.track_id
        if source is None:
            return
        title = SOURCES.find(kind).title
        made = Layer.model_validate(
            {"id": make_id(kind, (e.id for e in source.layers)), "name": title, "sound": {"kind": kind}, "level_db": -6.0, "envelope": {"sustain": 0.8}}
        )  # fmt: skip
        if self.desk.edit("Add layer", lambda s: put_layer(s, track, made)):
            self.choose(made.id)

    def duplicate(self) -> None:
        source, layer, track = self.source, self.layer, self.desk.track_id
        if source is not None and layer is not None:
            copy = layer.replace(id=make_id(layer.id, (e.id for e in source.layers)), name=f"{layer.name} copy"[:120])
            if self.desk.edit("Duplicate layer", lambda s: put_layer(s, track, copy)):
                self.choose(copy.id)

    def remove(self) -> None:
        layer, track = self.layer, self.desk.track_id
        if layer is not None:
            self._edit("Remove layer", lambda s: remove_layer(s, track, layer.id))

    def _move(self, steps: int) -> None:
        layer, track = self.layer, self.desk.track_id
        if layer is not None:
            self._edit("Move layer", lambda s: move_layer(s, track, layer.id, steps))

    def _rename(self) -> None:
        layer = self.layer
        if layer is not None:
            text, good = QInputDialog.getText(self, "Rename layer", "Name of this layer:", text=layer.name)
            if good and text.strip():
                self.change("Rename layer", name=text.strip()[:120], merge=None)

    def new_track(self) -> None:
        """A track with a plain instrument, so that there is something to build on."""
        from zygotone.factory import factory_sounds

        sound = next(s for s in factory_sounds() if s.name == "Soft keys")

        def add(session: Session) -> Session:
            made = Track(
                id=make_id("sound", (s.id for s in session.strips())),
                name=_free_name("Sound", session),
                role="keys",
                source=sound.instrument(),
            )
            self._new_id = made.id
            return session.replace(tracks=(*session.tracks, made))

        if self.desk.edit("New instrument track", add):
            self.desk.select_track(self._new_id)

    def use_sound(self, sound: SavedSound, clips: dict[str, Any]) -> None:
        """Put a sound in the place of the track's own; its phrases stay."""
        track, source = self.desk.track_id, self.source
        if source is None:
            return
        assets = {name: self.desk.store.add(clip, name, self.desk.session.rate_hz) for name, clip in clips.items()}
        layers = with_clip_names(sound.layers, {name: asset.id for name, asset in assets.items()})

        def put(session: Session) -> Session:
            for asset in assets.values():
                session = add_asset(session, asset)
            return change_instrument(
                session, track, layers=layers, voices=sound.voices, lfos=sound.lfos, macros=sound.macros
            )

        if self.desk.edit(f"Sound: {sound.name}", put):
            self._chosen.pop(track, None)
            self._show()

    def present_sound(self, name: str) -> tuple[SavedSound, dict[str, Any]]:
        """The track's sound and its clips, as they are now."""
        from zygotone.session.audio_files import AudioData
        from zygotone.session.instruments import instrument_files

        source, rate = self.source, self.desk.session.rate_hz
        clips = {
            asset: AudioData(self.desk.store.audio_of(asset, rate), rate, "FLOAT", "WAV")
            for asset in instrument_files(source.layers)
        }  # fmt: skip
        return SavedSound.of(source, name=name, role=self.track.role), clips

    def open_library(self) -> None:
        LibraryDialog(self).exec()

    def _import(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Bring in a sound", "", "Sounds (*.json)")
        if path:
            try:
                self.use_sound(*load_sound(Path(path)))
            except ZygotoneError as error:
                self.desk.message.emit(str(error))

    def _export(self) -> None:
        if self.source is None or not self.source.layers:
            return
        path, _ = QFileDialog.getSaveFileName(self, "Write the sound", f"{self.track.name}.json", "Sounds (*.json)")
        if path:
            try:
                save_sound(Path(path), *self.present_sound(self.track.name))
            except ZygotoneError as error:
                self.desk.message.emit(str(error))

    # --- measuring -----------------------------------------------------------------------------------------

    def showEvent(self, event) -> None:
        super().showEvent(event)
        self._measure()

    def _measure(self) -> None:
        if not self.isVisible() or self.source is None:
            return
        desk, track, session = self.desk, self.desk.track_id, self.desk.session

        def run(cancel: Callable[[], bool]) -> LayerMapView | None:
            return layer_map(desk.context(session, cancel), track)

        desk.worker.submit("layer map", run, self._on_map, urgency=3)

    def _on_map(self, view: LayerMapView | None) -> None:
        self._map = view
        source, layer = self.source, self.layer
        if source is not None:
            self.map.show_layers(source, view, layer.id if layer else None)


def note_of(event: NoteEvent) -> Note:
    return Note(
        start_beat=event.start_beat, length_beats=event.length_beats, pitch=event.pitch, velocity=event.velocity,
        nudge_ms=event.nudge_ms, macros=event.macros, wheel=event.wheel,
    )  # fmt: skip


def event_of(note: Note) -> NoteEvent:
    return NoteEvent(
        note.start_beat, note.length_beats, note.pitch, note.velocity, note.nudge_ms, note.macros, note.wheel
    )


def _free_name(name: str, session: Session) -> str:
    names, n, unlike = {s.name for s in session.strips()}, 2, name
    while unlike in names:
        unlike, n = f"{name} {n}", n + 1
    return unlike
