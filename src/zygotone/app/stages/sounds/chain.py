"""The tab of a layer's own devices."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from PySide6.QtWidgets import QComboBox, QWidget

from zygotone.app import clipboard
from zygotone.app.stages.chains.fields import MIX
from zygotone.app.stages.sounds.panel import Host, Moves, Panel
from zygotone.app.widgets.basic import button, label, row
from zygotone.app.widgets.key_choice import KeyChoice
from zygotone.session.catalogue import DEVICES
from zygotone.session.clipboard import Copied, CopiedDevices
from zygotone.session.copies import heard_here
from zygotone.session.edits import change_layer, layer_of, make_id
from zygotone.session.instruments import InstrumentSource, Layer
from zygotone.session.models import Device, KeyInput, Session, continuous_params
from zygotone.session.params import switch

_ON = switch("on", "On", True, "On or off")


class ChainPanel(Panel):
    """A short chain for one layer."""

    def __init__(self, stage: Host) -> None:
        super().__init__(stage)
        self.device_at = 0

    def shape(self, source: InstrumentSource, layer: Layer | None) -> object:
        heard = tuple((strip.id, strip.name) for strip in self.desk.session.strips())  # what a key can be
        devices = layer and tuple(
            (d.id, tuple(len(v) for v in d.params.values() if isinstance(v, tuple))) for d in layer.chain
        )
        return self.device_at, devices, heard

    def make(self, source: InstrumentSource, layer: Layer) -> None:
        self.device_at = min(self.device_at, max(0, len(layer.chain) - 1))
        add = QComboBox()
        add.setObjectName("sounds.chain.add")
        add.setAccessibleName("Add a device to the layer")
        add.addItem("Add device…", None)
        for kind in DEVICES:
            if not kind.holds_chains:
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
        self.add(box)
        if not layer.chain:
            self.add(
                label(
                    "No device of its own. What is here works on this layer alone, before it meets the others.",
                    "soft",
                    wrap=True,
                )
            )
            return
        device = layer.chain[self.device_at]
        orders = QWidget()
        orders.setLayout(
            row(
                button("Remove", "sounds.chain.remove", self.remove_device),
                button("←", "sounds.chain.earlier", lambda: self._move_device(-1), accessible="Earlier in the chain"),
                button("→", "sounds.chain.later", lambda: self._move_device(1), accessible="Later in the chain"),
                1, spacing=4,
            )
        )  # fmt: skip
        movable = continuous_params(device)

        def moves(path: str) -> Moves | None:
            return (device.id, path) if path in movable else None

        cells: list[QWidget] = [orders]
        cells.append(
            self.field(
                _ON, "chain.on", lambda v: self._change_device("Switch", on=v), lambda i, e: e.chain[self.device_at].on
            )
        )
        cells.append(
            self.field(
                MIX, "chain.mix", lambda v: self._change_device("Wet / dry", mix=v / 100.0),
                lambda i, e: 100.0 * e.chain[self.device_at].mix,
            )
        )  # fmt: skip
        if device.spec.takes_key:
            cells.append(self._key_cell())
        for p in device.spec.params:
            if p.type == "list" and p.entries == "values" and device.params[p.name]:
                for n in range(len(device.params[p.name])):
                    for q in p.items:
                        if q.has_range or q.type == "choice":
                            named = replace(q, label=f"{n + 1}: {q.label}")
                            cells.append(self.field(named, f"chain.{p.name}.{n}.{q.name}", lambda v, a=p.name, b=n, c=q.name: self._change_entry(a, b, c, v), lambda i, e, a=p.name, b=n, c=q.name: e.chain[self.device_at].params[a][b][c], moves(f"{p.name}.{n}.{q.name}")))  # fmt: skip
            elif p.type not in ("list", "file"):
                cells.append(self.field(p, f"chain.{p.name}", lambda v, n=p.name, w=p.label: self._change_device(w, **{n: v}), lambda i, e, n=p.name: e.chain[self.device_at].params[n], moves(p.name)))  # fmt: skip
        self.add_cells(cells)

    def _key_cell(self) -> QWidget:
        def chosen(key: KeyInput | None) -> None:
            self._change_device("Key", key=key)
            self.stage.show_all()  # a refused key shows the old one again

        made = KeyChoice(self.desk.session, self.desk.selection.track_id, "sounds.chain.key", chosen)
        self._fields.append((made, lambda i, e: e.chain[self.device_at].key))
        return made

    def _move_device(self, steps: int) -> None:
        chain, to = list(self.the_layer.chain), self.device_at + steps
        if 0 <= to < len(chain):
            chain.insert(to, chain.pop(self.device_at))
            self.device_at = to
            self.change("Move device", chain=tuple(chain), merge=None)

    def _choose_device(self, at: int) -> None:
        self.device_at = at
        self.stage.show_all()

    def _add_device(self, kind: str | None) -> None:
        if kind is None or self.layer is None:
            return
        chain = self.the_layer.chain
        values = DEVICES.find(kind).usual
        device = Device.model_validate({"id": make_id(kind, (d.id for d in chain)), "kind": kind, **values})
        self.device_at = len(chain)
        self.change("Add device", chain=(*chain, device), merge=None)

    def paste_devices(self, found: Copied) -> None:
        """Copies after the device that is shown."""
        track, layer_id, at = self.desk.selection.track_id, self.the_layer.id, self.device_at

        def paste(session: Session) -> Session:
            session, what = clipboard.with_its_clips(self.desk, session, found)
            assert isinstance(what, CopiedDevices)
            layer = layer_of(session, track, layer_id)
            chain = list(layer.chain)
            for n, device in enumerate(heard_here(what.devices, session)):
                copy = device.replace(id=make_id(device.kind, (d.id for d in chain)))
                chain.insert(at + 1 + n if layer.chain else n, copy)
            return change_layer(session, track, layer_id, chain=tuple(chain))

        if self.desk.edit("Paste device", paste):
            self._choose_device(at + 1 if len(self.the_layer.chain) > 1 else 0)

    def remove_device(self) -> None:
        if self.layer is None or not self.the_layer.chain:
            return
        self.change(
            "Remove device",
            chain=tuple(d for i, d in enumerate(self.the_layer.chain) if i != self.device_at),
            merge=None,
        )

    def _change_device(self, what: str, **values: Any) -> None:
        chain = list(self.the_layer.chain)
        chain[self.device_at] = Device.model_validate({**chain[self.device_at].model_dump(), **values})
        self.change(
            what,
            chain=tuple(chain),
            merge=(self.desk.selection.track_id, self.the_layer.id, "chain", self.device_at, *values),
        )

    def _change_entry(self, name: str, at: int, field: str, value: Any) -> None:
        entries = [e.to_json() for e in self.the_layer.chain[self.device_at].params[name]]
        entries[at][field] = value
        self._change_device(field.replace("_", " "), **{name: entries})
