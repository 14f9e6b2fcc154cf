"""Chains: the devices of the selected track in order, each with its rulers, its picture and what it did."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtGui import QFontMetrics
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QFrame,
    QGridLayout,
    QInputDialog,
    QScrollArea,
    QSizePolicy,
    QWidget,
)

from zygotone.advise.views import RESPONSE_KINDS, TAIL_KINDS, Effect, Step, chain_steps, device_effect, finite
from zygotone.app.desk import Desk
from zygotone.app.theme import text_font
from zygotone.app.widgets.basic import button, card, clear, column, label, restyle, row, signed
from zygotone.app.widgets.lanes import LanePanel
from zygotone.app.widgets.pictures import (
    BellPicture,
    CompressorPicture,
    DuckPicture,
    Picture,
    ResponsePicture,
    SaturationPicture,
    SpectraPicture,
    TailPicture,
)
from zygotone.app.widgets.ruler import Choice, Ruler
from zygotone.app.widgets.sends import SendsPanel
from zygotone.devices import Host
from zygotone.engine.graph import compile_session
from zygotone.errors import ParameterError, ZygotoneError
from zygotone.measure.dynamics import peak_and_body_db
from zygotone.session.audio_files import read_audio
from zygotone.session.catalogue import DEVICES
from zygotone.session.edits import (
    add_asset,
    chain_of,
    change_device,
    change_strip,
    duplicate_device,
    insert_device,
    make_id,
    move_device,
    new_device,
    parent,
    remove_device,
)
from zygotone.session.models import LEVEL, NUDGE, PAN, Device, KeyInput, Strip, Track, walk
from zygotone.session.params import Param, Values, defaults, number

AUDIO_FILTER = "Audio (*.wav *.flac *.ogg *.aif *.aiff)"
MIX = number(
    "mix", "Wet / dry", "%", 0.0, 100.0, 100.0, "How much of the processed signal is heard; the rest is dry, aligned."
)
_COLUMNS = 4


def entries_param(device: Device) -> Param | None:
    """The list of a device whose entries are edited one at a time."""
    return next((p for p in device.spec.params if p.type == "list" and p.entries == "values"), None)


def singular(p: Param) -> str:
    """A word for one entry of a list."""
    return {"bands": "Band", "points": "Point", "branches": "Branch", "crossovers_hz": "Crossover"}.get(p.name, p.label)


def picture_kind(kind: str) -> str:
    """Which picture shows a kind of device."""
    if kind in RESPONSE_KINDS:
        return "response"
    if kind in TAIL_KINDS:
        return "tail"
    usual = {
        "eq": "bell",
        "keyed_eq": "bell",
        "compressor": "compressor",
        "saturation": "saturation",
        "ducker": "curve",
    }
    return usual.get(kind, "spectra")


@dataclass(frozen=True)
class _Measured:
    steps: dict[str, Step]
    effect: Effect | None
    kept_effect: Effect | None
    key: tuple[str, str | None]


class DeviceCard(QFrame):
    """A device in the row: number, name, what it changes. ``path`` is where it stands in the strip's chain."""

    def __init__(self, at: int, device: Device, path: str, stage: ChainsStage) -> None:
        super().__init__()
        self.setProperty("kind", "card")
        self.setObjectName(f"chains.device.{device.id}")
        self.setAccessibleName(f"Device {at}, {device.title}")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFixedSize(150, 82)
        self._id, self._stage = path, stage
        self.on = QCheckBox()
        self.on.setChecked(device.on)
        self.on.setObjectName(f"chains.device.{device.id}.on")
        self.on.setAccessibleName(f"{device.title} on")
        self.on.setToolTip("On or off (Shift+O)")
        self.on.toggled.connect(lambda on: stage.change(path, "Switch", on=on))
        title = QFontMetrics(text_font(10, bold=True)).elidedText(device.title, Qt.TextElideMode.ElideRight, 98)
        name = label(title, "heading")
        name.setToolTip(device.title)
        self.loudness, self.crest = label("", "number"), label("", "number")
        key = ""
        if device.key is not None:
            key = f"key {stage.desk.session.strip(device.key.track).name}"
        self.key = label(key, "soft")
        self.setLayout(
            column(
                row(label(str(at), "soft"), name, 1, self.on, spacing=5),
                row(label("loudness", "soft"), 1, self.loudness),
                row(label("crest", "soft"), 1, self.crest),
                self.key, spacing=1, margins=(9, 5, 7, 4),
            )
        )  # fmt: skip
        self.key.setVisible(bool(key))

    def show_state(self, *, selected: bool, trial: bool, step: Step | None) -> None:
        restyle(self, trial="true" if trial else "false")
        self.setStyleSheet("DeviceCard { border-width: 2px; }" if selected else "")
        for field, value, unit in (
            (self.loudness, step.lufs if step else None, "LU"),
            (self.crest, step.crest_db if step else None, "dB"),
        ):
            field.setText(signed(value, unit) if finite(value) else "–")

    def mousePressEvent(self, event) -> None:
        self._stage.desk.select_device(self._id)

    def focusInEvent(self, event) -> None:
        super().focusInEvent(event)
        if event.reason() in (Qt.FocusReason.TabFocusReason, Qt.FocusReason.BacktabFocusReason):
            self._stage.desk.select_device(self._id)


class ChainsStage(QWidget):
    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.setObjectName("stage.chains")
        self.desk = desk
        self.band = 0
        self.where = ""  # the branch whose chain is shown, such as split/0
        self._where_strip = ""
        self.back = button("←", "chains.branch.back", self.leave_branch)
        self.sends = SendsPanel(desk)
        self.lanes = LanePanel(desk)
        self._measured: _Measured | None = None
        self._cards_for: object = None
        self._rulers_for: object = None
        self._cards: dict[str, DeviceCard] = {}
        self._fields: list[tuple[Any, Any]] = []  # (ruler or choice, function from device and strip to its value)
        self._movable: list[tuple[Ruler, str | None, str]] = []  # rulers with the path of their device and parameter

        self.title = label("", "title", name="chains.title")
        self.route = label("", "soft", name="chains.route")
        self._card_row = row(spacing=4)
        cards = QWidget()
        cards.setLayout(self._card_row)
        self._card_scroll = QScrollArea()
        self._card_scroll.setWidgetResizable(True)
        self._card_scroll.setFixedHeight(94)
        self._card_scroll.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._card_scroll.setWidget(cards)
        self._actions = row(
            button("← Earlier", "chains.earlier", lambda: self._move(-1), tip="Alt+Left"),
            button("Later →", "chains.later", lambda: self._move(1), tip="Alt+Right"),
            button("Duplicate", "chains.duplicate", self._duplicate, tip="Ctrl+D"),
            button("Rename…", "chains.rename", self._rename),
            button("Remove", "chains.remove", self._remove, tip="Delete"),
            1,
        )
        self.latency = label("", "soft", name="chains.latency")
        self._actions.addWidget(self.latency)
        self._actions_box = QWidget()
        self._actions_box.setLayout(self._actions)

        self._pictures: dict[str, Picture] = {}
        self._picture_space = column()
        self._band_row = row(spacing=5)
        self._rulers = QGridLayout()
        self._rulers.setHorizontalSpacing(12)
        self._rulers.setVerticalSpacing(4)
        for i in range(_COLUMNS):
            self._rulers.setColumnStretch(i, 1)
        self._did_title = label("", "heading")
        self._tiles = QGridLayout()
        self._tiles.setSpacing(6)
        self.empty = label(
            "This chain is empty. Add a device from the right; it opens with settings that change nothing much, and you go on from there.",
            "soft",
            name="chains.empty",
            wrap=True,
        )
        inner = QWidget()
        inner.setLayout(
            column(
                row(self.title, self.route, 1, self.back, spacing=10), self._card_scroll, self.empty, self._actions_box,
                self._picture_space, self._band_row, self._rulers, self._did_title, self._tiles, self.sends, self.lanes, 1,
                spacing=8, margins=(16, 10, 10, 10),
            )
        )  # fmt: skip
        self.scroll = QScrollArea()
        self.scroll.setWidgetResizable(True)
        self.scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.scroll.setWidget(inner)
        self.setLayout(column(self.scroll))
        for signal in (desk.session_changed, desk.selection_changed, desk.loop_changed):
            signal.connect(self._show)
        self._show()

    # --- what is shown -------------------------------------------------------------------------------------

    @property
    def strip(self) -> Strip:
        return self.desk.session.strip(self.desk.track_id)

    @property
    def device(self) -> Device | None:
        return dict(walk(self.strip.chain)).get(self.desk.device_id or "")

    @property
    def path(self) -> str:
        """Where the selected device stands."""
        return self.desk.device_id or ""

    @property
    def chain(self) -> tuple[Device, ...]:
        """The chain that is shown: the strip's own, or that of a branch."""
        return chain_of(self.strip, self.where)

    def _kept_device(self) -> Device | None:
        """The device as it is in A: None where it does not exist there."""
        strips = {s.id: s for s in self.desk.bench.kept.strips()}
        strip = strips.get(self.desk.track_id)
        return dict(walk(strip.chain)).get(self.path) if strip else None

    def _show(self) -> None:
        self.where = self._where()
        strip, device = self.strip, self.device
        session = self.desk.session
        self.title.setText(strip.name)
        count = len(strip.chain)
        goes = "out"
        if isinstance(strip, Track):
            goes = session.strip(strip.bus).name if strip.bus else session.mix.name
        elif strip.id != session.mix.id:
            goes = session.mix.name
        sends = "".join(f", {session.strip(s.to).name} {signed(s.level_db, 'dB')}" for s in strip.sends)
        late = 1000.0 * self._latency_frames() / session.rate_hz
        aligned = f" · {late:.1f} ms behind, aligned" if late else ""
        self.route.setText(f"{count} device{'s' if count != 1 else ''} → level and pan → {goes}{sends}{aligned}")
        self.back.setVisible(bool(self.where))
        if self.where:
            split_id, branch = self.where.rsplit("/", 1)
            self.back.setText(f"← Out of branch {int(branch) + 1} of {strip.device(split_id).title}")
        self._show_cards(strip)
        self.empty.setVisible(device is None)
        for widget in (self._actions_box, self._card_scroll):
            widget.setVisible(device is not None)
        entries = entries_param(device) if device is not None else None
        if device is not None and entries is not None:
            self.band = min(self.band, max(0, len(device.params[entries.name]) - 1))
        self._show_rulers()
        self._show_picture()
        self.sends.show_strip(strip)
        self.lanes.show_strip(strip, self.path if device is not None else None)
        self._measure()

    def _where(self) -> str:
        """The branch that is shown, as long as it exists and holds what is selected."""
        if self.desk.device_id is not None and self.device is not None:
            return parent(self.desk.device_id)[0]
        try:
            chain_of(self.strip, self.where)
        except ParameterError:
            return ""
        return self.where if self._where_strip == self.desk.track_id else ""

    def _latency_frames(self) -> int:
        return compile_session(self.desk.session).strip[self.strip.id].latency

    def enter_branch(self, index: int) -> None:
        """Show the chain of a branch of the selected split."""
        self.where, self._where_strip = f"{self.path}/{index}", self.desk.track_id
        chain = self.chain
        self.desk.select_device(f"{self.where}/{chain[0].id}" if chain else None)
        self._show()

    def leave_branch(self) -> None:
        split_path = self.where.rsplit("/", 1)[0]
        self.where = ""
        self.desk.select_device(split_path)
        self._show()

    def _show_cards(self, strip: Strip) -> None:
        names = {s.id: s.name for s in self.desk.session.strips()}
        prefix = f"{self.where}/" if self.where else ""
        chain = self.chain
        wanted = (
            tuple((d.id, d.title, d.on, names.get(d.key.track) if d.key else None) for d in chain),
            strip.id,
            prefix,
        )
        if wanted != self._cards_for:
            self._cards_for = wanted
            clear(self._card_row)
            self._cards = {}
            for at, device in enumerate(chain, 1):
                if at > 1:
                    arrow = label("→", "soft")
                    self._card_row.addWidget(arrow)
                path = prefix + device.id
                self._cards[path] = DeviceCard(at, device, path, self)
                self._card_row.addWidget(self._cards[path])
            self._card_row.addStretch(1)
        kept = {s.id: s for s in self.desk.bench.kept.strips()}.get(strip.id)
        old = dict(walk(kept.chain)) if kept else {}
        steps = self._measured.steps if self._measured and self._measured.key[0] == strip.id else {}
        for path, device in ((prefix + d.id, d) for d in chain):
            self._cards[path].show_state(
                selected=path == self.desk.device_id, trial=self.desk.bench.trial is not None and old.get(path) != device,
                step=steps.get(path),
            )  # fmt: skip

    def _picture_of(self, device: Device) -> Picture:
        kind = picture_kind(device.kind)
        if kind not in self._pictures:
            made: Picture
            if kind == "bell":
                made = BellPicture(self._band_dragged, self.select_band, self.desk.bench.end_merge)
            elif kind == "curve":
                made = DuckPicture(self._point_dragged, self.select_band, self.desk.bench.end_merge)
            elif kind in ("response", "tail"):
                made = {"response": ResponsePicture, "tail": TailPicture}[kind](self._host, self._ask_answer)
            else:
                made = {"compressor": CompressorPicture, "saturation": SaturationPicture, "spectra": SpectraPicture}[
                    kind
                ]()
            self._pictures[kind] = made
            self._picture_space.addWidget(made)
        for name, picture in self._pictures.items():
            picture.setVisible(name == kind)
        return self._pictures[kind]

    def _ask_answer(self, run: Callable[[], Any], done: Callable[[Any], None]) -> None:
        self.desk.worker.submit("answer", lambda cancel: run(), done, urgency=2)

    def _show_picture(self) -> None:
        device = self.device
        if device is None:
            for picture in self._pictures.values():
                picture.hide()
            clear(self._tiles)
            self._did_title.setText("")
            self.latency.setText("")
            return
        picture = self._picture_of(device)
        if isinstance(picture, (BellPicture, DuckPicture)):
            picture.selected = self.band
        section = self.desk.section
        if hasattr(picture, "section_s"):
            picture.section_s = section.bars * self.desk.song.bar_s
        current = self._measured if self._measured and self._measured.key == (self.strip.id, self.path) else None
        effect = current.effect if current else None
        kept = self._kept_device()
        picture.show_device(device, kept if self.desk.bench.trial else (kept or device), effect)
        self._show_tiles(device, current)

    def _show_tiles(self, device: Device, measured: _Measured | None) -> None:
        clear(self._tiles)
        self._did_title.setText(f"What {device.title} did to {self.strip.name}, {self.desk.section.name}")
        if measured is None or measured.effect is None:
            self._tiles.addWidget(label("Measuring…", "soft"), 0, 0)
            return
        effect, old = measured.effect, measured.kept_effect
        self.latency.setText(f"latency {effect.latency_ms:.2f} ms, aligned" if effect.latency_ms else "no latency")

        def change(read, unit, digits=1):
            return [
                (signed(read(e), unit, digits) if e is not None and math.isfinite(read(e)) else "–")
                for e in (old, effect)
            ]

        tiles = [
            ("Loudness", *change(lambda e: e.after.lufs - e.before.lufs, "LU")),
            ("Crest", *change(lambda e: e.after.crest_db - e.before.crest_db, "dB")),
            ("Brightness (centroid)", *change(lambda e: e.after.centroid_hz - e.before.centroid_hz, "Hz", 0)),
        ]
        if effect.deepest_db is not None:
            tiles += [
                ("Deepest change", *change(lambda e: math.nan if e.deepest_db is None else e.deepest_db, "dB")),
                (
                    "Time at work",
                    *(
                        f"{100 * e.reduced_share:.0f} %" if e is not None and e.reduced_share is not None else "–"
                        for e in (old, effect)
                    ),
                ),
                (
                    "Pumping",
                    *(
                        f"{e.pumping_db:.1f} dB" if e is not None and e.pumping_db is not None else "–"
                        for e in (old, effect)
                    ),
                ),
            ]
        trial = self.desk.bench.trial is not None
        for at, (name, before, after) in enumerate(tiles):
            numbers = (
                row(label(f"A {before}", "a"), 1, label(f"B {after}", "b"), 1)
                if trial
                else row(label(after, "number"), 1)
            )
            tile = card(column(label(name, "soft"), numbers, spacing=2, margins=(10, 5, 10, 5)))
            tile.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
            self._tiles.addWidget(tile, at // 3, at % 3)

    # --- rulers --------------------------------------------------------------------------------------------

    def _show_rulers(self) -> None:
        strip, device = self.strip, self.device
        shape, lengths = None, ()
        if device is not None:
            if device.kind == "eq" and device.params["bands"]:
                shape = device.params["bands"][self.band]["shape"]
            lengths = tuple(len(device.params[p.name]) for p in device.spec.params if p.type == "list")
        wanted = (
            strip.id, self.path if device else None, device.kind if device else None, self.band, shape, lengths,
            tuple((s.id, s.name) for s in self.desk.session.strips()),
        )  # fmt: skip
        if wanted != self._rulers_for:
            self._rulers_for = wanted
            self._make_rulers(strip, device)
        kept_strip = {s.id: s for s in self.desk.bench.kept.strips()}.get(strip.id)
        kept = self._kept_device()
        for field, read in self._fields:
            value = read(device, strip)
            try:
                old = read(kept, kept_strip)
            except (AttributeError, KeyError, IndexError, TypeError):
                old = None
            field.show_value(value, old)
        session = self.desk.session
        for ruler, at, name in self._movable:
            ruler.show_moves(session.automated_range(strip.id, name, device=at))

    def _make_rulers(self, strip: Strip, device: Device | None) -> None:
        clear(self._rulers)
        clear(self._band_row)
        self._fields, self._movable = [], []
        cells: list[QWidget] = []
        if device is not None:
            entries = entries_param(device)
            if entries is not None:
                self._make_entries(device, entries)
            for p in device.spec.params:
                if p.type == "list" and p.entries == "plain":
                    cells += self._plain_cells(device, p)
                elif p.type == "file":
                    cells.append(self._file_cell(device, p))
                elif p.type != "list":
                    cells.append(self._param_cell(device, p))
            if entries is not None and device.params[entries.name]:
                cells += self._entry_cells(device, entries)
            if device.spec.takes_key:
                cells.append(self._key_cell(device))
            cells.append(
                self._ruler(
                    MIX,
                    "chains.ruler.mix",
                    lambda v, i=self.path: self.change(i, "Wet / dry", mix=v / 100.0),
                    lambda d, s: 100.0 * d.mix,
                    moves=(self.path, "mix"),
                )
            )
        strip_params = [LEVEL, PAN, *([NUDGE] if isinstance(strip, Track) else [])]
        for p in strip_params:
            cells.append(
                self._ruler(
                    p,
                    f"chains.ruler.{p.name}",
                    lambda v, n=p.name: self._change_strip(n, v),
                    lambda d, s, n=p.name: getattr(s, n),
                    f"Track: {p.label.lower()}",
                    (None, p.name),
                )
            )
        for at, cell in enumerate(cells):
            self._rulers.addWidget(cell, at // _COLUMNS, at % _COLUMNS)

    def _ruler(
        self, p: Param, name: str, on_change, read, title: str = "", moves: tuple[str | None, str] | None = None
    ) -> Ruler:
        """``moves`` is where automation would find it: the device's path, and the parameter's in it."""

        made = Ruler(
            replace(p, label=title) if title else p, name, on_change=on_change, on_release=self.desk.bench.end_merge,
            bpm=lambda: self.desk.song.tempo_bpm, on_error=self.desk.message.emit,
        )  # fmt: skip
        self._fields.append((made, read))
        if moves is not None:
            self._movable.append((made, *moves))
        return made

    def _param_cell(self, device: Device, p: Param) -> QWidget:
        path = self.path

        def change(value: Any, name: str = p.name, label_: str = p.label) -> None:
            self.change(path, label_, **{name: value})

        name = f"chains.ruler.{p.name}"
        if p.has_range:
            return self._ruler(p, name, change, lambda d, s, n=p.name: d.params[n], moves=(path, p.name))
        made = Choice(p, name, on_change=change)
        self._fields.append((made, lambda d, s, n=p.name: d.params[n]))
        return made

    def _key_cell(self, device: Device) -> QWidget:
        box = QComboBox()
        box.setObjectName("chains.key")
        box.setAccessibleName("Key input")
        box.setToolTip("Which track this device listens to, before or after that track's chain")
        box.addItem("its own signal", None)
        session = self.desk.session
        for other in (*session.tracks, *session.buses):
            if other.id != self.desk.track_id:
                box.addItem(f"{other.name}, after its chain", (other.id, "after"))
                box.addItem(f"{other.name}, before its chain", (other.id, "before"))
        path = self.path

        def chosen(index: int) -> None:
            data = box.itemData(index)
            self.change(path, "Key", key=KeyInput(track=data[0], tap=data[1]) if data else None)
            self._show()  # a refused key shows the old one again

        box.activated.connect(chosen)
        kept_note = label("", "a")
        cell = QWidget()
        cell.setLayout(column(row(label("Key", "soft"), 1, kept_note), box, 1, spacing=3))

        class Field:
            def show_value(self, value: KeyInput | None, kept: object) -> None:
                wanted = (value.track, value.tap) if value else None
                box.setCurrentIndex(next((i for i in range(box.count()) if box.itemData(i) == wanted), 0))

        self._fields.append((Field(), lambda d, s: d.key))
        return cell

    # --- entries: EQ and multiband bands, points of a curve, branches ----------------------------------------

    def _make_entries(self, device: Device, p: Param) -> None:
        """A button for each entry, and those that add, remove and (of a branch) open one."""
        one = singular(p)
        for i, entry in enumerate(device.params[p.name]):
            text = f"{i + 1}  {entry['shape'].replace('_', ' ')}" if device.kind == "eq" else f"{one} {i + 1}"
            kind = "chosen" if i == self.band else ""
            self._band_row.addWidget(
                button(
                    text,
                    f"chains.band.{i + 1}",
                    lambda n=i: self.select_band(n),
                    kind=kind,
                    accessible=f"{one} {i + 1}",
                )
            )
        add = button(f"Add {one.lower()}", "chains.band.add", self._add_band)
        add.setEnabled(len(device.params[p.name]) < p.max_items)
        self._band_row.addWidget(add)
        if device.params[p.name]:
            self._band_row.addWidget(button(f"Remove {one.lower()}", "chains.band.remove", self._remove_band))
            if device.kind == "split":
                self._band_row.addWidget(
                    button("Open its chain →", "chains.branch.open", lambda: self.enter_branch(self.band))
                )
        self._band_row.addStretch(1)

    def _entry_cells(self, device: Device, p: Param) -> list[QWidget]:
        unused: set[str] = set()
        if device.kind == "eq":
            shape = device.params["bands"][self.band]["shape"]
            unused = {"slope_db_oct"} if shape not in ("low_cut", "high_cut") else {"gain_db"}
            if shape == "notch":
                unused |= {"gain_db"}
            if shape == "tilt":
                unused |= {"q"}
        cells: list[QWidget] = []
        for q in p.items:
            if q.name in unused or q.type == "list":
                continue

            def change(value: Any, name: str = q.name, label_: str = q.label) -> None:
                self._change_band(self.band, label_, **{name: value})

            read = lambda d, s, n=q.name: d.params[p.name][self.band][n]  # noqa: E731
            if q.has_range:
                moves = (self.path, f"{p.name}.{self.band}.{q.name}")
                cells.append(self._ruler(q, f"chains.ruler.{q.name}", change, read, moves=moves))
            else:
                made = Choice(q, f"chains.ruler.{q.name}", on_change=change)
                self._fields.append((made, read))
                cells.append(made)
        return cells

    def _plain_cells(self, device: Device, p: Param) -> list[QWidget]:
        """Rulers for bare values in a list, such as crossovers."""
        path = self.path
        cells: list[QWidget] = []
        for i in range(len(device.params[p.name])):

            def change(value: float, at: int = i) -> None:
                values = list(self.device.params[p.name])
                values[at] = value
                self.change(path, p.label, merge=("plain", at), **{p.name: tuple(values)})

            read = lambda d, s, at=i: d.params[p.name][at]  # noqa: E731
            cells.append(self._ruler(p.items[0], f"chains.ruler.{p.name}.{i}", change, read, f"{singular(p)} {i + 1}"))

        def resize(step: int) -> None:
            values = self.device.params[p.name]
            last = values[-1] if values else p.items[0].default
            longer = (*values, min(p.items[0].high, 2.5 * last)) if step > 0 else values[:-1]
            self.change(path, p.label, merge=None, **{p.name: longer})

        more = button(f"Add {singular(p).lower()}", f"chains.{p.name}.add", lambda: resize(1))
        more.setEnabled(len(device.params[p.name]) < p.max_items)
        fewer = button("Remove last", f"chains.{p.name}.remove", lambda: resize(-1))
        fewer.setEnabled(bool(device.params[p.name]))
        box = QWidget()
        box.setLayout(row(more, fewer, 1, spacing=5))
        cells.append(box)
        return cells

    def _file_cell(self, device: Device, p: Param) -> QWidget:
        """A clip of the project, chosen from a file."""
        path = self.path
        name = label("", "number")
        name.setObjectName(f"chains.ruler.{p.name}.value")

        class Field:
            def show_value(_, value: str, kept: object) -> None:
                asset = next((a for a in self.desk.session.assets if a.id == value), None)
                name.setText(asset.name if asset else "none")

        def choose() -> None:
            chosen, _ = QFileDialog.getOpenFileName(self, p.label, "", AUDIO_FILTER)
            if chosen:
                self.use_impulse(path, p.name, Path(chosen))

        self._fields.append((Field(), lambda d, s: d.params[p.name]))
        box = QWidget()
        box.setToolTip(p.help)
        box.setLayout(
            column(
                row(label(p.label, "soft"), 1, name),
                row(
                    button("Choose…", f"chains.{p.name}.choose", choose),
                    button("None", f"chains.{p.name}.none", lambda: self.change(path, p.label, merge=None, **{p.name: ""})),
                    1, spacing=5,
                ), spacing=3,
            )
        )  # fmt: skip
        return box

    def use_impulse(self, path: str, param: str, file: Path) -> None:
        """Take an impulse file into the project and use it."""
        desk, strip_id = self.desk, self.desk.track_id
        try:
            asset = desk.store.add(read_audio(file), file.stem[:255], desk.session.rate_hz)
        except ZygotoneError as error:
            desk.message.emit(str(error))
            return
        desk.edit("Impulse file", lambda s: change_device(add_asset(s, asset), strip_id, path, **{param: asset.id}))

    def _point_dragged(self, index: int, at: float, depth: float) -> None:
        if self.device is not None:
            self._change_band(index, "Curve", at=min(1.0, max(0.0, at)), depth=min(1.0, max(0.0, depth)))

    def _host(self) -> Host:
        return self.desk.renderer.host(self.desk.session)

    def select_band(self, index: int) -> None:
        self.band = index
        self._show()

    def _change_band(self, index: int, what: str, **changes: Any) -> None:
        device = self.device
        p = entries_param(device) if device is not None else None
        if device is None or p is None or index >= len(device.params[p.name]):
            return
        entries = list(device.params[p.name])
        entries[index] = entries[index].replace(**changes)
        self.change(self.path, what, merge=("band", index, *changes), **{p.name: tuple(entries)})

    def _band_dragged(self, index: int, hz: float, db: float) -> None:
        device = self.device
        if device is None:
            return
        if device.kind == "keyed_eq":
            depth = min(12.0, max(-24.0, db))
            self.change(self.path, "Centre and depth", merge="drag", freq_hz=hz, range_db=depth)
            return
        moves = device.params["bands"][index]["shape"] in ("bell", "low_shelf", "high_shelf", "tilt")
        self._change_band(index, "Band", freq_hz=hz, **({"gain_db": db} if moves else {}))

    def _add_band(self) -> None:
        device = self.device
        p = entries_param(device)
        entries = device.params[p.name]
        new: Values = entries[self.band] if entries and device.kind in ("multiband", "ducker") else defaults(p.items)
        if device.kind == "eq":
            new = new.replace(freq_hz=250.0)
        self.band = len(entries)
        self.change(self.path, f"Add {singular(p).lower()}", merge=None, **{p.name: (*entries, new)})

    def _remove_band(self) -> None:
        device = self.device
        p = entries_param(device)
        entries = tuple(b for i, b in enumerate(device.params[p.name]) if i != self.band)
        self.band = max(0, self.band - 1)
        self.change(self.path, f"Remove {singular(p).lower()}", merge=None, **{p.name: entries})

    # --- edits ---------------------------------------------------------------------------------------------

    def change(self, device_id: str, what: str, *, merge: object = "value", **changes: Any) -> None:
        strip_id = self.desk.track_id
        key = (strip_id, device_id, merge, *changes) if merge is not None else None
        self.desk.edit(what, lambda s: change_device(s, strip_id, device_id, **changes), merge_key=key)

    def _change_strip(self, name: str, value: float) -> None:
        strip_id = self.desk.track_id
        self.desk.edit(
            name.split("_")[0].capitalize(),
            lambda s: change_strip(s, strip_id, **{name: value}),
            merge_key=(strip_id, name),
        )

    def add_device(self, kind: str) -> None:
        """After the selected device, or at the end of the chain that is shown."""
        strip = self.strip
        usual: dict[str, Any] = {"mix": DEVICES.find(kind).usual_mix}
        if kind == "eq":
            usual["bands"] = [{"freq_hz": 250.0}]
        elif kind == "split":
            usual["branches"] = [{}, {}]
        self.add_devices([new_device(strip, kind, where=self.where, **usual)])

    def add_peaks_then_gentle(self) -> None:
        """Two compressors in series: a hard one for the loudest peaks, then a gentle one for everything, both set from
        the material. How far is common practice: 4 dB off the peaks, and half of what is over the average."""
        strip, desk = self.strip, self.desk
        session = desk.session
        where = self.where

        def measure(cancel):
            context = desk.context(session, cancel)
            audio = context.renderer.take(
                context.graph, context.graph.chain[strip.id], context.span, cancelled=cancel
            ).audio
            return peak_and_body_db(audio, session.rate_hz)

        def add(levels: tuple[float, float]) -> None:
            peak, body = (min(0.0, max(-60.0, round(level, 1))) for level in levels)
            first = new_device(
                strip, "compressor", where=where, label="Catch the peaks", threshold_db=max(-60.0, peak - 4.0), ratio=8.0,
                knee_db=1.0, attack_ms=0.5, release_ms=60.0, lookahead_ms=1.0,
            )  # fmt: skip
            second = new_device(
                strip, "compressor", where=where, label="Hold the rest", threshold_db=body, ratio=2.0, knee_db=9.0,
                attack_ms=20.0, release_ms=180.0, detector="rms",
            )  # fmt: skip
            self.add_devices([first, second.replace(id=make_id("compressor", [first.id, *(d.id for d in self.chain)]))])

        desk.worker.submit("two in series", measure, add, urgency=1)

    def add_devices(self, devices: list[Device]) -> None:
        strip, where = self.strip, self.where
        at = len(self.chain)
        if self.device is not None:
            at = next(i for i, d in enumerate(self.chain) if d.id == parent(self.path)[1]) + 1

        def insert(session):
            for n, device in enumerate(devices):
                session = insert_device(session, strip.id, device, at + n, where=where)
            return session

        if self.desk.edit(f"Add {devices[0].title}", insert):
            self.desk.select_device(f"{where}/{devices[-1].id}" if where else devices[-1].id)

    def _move(self, steps: int) -> None:
        if self.device is not None:
            strip_id, path = self.desk.track_id, self.path
            self.desk.edit("Move device", lambda s: move_device(s, strip_id, path, steps))

    def _duplicate(self) -> None:
        if self.device is not None:
            strip_id, path = self.desk.track_id, self.path
            self.desk.edit("Duplicate device", lambda s: duplicate_device(s, strip_id, path))

    def _remove(self) -> None:
        if self.device is not None:
            strip_id, path, where = self.desk.track_id, self.path, self.where
            self._where_strip = strip_id
            self.desk.edit("Remove device", lambda s: remove_device(s, strip_id, path))
            if where:  # stay in the branch, also if it is empty now
                self.where = where
                left = self.chain
                self.desk.select_device(f"{where}/{left[0].id}" if left else None)
                self._show()

    def _rename(self) -> None:
        device = self.device
        if device is None:
            return
        text, good = QInputDialog.getText(self, "Rename device", "Name of this device:", text=device.title)
        if good:
            self.change(self.path, "Rename device", label=text.strip()[:120])

    def toggle(self) -> None:
        if self.device is not None:
            self.change(self.path, "Switch", on=not self.device.on)

    # --- measuring -----------------------------------------------------------------------------------------

    def showEvent(self, event) -> None:
        super().showEvent(event)
        self._measure()

    def _measure(self) -> None:
        if not self.isVisible():  # nobody looks; it is measured when somebody does
            return
        desk, strip, device = self.desk, self.strip, self.device
        session, kept = desk.session, desk.bench.kept
        kept_device = self._kept_device()
        path = self.path
        key = (strip.id, path if device else None)
        trial = desk.bench.trial is not None

        def run(cancel):
            context = desk.context(session, cancel)
            effect = device_effect(context, strip.id, path) if device is not None else None
            old = None
            if trial and kept_device is not None:
                old = device_effect(desk.context(kept, cancel), strip.id, path)
            return _Measured(chain_steps(context, strip.id), effect, old, key)

        desk.worker.submit("chain", run, self._on_measured, urgency=3)

    def _on_measured(self, measured: _Measured) -> None:
        self._measured = measured
        if measured.key[0] == self.strip.id:
            self._show_cards(self.strip)
            self._show_picture()
