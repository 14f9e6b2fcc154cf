"""Sounds: the layers of the selected track, who owns which octave, and the selected layer taken apart."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, Literal

from PySide6.QtCore import Qt
from PySide6.QtGui import QHideEvent
from PySide6.QtWidgets import QBoxLayout, QComboBox, QFileDialog, QInputDialog, QScrollArea, QWidget

from zygotone.advise.questions import LayerMapOf
from zygotone.advise.sound_views import LayerMapView
from zygotone.app import clipboard
from zygotone.app.desk import Desk
from zygotone.app.measuring import WhileVisible
from zygotone.app.midi_ports import MidiInput
from zygotone.app.stages.base import STAGES, Action, Stage, StageWidget
from zygotone.app.stages.library import LibraryDialog
from zygotone.app.stages.sounds.chain import ChainPanel
from zygotone.app.stages.sounds.clips import ClipPanel
from zygotone.app.stages.sounds.envelopes import EnvelopesPanel
from zygotone.app.stages.sounds.filter import FilterPanel
from zygotone.app.stages.sounds.lfos import LfosPanel
from zygotone.app.stages.sounds.moves import MovesPanel
from zygotone.app.stages.sounds.notes import NotesPanel
from zygotone.app.stages.sounds.panel import Panel
from zygotone.app.stages.sounds.routes import RoutesPanel
from zygotone.app.stages.sounds.source import SourcePanel
from zygotone.app.stages.sounds.zones import ZonesPanel
from zygotone.app.widgets.asking import Entry as MenuEntry
from zygotone.app.widgets.asking import Menu, menu_button
from zygotone.app.widgets.basic import button, column, label, let_go_of_focus, restyle, row
from zygotone.app.widgets.glance import DRAWN, Glance, GlanceButton
from zygotone.app.widgets.layer_map import LayerMap, Together
from zygotone.app.widgets.piano import Piano
from zygotone.errors import ZygotoneError
from zygotone.session.catalogue import SOURCES
from zygotone.session.clipboard import Copied, CopiedDevices, CopiedLayers, CopiedSound, CopiedTrack, What
from zygotone.session.copies import new_track, paste_layers
from zygotone.session.edits import (
    add_asset,
    change_instrument,
    change_layer,
    make_id,
    move_layer,
    put_layer,
    remove_layer,
    share_out,
)
from zygotone.session.instruments import InstrumentSource, Layer, Phrase
from zygotone.session.kinds import Sound
from zygotone.session.layer_edits import with_likewise
from zygotone.session.models import Session, Track
from zygotone.session.parts import played_in
from zygotone.session.saved_sounds import SavedSound, load_sound, save_sound, with_clip_names


def _counted(what: str, layers: Sequence[Layer]) -> str:
    return f"{what} layer" if len(layers) == 1 else f"{what} {len(layers)} layers"


class SoundsStage(StageWidget):
    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.setObjectName("stage.sounds")
        self.tab = "Source"
        self._chosen: dict[str, str] = {}  # the layer selected on each track
        self._map: LayerMapView | None = None
        self._watch = WhileVisible(self, desk.measuring, self._question, self._on_map)

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
                menu_button("Sound", "sounds.sound", self._sound_entries, tip="The whole sound: copy it, take in layers of another, files"),
                button("Library…", "sounds.library", self.open_library, tip="Factory sounds and your own"), spacing=5,
            )
        )  # fmt: skip
        self.map = LayerMap(self.choose, lambda i, what, changes: self.change(what, i, **changes))
        self._others: dict[str, tuple[str, ...]] = {}  # layers that are changed with it
        self._panels: dict[str, Panel] = {
            "Source": SourcePanel(self), "Envelopes": EnvelopesPanel(self), "LFOs": LfosPanel(self), "Filter": FilterPanel(self),
            "Routes": RoutesPanel(self), "Zones": ZonesPanel(self), "Chain": ChainPanel(self), "Moves": MovesPanel(self),
            "Notes": NotesPanel(self),
        }  # fmt: skip
        self._hear = label("hear", "soft")
        self._hear_buttons = {
            False: button("In the mix", "sounds.hear.mix", lambda: desk.listening.hear_alone(False), tip="Hear the whole song"),
            True: button("Alone", "sounds.hear.alone", lambda: desk.listening.hear_alone(True), tip="Hear this track alone: its phrase, its chain, its returns"),
        }  # fmt: skip
        self._tabs = row(spacing=4)
        self._tab_buttons = {
            name: GlanceButton(name, f"sounds.tab.{name.lower()}", DRAWN[name], lambda n=name: self.show_tab(n))
            for name in self._panels
        }
        for each in self._tab_buttons.values():
            self._tabs.addWidget(each)
        self._tabs.addStretch(1)
        self.empty = label(
            "A bus has no sound of its own. Choose a track, or make one here.", "soft",
            name="sounds.empty", wrap=True,
        )  # fmt: skip
        self.new_button = button("Make an instrument track", "sounds.new", self.new_track)
        self.piano = Piano(
            lambda pitch, velocity: self.notes.key_down(pitch, velocity), lambda pitch: self.notes.key_up(pitch)
        )

        self.clips = ClipPanel(desk)
        self.no_layer = label("No layer yet. Add one above: a source with a job.", "soft")
        inner = QWidget()
        inner.setLayout(
            column(
                row(self.title, self.told, 1, self._hear, *self._hear_buttons.values(), spacing=8), self.empty, row(self.new_button, 1), self.clips, self.top, self.map, self._tabs,
                self.no_layer, *self._panels.values(), 1, spacing=7, margins=(16, 10, 10, 6),
            )
        )  # fmt: skip
        layout = inner.layout()
        assert isinstance(layout, QBoxLayout)
        layout.setStretchFactor(self._panels["Notes"], 100)
        layout.setStretchFactor(self.clips, 100)
        self.scroller = QScrollArea()
        self.scroller.setWidgetResizable(True)
        self.scroller.setWidget(inner)
        self.setLayout(column(self.scroller, self.piano, spacing=0))
        self.shown_by(
            self.show_all,
            desk.session_changed,
            desk.selection.changed,
            desk.selection.loop_changed,
            desk.listening.changed,
        )

    def listen_to_midi(self, midi: MidiInput) -> None:
        midi.pressed.connect(self.piano.press)
        midi.released.connect(self.piano.release)

    def let_keys_go(self) -> None:
        self.piano.release_all()

    # --- what is shown -------------------------------------------------------------------------------------

    @property
    def track(self) -> Track | None:
        strip = self.desk.session.strip(self.desk.selection.track_id)
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
        wanted = self._chosen.get(self.desk.selection.track_id)
        return next((each for each in source.layers if each.id == wanted), source.layers[0])

    @property
    def others(self) -> tuple[str, ...]:
        """Layers that are chosen beside ``layer``, and are changed with it."""
        source, layer = self.source, self.layer
        if source is None or layer is None:
            return ()
        wanted = self._others.get(self.desk.selection.track_id, ())
        return tuple(each.id for each in source.layers if each.id in wanted and each.id != layer.id)

    @property
    def chosen_layers(self) -> tuple[Layer, ...]:
        """All that are chosen, in their order."""
        source, layer, others = self.source, self.layer, self.others
        return () if source is None else tuple(e for e in source.layers if e is layer or e.id in others)

    @property
    def phrase(self) -> Phrase | None:
        source = self.source
        if source is None:
            return None
        played = played_in(self.desk.session.track(self.desk.selection.track_id).parts, self.desk.selection.section.id)
        shown = self.notes.choose_phrase(played)
        return next((p for p in source.phrases if p.id == shown), None)

    def kept(self) -> tuple[InstrumentSource | None, Layer | None]:
        """Instrument and layer as they are in A."""
        strip = {s.id: s for s in self.desk.bench.kept.strips()}.get(self.desk.selection.track_id)
        source = strip.source if isinstance(strip, Track) and isinstance(strip.source, InstrumentSource) else None
        layer = self.layer
        found = next((e for e in source.layers if layer is not None and e.id == layer.id), None) if source else None
        return source, found

    def show_all(self) -> None:
        source, layer, track = self.source, self.layer, self.track
        self.title.setText(self.desk.session.strip(self.desk.selection.track_id).name)
        has = source is not None
        self.piano.setVisible(has)
        for widget in (self.top, self.map):  # notes need the room, and have nothing to do with one layer
            widget.setVisible(has and self.tab != "Notes")
        clip = track is not None and not has
        self.clips.setVisible(clip)
        if clip:
            self.clips.show_all()
        for widget in (self.empty, self.new_button):
            widget.setVisible(not has and not clip)
        for name, tab in self._tab_buttons.items():
            tab.setVisible(has and (layer is not None or name == "Notes"))
        if source is not None:
            self._show_glance(source, layer)
        self._hear.setVisible(has)
        for alone, each in self._hear_buttons.items():
            each.setVisible(has)
            restyle(each, kind="chosen" if alone == self.desk.listening.alone else "")
        if source is None or track is None:
            self.told.setText("audio" if clip else "")
            self.no_layer.hide()
            for panel in self._panels.values():
                panel.hide()
            return
        count = len(source.layers)
        direct = sum(each.output == "direct" for each in source.layers)
        voices = {"poly": f"chords of {source.voices.limit}", "mono": "one note at a time", "legato": "legato"}[
            source.voices.mode
        ]
        self.told.setText(
            f"{count} layer{'s' if count != 1 else ''} · {voices}"
            + (f" · {direct} direct, past the chain" if direct else "")
            + (f" · {len(self.others) + 1} chosen: what is changed moves in all of them" if self.others else "")
        )
        self.map.show_layers(source, self._map, layer.id if layer else None, self.others)
        self.no_layer.setVisible(layer is None and self.tab != "Notes")
        for name, panel in self._panels.items():
            if name == self.tab and (layer is not None or name == "Notes"):
                panel.show_values(source, layer)
                panel.show()
            elif not panel.isHidden():
                let_go_of_focus(panel)  # else it goes to whatever is next, such as a track
                panel.hide()
        self._watch.ask()

    def _show_glance(self, source: InstrumentSource, layer: Layer | None) -> None:
        """The small pictures of all pages."""
        measured = self._map
        levels = None
        if layer is not None and measured is not None and layer.id in measured.layers:
            levels = measured.levels_db[measured.layers.index(layer.id)]
        session, track = self.desk.session, self.desk.selection.track_id
        lanes = tuple(
            (lane, session.lane_param(lane))
            for lane in session.lanes
            if layer is not None and lane.strip == track and lane.layer == layer.id
        )
        glance = Glance(source, layer, levels, self.phrase, lanes)
        for name, each in self._tab_buttons.items():
            each.show_glance(glance, chosen=name == self.tab)

    def show_tab(self, tab: str) -> None:
        self.tab = tab
        self.show_all()

    def actions_offered(self) -> tuple[Action, ...]:
        return (
            Action("Next page of the sound", "sounds.page.next", lambda: self._turn(1), "Ctrl+PgDown"),
            Action("Page of the sound before", "sounds.page.before", lambda: self._turn(-1), "Ctrl+PgUp"),
        )

    def _turn(self, pages: int) -> None:
        """To a page beside this one, from the last to the first, and into it."""
        names = [name for name, each in self._tab_buttons.items() if each.isVisible()]
        if names:
            at = names.index(self.tab) if self.tab in names else 0
            self.show_tab(names[(at + pages) % len(names)])
            self.panel(self.tab).take_focus()

    def open_lane(self, device: str | None, path: str) -> None:
        """What moves a parameter of the layer, or of a device of its chain."""
        self.show_tab("Moves")
        self.panel("Moves").lanes.open(device, path)

    def choose(self, layer_id: str, together: Together = "alone") -> None:
        track, layer, source = self.desk.selection.track_id, self.layer, self.source
        others: tuple[str, ...] = ()
        if together != "alone" and layer is not None and source is not None:
            others = (*self.others, layer.id)
            ids = [each.id for each in source.layers]
            if together == "toggle" and layer_id in others:  # out with it: another of them stands for all, if need be
                others = tuple(each for each in others if each != layer_id)
                layer_id = layer.id if layer_id != layer.id else next(iter(others), layer_id)
            elif together == "as far as":
                first, last = sorted((ids.index(layer.id), ids.index(layer_id)))
                others = tuple(ids[first : last + 1])
        self._chosen[track], self._others[track] = layer_id, others
        self.panel("Source").entry = self.panel("Chain").device_at = 0
        self.show_all()

    @property
    def notes(self) -> NotesPanel:
        found = self._panels["Notes"]
        assert isinstance(found, NotesPanel)
        return found

    def panel(self, tab: str) -> Any:
        """One tab, shown or not."""
        return self._panels[tab]

    # --- layers and sounds ---------------------------------------------------------------------------------

    def change(self, what: str, layer_id: str | None = None, *, merge: object = "value", **changes: Any) -> None:
        layer = self.layer
        layer_id = layer_id or (layer.id if layer else None)
        if layer_id is None:
            return
        track = self.desk.selection.track_id
        key = (track, layer_id, what, *sorted(changes)) if merge == "value" else merge
        self.change_by(what, lambda s: change_layer(s, track, layer_id, **changes), layer_id, merge=key)

    def change_by(self, what: str, change: Callable[[Session], Session], layer_id: str, *, merge: object) -> None:
        """What ``change`` makes of a layer, and, where it is one of several that are chosen, of those likewise."""
        track, chosen = self.desk.selection.track_id, [each.id for each in self.chosen_layers]
        others = [each for each in chosen if each != layer_id] if layer_id in chosen else []
        self.desk.edit(what, lambda s: with_likewise(s, change(s), track, layer_id, others), merge_key=merge)

    def _add_chosen(self, index: int) -> None:
        kind = self.add_box.itemData(index)
        self.add_box.setCurrentIndex(0)
        if kind is not None:
            self.add_layer(kind)

    def add_layer(self, kind: str) -> None:
        source, track = self.source, self.desk.selection.track_id
        if source is None:
            return
        title = SOURCES.find(kind).title
        made = Layer.model_validate(
            {"id": make_id(kind, (e.id for e in source.layers)), "name": title, "sound": {"kind": kind}, "level_db": -6.0, "envelope": {"sustain": 0.8}}
        )  # fmt: skip
        if self.desk.edit("Add layer", lambda s: put_layer(s, track, made)):
            self.choose(made.id)

    def duplicate(self) -> None:
        track, layers = self.desk.selection.track_id, self.chosen_layers
        made = (
            self.desk.make(_counted("Duplicate", layers), lambda s: paste_layers(s, track, layers)) if layers else None
        )
        if made:
            self.choose(made[0])
            self._others[track] = made[1:]
            self.show_all()

    def remove(self) -> None:
        track, layers = self.desk.selection.track_id, self.chosen_layers

        def without(session: Session) -> Session:
            for layer in layers:
                session = remove_layer(session, track, layer.id)
            return session

        if layers:
            self.desk.edit(_counted("Remove", layers), without)

    def _move(self, steps: int) -> None:
        layer, track = self.layer, self.desk.selection.track_id
        if layer is not None:
            self.desk.edit("Move layer", lambda s: move_layer(s, track, layer.id, steps))

    def _rename(self) -> None:
        layer = self.layer
        if layer is not None:
            text, good = QInputDialog.getText(self, "Rename layer", "Name of this layer:", text=layer.name)
            if good and text.strip():
                self.change("Rename layer", name=text.strip()[:120], merge=None)

    def new_track(self) -> None:
        """A track with a plain instrument, one layer that nothing is done to, so that there is something to build on."""
        sound = Sound.model_validate({"kind": next(iter(SOURCES)).kind})
        body = Layer(id="body", name="Body", sound=sound, level_db=-12.0)
        plain = SavedSound(name="Sound", layers=(body,))
        made = self.desk.make("New instrument track", lambda s: new_track(s, "keys", plain, name="Sound"))
        if made is not None:
            self.desk.selection.track(made)

    def use_sound(self, sound: SavedSound, clips: dict[str, Any]) -> None:
        """Put a sound in the place of the track's own; its phrases stay."""
        track, source = self.desk.selection.track_id, self.source
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
            self.show_all()

    def present_sound(self, name: str) -> tuple[SavedSound, dict[str, Any]]:
        """The track's sound and its clips, as they are now."""
        from zygotone.session.audio_files import AudioData
        from zygotone.session.instruments import instrument_files

        source, track, rate = self.source, self.track, self.desk.session.rate_hz
        assert source is not None, "asked for only where there is one"
        assert track is not None
        clips = {
            asset: AudioData(self.desk.store.audio_of(asset, rate), rate, "FLOAT", "WAV")
            for asset in instrument_files(source.layers)
        }  # fmt: skip
        return SavedSound.of(source, name=name, role=track.role), clips

    def open_library(self) -> None:
        try:
            dialog = LibraryDialog(self)
        except ZygotoneError as error:
            self.desk.refuse(str(error))
            return
        dialog.exec()

    # --- cut, copy, paste ------------------------------------------------------------------------------------

    def _sound_entries(self) -> Menu:
        here = self.desk.selection.track_id
        others: list[MenuEntry | str | None] = [
            (t.name, f"sounds.take.{t.id}", lambda t=t: self.take_in(t))
            for t in self.desk.session.tracks
            if t.id != here and isinstance(t.source, InstrumentSource) and t.source.layers
        ]
        taken: list[MenuEntry | str | None] = [("Take in the layers of", "sounds.take", others)] if others else []
        return (
            ("Copy the sound", "sounds.copy", self.copy_sound), ("Paste as further layers", "sounds.paste", self.paste_layers),
            ("Paste in its place", "sounds.paste.instead", self.paste_sound), *taken, None,
            ("Share out the velocities", "sounds.share.velocity", lambda: self._share_out("velocity")),
            ("Share out the keys", "sounds.share.keys", lambda: self._share_out("keys")), None,
            ("Import…", "sounds.import", self._import), ("Export…", "sounds.export", self._export),
        )  # fmt: skip

    def _share_out(self, over: Literal["velocity", "keys"]) -> None:
        track = self.desk.selection.track_id
        what = "Share out the velocities" if over == "velocity" else "Share out the keys"
        self.desk.edit(what, lambda s: share_out(s, track, over=over))

    def take_in(self, track: Track) -> None:
        """The layers of another track's sound, beside those that are here."""
        if isinstance(track.source, InstrumentSource):
            self._add_layers(f"Take in {track.name}", track.source.layers)

    def _add_layers(self, what: str, layers: tuple[Layer, ...], found: Copied | None = None) -> None:
        track = self.desk.selection.track_id

        def add(session: Session) -> tuple[Session, tuple[str, ...]]:
            taken = layers
            if found is not None:
                session, held = clipboard.with_its_clips(self.desk, session, found)
                taken = _layers_in(held)
            return paste_layers(session, track, taken)

        made = self.desk.make(what, add)
        if made:
            self.choose(made[-1])

    def copy_sound(self) -> None:
        source, track = self.source, self.track
        if source is not None and source.layers and track is not None:
            sound = SavedSound.of(source, name=track.name, role=track.role)
            clipboard.copy(self.desk, CopiedSound(sound=sound), f"the sound of {track.name}")

    def copy(self) -> None:
        layer = self.layer
        if self.tab == "Notes":
            self.notes.copy()
        elif self.tab == "Chain" and layer is not None and layer.chain:
            device = layer.chain[self.panel("Chain").device_at]
            clipboard.copy(self.desk, CopiedDevices(devices=(device,)), device.title)
        elif layer is not None:
            layers = self.chosen_layers
            words = f"the layer {layer.name}" if len(layers) == 1 else f"{len(layers)} layers"
            clipboard.copy(self.desk, CopiedLayers(layers=layers), words)

    def cut(self) -> None:
        if self.tab == "Notes":
            self.notes.cut()
        elif self.tab != "Chain" and self.layer is not None:
            self.copy()
            self.remove()
        else:
            self.copy()
            self.panel("Chain").remove_device()

    def paste(self) -> None:
        """Notes where notes are shown, devices into a layer's chain, and all that is sound as layers."""
        if self.tab == "Notes":
            self.notes.paste()
            return
        found = clipboard.copied(self.desk)
        layer = self.layer
        if found is None or self.source is None:
            return
        if isinstance(found.what, CopiedDevices) and layer is not None:
            self.panel("Chain").paste_devices(found)
        elif _layers_in(found.what):
            self._add_layers("Paste layers", (), found)
        else:
            clipboard.cannot_go_here(self.desk, found, "layers and sounds")

    def paste_layers(self) -> None:
        found = clipboard.copied(self.desk)
        if found is not None and _layers_in(found.what):
            self._add_layers("Paste layers", (), found)
        elif found is not None:
            clipboard.cannot_go_here(self.desk, found, "layers and sounds")

    def paste_sound(self) -> None:
        """In the place of the track's own; its phrases stay."""
        found, track = clipboard.copied(self.desk), self.desk.selection.track_id
        if found is None:
            return
        if not isinstance(found.what, CopiedSound):
            clipboard.cannot_go_here(self.desk, found, "a whole sound")
            return

        def put(session: Session) -> Session:
            session, held = clipboard.with_its_clips(self.desk, session, found)
            assert isinstance(held, CopiedSound)
            sound = held.sound
            return change_instrument(
                session, track, layers=sound.layers, voices=sound.voices, lfos=sound.lfos, macros=sound.macros
            )

        if self.desk.edit(f"Sound: {found.what.sound.name}", put):
            self._chosen.pop(track, None)
            self.show_all()

    def select_all(self) -> None:
        if self.tab == "Notes":
            self.notes.grid.choose_all()

    def delete(self) -> None:
        if self.tab == "Notes":
            self.notes.grid.remove_chosen()

    def _import(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Bring in a sound", "", "Sounds (*.json)")
        if path:
            try:
                self.use_sound(*load_sound(Path(path)))
            except ZygotoneError as error:
                self.desk.refuse(str(error))

    def _export(self) -> None:
        track = self.track
        if track is None or self.source is None or not self.source.layers:
            return
        path, _ = QFileDialog.getSaveFileName(self, "Write the sound", f"{track.name}.json", "Sounds (*.json)")
        if path:
            try:
                save_sound(Path(path), *self.present_sound(track.name))
            except ZygotoneError as error:
                self.desk.refuse(str(error))

    # --- measuring -----------------------------------------------------------------------------------------

    def hideEvent(self, event: QHideEvent) -> None:
        super().hideEvent(event)
        if not event.spontaneous():  # which it is where the window is only put away
            self.desk.listening.hear_alone(False)  # elsewhere nothing says that the others are silent

    def _question(self) -> LayerMapOf | None:
        if self.source is None:
            return None
        return LayerMapOf(self.desk.bench.graph, self.desk.selection.section, self.desk.selection.track_id)

    def _on_map(self, view: LayerMapView | None) -> None:
        self._map = view
        source, layer = self.source, self.layer
        if source is not None:
            self.map.show_layers(source, view, layer.id if layer else None, self.others)
            self._show_glance(source, layer)


def _layers_in(what: What) -> tuple[Layer, ...]:
    """The layers of what was copied, where it is sound."""
    if isinstance(what, CopiedLayers):
        return what.layers
    if isinstance(what, CopiedSound):
        return what.sound.layers
    if isinstance(what, CopiedTrack) and isinstance(what.track.source, InstrumentSource):
        return what.track.source.layers
    return ()


STAGES.enter(Stage(key="sounds", title="Sounds", order=20, make=SoundsStage))
