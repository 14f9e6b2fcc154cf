"""The Sounds stage in the real window: layers, their parts, notes, the library, the keyboard."""

import json

import numpy as np
import pytest
import rtmidi
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QApplication, QComboBox, QDoubleSpinBox, QLabel, QPushButton

from tests.signals import RATE
from zygotone.app.midi_ports import SimulatedPlayer, ports
from zygotone.app.stages.library import LibraryDialog
from zygotone.app.stages.sounds.routes import route_sentence
from zygotone.app.widgets.glance import DRAWN, GlanceButton, response_db
from zygotone.app.widgets.layer_map import HEAD, ROW
from zygotone.app.widgets.ruler import Choice, NumberField, Ruler
from zygotone.engine.graph import compile_session
from zygotone.music.midi_files import write_midi
from zygotone.music.notes import NoteEvent
from zygotone.session.audio_files import AudioWriter
from zygotone.session.audio_store import AudioStore
from zygotone.session.automation import Point
from zygotone.session.catalogue import SOURCES
from zygotone.session.edits import add_bus, change_instrument, change_layer, change_strip, only, put_lane
from zygotone.session.history import Trial
from zygotone.session.models import (
    InstrumentSource,
    Layer,
    Note,
    Part,
    Phrase,
    Route,
    Section,
    Session,
    Song,
    Track,
    VoiceFilter,
)
from zygotone.session.project_file import Project


def made_layer(name: str, job: str, kind: str, **more) -> Layer:
    sound = {"kind": kind, **more.pop("sound", {})}
    return Layer.model_validate({"id": name.lower(), "name": name, "job": job, "sound": sound, **more})


@pytest.fixture(scope="module")
def store() -> AudioStore:
    return AudioStore()


@pytest.fixture
def window(opened, store, settled):
    notes = tuple(Note(start_beat=b, length_beats=0.9, pitch=45) for b in range(4))
    source = InstrumentSource(
        layers=(made_layer("Body", "body", "oscillator"), made_layer("Floor", "sub", "oscillator", sound={"shape": "sine"}, transpose_semitones=-12)),
        phrases=(Phrase(id="line", beats=4, notes=notes),),
    )  # fmt: skip
    song = Song(tempo_bpm=120, sections=(Section(id="a", name="A", bars=1), Section(id="b", name="B", bars=1)))
    session = Session(
        rate_hz=RATE,
        song=song,
        tracks=(Track(id="bass", name="Bass", role="bass", source=source, parts=(Part(section="a", phrase="line"),)),),
    )
    made = opened(Project(session=session, store=store), stage="sounds")
    made.stages["sounds"].show_tab("Source")
    made.stages["sounds"]._chosen.clear()
    made.desk.selection.set_loop(("a",))
    settled(made)
    return made


def layers(window) -> tuple[Layer, ...]:
    return window.desk.session.track("bass").source.layers


def click(window, name: str) -> None:
    window.findChildren(QPushButton, name)[-1].click()


def pick_entry(window, menu: str, entry: str) -> None:
    """An entry of a menu that a button opens."""
    button = window.findChildren(QPushButton, menu)[-1]
    button.menu().aboutToShow.emit()
    next(a for a in button.menu().actions() if a.objectName() == f"{menu}.{entry}").trigger()


def ruler(window, name: str) -> Ruler:
    return window.findChildren(Ruler, f"sounds.{name}")[-1]


def pick(window, name: str, text: str) -> None:
    box = window.findChildren(QComboBox, name)[-1]
    index = box.findText(text)
    assert index >= 0, [box.itemText(i) for i in range(box.count())]
    box.setCurrentIndex(index)
    box.activated.emit(index)


def type_into(field: Ruler, text: str) -> None:
    field.field.setText(text)
    field.field.editingFinished.emit()


# --- layers --------------------------------------------------------------------------------------------------------


def test_the_map_shows_who_owns_what_and_chooses(window, qtbot, settled):
    view = window.stages["sounds"]._map
    assert view is not None
    assert view.layers == ("body", "floor")
    low = view.owned[4]  # 50 Hz: the floor's
    assert low == (1,)
    at = QPoint(40, HEAD + 2 * ROW + 10)
    qtbot.mouseClick(window.stages["sounds"].map, Qt.MouseButton.LeftButton, pos=at)
    assert window.stages["sounds"].layer.id == "floor"
    window.stages["sounds"].map.setFocus()
    qtbot.keyClick(window.stages["sounds"].map, Qt.Key.Key_Up)
    assert window.stages["sounds"].layer.id == "body"
    qtbot.keyClick(window.stages["sounds"].map, Qt.Key.Key_M)
    assert layers(window)[0].mute
    window.desk.bench.undo()
    assert not layers(window)[0].mute
    assert "owned by" not in window.stages["sounds"].map.accessibleDescription()


def test_layers_are_added_copied_moved_and_taken_out(window, settled):
    for kind in SOURCES:
        window.stages["sounds"].add_layer(kind.kind)
    assert len(layers(window)) == 2 + len(list(SOURCES))
    settled(window)
    click(window, "sounds.duplicate")
    assert layers(window)[-1].name.endswith("copy")
    click(window, "sounds.remove")
    count = len(layers(window))
    click(window, "sounds.up")
    assert len(layers(window)) == count
    while window.desk.bench.undo_label is not None:
        window.desk.bench.undo()
    assert [e.id for e in layers(window)] == ["body", "floor"]


@pytest.mark.parametrize("kind", [k.kind for k in SOURCES])
def test_every_source_has_its_fields_and_its_picture(window, settled, kind):
    window.stages["sounds"].change("Source", sound={"kind": kind}, merge=None)
    settled(window)
    assert layers(window)[0].sound.kind == kind
    declared = SOURCES.find(kind).params
    for p in declared:
        if p.type not in ("list", "file"):
            assert window.findChildren((Ruler, Choice)[not p.has_range], f"sounds.{p.name}"), p.name
    if kind != "sample":  # which is silent until it has a recording
        assert np.ptp(window.stages["sounds"].panel("Source").wave.curves[0].y) > 0.01
    first = next((p for p in declared if p.type == "float"), None)
    if first is not None:
        type_into(ruler(window, first.name), f"{first.high:g}")
        assert layers(window)[0].sound.params[first.name] == pytest.approx(first.high)


def test_operators_are_edited_one_at_a_time(window, settled):
    window.stages["sounds"].change("Source", sound={"kind": "fm"}, merge=None)
    settled(window)
    graph = window.stages["sounds"].panel("Source").operators
    assert graph.isVisible()
    assert graph.accessibleDescription() == "2 bends 1; 4 bends 3; heard: 1, 3"
    spots = graph.places()
    assert spots[1].y() < spots[0].y()  # who bends stands over who is bent
    click(window, "sounds.entry.2")
    type_into(ruler(window, "entry.ratio"), "3")
    assert [op["ratio"] for op in layers(window)[0].sound.params["operators"]][1] == 3.0
    click(window, "sounds.entry.remove")
    assert len(layers(window)[0].sound.params["operators"]) == 3


def test_envelopes_are_drawn_and_typed(window, settled):
    window.stages["sounds"].show_tab("Envelopes")
    settled(window)
    picture = window.stages["sounds"].panel("Envelopes").envelope
    x, y = picture._corners()["decay"]
    picture.plot.pressed.emit(x, y)
    picture.plot.dragged.emit(x + 0.1, 0.4)
    picture.plot.released.emit()
    after = layers(window)[0].envelope
    assert after.sustain == pytest.approx(0.4)
    assert after.decay_ms > 250
    picture.plot.pressed.emit(*picture._corners()["attack"])
    picture.plot.dragged.emit(0.127, 1.0)  # near a sixteenth at 120 BPM, 125 ms: it snaps
    picture.plot.released.emit()
    assert layers(window)[0].envelope.attack_ms == 125.0
    type_into(ruler(window, "envelope.release_ms"), "1/8")
    assert layers(window)[0].envelope.release_ms == 250.0
    click(window, "sounds.envelope.pitch")
    type_into(ruler(window, "bend"), "12")
    assert layers(window)[0].bend_semitones == 12.0


def test_an_lfo_is_drawn_shared_and_routed(window, settled):
    window.stages["sounds"].show_tab("LFOs")
    click(window, "sounds.lfo.shared-1")
    window.stages["sounds"].panel("LFOs")._change_lfo("LFO shape", shape="drawn")
    window.stages["sounds"].panel("LFOs").lfo.plot.pressed.emit(0.25, 0.5)
    window.stages["sounds"].panel("LFOs").lfo.plot.dragged.emit(0.25, -1.0)
    shared = window.desk.session.track("bass").source.lfos[0]
    assert [p.at for p in shared.cycle] == [0, 0.25, 0.5, 1]
    assert shared.cycle[1].height == 0.0
    type_into(ruler(window, "lfo.rate"), "1/8d")
    assert window.desk.session.track("bass").source.lfos[0].rate == "1/8d"
    window.stages["sounds"].show_tab("Routes")
    pick(window, "sounds.route.source", "Shared LFO 1")
    pick(window, "sounds.route.target", "Level")
    window.findChildren(QDoubleSpinBox, "sounds.route.amount")[-1].setValue(-6.0)
    click(window, "sounds.route.add")
    assert layers(window)[0].routes == (Route(source="shared1", target="level_db", amount=-6.0),)
    assert route_sentence(layers(window)[0].routes[0], layers(window)[0]) == "Shared LFO 1 lowers level by 6 dB"
    click(window, "sounds.route.1.remove")
    assert layers(window)[0].routes == ()


def test_a_route_moves_a_device_of_the_layers_chain(window, settled):
    stage = window.stages["sounds"]
    add_to_chain(window, "saturation")
    stage.show_tab("Routes")
    pick(window, "sounds.route.source", "Velocity")
    pick(window, "sounds.route.target", "Saturation: Drive")
    window.findChildren(QDoubleSpinBox, "sounds.route.amount")[-1].setValue(18.0)
    click(window, "sounds.route.add")
    (route,) = layers(window)[0].routes
    assert (route.device, route.target, route.amount) == ("saturation", "drive_db", 18.0)
    assert route_sentence(route, layers(window)[0]) == "Velocity raises Saturation: Drive by 18 dB"
    stage.show_tab("Chain")
    window.findChild(QPushButton, "sounds.chain.remove").click()
    assert layers(window)[0].routes == ()
    window.desk.bench.undo()
    assert layers(window)[0].routes == (route,)


def test_a_device_of_a_layer_is_drawn_on_and_heard_without(window, qtbot, settled):
    stage = window.stages["sounds"]
    add_to_chain(window, "eq")
    settled(window)
    panel = stage.panel("Chain")
    plot = panel.picture.by_kind["curve"].plot
    assert any(curve.name == "track here" for curve in plot._curves)  # what comes into it was measured
    band = layers(window)[0].chain[0].params["bands"][0]
    plot.pressed.emit(band["freq_hz"], band["gain_db"])
    plot.dragged.emit(800.0, -9.0)
    plot.released.emit()
    moved = layers(window)[0].chain[0].params["bands"][0]
    assert (moved["freq_hz"], moved["gain_db"]) == pytest.approx((800.0, -9.0), rel=0.02)
    before = window.desk.session
    click(window, "sounds.chain.hear_without")
    settled(window)
    assert panel.heard.text() == "heard without EQ"
    assert window.desk.session is before  # nothing of the song has changed
    click(window, "sounds.chain.hear_without")
    assert panel.heard.text() == ""


def test_of_a_layer_that_is_muted_nothing_is_claimed(window, settled):
    add_to_chain(window, "eq")
    window.desk.edit("Mute", lambda s: change_layer(s, "bass", layers(window)[0].id, mute=True))
    settled(window)
    plot = window.stages["sounds"].panel("Chain").picture.by_kind["curve"].plot
    assert [curve.name for curve in plot._curves] == ["curve"]  # not the sound of the track, which is another


def test_a_branch_of_a_layers_split_is_heard_alone(window, qtbot, settled):
    stage = window.stages["sounds"]
    add_to_chain(window, "split")
    settled(window)
    panel = stage.panel("Chain")
    while len(layers(window)[0].chain[0].params["branches"]) < 2:
        click(window, "sounds.chain.band.add")
    click(window, "sounds.chain.branch.alone")
    assert panel.without.words.startswith("with branch")
    settled(window)
    graphs = panel.without._graphs
    (split,) = graphs[1].session.track("bass").source.layers[0].chain
    assert sorted(each["gain_db"] for each in split.params["branches"])[0] == -60.0
    window.desk.selection.changed.emit()  # leaving ends it
    assert panel.without.words == ""


def test_a_vibrato_is_scaled_by_the_wheel(window, settled):
    window.stages["sounds"].show_tab("Routes")
    pick(window, "sounds.route.source", "LFO 1")
    pick(window, "sounds.route.scale", "scaled by wheel")
    pick(window, "sounds.route.target", "Pitch")
    window.findChildren(QDoubleSpinBox, "sounds.route.amount")[-1].setValue(0.3)
    click(window, "sounds.route.add")
    made = layers(window)[0].routes[-1]
    assert made == Route(source="lfo1", target="pitch", amount=0.3, scaled_by="wheel")
    assert route_sentence(made, layers(window)[0]) == "LFO 1, scaled by wheel, raises pitch by 0.3 semitones"


@pytest.mark.parametrize(
    ("route", "sentence"),
    [
        (Route(source="key", target="envelope.decay_ms", amount=-0.5), "Key lowers level envelope decay by 0.5 octaves, as the note begins"),
        (Route(source="random", target="lfos.1.rate", amount=0.25), "Chance raises LFO 2 rate by 0.25 octaves, as the note begins"),
        (Route(source="macro1", target="filter.envelope.attack_ms", amount=1.0), "Macro 1 raises filter envelope attack by 1 octave, as the note begins"),
        (Route(source="amp", target="bend_semitones", amount=2.0), "Level envelope raises pitch envelope by 2 semitones"),
    ],
)  # fmt: skip
def test_routes_read_as_sentences(route, sentence):
    made = Layer.model_validate(
        {"id": "x", "name": "x", "sound": {"kind": "oscillator"}, "filter": {}, "routes": (route,)}
    )
    assert route_sentence(route, made) == sentence


def test_a_filter_is_put_in_and_a_route_says_what_it_does(window, settled):
    window.stages["sounds"].show_tab("Filter")
    choose_mode(window, "filter", "lowpass")
    settled(window)
    type_into(ruler(window, "filter.cutoff_hz"), "A2")
    assert layers(window)[0].filter.cutoff_hz == pytest.approx(110.0)
    window.stages["sounds"].change(
        "Add route", routes=(Route(source="velocity", target="filter.cutoff_hz", amount=2.0),), merge=None
    )
    assert route_sentence(layers(window)[0].routes[0], layers(window)[0]) == "Velocity opens filter cutoff by 2 octaves"
    choose_mode(window, "filter", "off")
    assert layers(window)[0].filter is None


def add_to_chain(window, kind: str) -> None:
    """Of the layer that is shown."""
    window.stages["sounds"].show_tab("Chain")
    add = window.findChild(QComboBox, "sounds.chain.add")
    add.setCurrentIndex(add.findData(kind))
    add.activated.emit(add.currentIndex())


def choose_mode(window, which: str, mode: str) -> None:
    box = window.findChild(QComboBox, f"sounds.{which}.mode.value")
    box.setCurrentText(mode)
    box.activated.emit(box.currentIndex())


def test_automation_is_opened_from_rulers_of_a_layer_and_of_a_device_in_its_chain(window, settled):
    stage, session = window.stages["sounds"], lambda: window.desk.session
    add_to_chain(window, "gain")
    ((words, _, open_lane),) = ruler(window, "chain.gain_db").offers()
    assert "Automate" in words
    open_lane()
    (lane,) = session().lanes
    assert (lane.layer, lane.device, lane.param) == (layers(window)[0].id, "gain", "gain_db")
    assert stage.tab == "Moves"
    assert window.findChild(QPushButton, f"lane.{lane.id}").text() == "Gain: Gain"
    window.desk.edit(
        "Points", lambda s: put_lane(s, lane.replace(points=(Point(beat=0.0, value=-12.0), Point(beat=2.0, value=0.0))))
    )
    stage.show_tab("Chain")
    settled(window)
    assert ruler(window, "chain.gain_db").scale.moves == pytest.approx((-12.0, 0.0), abs=0.1)
    stage.show_tab("Zones")
    assert ruler(window, "tune_cents").offers is None  # nothing can move it
    stage.show_tab("Source")
    ruler(window, "level_db").offers()[0][2]()
    assert {(each.device, each.param) for each in session().lanes} == {("gain", "gain_db"), (None, "level_db")}
    stage.show_tab("Chain")
    window.findChild(QPushButton, "sounds.chain.remove").click()
    assert [each.param for each in session().lanes] == ["level_db"]


def test_a_second_filter_is_set_beside_the_first_and_has_an_envelope(window, settled):
    window.stages["sounds"].show_tab("Filter")
    boxes = window.findChildren(Choice, "sounds.filter2.mode")
    assert not [box for box in boxes if box.isVisible()]  # not before there is a first
    choose_mode(window, "filter", "lowpass")
    choose_mode(window, "filter2", "highpass")
    type_into(ruler(window, "filter2.cutoff_hz"), "A3")
    assert layers(window)[0].filter2.cutoff_hz == pytest.approx(220.0)
    box = window.findChild(QComboBox, "sounds.filters.beside.value")
    box.setCurrentText("side by side")
    box.activated.emit(box.currentIndex())
    assert layers(window)[0].filters_beside
    window.stages["sounds"].show_tab("Envelopes")
    window.findChild(QPushButton, "sounds.envelope.second-filter").click()
    type_into(ruler(window, "envelope.attack_ms"), "250")
    assert layers(window)[0].filter2.envelope.attack_ms == pytest.approx(250.0)
    assert layers(window)[0].filter.envelope.attack_ms != pytest.approx(250.0)
    window.stages["sounds"].show_tab("Filter")
    choose_mode(window, "filter2", "off")
    assert layers(window)[0].filter2 is None
    window.stages["sounds"].show_tab("Envelopes")  # where its envelope was shown is the first's
    settled(window)
    assert window.findChild(QPushButton, "sounds.envelope.second-filter") is None
    assert layers(window)[0].routes == ()  # what it moved is gone


def test_a_layer_has_a_chain_and_may_go_past_the_tracks(window, settled):
    window.stages["sounds"].show_tab("Chain")
    window.stages["sounds"].panel("Chain")._add_device("saturation")
    settled(window)
    type_into(ruler(window, "chain.drive_db"), "12")
    assert layers(window)[0].chain[0].params["drive_db"] == 12.0
    window.stages["sounds"].show_tab("Zones")
    settled(window)
    window.stages["sounds"].change("Output", output="direct")
    assert "1 direct" in window.stages["sounds"].told.text()
    window.stages["sounds"].choose("floor")
    type_into(ruler(window, "key_high"), "50")
    assert layers(window)[1].key_high == 50


def test_a_device_of_a_layer_listens_to_a_track_is_blended_and_moved(window, settled):
    window.stages["sounds"].show_tab("Chain")
    settled(window)
    window.desk.edit("Add bus", lambda s: add_bus(s, "Kick"))
    for kind in ("compressor", "saturation"):
        window.stages["sounds"].panel("Chain")._add_device(kind)
    settled(window)
    click(window, "sounds.chain.compressor")
    pick(window, "sounds.chain.key", "Kick, before its chain")
    compressor = layers(window)[0].chain[0]
    assert (compressor.key.track, compressor.key.tap) == ("kick", "before")
    type_into(ruler(window, "chain.mix"), "60")
    assert layers(window)[0].chain[0].mix == pytest.approx(0.6)
    click(window, "sounds.chain.later")
    assert [d.kind for d in layers(window)[0].chain] == ["saturation", "compressor"]
    click(window, "sounds.chain.later")  # it is the last already
    assert [d.kind for d in layers(window)[0].chain] == ["saturation", "compressor"]
    window.desk.bench.undo()
    assert [d.kind for d in layers(window)[0].chain] == ["compressor", "saturation"]


# --- notes ---------------------------------------------------------------------------------------------------------


def notes(window) -> tuple[Note, ...]:
    return window.stages["sounds"].phrase.notes


def test_notes_are_made_moved_and_taken_out_by_hand(window, qtbot, settled):
    window.stages["sounds"].show_tab("Notes")
    settled(window)
    grid = window.stages["sounds"].notes.grid
    box = grid._box(notes(window)[0])
    qtbot.mouseClick(grid, Qt.MouseButton.LeftButton, pos=box.center().toPoint())
    assert grid.chosen == {0}
    grid.setFocus()
    qtbot.keyClick(grid, Qt.Key.Key_Up)
    qtbot.keyClick(grid, Qt.Key.Key_Right)
    assert (notes(window)[0].pitch, notes(window)[0].start_beat) == (46, 0.25)
    qtbot.keyClick(grid, Qt.Key.Key_Delete)
    assert len(notes(window)) == 3
    empty = QPoint(int(grid._x(2.55)), int(grid._box(notes(window)[0]).top()) - 40)
    qtbot.mouseClick(grid, Qt.MouseButton.LeftButton, pos=empty)
    assert len(notes(window)) == 4
    assert notes(window)[-1].start_beat == 2.5
    type_into(window.findChildren(NumberField, "sounds.note.nudge")[-1], "-12")
    assert notes(window)[-1].nudge_ms == -12.0


def test_phrases_from_chords_and_shaped(window, settled):
    window.stages["sounds"].show_tab("Notes")
    settled(window)
    window.stages["sounds"].notes.chords.setText("F#m9 | Dmaj7")
    window.stages["sounds"].notes.generate(2)
    assert {n.pitch % 12 for n in notes(window)} == {6, 2}
    assert window.stages["sounds"].phrase.beats == 8.0
    window.stages["sounds"].notes.generate(6)
    starts = [n.start_beat for n in notes(window)]
    assert starts[1] - starts[0] > starts[-1] - starts[-2]  # it quickens
    window.stages["sounds"].notes.generate(2)
    pick_entry(window, "sounds.change", "humanize")
    assert any(n.nudge_ms for n in notes(window))
    said = []
    window.desk.message.connect(said.append)
    window.stages["sounds"].notes.chords.setText("H#")
    window.stages["sounds"].notes.generate(1)
    assert "a chord" in said[-1]


def test_midi_comes_in_and_what_is_no_midi_is_said(window, tmp_path, settled):
    write_midi(tmp_path / "riff.mid", [("x", [NoteEvent(0.5, 0.5, 40, 0.5)])], tempo_bpm=100.0)
    window.stages["sounds"].notes.bring_in_midi(tmp_path / "riff.mid")
    assert window.stages["sounds"].phrase.id == "riff"
    assert notes(window)[0].pitch == 40
    said = []
    window.desk.message.connect(said.append)
    (tmp_path / "no.mid").write_bytes(b"nothing")
    window.stages["sounds"].notes.bring_in_midi(tmp_path / "no.mid")
    assert "no.mid" in said[-1]


# --- playing -------------------------------------------------------------------------------------------------------


def test_the_keyboard_sounds_without_the_song_and_then_is_silent(window, qtbot, settled):
    window.stages["sounds"].piano.setFocus()
    qtbot.keyPress(window.stages["sounds"].piano, Qt.Key.Key_A)
    qtbot.waitUntil(lambda: not window.desk.listening.player.live.idle, timeout=20000)
    assert not window.desk.listening.playing
    qtbot.waitUntil(lambda: float(np.max(window.desk.listening.transport.peak)) > 0.001, timeout=20000)
    qtbot.keyRelease(window.stages["sounds"].piano, Qt.Key.Key_A)
    qtbot.waitUntil(
        lambda: window.desk.listening.player.live.idle and not window.desk.listening.transport.playing, timeout=20000
    )


def test_a_key_sounds_for_as_long_as_it_is_down(window, qtbot, settled, monkeypatch):
    for name, seconds in (("_FIRST_S", 0.4), ("_NEXT_S", 0.8), ("_AHEAD_S", 0.6)):
        monkeypatch.setattr(f"zygotone.app.key_player.{name}", seconds)
    keys, live = window.desk.keys, window.desk.listening.player.live
    keys.press(40, 0.8)
    # More than thrice as long as what was worked out at first, with its release.
    qtbot.waitUntil(lambda: (live.heard_frames(40) or 0) > 2.5 * RATE, timeout=20000)
    assert not live.idle
    keys.release(40)
    qtbot.waitUntil(lambda: live.idle, timeout=20000)
    assert live.heard_frames(40) is None


def test_the_wheel_is_heard_in_a_note_that_is_held(window, qtbot, settled):
    sounds = window.stages["sounds"]
    sounds.show_tab("Routes")
    keys, live = window.desk.keys, window.desk.listening.player.live
    keys.turn_wheel(0.0)
    source = window.desk.session.track("bass").source
    wheel = (Route(source="wheel", target="pitch", amount=12.0),)
    changed = tuple(each.replace(routes=wheel) for each in source.layers)
    window.desk.edit("Routes", lambda s: change_instrument(s, "bass", layers=changed))
    keys.press(40, 0.8)
    qtbot.waitUntil(lambda: (live.heard_frames(40) or 0) > 0.2 * RATE, timeout=20000)
    before = live._notes[40][0]
    keys.turn_wheel(1.0)
    qtbot.waitUntil(lambda: live._notes[40][0] is not before and live._notes[40][0].shape[1] > 4 * RATE, timeout=20000)
    qtbot.waitUntil(lambda: (live.heard_frames(40) or 0) > 0.5 * RATE, timeout=20000)

    def pitch_hz(audio: np.ndarray) -> float:
        part = audio[0, RATE // 2 : RATE] * np.hanning(RATE // 2)
        return float(np.argmax(np.abs(np.fft.rfft(part, 1 << 18))[: (1 << 18) // 100]) * RATE / (1 << 18))

    after = live._notes[40][0]
    assert pitch_hz(after) / pitch_hz(before) == pytest.approx(2.0, abs=0.02)
    keys.release(40)
    qtbot.waitUntil(lambda: live.idle, timeout=20000)


def add_hum(window) -> None:
    hum = InstrumentSource(layers=(made_layer("Hum", "body", "oscillator", sound={"shape": "sine"}),), phrases=window.desk.session.track("bass").source.phrases)  # fmt: skip
    track = Track(id="hum", name="Hum", source=hum, level_db=-6.0, parts=(Part(section="a", phrase="line"),))
    window.desk.edit("Add track", lambda s: s.replace(tracks=(*s.tracks, track)))


def test_a_track_is_heard_alone_and_nothing_of_the_session_changes(window, settled):
    add_hum(window)
    settled(window)
    desk, changes = window.desk, window.desk.bench.changes
    mix = compile_session(desk.session).mix.key
    assert desk.listening.player._versions[0].key == mix
    click(window, "sounds.hear.alone")
    settled(window)
    assert desk.listening.player._versions[0].key == compile_session(only(desk.session, "bass")).mix.key != mix
    desk.selection.track("hum")
    settled(window)
    assert desk.listening.player._versions[0].key == compile_session(only(desk.session, "hum")).mix.key
    assert desk.bench.changes == changes
    window.show_stage("fit")  # where nothing says that the others are silent
    settled(window)
    assert desk.listening.player._versions[0].key == mix


def test_a_and_b_of_a_track_alone_are_equally_loud(window, settled):
    add_hum(window)
    softer = change_strip(window.desk.session, "bass", level_db=-9.0)
    window.desk.bench.try_out(Trial(session=softer, title="Softer"))
    settled(window)
    in_mix = window.desk.measuring.match
    click(window, "sounds.hear.alone")
    settled(window)
    alone = window.desk.measuring.match
    assert alone.a_gain_db == pytest.approx(-9.0, abs=0.05)
    assert in_mix.a_gain_db > -8.0  # the hum is as loud as before
    assert (alone.a.lufs, alone.b.lufs) == pytest.approx(
        (in_mix.a.lufs, in_mix.b.lufs), abs=1e-6
    )  # the numbers shown are the mix's


def test_what_is_played_is_recorded(window, qtbot, settled):
    window.stages["sounds"].show_tab("Notes")
    count = len(notes(window))
    click(window, "sounds.record")
    window.desk.listening.toggle_play()
    qtbot.wait(150)
    window.stages["sounds"].piano.press(62)
    qtbot.wait(200)
    window.stages["sounds"].piano.release(62)
    window.desk.listening.toggle_play()
    assert len(notes(window)) == count + 1
    assert 62 in {n.pitch for n in notes(window)}
    click(window, "sounds.record")


# --- the library ---------------------------------------------------------------------------------------------------


def test_the_library_finds_uses_and_keeps_sounds(window, qtbot, settled):
    dialog = LibraryDialog(window.stages["sounds"])
    qtbot.addWidget(dialog)
    assert {e.role for e in dialog.entries} == {"bass"}
    dialog.words.setText("finger")
    assert [e.name for e in dialog.entries] == ["Finger bass"]
    dialog.table.selectRow(0)
    assert "modulator" in dialog.notes.text()
    dialog.compare_with()
    dialog.words.setText("")
    assert dialog.entries
    assert all(e.features.centroid_hz > dialog.beside.features.centroid_hz for e in dialog.entries)
    dialog.compare.setCurrentIndex(0)
    dialog.words.setText("finger")
    dialog.table.selectRow(0)
    before = notes(window)
    dialog.use()
    assert layers(window)[0].sound.kind == "fm"
    assert notes(window) == before  # the phrases stay
    dialog.keep_as("My finger")
    dialog.words.setText("My finger")
    dialog._list()
    assert [e.factory for e in dialog.entries] == [False]
    dialog.table.selectRow(0)
    dialog.remove()
    assert not dialog.entries


def test_a_clip_track_says_what_to_do_and_makes_an_instrument(window, settled):
    window.desk.selection.track("mix")
    assert window.stages["sounds"].empty.isVisible()
    window.stages["sounds"].new_track()
    assert window.stages["sounds"].source is not None
    assert not window.stages["sounds"].empty.isVisible()
    assert json.loads(window.desk.session.model_dump_json())["tracks"][-1]["name"] == "Sound"


def test_a_layer_is_automated_and_the_way_bent(window, settled):
    window.stages["sounds"].show_tab("Filter")
    choose_mode(window, "filter", "lowpass")
    window.stages["sounds"].show_tab("Moves")
    settled(window)
    pick(window, "lane.add", "Filter cutoff")
    lane = window.desk.session.lanes[0]
    assert (lane.layer, lane.param, lane.section) == ("body", "filter.cutoff_hz", "a")
    panel = window.stages["sounds"].panel("Moves").lanes
    panel.plot.pressed.emit(2.0, 400.0)
    panel.plot.released.emit()
    panel._held = 0
    type_into(window.findChildren(Ruler, "lane.bend")[-1], "0.5")
    lane = window.desk.session.lanes[0]
    assert [p.curve for p in lane.points] == [0.5, 0.0]
    window.stages["sounds"].choose("floor")
    assert not window.stages["sounds"].panel("Moves").lanes._lanes()  # the lane belongs to the other layer
    window.stages["sounds"].choose("body")
    click(window, "lane.remove")
    assert window.desk.session.lanes == ()


# --- MIDI ports ----------------------------------------------------------------------------------------------------


def test_the_simulated_player_plays_the_track(window, qtbot, settled):
    heard = []
    window.midi.pressed.connect(lambda pitch, velocity: heard.append((pitch, velocity)))
    window.use_midi(SimulatedPlayer(step_s=0.06))
    qtbot.waitUntil(lambda: len(heard) >= 4, timeout=20000)
    window.use_midi(None)
    assert [pitch for pitch, _ in heard[:4]] == [57, 60, 64, 67]
    assert all(0.0 < velocity <= 1.0 for _, velocity in heard)
    assert not window.stages["sounds"].piano._down
    count = len(heard)
    qtbot.wait(200)
    assert len(heard) == count


def test_messages_become_notes_and_a_wheel(window):
    got = []
    window.midi.pressed.connect(lambda *a: got.append(("on", *a)))
    window.midi.released.connect(lambda *a: got.append(("off", *a)))

    class Still:
        name = "still"
        open = close = lambda self, *_: None

    window.midi.choose(Still())
    # MIDI 1.0: note-on with velocity 0 is a note-off; the lower half of the status byte is the channel.
    for message in ([0x93, 60, 127], [0x93, 60, 0], [0x80, 61, 64], [0xB0, 1, 127], [0xB0, 7, 100], [0xF8]):
        window.midi._take(message)
    assert got == [("on", 60, 1.0), ("off", 60), ("off", 61)]
    assert window.desk.keys.wheel == 1.0
    window.stages["sounds"].piano.release_all()


class FakeMidiIn:
    """Stands in for the library's own, since no machine that tests has MIDI."""

    def __init__(self, api: int = 0) -> None:
        self.opened, self.callback = None, None
        FakeMidiIn.last = self

    def get_ports(self) -> list[str]:
        return ["Keys", "Pads"]

    def open_port(self, index: int) -> None:
        self.opened = index

    def set_callback(self, callback) -> None:
        self.callback = callback

    def cancel_callback(self) -> None:
        self.callback = None

    def close_port(self) -> None:
        self.opened = None

    def delete(self) -> None:
        pass


def test_a_port_of_the_machine_opens_and_one_that_fails_is_said(window, qtbot, monkeypatch):
    monkeypatch.setattr(rtmidi, "MidiIn", FakeMidiIn)
    assert [p.name for p in ports()] == ["Simulated player", "Keys", "Pads"]
    window.use_midi(ports()[2])
    assert FakeMidiIn.last.opened == 1
    with qtbot.waitSignal(window.midi.pressed) as heard:
        FakeMidiIn.last.callback(([0x90, 64, 100], 0.0), None)
    assert heard.args == [64, pytest.approx(100 / 127)]
    window.use_midi(None)
    assert FakeMidiIn.last.opened is None

    class Broken:
        name = "Gone"

        def open(self, receive) -> None:
            raise OSError("unplugged")

    assert "Gone cannot be opened: unplugged" in window.midi.choose(Broken())


def test_a_string_and_a_drum_have_pictures_of_their_own(window, settled):
    panel = window.stages["sounds"].panel("Source")
    window.stages["sounds"].add_layer("string")
    settled(window)
    string = panel.string
    assert string.isVisible()
    assert not panel.operators.isVisible()
    shapes, marks = string.string.curves, string.string._marks
    assert [c.name for c in shapes] == ["pluck", "100 ms later", "500 ms later"]
    assert np.ptp(shapes[0].y) > np.ptp(shapes[1].y) > np.ptp(shapes[2].y)
    assert shapes[0].x[np.argmax(shapes[0].y)] == pytest.approx(18.0, abs=2.0)  # where it is plucked
    assert marks[1].x == pytest.approx(18.0)
    before = string.decays.curves[0].y
    assert np.all(np.diff(before) < 0.0)  # higher partials are gone sooner
    window.findChildren(Ruler, "sounds.damping")[-1].scale._on_change(0.8)
    settled(window)
    assert string.decays.curves[0].y[8] < before[8]
    window.stages["sounds"].add_layer("drum")
    settled(window)
    drum = panel.drum
    assert drum.isVisible()
    assert [c.name for c in drum.levels.curves] == ["tone", "click"]
    tone = drum.levels.curves[0]
    # The decay is the time to −20 dB.
    assert np.interp(350.0, tone.x, tone.y) == pytest.approx(-20.0, abs=0.3)
    pitch = drum.pitch.curves[0].y
    assert pitch[0] == pytest.approx(4 * pitch[-1], rel=0.01)  # two octaves of drop
    window.findChildren(Ruler, "sounds.tone_db")[-1].scale._on_change(-60.0)
    settled(window)
    assert not drum.pitch.curves
    assert "off" in drum.pitch._empty


def test_a_layers_ruler_shows_that_automation_moves_it(window, settled):
    window.stages["sounds"].show_tab("Moves")
    window.stages["sounds"].panel("Moves").lanes.add_lane(None, "level_db")
    window.stages["sounds"].show_tab("Source")
    settled(window)
    assert window.findChildren(Ruler, "sounds.level_db")[-1].scale.moves is not None
    assert window.findChildren(Ruler, "sounds.pan_pct")[-1].scale.moves is None


# --- the sound at a glance -----------------------------------------------------------------------------------------


def test_each_small_picture_opens_its_page_and_follows_the_sound(window, settled):
    stage = window.stages["sounds"]
    buttons = {b.text(): b for b in window.findChildren(GlanceButton)}
    assert set(buttons) == set(DRAWN)
    for title, each in buttons.items():
        each.click()
        assert stage.tab == title
    stage.show_tab("Source")
    settled(window)

    def seen(title: str) -> bytes:
        image = buttons[title].grab().toImage()
        return bytes(image.constBits())

    changes = {
        "Envelopes": {"envelope": {"attack_ms": 400.0}}, "Filter": {"filter": {"cutoff_hz": 300.0}},
        "Routes": {"routes": ({"source": "lfo1", "target": "pitch", "amount": 1.0},)}, "LFOs": {"lfos": ({"shape": "square"}, {})},
        "Zones": {"key_low": 60}, "Chain": {"chain": ({"id": "g", "kind": "gain"},)},
    }  # fmt: skip
    for title, change in changes.items():
        before = seen(title)
        stage.change(title, layers(window)[0].id, merge=None, **change)
        assert seen(title) != before, title
        assert buttons[title].accessibleDescription() == buttons[title].toolTip() != ""
    before = seen("Notes")
    window.desk.selection.set_loop(("b",))
    settled(window)
    assert seen("Notes") != before
    assert buttons["Notes"].accessibleDescription() == "No notes in this section"


def test_the_small_filter_curve_is_that_of_two_poles():
    # A second-order low-pass at its corner lies at 1/k of its passband, k = 1/Q; far above it falls by 12 dB an octave (any
    # text on analog filters); of memory.
    def one(f: VoiceFilter) -> Layer:
        return Layer.model_validate({"id": "x", "name": "x", "sound": {"kind": "oscillator"}, "filter": f})

    f = VoiceFilter(cutoff_hz=1000.0, resonance=0.0)
    at = response_db(one(f), np.array([10.0, 1000.0, 8000.0, 16000.0]))
    assert at[0] == pytest.approx(0.0, abs=0.01)
    assert at[1] == pytest.approx(-20 * np.log10(2.0), abs=0.01)
    assert at[2] - at[3] == pytest.approx(12.0, abs=0.3)
    assert response_db(one(f.replace(slope_db_oct=24)), np.array([1000.0]))[0] == pytest.approx(
        -20 * np.log10(2.0) - 10 * np.log10(2.0),
        abs=0.02,  # the second section is one of Butterworth
    )
    assert response_db(one(f.replace(mode="notch")), np.array([1000.0]))[0] < -70.0


def test_velocities_of_a_zone_are_shares_or_counted_as_midi_does(window, settled):
    window.stages["sounds"].show_tab("Zones")
    settled(window)
    type_into(ruler(window, "velocity_low"), "64")
    assert layers(window)[0].velocity_low == pytest.approx(64 / 127)
    type_into(ruler(window, "velocity_high"), "0.75")
    assert layers(window)[0].velocity_high == 0.75
    said = []
    window.desk.message.connect(said.append)
    type_into(ruler(window, "velocity_high"), "128")
    assert "between 0 and 1" in said[-1]


# --- whole pages of devices in a layer's chain -------------------------------------------------------------------------


def test_bands_branches_and_impulse_files_of_a_layers_devices(window, settled, tmp_path):
    stage = window.stages["sounds"]
    stage.show_tab("Chain")
    chain = lambda: layers(window)[0].chain  # noqa: E731
    add_to_chain(window, "eq")
    count = len(chain()[0].params["bands"])
    click(window, "sounds.chain.band.add")
    assert len(chain()[0].params["bands"]) == count + 1
    click(window, "sounds.chain.band.1")
    type_into(ruler(window, "chain.freq_hz"), "333")
    assert chain()[0].params["bands"][0]["freq_hz"] == pytest.approx(333.0)
    click(window, "sounds.chain.band.remove")
    assert len(chain()[0].params["bands"]) == count
    # A split, and a device in one of its branches.
    add_to_chain(window, "split")
    click(window, "sounds.chain.branch.open")
    assert window.findChild(QPushButton, "sounds.chain.leave") is not None
    add_to_chain(window, "saturation")
    inner = chain()[1].params["branches"][0]["devices"]
    assert [d.kind for d in inner] == ["saturation"]
    type_into(ruler(window, "chain.drive_db"), "14")
    assert chain()[1].params["branches"][0]["devices"][0].params["drive_db"] == 14.0
    ruler(window, "chain.drive_db").offers()[0][2]()
    assert window.desk.session.lanes[-1].device == "split/0/saturation"
    stage.show_tab("Chain")
    click(window, "sounds.chain.leave")
    click(window, "sounds.chain.on")
    assert not chain()[1].on
    click(window, "sounds.chain.remove")
    assert [d.kind for d in chain()] == ["eq"]
    assert window.desk.session.lanes == ()
    # An impulse from a file.
    with AudioWriter(tmp_path / "room.wav", RATE, 1, subtype="FLOAT") as writer:
        writer.write(np.exp(-np.arange(4800) / 800.0)[None] * 0.5)
    add_to_chain(window, "cabinet")
    stage.panel("Chain").fields.use_impulse("cabinet", "impulse", tmp_path / "room.wav")
    (asset,) = (a for a in window.desk.session.assets if a.name == "room")
    assert chain()[1].params["impulse"] == asset.id
    settled(window)
    assert window.findChild(QLabel, "sounds.chain.impulse.value").text() == "room"


# --- several layers ---------------------------------------------------------------------------------------------------


def click_layer(window, qtbot, row: int, modifier=Qt.KeyboardModifier.NoModifier) -> None:
    at = QPoint(40, HEAD + row * ROW + 10)
    qtbot.mouseClick(window.stages["sounds"].map, Qt.MouseButton.LeftButton, modifier, at)


def test_several_layers_are_changed_muted_copied_and_removed_together(window, qtbot, settled):
    stage = window.stages["sounds"]
    for _ in range(2):
        click_layer(window, qtbot, 1)
        stage.duplicate()
        settled(window)
    before = layers(window)
    assert len(before) >= 4
    click_layer(window, qtbot, 1)
    click_layer(window, qtbot, 3, Qt.KeyboardModifier.ShiftModifier)  # all as far as the third
    assert [e.id for e in stage.chosen_layers] == [e.id for e in before[:3]]
    click_layer(window, qtbot, 2, Qt.KeyboardModifier.ControlModifier)  # without the second
    assert [e.id for e in stage.chosen_layers] == [before[0].id, before[2].id]
    assert "2 chosen" in stage.told.text()
    stage.show_tab("Source")
    settled(window)
    now = stage.layer.level_db
    type_into(ruler(window, "level_db"), f"{now - 4:g}")
    after = layers(window)
    for n in (0, 2):
        assert after[n].level_db == pytest.approx(before[n].level_db - 4.0)
    for n in (1, 3):
        assert after[n] == before[n]
    assert window.desk.bench.undo_label == "Level"
    qtbot.keyClick(stage.map, Qt.Key.Key_M)
    assert [e.mute for e in layers(window)[:4]] == [True, before[1].mute, True, before[3].mute]
    window.desk.bench.undo()
    window.desk.bench.undo()
    assert layers(window) == before
    stage.duplicate()
    assert len(layers(window)) == len(before) + 2
    assert [e.id for e in stage.chosen_layers] == [e.id for e in layers(window)[-2:]]  # the copies are chosen
    assert window.desk.bench.undo_label == "Duplicate 2 layers"
    stage.remove()
    assert layers(window) == before
    click_layer(window, qtbot, 1)
    stage.map.setFocus()
    qtbot.keyClick(stage.map, Qt.Key.Key_Down, Qt.KeyboardModifier.ShiftModifier)
    assert [e.id for e in stage.chosen_layers] == [e.id for e in before[:2]]
    stage.copy()
    assert '"layers"' in QApplication.clipboard().text()
    qtbot.keyClick(stage.map, Qt.Key.Key_Down)
    assert len(stage.chosen_layers) == 1
