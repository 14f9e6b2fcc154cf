"""Chains: the devices of the selected track in order, each with its rulers, its picture and what it did."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtGui import QFontMetrics
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFrame,
    QGridLayout,
    QInputDialog,
    QScrollArea,
    QSizePolicy,
    QWidget,
)

from zygotone.advise.views import Effect, Step, chain_steps, device_effect, finite
from zygotone.app.desk import Desk
from zygotone.app.theme import text_font
from zygotone.app.widgets.basic import button, card, clear, column, label, restyle, row, signed
from zygotone.app.widgets.pictures import BellPicture, CompressorPicture, Picture, SaturationPicture, SpectraPicture
from zygotone.app.widgets.ruler import Choice, Ruler
from zygotone.devices.eq import BAND
from zygotone.session.edits import (
    change_device,
    change_strip,
    duplicate_device,
    insert_device,
    move_device,
    new_device,
    remove_device,
)
from zygotone.session.models import LEVEL, NUDGE, PAN, Device, KeyInput, Strip, Track
from zygotone.session.params import Param, Values, defaults, number

MIX = number(
    "mix", "Wet / dry", "%", 0.0, 100.0, 100.0, "How much of the processed signal is heard; the rest is dry, aligned."
)
_COLUMNS = 4


@dataclass(frozen=True)
class _Measured:
    steps: dict[str, Step]
    effect: Effect | None
    kept_effect: Effect | None
    key: tuple[str, str | None]


class DeviceCard(QFrame):
    """A device in the row: number, name, what it changes."""

    def __init__(self, at: int, device: Device, stage: ChainsStage) -> None:
        super().__init__()
        self.setProperty("kind", "card")
        self.setObjectName(f"chains.device.{device.id}")
        self.setAccessibleName(f"Device {at}, {device.title}")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFixedSize(150, 82)
        self._id, self._stage = device.id, stage
        self.on = QCheckBox()
        self.on.setChecked(device.on)
        self.on.setObjectName(f"chains.device.{device.id}.on")
        self.on.setAccessibleName(f"{device.title} on")
        self.on.setToolTip("On or off (Shift+O)")
        self.on.toggled.connect(lambda on: stage.change(device.id, "Switch", on=on))
        title = QFontMetrics(text_font(10, bold=True)).elidedText(device.title, Qt.TextElideMode.ElideRight, 98)
        name = label(title, "heading")
        name.setToolTip(device.title)
        self.loudness, self.crest = label("", "number"), label("", "number")
        key = ""
        if device.key is not None:
            key = f"key {stage.desk.session.track(device.key.track).name}"
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
        self._measured: _Measured | None = None
        self._cards_for: object = None
        self._rulers_for: object = None
        self._cards: dict[str, DeviceCard] = {}
        self._fields: list[tuple[Any, Any]] = []  # (ruler or choice, function from device and strip to its value)

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
                row(self.title, self.route, 1, spacing=10), self._card_scroll, self.empty, self._actions_box, self._picture_space,
                self._band_row, self._rulers, self._did_title, self._tiles, 1, spacing=8, margins=(16, 10, 10, 10),
            )
        )  # fmt: skip
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(inner)
        self.setLayout(column(scroll))
        for signal in (desk.session_changed, desk.selection_changed, desk.loop_changed):
            signal.connect(self._show)
        self._show()

    # --- what is shown -------------------------------------------------------------------------------------

    @property
    def strip(self) -> Strip:
        return self.desk.session.strip(self.desk.track_id)

    @property
    def device(self) -> Device | None:
        return next((d for d in self.strip.chain if d.id == self.desk.device_id), None)

    def _kept_device(self) -> Device | None:
        """The device as it is in A: None where it does not exist there."""
        strips = {s.id: s for s in self.desk.bench.kept.strips()}
        strip = strips.get(self.desk.track_id)
        return next((d for d in strip.chain if d.id == self.desk.device_id), None) if strip else None

    def _show(self) -> None:
        strip, device = self.strip, self.device
        session = self.desk.session
        self.title.setText(strip.name)
        count = len(strip.chain)
        goes = "out"
        if isinstance(strip, Track):
            goes = session.strip(strip.bus).name if strip.bus else session.mix.name
        elif strip.id != session.mix.id:
            goes = session.mix.name
        self.route.setText(f"{count} device{'s' if count != 1 else ''} → level and pan → {goes}")
        self._show_cards(strip)
        self.empty.setVisible(device is None)
        for widget in (self._actions_box, self._card_scroll):
            widget.setVisible(device is not None)
        if device is not None and device.kind == "eq":
            self.band = min(self.band, max(0, len(device.params["bands"]) - 1))
        self._show_rulers()
        self._show_picture()
        self._measure()

    def _show_cards(self, strip: Strip) -> None:
        names = {t.id: t.name for t in self.desk.session.tracks}
        wanted = tuple((d.id, d.title, d.on, names.get(d.key.track) if d.key else None) for d in strip.chain), strip.id
        if wanted != self._cards_for:
            self._cards_for = wanted
            clear(self._card_row)
            self._cards = {}
            for at, device in enumerate(strip.chain, 1):
                if at > 1:
                    arrow = label("→", "soft")
                    self._card_row.addWidget(arrow)
                self._cards[device.id] = DeviceCard(at, device, self)
                self._card_row.addWidget(self._cards[device.id])
            self._card_row.addStretch(1)
        kept = {s.id: s for s in self.desk.bench.kept.strips()}.get(strip.id)
        old = {d.id: d for d in kept.chain} if kept else {}
        steps = self._measured.steps if self._measured and self._measured.key[0] == strip.id else {}
        for device in strip.chain:
            self._cards[device.id].show_state(
                selected=device.id == self.desk.device_id, trial=self.desk.bench.trial is not None and old.get(device.id) != device,
                step=steps.get(device.id),
            )  # fmt: skip

    def _picture_of(self, device: Device) -> Picture:
        kind = {"eq": "bell", "keyed_eq": "bell", "compressor": "compressor", "saturation": "saturation"}.get(
            device.kind, "spectra"
        )
        if kind not in self._pictures:
            made: Picture
            if kind == "bell":
                made = BellPicture(self._band_dragged, self.select_band, self.desk.bench.end_merge)
            else:
                made = {"compressor": CompressorPicture, "saturation": SaturationPicture, "spectra": SpectraPicture}[
                    kind
                ]()
            self._pictures[kind] = made
            self._picture_space.addWidget(made)
        for name, picture in self._pictures.items():
            picture.setVisible(name == kind)
        return self._pictures[kind]

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
        if isinstance(picture, BellPicture):
            picture.selected = self.band
        section = self.desk.section
        if hasattr(picture, "section_s"):
            picture.section_s = section.bars * self.desk.song.bar_s
        current = self._measured if self._measured and self._measured.key == (self.strip.id, device.id) else None
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
        shape = None
        if device is not None and device.kind == "eq" and device.params["bands"]:
            shape = device.params["bands"][self.band]["shape"]
        wanted = (
            strip.id, device.id if device else None, device.kind if device else None, self.band, shape,
            len(device.params["bands"]) if device is not None and device.kind == "eq" else 0,
            tuple((t.id, t.name) for t in self.desk.session.tracks),
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

    def _make_rulers(self, strip: Strip, device: Device | None) -> None:
        clear(self._rulers)
        clear(self._band_row)
        self._fields = []
        cells: list[QWidget] = []
        if device is not None:
            if device.kind == "eq":
                self._make_bands(device)
                if device.params["bands"]:
                    cells += self._band_cells(device)
            else:
                cells += [self._param_cell(device, p) for p in device.spec.params]
            if device.spec.takes_key:
                cells.append(self._key_cell(device))
            cells.append(
                self._ruler(
                    MIX,
                    "chains.ruler.mix",
                    lambda v, i=device.id: self.change(i, "Wet / dry", mix=v / 100.0),
                    lambda d, s: 100.0 * d.mix,
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
                )
            )
        for at, cell in enumerate(cells):
            self._rulers.addWidget(cell, at // _COLUMNS, at % _COLUMNS)

    def _ruler(self, p: Param, name: str, on_change, read, title: str = "") -> Ruler:
        from dataclasses import replace

        made = Ruler(
            replace(p, label=title) if title else p, name, on_change=on_change, on_release=self.desk.bench.end_merge,
            bpm=lambda: self.desk.song.tempo_bpm, on_error=self.desk.message.emit,
        )  # fmt: skip
        self._fields.append((made, read))
        return made

    def _param_cell(self, device: Device, p: Param) -> QWidget:
        def change(value: Any, name: str = p.name, label_: str = p.label) -> None:
            self.change(device.id, label_, **{name: value})

        name = f"chains.ruler.{p.name}"
        if p.is_number:
            return self._ruler(p, name, change, lambda d, s, n=p.name: d.params[n])
        made = Choice(p, name, on_change=change)
        self._fields.append((made, lambda d, s, n=p.name: d.params[n]))
        return made

    def _key_cell(self, device: Device) -> QWidget:
        box = QComboBox()
        box.setObjectName("chains.key")
        box.setAccessibleName("Key input")
        box.setToolTip("Which track this device listens to, before or after that track's chain")
        box.addItem("its own signal", None)
        for track in self.desk.session.tracks:
            if track.id != self.desk.track_id:
                box.addItem(f"{track.name}, after its chain", (track.id, "after"))
                box.addItem(f"{track.name}, before its chain", (track.id, "before"))

        def chosen(index: int) -> None:
            data = box.itemData(index)
            self.change(device.id, "Key", key=KeyInput(track=data[0], tap=data[1]) if data else None)
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

    # --- EQ bands ------------------------------------------------------------------------------------------

    def _make_bands(self, device: Device) -> None:
        for i, band in enumerate(device.params["bands"]):
            text = f"{i + 1}  {band['shape'].replace('_', ' ')}"
            kind = "chosen" if i == self.band else ""
            self._band_row.addWidget(
                button(
                    text, f"chains.band.{i + 1}", lambda n=i: self.select_band(n), kind=kind, accessible=f"Band {i + 1}"
                )
            )
        add = button("Add band", "chains.band.add", self._add_band)
        add.setEnabled(len(device.params["bands"]) < device.spec.param("bands").max_items)
        self._band_row.addWidget(add)
        if device.params["bands"]:
            self._band_row.addWidget(button("Remove band", "chains.band.remove", self._remove_band))
        self._band_row.addStretch(1)

    def _band_cells(self, device: Device) -> list[QWidget]:
        shape = device.params["bands"][self.band]["shape"]
        cut = shape in ("low_cut", "high_cut")
        unused = {"slope_db_oct"} if not cut else {"gain_db"}
        if shape == "notch":
            unused |= {"gain_db"}
        if shape == "tilt":
            unused |= {"q"}
        cells: list[QWidget] = []
        for p in BAND:
            if p.name in unused:
                continue

            def change(value: Any, name: str = p.name, label_: str = p.label) -> None:
                self._change_band(self.band, label_, **{name: value})

            read = lambda d, s, n=p.name: d.params["bands"][self.band][n]  # noqa: E731
            if p.is_number:
                cells.append(self._ruler(p, f"chains.ruler.{p.name}", change, read))
            else:
                made = Choice(p, f"chains.ruler.{p.name}", on_change=change)
                self._fields.append((made, read))
                cells.append(made)
        return cells

    def select_band(self, index: int) -> None:
        self.band = index
        self._show()

    def _change_band(self, index: int, what: str, **changes: Any) -> None:
        device = self.device
        if device is None:
            return
        bands = list(device.params["bands"])
        bands[index] = bands[index].replace(**changes)
        self.change(device.id, what, merge=("band", index, *changes), bands=tuple(bands))

    def _band_dragged(self, index: int, hz: float, db: float) -> None:
        device = self.device
        if device is None:
            return
        if device.kind == "keyed_eq":
            depth = min(12.0, max(-24.0, db))
            self.change(device.id, "Centre and depth", merge="drag", freq_hz=hz, range_db=depth)
            return
        moves = device.params["bands"][index]["shape"] in ("bell", "low_shelf", "high_shelf", "tilt")
        self._change_band(index, "Band", freq_hz=hz, **({"gain_db": db} if moves else {}))

    def _add_band(self) -> None:
        device = self.device
        new: Values = defaults(BAND).replace(freq_hz=250.0)
        self.band = len(device.params["bands"])
        self.change(device.id, "Add band", merge=None, bands=(*device.params["bands"], new))

    def _remove_band(self) -> None:
        device = self.device
        bands = tuple(b for i, b in enumerate(device.params["bands"]) if i != self.band)
        self.band = max(0, self.band - 1)
        self.change(device.id, "Remove band", merge=None, bands=bands)

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
        """At the end of the chain, or after the selected device."""
        strip = self.strip
        device = new_device(strip, kind)
        if kind == "eq":
            device = new_device(strip, "eq", bands=[{"freq_hz": 250.0}])
        at = strip.index_of(self.desk.device_id) + 1 if self.device is not None else None
        if self.desk.edit(f"Add {device.title}", lambda s: insert_device(s, strip.id, device, at)):
            self.desk.select_device(device.id)

    def _move(self, steps: int) -> None:
        if self.device is not None:
            strip_id, device_id = self.desk.track_id, self.device.id
            self.desk.edit("Move device", lambda s: move_device(s, strip_id, device_id, steps))

    def _duplicate(self) -> None:
        if self.device is not None:
            strip_id, device_id = self.desk.track_id, self.device.id
            self.desk.edit("Duplicate device", lambda s: duplicate_device(s, strip_id, device_id))

    def _remove(self) -> None:
        if self.device is not None:
            strip_id, device_id = self.desk.track_id, self.device.id
            self.desk.edit("Remove device", lambda s: remove_device(s, strip_id, device_id))

    def _rename(self) -> None:
        device = self.device
        if device is None:
            return
        text, good = QInputDialog.getText(self, "Rename device", "Name of this device:", text=device.title)
        if good:
            self.change(device.id, "Rename device", label=text.strip()[:120])

    def toggle(self) -> None:
        if self.device is not None:
            self.change(self.device.id, "Switch", on=not self.device.on)

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
        key = (strip.id, device.id if device else None)
        trial = desk.bench.trial is not None

        def run(cancel):
            context = desk.context(session, cancel)
            effect = device_effect(context, strip.id, device) if device is not None else None
            old = None
            if trial and kept_device is not None:
                old = device_effect(desk.context(kept, cancel), strip.id, kept_device)
            return _Measured(chain_steps(context, strip.id), effect, old, key)

        desk.worker.submit("chain", run, self._on_measured, urgency=3)

    def _on_measured(self, measured: _Measured) -> None:
        self._measured = measured
        if measured.key[0] == self.strip.id:
            self._show_cards(self.strip)
            self._show_picture()
