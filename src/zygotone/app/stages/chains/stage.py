"""Chains: the devices of the selected track in order, each with its rulers, its picture and what it did."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QInputDialog, QScrollArea, QWidget

from zygotone.advise.questions import ChainMeasured, ChainOf, PeakAndBody
from zygotone.app import clipboard
from zygotone.app.desk import Desk
from zygotone.app.kept import ask_and_keep, open_kept
from zygotone.app.measuring import WhileVisible
from zygotone.app.stages.base import STAGES, Action, Stage, StageWidget
from zygotone.app.stages.chains.cards import DeviceCard
from zygotone.app.stages.chains.effect import EffectTiles
from zygotone.app.stages.chains.fields import DeviceFields
from zygotone.app.stages.chains.offer import DeviceOffer
from zygotone.app.stages.chains.picture import DevicePicture
from zygotone.app.stages.chains.without import HearingWithout
from zygotone.app.widgets.asking import Entry, Menu, menu_button
from zygotone.app.widgets.basic import button, clear, column, label, row, signed
from zygotone.app.widgets.lanes import LanePanel
from zygotone.app.widgets.sends import SendsPanel
from zygotone.errors import ParameterError
from zygotone.session.clipboard import CopiedDevices
from zygotone.session.copies import bring_chain, paste_devices
from zygotone.session.edits import (
    chain_of,
    change_device,
    duplicate_device,
    edit_chain,
    insert_device,
    make_id,
    move_device,
    new_device,
    parent,
    remove_device,
    usual_device,
)
from zygotone.session.models import Device, Session, Strip, Track, walk


class ChainsStage(StageWidget):
    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.setObjectName("stage.chains")
        self.where = ""  # the branch whose chain is shown, such as split/0
        self._where_strip = ""
        self.back = button("←", "chains.branch.back", self.leave_branch)
        self.chain_menu = menu_button(
            "Chain", "chains.chain", self._chain_entries, tip="The whole chain: copy it, bring it to another track"
        )
        self.without = HearingWithout(desk, self._show_without)
        self.without_label = label("", "b", name="chains.without")
        self._lanes = LanePanel(desk)
        self._lanes.shown.connect(self._show_lanes)
        self.sends = SendsPanel(desk, self._lanes.open)
        self._measured: ChainMeasured | None = None
        self._watch = WhileVisible(self, desk.measuring, self._question, self._on_measured)
        self._cards_for: object = None
        self._cards: dict[str, DeviceCard] = {}

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

        self.fields = DeviceFields(self)
        self.picture = DevicePicture(desk, self.fields)
        self.did = EffectTiles(desk)
        self.empty = label(
            "This chain is empty. Add a device from the right; it opens with settings that change nothing much, and you go on from there.",
            "soft",
            name="chains.empty",
            wrap=True,
        )
        inner = QWidget()
        inner.setLayout(
            column(
                row(self.title, self.route, self.without_label, 1, self.back, self.chain_menu, spacing=10), self._card_scroll, self.empty, self._actions_box,
                self.picture, self.fields, self.sends, self.did, self._lanes, 1,
                spacing=8, margins=(16, 10, 10, 10),
            )
        )  # fmt: skip
        self.scroller = QScrollArea()
        self.scroller.setWidgetResizable(True)
        self.scroller.setWidget(inner)
        self.setLayout(column(self.scroller))
        self.shown_by(self.show_all, desk.session_changed, desk.selection.changed, desk.selection.loop_changed)

    # --- what is shown -------------------------------------------------------------------------------------

    @property
    def strip(self) -> Strip:
        return self.desk.session.strip(self.desk.selection.track_id)

    @property
    def device(self) -> Device | None:
        return dict(walk(self.strip.chain)).get(self.desk.selection.device_id or "")

    @property
    def lanes(self) -> LanePanel:
        return self._lanes

    def _show_lanes(self) -> None:
        self.scroller.ensureWidgetVisible(self._lanes)

    @property
    def path(self) -> str:
        """Where the selected device stands."""
        return self.desk.selection.device_id or ""

    @property
    def chain(self) -> tuple[Device, ...]:
        """The chain that is shown: the strip's own, or that of a branch."""
        return chain_of(self.strip, self.where)

    def kept_device(self) -> Device | None:
        """The device as it is in A: None where it does not exist there."""
        strips = {s.id: s for s in self.desk.bench.kept.strips()}
        strip = strips.get(self.desk.selection.track_id)
        return dict(walk(strip.chain)).get(self.path) if strip else None

    def show_all(self) -> None:
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
        self.fields.show_device()
        self._show_picture()
        self.sends.show_strip(strip)
        self._lanes.show_strip(strip, self.path if device is not None else None)
        self._watch.ask()

    def _where(self) -> str:
        """The branch that is shown, as long as it exists and holds what is selected."""
        if self.desk.selection.device_id is not None and self.device is not None:
            return parent(self.desk.selection.device_id)[0]
        try:
            chain_of(self.strip, self.where)
        except ParameterError:
            return ""
        return self.where if self._where_strip == self.desk.selection.track_id else ""

    def _latency_frames(self) -> int:
        return self.desk.bench.graph.strip[self.strip.id].latency

    @property
    def layer_id(self) -> None:
        """Its chains are those of strips."""
        return None

    def open_lane(self, device: str | None, param: str) -> None:
        self._lanes.open(device, param)

    def enter_branch(self, index: int) -> None:
        """Show the chain of a branch of the selected split."""
        self.where, self._where_strip = f"{self.path}/{index}", self.desk.selection.track_id
        chain = self.chain
        self.desk.selection.device(f"{self.where}/{chain[0].id}" if chain else None)
        self.show_all()

    def leave_branch(self) -> None:
        split_path = self.where.rsplit("/", 1)[0]
        self.where = ""
        self.desk.selection.device(split_path)
        self.show_all()

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
        steps = self._measured.steps if self._measured and self._measured.strip == strip.id else {}
        for path, device in ((prefix + d.id, d) for d in chain):
            self._cards[path].show_state(
                selected=path == self.desk.selection.device_id, trial=self.desk.bench.trial is not None and old.get(path) != device,
                step=steps.get(path),
            )  # fmt: skip

    def _show_picture(self) -> None:
        device = self.device
        if device is None:
            self.picture.hide()
            self.did.hide()
            self.latency.setText("")
            return
        current = (
            self._measured
            if self._measured and (self._measured.strip, self._measured.path) == (self.strip.id, self.path)
            else None
        )
        effect = current.effect if current else None
        self.picture.show_device(device, self.kept_device(), effect)

        self.did.show()
        if effect is not None:
            self.latency.setText(f"latency {effect.latency_ms:.2f} ms, aligned" if effect.latency_ms else "no latency")
        self.did.show_effect(device, effect, current.kept_effect if current else None)

    # --- edits ---------------------------------------------------------------------------------------------

    def change(self, device_id: str, what: str, *, merge: object = "value", **changes: Any) -> None:
        strip_id = self.desk.selection.track_id
        key = (strip_id, device_id, merge, *changes) if merge is not None else None
        self.desk.edit(what, lambda s: change_device(s, strip_id, device_id, **changes), merge_key=key)

    def add_device(self, kind: str) -> None:
        """After the selected device, or at the end of the chain that is shown."""
        strip = self.strip
        self.add_devices([usual_device(self.desk.session, strip, kind, where=self.where)])

    def add_peaks_then_gentle(self) -> None:
        """Two compressors in series: a hard one for the loudest peaks, then a gentle one for everything, both set from
        the material. How far is common practice: 4 dB off the peaks, and half of what is over the average."""
        strip, desk = self.strip, self.desk
        where = self.where

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

        desk.measuring.ask(PeakAndBody(desk.bench.graph, desk.selection.section, strip.id), add, urgency=1)

    def add_devices(self, devices: list[Device]) -> None:
        strip, where, at = self.strip, self.where, self._after_selected()

        def insert(session: Session) -> Session:
            for n, device in enumerate(devices):
                session = insert_device(session, strip.id, device, at + n, where=where)
            return session

        if self.desk.edit(f"Add {devices[0].title}", insert):
            self.desk.selection.device(f"{where}/{devices[-1].id}" if where else devices[-1].id)

    def _move(self, steps: int) -> None:
        if self.device is not None:
            strip_id, path = self.desk.selection.track_id, self.path
            self.desk.edit("Move device", lambda s: move_device(s, strip_id, path, steps))

    def _duplicate(self) -> None:
        if self.device is not None:
            strip_id, path = self.desk.selection.track_id, self.path
            self.desk.edit("Duplicate device", lambda s: duplicate_device(s, strip_id, path))

    def _remove(self) -> None:
        if self.device is not None:
            strip_id, path, where = self.desk.selection.track_id, self.path, self.where
            self._where_strip = strip_id
            self.desk.edit("Remove device", lambda s: remove_device(s, strip_id, path))
            if where:  # stay in the branch, also if it is empty now
                self.where = where
                left = self.chain
                self.desk.selection.device(f"{where}/{left[0].id}" if left else None)
                self.show_all()

    def _rename(self) -> None:
        device = self.device
        if device is None:
            return
        text, good = QInputDialog.getText(self, "Rename device", "Name of this device:", text=device.title)
        if good:
            self.change(self.path, "Rename device", label=text.strip()[:120])

    # --- cut, copy, paste, to other tracks -----------------------------------------------------------------

    def _chain_entries(self) -> Menu:
        desk, here = self.desk, self.desk.selection.track_id
        others = [s for s in desk.session.strips() if s.id != here]

        def to(words: str, name: str, *, moves: bool) -> list[Entry | str | None]:
            return [(words, name, [(s.name, f"{name}.{s.id}", lambda s=s: self.send_chain(s.id, moves=moves)) for s in others])]  # fmt: skip

        return (
            ("Copy the chain", "chains.copy", self.copy_chain),
            ("Paste after the selected device", "chains.paste", self.paste),
            *to("Move it to", "chains.move_to", moves=True),
            *to("Copy it to", "chains.copy_to", moves=False),
            None,
            ("Keep in the library…", "chains.keep", self._keep),
            ("From the library…", "chains.kept", lambda: open_kept(self, self.desk, "devices", self.paste)),
            None,
            ("Hear without this device (Shift+B)", "chains.without.one", self.hear_without),
            ("Hear without it and all that follow", "chains.without.rest", lambda: self.hear_without(rest=True)),
            ("Bypass this device and all that follow", "chains.bypass_rest", self.bypass_from_here),
            ("Empty the chain", "chains.empty_it", self._empty),
        )

    def copy_chain(self) -> None:
        if self.chain:
            clipboard.copy(self.desk, CopiedDevices(devices=self.chain), f"the chain of {self.strip.name}")

    def _keep(self) -> None:
        if self.chain:
            ask_and_keep(self, self.desk, CopiedDevices(devices=self.chain), f"{self.strip.name} chain")

    def copy(self) -> None:
        if self.device is not None:
            clipboard.copy(self.desk, CopiedDevices(devices=(self.device,)), self.device.title)

    def cut(self) -> None:
        if self.device is not None:
            self.copy()
            self._remove()

    def paste(self) -> None:
        """After the selected device, or at the end of the chain that is shown."""
        found = clipboard.copied(self.desk)
        if found is None:
            return
        if not isinstance(found.what, CopiedDevices):
            clipboard.cannot_go_here(self.desk, found, "devices")
            return
        strip_id, where, at = self.strip.id, self.where, self._after_selected()

        def paste(session: Session) -> tuple[Session, tuple[str, ...]]:
            session, what = clipboard.with_its_clips(self.desk, session, found)
            assert isinstance(what, CopiedDevices)
            return paste_devices(session, strip_id, what.devices, at, where=where)

        made = self.desk.make(f"Paste {clipboard.counted(len(found.what.devices), 'device')}", paste)
        if made:
            self.desk.selection.device(f"{where}/{made[-1]}" if where else made[-1])

    def send_chain(self, strip_id: str, *, moves: bool) -> None:
        """The chain that is shown goes to the end of another one, and leaves this where it ``moves``; automation goes along."""
        here, where, devices = self.strip.id, self.where, self.chain
        if not devices:
            self.desk.refuse("This chain is empty.")
            return

        def edit(session: Session) -> Session:
            return bring_chain(session, here, strip_id, where=where, moves=moves)

        if self.desk.edit(f"{'Move' if moves else 'Copy'} chain to {self.desk.session.strip(strip_id).name}", edit):
            self.desk.selection.track(strip_id)

    def hear_without(self, *, rest: bool = False) -> None:
        if self.device is not None:
            self.without.toggle(self.strip.id, self.path, rest=rest)

    def hear_branch(self, index: int) -> None:
        """One branch of the selected split alone."""
        self.without.toggle_branch(self.strip.id, self.path, index)

    def _show_without(self) -> None:
        words = self.without.words
        self.without_label.setText(f"heard {words}" if words else "")

    def bypass_from_here(self) -> None:
        """The selected device and all after it, off; or on again where all of them are off."""
        device, strip_id, where = self.device, self.strip.id, self.where
        if device is None:
            return
        at = self._after_selected() - 1
        on = not any(d.on for d in self.chain[at:])

        def switched(chain: tuple[Device, ...]) -> tuple[Device, ...]:
            return tuple(d.replace(on=on) if n >= at else d for n, d in enumerate(chain))

        self.desk.edit("Switch all that follow", lambda s: edit_chain(s, strip_id, where, switched))

    def _empty(self) -> None:
        strip_id, where = self.strip.id, self.where
        self.desk.edit("Empty the chain", lambda s: edit_chain(s, strip_id, where, lambda chain: ()))

    def _after_selected(self) -> int:
        if self.device is None:
            return len(self.chain)
        return next(i for i, d in enumerate(self.chain) if d.id == parent(self.path)[1]) + 1

    def put_device_at(self, path: str, x: float) -> None:
        """A card that was dragged goes before the first whose middle lies right of ``x``, in pixels of the row."""
        order = [p for p in self._cards if p != path]
        to = sum(self._cards[p].x() + self._cards[p].width() / 2 < x for p in order)
        steps = to - list(self._cards).index(path)
        strip_id = self.strip.id
        if steps:
            self.desk.edit("Move device", lambda s: move_device(s, strip_id, path, steps))

    # --- what the window offers for it ---------------------------------------------------------------------

    def offer(self) -> QWidget:
        series = button(
            "Two in series: peaks, then gentle", "chains.add.series", self.add_peaks_then_gentle,
            tip="Two compressors set from the material: one that catches only the loudest peaks, then one that holds the rest",
        )  # fmt: skip
        return DeviceOffer(self.add_device, series)

    def actions_offered(self) -> tuple[Action, ...]:
        return (
            Action("This device and all that follow on or off", "edit.rest_on", self.bypass_from_here, "Ctrl+Shift+O"),
            Action("Hear without this device", "edit.without", self.hear_without, "Shift+B"),
            Action(
                "Hear without it and all that follow",
                "edit.without_rest",
                lambda: self.hear_without(rest=True),
                "Ctrl+Shift+B",
            ),
            Action("Copy the chain", "edit.copy_chain", self.copy_chain, "Ctrl+Shift+C"),
            Action("Device on or off", "edit.device_on", self.toggle, "Shift+O"),
            Action("Device earlier", "edit.earlier", lambda: self._move(-1), "Alt+Left"),
            Action("Device later", "edit.later", lambda: self._move(1), "Alt+Right"),
            Action("Duplicate device", "edit.duplicate", self._duplicate, "Ctrl+D"),
        )

    def delete(self) -> None:
        self._remove()

    def toggle(self) -> None:
        if self.device is not None:
            self.change(self.path, "Switch", on=not self.device.on)

    # --- measuring -----------------------------------------------------------------------------------------

    def _question(self) -> ChainOf:
        bench = self.desk.bench
        kept = bench.kept_graph if bench.trial is not None and self.kept_device() is not None else None
        path = self.path if self.device is not None else None
        return ChainOf(bench.graph, kept, self.desk.selection.section, self.strip.id, path)

    def _on_measured(self, measured: ChainMeasured) -> None:
        self._measured = measured
        if measured.strip == self.strip.id:
            self._show_cards(self.strip)
            self._show_picture()


STAGES.enter(Stage(key="chains", title="Chains", order=30, make=ChainsStage))
