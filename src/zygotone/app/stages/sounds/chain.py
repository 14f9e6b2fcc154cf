"""The tab of a layer's own devices."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtWidgets import QComboBox, QWidget

from zygotone.advise.questions import LayerDeviceOf
from zygotone.advise.views import Effect
from zygotone.app import clipboard
from zygotone.app.desk import Desk
from zygotone.app.measuring import WhileVisible
from zygotone.app.stages.chains.fields import DeviceFields
from zygotone.app.stages.chains.picture import DevicePicture
from zygotone.app.stages.chains.without import HearingWithout
from zygotone.app.stages.sounds.panel import Host, Panel
from zygotone.app.widgets.basic import button, label, row
from zygotone.session.catalogue import DEVICES
from zygotone.session.clipboard import Copied, CopiedDevices
from zygotone.session.copies import heard_here
from zygotone.session.edits import chain_of, change_device, edit_chain, layer_of, make_id, parent
from zygotone.session.instruments import InstrumentSource, Layer
from zygotone.session.models import Device, Session, Strip, walk


class _Shown:
    """The device that is shown, as its fields know it."""

    def __init__(self, panel: ChainPanel) -> None:
        self._panel = panel
        self.desk: Desk = panel.desk

    @property
    def strip(self) -> Strip:
        track = self._panel.track
        assert track is not None, "shown only for an instrument"
        return track

    @property
    def device(self) -> Device | None:
        return self._panel.device

    @property
    def path(self) -> str:
        return self._panel.path

    @property
    def layer_id(self) -> str | None:
        layer = self._panel.layer
        return layer.id if layer is not None else None

    def open_lane(self, device: str | None, param: str) -> None:
        self._panel.stage.open_lane(device, param)

    def kept_device(self) -> Device | None:
        _, layer = self._panel.stage.kept()
        return dict(walk(layer.chain)).get(self.path) if layer is not None else None

    def show_all(self) -> None:
        self._panel.stage.show_all()

    def enter_branch(self, index: int) -> None:
        self._panel.enter(f"{self.path}/{index}")

    def hear_branch(self, index: int) -> None:
        self._panel.hear_branch(index)

    def change(self, device_id: str, what: str, *, merge: object = "value", **changes: Any) -> None:
        layer, track = self._panel.the_layer.id, self.desk.selection.track_id
        key = (track, layer, device_id, merge, *changes) if merge is not None else None
        self._panel.stage.change_by(
            what, lambda s: change_device(s, track, device_id, layer=layer, **changes), layer, merge=key
        )


class ChainPanel(Panel):
    """The chain of one layer, or that of a branch of one of its splits."""

    def __init__(self, stage: Host) -> None:
        super().__init__(stage)
        self.device_at = 0
        self.where = ""  # the branch that is shown
        self.fields = DeviceFields(_Shown(self), prefix="sounds.chain", ruler_prefix="sounds.chain")
        self.picture = DevicePicture(stage.desk, self.fields)
        self.heard = label("", "soft", name="sounds.chain.without")
        self.without = HearingWithout(stage.desk, self._show_without)
        self._effect: tuple[tuple[str, str, str], Effect | None] | None = None  # of what track, layer and path
        self._watch = WhileVisible(self, stage.desk.measuring, self._question, self._on_measured)
        self.keeps = (self.picture, self.fields, self.heard)

    @property
    def chain(self) -> tuple[Device, ...]:
        """The one that is shown."""
        return chain_of(self.the_layer, self.where)

    @property
    def device(self) -> Device | None:
        chain = self.chain if self.layer is not None else ()
        return chain[self.device_at] if self.device_at < len(chain) else None

    @property
    def path(self) -> str:
        """Where the device that is shown stands in the layer's chain."""
        device = self.device
        assert device is not None
        return f"{self.where}/{device.id}" if self.where else device.id

    def shape(self, source: InstrumentSource, layer: Layer | None) -> object:
        if layer is None:
            return None
        split = self.where.rpartition("/")[0]
        if split and split not in dict(walk(layer.chain)):  # of another layer, or gone
            self.where, self.device_at = "", 0
        chain = chain_of(layer, self.where)
        self.device_at = min(self.device_at, max(0, len(chain) - 1))
        return self.where, self.device_at, tuple((d.id, d.title, d.on) for d in chain)

    def show_pictures(self, layer: Layer | None, kept: Layer | None) -> None:
        if layer is not None and self.device is not None:
            self.fields.show_device()
            self._show_picture()
            self._watch.ask()

    def _place(self) -> tuple[str, str, str]:
        return self.desk.selection.track_id, self.the_layer.id, self.path

    def _show_picture(self) -> None:
        if self.device is not None:
            place, effect = self._effect or (None, None)
            self.picture.show_device(
                self.device, self.fields.stage.kept_device(), effect if place == self._place() else None
            )

    def _question(self) -> LayerDeviceOf | None:
        if self.layer is None or self.device is None:
            return None
        return LayerDeviceOf(self.desk.bench.graph, self.desk.selection.section, *self._place())

    def _on_measured(self, effect: Effect | None) -> None:
        if self.layer is not None and self.device is not None:
            self._effect = (self._place(), effect)
            self._show_picture()

    def _show_without(self) -> None:
        self.heard.setText(f"heard {self.without.words}" if self.without.words else "")
        self.heard.setVisible(bool(self.without.words))

    def hear_branch(self, index: int) -> None:
        """One branch of the split that is shown alone."""
        track, layer, path = self._place()
        self.without.toggle_branch(track, path, index, layer=layer)

    def hear_without(self) -> None:
        if self.layer is not None and self.device is not None:
            track, layer, path = self._place()
            self.without.toggle(track, path, rest=False, layer=layer)

    def make(self, source: InstrumentSource, layer: Layer) -> None:
        add = QComboBox()
        add.setObjectName("sounds.chain.add")
        add.setAccessibleName("Add a device to the layer")
        add.addItem("Add device…", None)
        for kind in DEVICES:
            add.addItem(kind.title, kind.kind)
        add.activated.connect(lambda i: self._add_device(add.itemData(i)))
        box = QWidget()
        back = [button("← Back", "sounds.chain.leave", self.leave)] if self.where else []
        buttons = [
            button(
                d.title if d.on else f"{d.title} (off)", f"sounds.chain.{d.id}", lambda n=i: self._choose_device(n),
                kind="chosen" if i == self.device_at else "",
            )
            for i, d in enumerate(self.chain)
        ]  # fmt: skip
        box.setLayout(row(*back, *buttons, add, 1, spacing=4))
        self.add(box)
        device = self.device
        if device is None:
            words = "An empty branch passes what comes in." if self.where else "No device of its own. What is here works on this layer alone, before it meets the others."  # fmt: skip
            self.add(label(words, "soft", wrap=True))
            self.fields.hide()
            self.picture.hide()
            self.heard.hide()
            return
        orders = QWidget()
        orders.setLayout(
            row(
                button("Off" if device.on else "On", "sounds.chain.on", self._switch),
                button(
                    "Hear without it", "sounds.chain.hear_without", self.hear_without,
                    tip="At equal loudness; once more brings it back",
                ),
                button("Remove", "sounds.chain.remove", self.remove_device),
                button("←", "sounds.chain.earlier", lambda: self._move_device(-1), accessible="Earlier in the chain"),
                button("→", "sounds.chain.later", lambda: self._move_device(1), accessible="Later in the chain"),
                1, spacing=4,
            )
        )  # fmt: skip
        self.add(orders)
        self.add(self.heard)
        self._show_without()
        self.add(self.picture)
        self.add(self.fields)

    def enter(self, where: str) -> None:
        """The chain of a branch."""
        self.where, self.device_at = where, 0
        self.stage.show_all()

    def leave(self) -> None:
        """Back to the split that it is a branch of."""
        self.where, split = parent(self.where.rpartition("/")[0])
        self.device_at = next((n for n, d in enumerate(self.chain) if d.id == split), 0)
        self.stage.show_all()

    def _edit_chain(self, what: str, change: Callable[[tuple[Device, ...]], tuple[Device, ...]]) -> None:
        track, layer, where = self.desk.selection.track_id, self.the_layer.id, self.where
        self.stage.change_by(what, lambda s: edit_chain(s, track, where, change, layer=layer), layer, merge=None)

    def _switch(self) -> None:
        device = self.device
        if device is not None:
            self.fields.stage.change(self.path, "Switch", merge=None, on=not device.on)

    def _move_device(self, steps: int) -> None:
        chain, to = list(self.chain), self.device_at + steps
        if 0 <= to < len(chain):
            chain.insert(to, chain.pop(self.device_at))
            self.device_at = to
            self._edit_chain("Move device", lambda _: tuple(chain))

    def _choose_device(self, at: int) -> None:
        self.device_at = at
        self.stage.show_all()

    def _add_device(self, kind: str | None) -> None:
        if kind is None or self.layer is None:
            return
        chain = self.chain
        values = DEVICES.find(kind).usual
        device = Device.model_validate({"id": make_id(kind, (d.id for d in chain)), "kind": kind, **values})
        self.device_at = len(chain)
        self._edit_chain("Add device", lambda held: (*held, device))

    def paste_devices(self, found: Copied) -> None:
        """Copies after the device that is shown."""
        track, layer_id, at, where = self.desk.selection.track_id, self.the_layer.id, self.device_at, self.where

        def paste(session: Session) -> Session:
            session, what = clipboard.with_its_clips(self.desk, session, found)
            assert isinstance(what, CopiedDevices)
            chain = list(chain_of(layer_of(session, track, layer_id), where))
            first = at + 1 if chain else 0
            for n, device in enumerate(heard_here(what.devices, session)):
                chain.insert(first + n, device.replace(id=make_id(device.kind, (d.id for d in chain))))
            return edit_chain(session, track, where, lambda _: tuple(chain), layer=layer_id)

        if self.desk.edit("Paste device", paste):
            self._choose_device(at + 1 if len(self.chain) > 1 else 0)

    def remove_device(self) -> None:
        device = self.device if self.layer is not None else None
        if device is not None:
            self._edit_chain("Remove device", lambda held: tuple(d for d in held if d.id != device.id))
