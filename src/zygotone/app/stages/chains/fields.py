"""What is set on the selected device, and on its track."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any, Protocol

from PySide6.QtWidgets import QFileDialog, QGridLayout, QWidget

from zygotone.app.desk import Desk
from zygotone.app.widgets.basic import button, clear, column, label, row
from zygotone.app.widgets.key_choice import KeyChoice
from zygotone.app.widgets.lanes import automation_offer
from zygotone.app.widgets.ruler import Fields, Ruler
from zygotone.errors import ZygotoneError
from zygotone.session.audio_files import read_audio
from zygotone.session.edits import add_asset, change_device
from zygotone.session.models import Device, KeyInput, Strip
from zygotone.session.params import Param, number

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


class FieldsHost(Protocol):
    """The stage, as the fields know it."""

    desk: Desk

    @property
    def strip(self) -> Strip: ...
    @property
    def device(self) -> Device | None: ...
    @property
    def path(self) -> str: ...
    @property
    def layer_id(self) -> str | None: ...  # whose chain it is, where it is not the strip's
    def open_lane(self, device: str | None, param: str) -> None: ...
    def kept_device(self) -> Device | None: ...
    def show_all(self) -> None: ...
    def enter_branch(self, index: int) -> None: ...
    def hear_branch(self, index: int) -> None: ...
    def change(self, device_id: str, what: str, *, merge: object = "value", **changes: Any) -> None: ...


class DeviceFields(QWidget):
    """Rulers and choices of a device, those of one entry of a list at a time."""

    def __init__(self, stage: FieldsHost, *, prefix: str = "chains", ruler_prefix: str = "chains.ruler") -> None:
        super().__init__()
        self._prefix, self._ruler_prefix = prefix, ruler_prefix  # of the names of its parts
        self.stage, self.desk = stage, stage.desk
        self.band = 0  # the entry that is edited: a band, a point, a branch
        self._rulers_for: object = None
        self._parts = Fields(self)
        self._fields: list[tuple[Any, Any]] = []  # (ruler or choice, function from device and strip to its value)
        self._movable: list[tuple[Ruler, str | None, str]] = []  # rulers with the path of their device and parameter
        self._band_row = row(spacing=5)
        self._rulers = QGridLayout()
        self._rulers.setHorizontalSpacing(12)
        self._rulers.setVerticalSpacing(4)
        for i in range(_COLUMNS):
            self._rulers.setColumnStretch(i, 1)
        self.setLayout(column(self._band_row, self._rulers, spacing=8))

    @property
    def strip(self) -> Strip:
        return self.stage.strip

    @property
    def device(self) -> Device | None:
        return self.stage.device

    @property
    def path(self) -> str:
        return self.stage.path

    def change(self, device_id: str, what: str, *, merge: object = "value", **changes: Any) -> None:
        self.stage.change(device_id, what, merge=merge, **changes)

    def show_device(self) -> None:
        strip, device = self.strip, self.device
        entries = entries_param(device) if device is not None else None
        if device is not None and entries is not None:
            self.band = min(self.band, max(0, len(device.params[entries.name]) - 1))
        shape: object = None
        lengths: tuple[int, ...] = ()
        if device is not None:
            if entries is not None and device.params[entries.name]:
                shape = device.spec.entries.idle(device.params[entries.name][self.band])
            lengths = tuple(len(device.params[p.name]) for p in device.spec.params if p.type == "list")
        wanted = (
            strip.id, self.path if device else None, device.kind if device else None, self.band, shape, lengths,
            tuple((s.id, s.name) for s in self.desk.session.strips()),
        )  # fmt: skip
        if wanted != self._rulers_for:
            self._rulers_for = wanted
            self._make_rulers(strip, device)
        kept_strip = {s.id: s for s in self.desk.bench.kept.strips()}.get(strip.id)
        kept = self.stage.kept_device()
        for field, read in self._fields:
            value = read(device, strip)
            try:
                old = read(kept, kept_strip)
            except (AttributeError, KeyError, IndexError, TypeError):
                old = None
            field.show_value(value, old)
        session = self.desk.session
        for ruler, at, name in self._movable:
            found = session.automated_range(strip.id, name, device=at, layer=self.stage.layer_id)
            if found is not None and name == "mix":  # its ruler is in percent
                found = 100.0 * found[0], 100.0 * found[1]
            ruler.show_moves(found)

    def _make_rulers(self, strip: Strip, device: Device | None) -> None:
        self._parts.take_back()
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
                    f"{self._ruler_prefix}.mix",
                    lambda v, i=self.path: self.change(i, "Wet / dry", mix=v / 100.0),
                    lambda d, s: 100.0 * d.mix,
                    moves=(self.path, "mix"),
                )
            )
        self._parts.put(cells, self._rulers, _COLUMNS)

    def _ruler(
        self,
        p: Param,
        name: str,
        on_change: Callable[[Any], None],
        read: Callable[[Any, Any], Any],
        title: str = "",
        moves: tuple[str | None, str] | None = None,
    ) -> Ruler:
        """``moves`` is where automation would find it: the device's path, and the parameter's in it."""

        made = self._parts.ruler(
            replace(p, label=title) if title else p, name, on_change=on_change, on_release=self.desk.end_merge,
            bpm=lambda: self.desk.song.tempo_bpm, on_error=self.desk.message.emit,
        )  # fmt: skip
        self._fields.append((made, read))
        if moves is not None:
            self._movable.append((made, *moves))
            made.offers = automation_offer(lambda: self.stage.open_lane(*moves))
        return made

    def _param_cell(self, device: Device, p: Param) -> QWidget:
        path = self.path

        def change(value: Any, name: str = p.name, label_: str = p.label) -> None:
            self.change(path, label_, **{name: value})

        name = f"{self._ruler_prefix}.{p.name}"
        if p.has_range:
            return self._ruler(p, name, change, lambda d, s, n=p.name: d.params[n], moves=(path, p.name))
        made = self._parts.choice(p, name, on_change=change)
        self._fields.append((made, lambda d, s, n=p.name: d.params[n]))
        return made

    def _key_cell(self, device: Device) -> QWidget:
        path = self.path

        def chosen(key: KeyInput | None) -> None:
            self.change(path, "Key", key=key)
            self.stage.show_all()  # a refused key shows the old one again

        made = KeyChoice(self.desk.session, self.desk.selection.track_id, f"{self._prefix}.key", chosen)
        self._fields.append((made, lambda d, s: d.key))
        return made

    def _make_entries(self, device: Device, p: Param) -> None:
        """A button for each entry, and those that add, remove and (of a branch) open one."""
        one = singular(p)
        for i, entry in enumerate(device.params[p.name]):
            words = device.spec.entries.words(entry)
            text = f"{i + 1}  {words}" if words else f"{one} {i + 1}"
            kind = "chosen" if i == self.band else ""
            self._band_row.addWidget(
                button(
                    text,
                    f"{self._prefix}.band.{i + 1}",
                    lambda n=i: self.select_band(n),
                    kind=kind,
                    accessible=f"{one} {i + 1}",
                )
            )
        add = button(f"Add {one.lower()}", f"{self._prefix}.band.add", self._add_band)
        add.setEnabled(len(device.params[p.name]) < p.max_items)
        self._band_row.addWidget(add)
        if device.params[p.name]:
            self._band_row.addWidget(button(f"Remove {one.lower()}", f"{self._prefix}.band.remove", self._remove_band))
            if device.spec.holds_chains:
                self._band_row.addWidget(
                    button(
                        "Open its chain →", f"{self._prefix}.branch.open", lambda: self.stage.enter_branch(self.band)
                    )
                )
                self._band_row.addWidget(
                    button(
                        "Hear it alone", f"{self._prefix}.branch.alone", lambda: self.stage.hear_branch(self.band),
                        tip="At equal loudness; once more brings the others back",
                    )
                )  # fmt: skip
        self._band_row.addStretch(1)

    def _entry_cells(self, device: Device, p: Param) -> list[QWidget]:
        unused = device.spec.entries.idle(device.params[p.name][self.band])
        cells: list[QWidget] = []
        for q in p.items:
            if q.name in unused or q.type == "list":
                continue

            def change(value: Any, name: str = q.name, label_: str = q.label) -> None:
                self._change_band(self.band, label_, **{name: value})

            def read(d: Device, s: Strip, n: str = q.name) -> Any:
                return d.params[p.name][self.band][n]

            if q.has_range:
                moves = (self.path, f"{p.name}.{self.band}.{q.name}")
                cells.append(self._ruler(q, f"{self._ruler_prefix}.{q.name}", change, read, moves=moves))
            else:
                made = self._parts.choice(q, f"{self._ruler_prefix}.{q.name}", on_change=change)
                self._fields.append((made, read))
                cells.append(made)
        return cells

    def _plain_cells(self, device: Device, p: Param) -> list[QWidget]:
        """Rulers for bare values in a list, such as crossovers."""
        path = self.path
        cells: list[QWidget] = []
        for i in range(len(device.params[p.name])):

            def change(value: float, at: int = i) -> None:
                values = list(self._held().params[p.name])
                values[at] = value
                self.change(path, p.label, merge=("plain", at), **{p.name: tuple(values)})

            def read(d: Device, s: Strip, at: int = i) -> Any:
                return d.params[p.name][at]

            cells.append(
                self._ruler(p.items[0], f"{self._ruler_prefix}.{p.name}.{i}", change, read, f"{singular(p)} {i + 1}")
            )

        def resize(step: int) -> None:
            values = self._held().params[p.name]
            last = values[-1] if values else p.items[0].default
            longer = (*values, min(p.items[0].high, 2.5 * last)) if step > 0 else values[:-1]
            self.change(path, p.label, merge=None, **{p.name: longer})

        more = button(f"Add {singular(p).lower()}", f"{self._prefix}.{p.name}.add", lambda: resize(1))
        more.setEnabled(len(device.params[p.name]) < p.max_items)
        fewer = button("Remove last", f"{self._prefix}.{p.name}.remove", lambda: resize(-1))
        fewer.setEnabled(bool(device.params[p.name]))
        box = QWidget()
        box.setLayout(row(more, fewer, 1, spacing=5))
        cells.append(box)
        return cells

    def _file_cell(self, device: Device, p: Param) -> QWidget:
        """A clip of the project, chosen from a file."""
        path = self.path
        name = label("", "number")
        name.setObjectName(f"{self._ruler_prefix}.{p.name}.value")

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
                    button("Choose…", f"{self._prefix}.{p.name}.choose", choose),
                    button("None", f"{self._prefix}.{p.name}.none", lambda: self.change(path, p.label, merge=None, **{p.name: ""})),
                    1, spacing=5,
                ), spacing=3,
            )
        )  # fmt: skip
        return box

    def use_impulse(self, path: str, param: str, file: Path) -> None:
        """Take an impulse file into the project and use it."""
        desk, strip_id, layer = self.desk, self.desk.selection.track_id, self.stage.layer_id
        try:
            asset = desk.store.add(read_audio(file), file.stem[:255], desk.session.rate_hz)
        except ZygotoneError as error:
            desk.refuse(str(error))
            return
        desk.edit(
            "Impulse file",
            lambda s: change_device(add_asset(s, asset), strip_id, path, layer=layer, **{param: asset.id}),
        )

    def point_dragged(self, index: int, at: float, depth: float) -> None:
        if self.device is not None:
            self._change_band(index, "Curve", at=min(1.0, max(0.0, at)), depth=min(1.0, max(0.0, depth)))

    def select_band(self, index: int) -> None:
        self.band = index
        self.stage.show_all()

    def _change_band(self, index: int, what: str, **changes: Any) -> None:
        device = self.device
        p = entries_param(device) if device is not None else None
        if device is None or p is None or index >= len(device.params[p.name]):
            return
        entries = list(device.params[p.name])
        entries[index] = entries[index].replace(**changes)
        self.change(self.path, what, merge=("band", index, *changes), **{p.name: tuple(entries)})

    def handle_dragged(self, index: int, hz: float, db: float) -> None:
        device = self.device
        if device is not None and device.spec.hand_curve is not None:
            changes = device.spec.hand_curve.moved(device.params, index, hz, db)
            self.change(self.path, "Curve", merge=("drag", index), **changes)

    def _held(self) -> Device:
        """The device that is shown: without one there are no fields."""
        device = self.device
        assert device is not None
        return device

    def _entries(self) -> tuple[Device, Param]:
        device = self._held()
        p = entries_param(device)
        assert p is not None
        return device, p

    def _add_band(self) -> None:
        device, p = self._entries()
        entries = device.params[p.name]
        new = device.spec.entries.new(p.items, entries, self.band)
        self.band = len(entries)
        self.change(self.path, f"Add {singular(p).lower()}", merge=None, **{p.name: (*entries, new)})

    def _remove_band(self) -> None:
        device, p = self._entries()
        entries = tuple(b for i, b in enumerate(device.params[p.name]) if i != self.band)
        self.band = max(0, self.band - 1)
        self.change(self.path, f"Remove {singular(p).lower()}", merge=None, **{p.name: entries})
