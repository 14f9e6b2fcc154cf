"""The real window, driven as a person drives it."""

from itertools import pairwise

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import QPoint, Qt, QTimer
from PySide6.QtGui import QAction, QFontMetrics
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QComboBox,
    QDoubleSpinBox,
    QLabel,
    QLineEdit,
    QMessageBox,
    QPushButton,
    QSpinBox,
    QToolTip,
    QWidget,
)

from tests.builders import device, write_stem
from tests.signals import RATE, sine
from zygotone.app.stages.chains.cards import DeviceCard
from zygotone.app.theme import NIGHT, PAPER, text_font, theme
from zygotone.app.widgets.ears import EarsBar
from zygotone.app.widgets.glance import GlanceButton
from zygotone.app.widgets.plot import Plot
from zygotone.app.widgets.ribbon import fitting_name
from zygotone.app.widgets.ruler import Scale
from zygotone.engine.transport import SimulatedOutput, Transport
from zygotone.session.edits import change_layer, change_song, insert_device
from zygotone.session.journal import journal_path
from zygotone.session.project_file import load_project


def find(window, name: str, kind=QWidget):
    found = [w for w in window.findChildren(kind, name) if not w.property("gone")]
    assert found, name
    return found[-1]


def click(qtbot, window, name: str) -> None:
    qtbot.mouseClick(find(window, name, QPushButton), Qt.MouseButton.LeftButton)


def key(qtbot, window, *keys, modifier=Qt.KeyboardModifier.NoModifier) -> None:
    window.activateWindow()
    window.setFocus()
    for each in keys:
        qtbot.keyClick(window, each, modifier)


def trigger(window, name: str) -> None:
    window.findChild(QAction, name).trigger()


def test_from_finding_to_log(window, qtbot, settled):
    """See the clash, try a rung, swap at equal loudness, keep it, save it, and find it in the log."""
    fit = window.stages["fit"]
    assert fit.finding.rule == "kick_bass_clash"
    assert [r.number for r in fit.rungs] == [1, 2, 3, 4, 5]
    names = [c.name for c in fit.spectra.curves]
    assert names == ["shared", "Kick", "Bass A"]
    assert find(window, "nav.fit").waiting() == 2

    click(qtbot, window, "fit.ladder.5.try")
    settled(window)
    desk = window.desk
    assert desk.bench.trial is not None
    assert desk.listening.heard == 1
    assert [c.name for c in fit.spectra.curves] == ["shared", "Kick", "Bass A", "Bass B"]
    assert desk.measuring.match.b is not None
    # The louder version is turned down by the difference, and the header says so.
    gap = desk.measuring.match.b.lufs - desk.measuring.match.a.lufs
    assert desk.measuring.match.b_gain_db - desk.measuring.match.a_gain_db == pytest.approx(-gap)
    assert max(desk.measuring.match.b_gain_db, desk.measuring.match.a_gain_db) == 0.0
    assert "dB" in window.header.match.text() or window.header.match.text() == "equal already"

    trigger(window, "play.swap")
    assert desk.listening.heard == 0
    trigger(window, "play.swap")
    assert desk.listening.heard == 1

    find(window, "trial.reason", QLineEdit).setText("it pumps a little, the song wants that")
    click(qtbot, window, "trial.keep")
    settled(window)
    assert desk.bench.trial is None
    assert desk.listening.heard == 0
    assert desk.bench.kept.track("bass").chain[-1].label == "Duck under the kick"

    trigger(window, "file.save")
    saved = load_project(desk.files.path)
    assert [e.action for e in saved.log] == ["found", "tried", "kept"]
    assert saved.log[-1].reason == "it pumps a little, the song wants that"
    assert {r.name for r in saved.log[-1].readings} >= {"kick_clear_db", "bass_lufs", "pumping_db", "mix_dbtp"}

    window.show_stage("log")
    table = window.stages["log"].table
    assert [table.item(r, 1).text() for r in range(3)] == ["kept", "tried", "found"]
    assert "Kick clear of bass" in table.item(0, 5).text()
    assert "Hz" in table.item(2, 5).text()


def test_drop_and_undo(window, qtbot, settled):
    desk = window.desk
    before = desk.bench.kept
    window.stages["fit"].try_rung(3)
    settled(window)
    click(qtbot, window, "trial.drop")
    assert desk.bench.kept == before
    assert desk.bench.log[-1].action == "dropped"
    trigger(window, "edit.undo")
    assert desk.bench.trial is not None
    trigger(window, "edit.undo")
    assert desk.bench.trial is None
    trigger(window, "edit.redo")
    assert desk.bench.trial is not None
    trigger(window, "edit.keep")
    assert desk.bench.kept != before


def test_the_ladder_follows_what_was_kept(window, qtbot, settled):
    window.stages["fit"].try_rung(1)
    settled(window)
    window.margin.keep()
    settled(window)
    assert not window.stages["fit"].finding.fixes[0].applies
    assert window.stages["fit"].rungs[0].action.text() == "kept"
    assert find(window, "nav.fit").waiting() == 1  # the early start is gone


def test_a_version_comes_back_from_the_log(window, qtbot, settled):
    desk = window.desk
    window.stages["fit"].try_rung(3)
    window.margin.keep()
    kept = desk.bench.kept
    trigger(window, "edit.undo")
    trigger(window, "edit.undo")
    assert desk.bench.kept != kept
    window.show_stage("log")
    entry = next(e for e in desk.bench.log if e.action == "kept")
    window.stages["log"].select(entry.number)
    click(qtbot, window, "log.restore")
    assert desk.bench.kept == kept
    window.stages["log"].select(entry.number)
    click(qtbot, window, "log.go")
    assert window.stage == "fit"
    assert desk.selection.track_id == "bass"


# --- chains -------------------------------------------------------------------------------------------------------


@pytest.fixture
def chains(window, settled):
    window.desk.selection.track("bass")
    window.show_stage("chains")
    settled(window)
    return window.stages["chains"]


def test_devices_move_switch_duplicate_and_go(window, chains, qtbot, settled):
    def chain():
        return [(d.kind, d.on) for d in window.desk.session.strip("bass").chain]

    chains.add_device("eq")
    chains.add_device("compressor")
    click(qtbot, window, "chains.earlier")
    assert chain() == [("compressor", True), ("eq", True)]
    click(qtbot, window, "chains.later")
    assert chain() == [("eq", True), ("compressor", True)]
    trigger(window, "edit.device_on")
    assert chain()[1] == ("compressor", False)
    click(qtbot, window, "chains.duplicate")
    assert len(chain()) == 3
    click(qtbot, window, "chains.remove")
    click(qtbot, window, "chains.remove")
    assert [k for k, _ in chain()] in (["eq"], ["compressor"])
    settled(window)


def test_a_ruler_takes_typing_keys_and_double_click(window, chains, qtbot, settled):
    chains.add_device("compressor")

    def value(name):
        return window.desk.session.strip("bass").chain[0].params[name]

    def type_in(name: str, text: str) -> None:
        field = find(window, f"chains.ruler.{name}.value", QLineEdit)
        field.setFocus()
        field.selectAll()
        qtbot.keyClicks(field, text)
        qtbot.keyClick(field, Qt.Key.Key_Return)

    type_in("threshold_db", "-31")
    assert value("threshold_db") == -31.0
    type_in("release_ms", "1/16")
    assert value("release_ms") == pytest.approx(125.0)  # at 120 BPM
    type_in("threshold_db", "loud")
    assert value("threshold_db") == -31.0
    assert "takes a number in dB" in window.status.message.toolTip()
    scale = find(window, "chains.ruler.ratio.scale")
    before = value("ratio")
    qtbot.keyClick(scale, Qt.Key.Key_Right)
    assert value("ratio") > before
    qtbot.keyClick(scale, Qt.Key.Key_End)
    assert value("ratio") == 40.0
    qtbot.mouseDClick(scale, Qt.MouseButton.LeftButton, pos=QPoint(50, 10))
    assert value("ratio") == 2.0
    qtbot.mousePress(scale, Qt.MouseButton.LeftButton, pos=QPoint(scale.width() - 12, 12))
    qtbot.mouseRelease(scale, Qt.MouseButton.LeftButton)
    assert value("ratio") == pytest.approx(40.0)
    field = find(window, "chains.ruler.threshold_db.value", QLineEdit)
    assert field.text() == "−31.0 dB"


def test_one_drag_on_a_ruler_is_one_undo(window, chains, qtbot):
    chains.add_device("gain")
    scale = find(window, "chains.ruler.gain_db.scale")
    qtbot.mousePress(scale, Qt.MouseButton.LeftButton, pos=QPoint(30, 12))
    for x in range(30, 90, 6):
        qtbot.mouseMove(scale, QPoint(x, 12))
        scale._set_from(x)
    qtbot.mouseRelease(scale, Qt.MouseButton.LeftButton)
    assert window.desk.session.strip("bass").chain[0].params["gain_db"] != 0.0
    trigger(window, "edit.undo")
    assert window.desk.session.strip("bass").chain[0].params["gain_db"] == 0.0


def test_a_key_is_chosen_and_a_circle_is_refused(window, chains, qtbot, settled):
    chains.add_device("compressor")
    box = find(window, "chains.key", QComboBox)
    box.activated.emit(1)
    assert window.desk.session.strip("bass").chain[0].key.track == "kick"
    window.desk.selection.track("kick")
    chains.add_device("compressor")
    box = find(window, "chains.key", QComboBox)
    box.activated.emit(1)
    assert window.desk.session.strip("kick").chain[0].key is None
    assert "in a circle" in window.status.message.toolTip()
    box.activated.emit(2)  # before its chain is no circle
    assert window.desk.session.strip("kick").chain[0].key.tap == "before"


def test_bands_of_the_eq(window, chains, qtbot, settled):
    chains.add_device("eq")

    def bands():
        return window.desk.session.strip("bass").chain[0].params["bands"]

    click(qtbot, window, "chains.band.add")
    assert len(bands()) == 2
    chains.fields.handle_dragged(1, 3000.0, -6.0)
    assert (bands()[1]["freq_hz"], bands()[1]["gain_db"]) == (3000.0, -6.0)
    shape = find(window, "chains.ruler.shape.value", QComboBox)
    shape.activated.emit(3)
    assert bands()[1]["shape"] == "low_cut"
    find(window, "chains.ruler.slope_db_oct.value")
    settled(window)
    click(qtbot, window, "chains.band.remove")
    assert len(bands()) == 1


def test_new_numbers_follow_an_edit(window, chains, qtbot, settled):
    chains.add_device("gain")
    settled(window)
    chains.change("gain", "Gain", gain_db=-6.0)
    settled(window)
    effect = chains._measured.effect
    assert effect.after.lufs - effect.before.lufs == pytest.approx(-6.0, abs=0.01)


# --- brief --------------------------------------------------------------------------------------------------------


def test_stems_are_added_by_drop_and_named_when_bad(window, qtbot, settled, tmp_path):
    good = write_stem(tmp_path, "Gtr L", sine(300.0, 2.0, level_db=-12))
    (tmp_path / "bad.wav").write_bytes(b"nothing")
    window.stages["brief"].take_files([good, tmp_path / "bad.wav"])
    settled(window)
    track = window.desk.session.track_named("Gtr L")
    assert track.role == "guitar"
    assert "bad.wav" in window.status.message.toolTip()
    assert load_project(window.desk.files.path).session.track_named("Gtr L")  # its clip is safe in the file already
    trigger(window, "edit.undo")
    assert len(window.desk.session.tracks) == 2


def test_enter_presses_the_button_that_has_the_focus_and_space_plays(window, qtbot, settled):
    window.show_stage("chains")
    window.activateWindow()
    settled(window)
    for way in ("mono", "stereo"):
        ear = find(window, f"ears.{way}", QAbstractButton)
        ear.setFocus()
        qtbot.waitUntil(ear.hasFocus, timeout=3000)
        qtbot.keyClick(ear, Qt.Key.Key_Return)
        assert window.findChild(EarsBar, "ears").wanted.way == way
    opener = find(window, "tracks.new", QPushButton)
    opener.setFocus()
    seen = []

    def look() -> None:
        seen.extend(a.text() for a in opener.menu().actions())
        opener.menu().close()

    QTimer.singleShot(200, look)
    qtbot.keyClick(opener, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: bool(seen), timeout=3000)
    assert "Kick" in seen


def test_what_is_refused_is_said_beside_its_field_and_nothing_is_lost(window, qtbot, settled):
    window.show_stage("brief")
    settled(window)
    names = [t.name for t in window.desk.session.tracks]
    name = f"brief.track.{window.desk.session.tracks[1].id}.name"
    field = next(w for w in window.findChildren(QLineEdit, name) if w.isVisible())
    before = window.desk.session
    window.activateWindow()
    field.setFocus()
    qtbot.waitUntil(field.hasFocus, timeout=3000)
    field.setText(names[0])
    qtbot.keyClick(field, Qt.Key.Key_Return)
    assert QToolTip.text() == f"Another track is named {names[0]!r} already."
    assert window.desk.session is before
    assert field.text() == names[1]  # the old one is back
    QToolTip.hideText()
    section = find(window, f"brief.section.{before.song.sections[0].id}.name", QLineEdit)
    section.setFocus()
    section.clear()
    qtbot.keyClick(section, Qt.Key.Key_Return)
    assert QToolTip.text() == "A section needs a name."
    assert section.text() == before.song.sections[0].name
    # The same of a number, of whatever can be typed.
    tempo = find(window, "brief.tempo", QDoubleSpinBox)
    for typed, words in (
        ("999", "999 is no number from 20.00 to 400.00 BPM"),
        ("fast", "fast is no number"),
        ("", "Nothing is no"),
    ):
        tempo.setFocus()
        tempo.selectAll()
        qtbot.keyClicks(tempo, typed) if typed else qtbot.keyClick(tempo, Qt.Key.Key_Delete)
        qtbot.keyClick(tempo, Qt.Key.Key_Return)
        assert QToolTip.text().startswith(words)
        assert tempo.value() == before.song.tempo_bpm
    # And of an edit that the session refuses, wherever it comes from.
    assert not window.desk.edit("Bars", lambda s: change_song(s, tempo_bpm=1.0))
    assert "tempo_bpm" in QToolTip.text()
    assert window.desk.session is before
    QToolTip.hideText()
    qtbot.waitUntil(lambda: not QToolTip.isVisible(), timeout=3000)
    window.activateWindow()


def test_the_brief_chooses_which_fixes_come_first(window, qtbot, settled):
    window.show_stage("fit")
    settled(window)
    window.show_stage("brief")
    settled(window)
    box, cost = find(window, "brief.school.room", QComboBox), find(window, "brief.school.room.cost", QLabel)
    assert (box.currentText(), cost.text()[:20]) == ("carve first", "What gives way loses")
    box.setFocus()
    qtbot.keyClick(box, Qt.Key.Key_Down)
    assert window.desk.session.schools.room == "duck"
    assert "pump" in cost.text()
    window.show_stage("fit")
    settled(window)
    labels = [rung.name.text() for rung in window.stages["fit"].rungs if rung.isVisible()]
    assert labels.index("Duck the whole bass") < labels.index("Carve a seat")
    window.desk.bench.undo()
    settled(window)
    labels = [rung.name.text() for rung in window.stages["fit"].rungs if rung.isVisible()]
    assert labels.index("Duck the whole bass") > labels.index("Carve a seat")
    window.show_stage("brief")
    assert box.currentText() == "carve first"


def test_brief_edits_the_song(window, qtbot, settled):
    window.show_stage("brief")
    desk = window.desk
    window.stages["brief"].tempo.setValue(92.0)
    assert desk.song.tempo_bpm == 92.0
    find(window, "brief.key", QComboBox).setCurrentText("F♯ minor")
    window.stages["brief"]._set_key()
    assert desk.song.key == "F♯ minor"
    find(window, "brief.track.bass.role", QComboBox).setCurrentText("sub")
    find(window, "brief.track.bass.role", QComboBox).activated.emit(4)
    assert desk.session.track("bass").role == "sub"
    find(window, "brief.track.bass.seat", QSpinBox).setValue(5)
    assert desk.session.track("bass").seat == 5
    click(qtbot, window, "brief.add_section")
    assert len(desk.song.sections) == 2
    name = find(window, "brief.track.bass.name", QLineEdit)
    name.setText("Kick")
    name.editingFinished.emit()
    assert desk.session.track("bass").name == "Bass"
    assert "named 'Kick' already" in window.status.message.toolTip()
    settled(window)


def test_undo_reaches_the_brief(window, qtbot):
    window.show_stage("brief")
    qtbot.waitUntil(window.stages["brief"].isVisible)
    window.stages["brief"].tempo.setValue(92.0)
    trigger(window, "edit.undo")
    assert window.stages["brief"].tempo.value() == 120.0


# --- the frame ----------------------------------------------------------------------------------------------------


def test_stages_by_keys_and_the_same_selection_everywhere(window, qtbot):
    for number, stage in ((1, "brief"), (2, "sounds"), (3, "chains"), (4, "fit"), (5, "log")):
        trigger(window, f"view.{stage}")
        assert window.stage == stage
        assert window.findChild(QAction, f"view.{stage}").shortcut().toString() == f"Alt+{number}"
    qtbot.mouseClick(find(window, "track.bass"), Qt.MouseButton.LeftButton)
    assert window.desk.selection.track_id == "bass"
    window.show_stage("chains")
    assert window.stages["chains"].title.text() == "Bass"


def test_mute_and_solo(window, qtbot):
    click(qtbot, window, "track.kick.mute")
    assert window.desk.session.track("kick").mute
    window.desk.selection.track("bass")
    trigger(window, "edit.solo")
    assert window.desk.session.track("bass").solo


def test_letters_typed_into_a_field_are_letters(window, qtbot, settled):
    window.stages["fit"].try_rung(3)
    settled(window)
    reason = find(window, "trial.reason", QLineEdit)
    window.activateWindow()
    reason.setFocus()
    window._on_focus(None, reason)
    assert not window.findChild(QAction, "edit.keep").isEnabled()
    qtbot.keyClicks(reason, "kdxms")
    assert reason.text() == "kdxms"
    assert window.desk.bench.trial is not None
    window._on_focus(reason, window)
    assert window.findChild(QAction, "edit.keep").isEnabled()


def test_everything_a_hand_can_reach_has_a_name(window, settled):
    for stage in ("brief", "chains", "fit", "log"):
        window.desk.selection.track("bass")
        if stage == "chains" and not window.stages["chains"].strip.chain:
            window.stages["chains"].add_device("eq")
        window.show_stage(stage)
        settled(window)
        for widget in window.findChildren(QWidget):
            if widget.isVisible() and isinstance(widget, (QAbstractButton, QComboBox, QSpinBox, QLineEdit, Plot)):
                inner = widget.objectName().startswith("qt_")  # the fields inside Qt's own number boxes
                assert inner or (widget.objectName() and widget.accessibleName()), (
                    widget,
                    widget.parentWidget(),
                    widget.window(),
                )


def test_both_themes_and_their_contrast(window):
    def luminance(colour: str) -> float:
        parts = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
        linear = [p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    for colours in (PAPER, NIGHT):
        for ink in (colours.ink, colours.soft, colours.a, colours.b, colours.clash, colours.count, colours.good):
            for ground in (colours.sheet, colours.ground):
                low, high = sorted((luminance(ink), luminance(ground)))
                assert (high + 0.05) / (low + 0.05) >= 4.5, (ink, ground)  # WCAG 2.1, contrast of text, level AA
    trigger(window, "view.night")
    assert theme().is_night
    trigger(window, "view.paper")
    assert not theme().is_night


def test_the_ribbon_shows_of_a_name_what_tells_it_from_others(window):
    metrics = QFontMetrics(text_font(9))

    def shown(name: str, like: str) -> str:
        return fitting_name(name, metrics, metrics.horizontalAdvance(like) + 1)

    assert shown("Bars 57–64", "Bars 57–64") == "Bars 57–64"
    assert shown("Bars 57–64", "57–64") == "57–64"
    assert shown("Bars 157–164", "57–64…").startswith("157")
    assert shown("Chorus 2", "Chor…").startswith("Ch")
    assert shown("", "x") == ""


def test_sections_are_looped_from_the_ribbon(window, qtbot, settled):
    click(qtbot, window, "brief.add_section")
    settled(window)
    ribbon = window.header.ribbon
    boxes = ribbon.boxes()
    qtbot.mouseClick(ribbon, Qt.MouseButton.LeftButton, pos=boxes[1][1].center().toPoint())
    assert window.desk.selection.loop == (boxes[1][0],)
    settled(window)
    assert "do not sound together" in window.stages["fit"].spectra._empty
    trigger(window, "play.previous")
    assert window.desk.selection.loop == (boxes[0][0],)


def test_the_keys_are_listed(window, qtbot):
    trigger(window, "help.keys")
    dialog = find(window, "help.keys.dialog")
    texts = [w.text() for w in dialog.findChildren(QWidget) if hasattr(w, "text")]
    for each in ("Space", "X", "K", "D", "F1", "Ctrl+Z"):
        assert each in texts
    click(qtbot, dialog, "help.keys.close")


def test_plots_are_read_by_keyboard(window, qtbot, settled):
    plot = window.stages["fit"].spectra
    plot.setFocus()
    qtbot.keyClick(plot, Qt.Key.Key_Right)
    assert "Hz" in plot.accessibleDescription()
    assert "Kick" in plot.accessibleDescription()


# --- files --------------------------------------------------------------------------------------------------------


def test_a_journal_brings_unsaved_work_back(window, qtbot, monkeypatch, settled):
    desk = window.desk
    path = desk.files.path
    from zygotone.session.edits import change_strip

    desk.edit("Level", lambda s: change_strip(s, "bass", level_db=-7.0))
    desk.files.written()
    assert journal_path(path).exists()
    monkeypatch.setattr(QMessageBox, "question", lambda *a, **k: QMessageBox.StandardButton.Yes)
    assert window.files.open_path(path)
    assert desk.session.track("bass").level_db == -7.0
    assert desk.files.dirty
    trigger(window, "file.save")
    assert not journal_path(path).exists()
    assert load_project(path).session.track("bass").level_db == -7.0


def test_a_bad_project_leaves_what_is_open(window, monkeypatch, tmp_path):
    told = []
    monkeypatch.setattr(QMessageBox, "warning", lambda *a, **k: told.append(a[2]))
    (tmp_path / "bad.zygotone").write_bytes(b"no")
    before = window.desk.session
    assert not window.files.open_path(tmp_path / "bad.zygotone")
    assert "is not a Zygotone project" in told[0]
    assert window.desk.session == before


def test_recent_projects(window, settled):
    window.desk.files.save()
    assert window.desk.files.recent() == [str(window.desk.files.path.resolve())]


# --- playing ------------------------------------------------------------------------------------------------------


def test_playing_through_the_simulated_output(window, qtbot, tmp_path):
    from zygotone.session.edits import change_strip

    desk = window.desk
    desk.edit("Level", lambda s: change_strip(s, "mix", level_db=-9.0))  # within full scale: nothing is held down
    qtbot.waitUntil(lambda: desk.listening.worker.idle)
    output = SimulatedOutput()
    output.record_to = tmp_path / "played.wav"
    desk.listening.transport.set_output(output)
    trigger(window, "play.toggle")
    qtbot.waitUntil(lambda: desk.listening.transport.played_s > 0.6, timeout=10000)
    assert desk.listening.transport.peak.max() > 0.0
    trigger(window, "play.toggle")
    assert not desk.listening.transport.playing
    played, rate = soundfile.read(tmp_path / "played.wav")
    assert rate == RATE
    expected = desk.renderer.mix(desk.bench.kept)
    n = min(len(played), 20000)
    np.testing.assert_allclose(played[1500:n], expected[:, 1500:n].T, atol=1e-5)


def test_an_output_that_cannot_be_opened_is_told(window):
    class Broken:
        name = "broken"

        def start(self, rate_hz):
            raise OSError("no such device")

        def stop(self):
            pass

    window.desk.listening.transport.set_output(Broken())
    trigger(window, "play.toggle")
    assert "no such device" in window.status.message.toolTip()


def test_output_is_never_louder_than_full_scale(window, tmp_path, qtbot):
    from zygotone.engine.graph import compile_session
    from zygotone.engine.stream import Version
    from zygotone.session.edits import change_strip

    desk = window.desk
    loud = change_strip(desk.session, "kick", level_db=12.0)
    desk.listening.player.set_versions(Version(compile_session(loud)), None)
    output = SimulatedOutput()
    output.record_to = tmp_path / "loud.wav"
    transport = Transport(desk.listening.player, output)
    transport.play()
    qtbot.waitUntil(lambda: transport.played_s > 0.5, timeout=10000)
    window.desk.listening.transport.held_db = transport.held_db
    window.status.tick()
    assert f"too loud, held down by {transport.held_db:.1f} dB" in window.status.engine_label.text()
    assert "put a limiter" in window.status.engine_label.toolTip()
    window.desk.listening.transport.held_db = 0.0
    window.status.tick()
    assert "too loud" not in window.status.engine_label.text() + window.status.engine_label.toolTip()
    transport.stop()
    assert transport.held_db > 0.0
    assert np.max(np.abs(soundfile.read(tmp_path / "loud.wav")[0])) <= 1.0


def test_portaudio_plays_on_a_null_device(tmp_path):
    """The real PortAudio path without hardware: ALSA's null device, in a process of its own, since ALSA reads
    its configuration once."""
    import os
    import subprocess
    import sys

    (tmp_path / "asound.conf").write_text("pcm.!default { type null }\nctl.!default { type null }\n")
    code = (
        "import numpy as np\n"
        "from zygotone.engine.transport import portaudio_outputs\n"
        "outputs = portaudio_outputs()\n"
        "assert outputs, 'no output'\n"
        "o = outputs[0]; o.start(48000)\n"
        "[o.write(np.zeros((2, 512))) for _ in range(50)]\n"
        "o.stop(); print('played')\n"
    )
    env = {**os.environ, "ALSA_CONFIG_PATH": str(tmp_path / "asound.conf")}
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=60, env=env)
    assert "played" in done.stdout, done.stderr


def test_the_numbers_of_a_trial_follow_edits_by_hand(window, qtbot, settled):
    window.stages["fit"].try_rung(5)
    settled(window)
    before = {r.name: r.after for r in window.desk.measuring.readings_now()}
    window.desk.selection.track("bass")
    duck = window.desk.session.track("bass").chain[-1]
    window.desk.selection.device(duck.id)
    window.show_stage("chains")
    window.stages["chains"].change(duck.id, "Range", range_db=1.0)
    settled(window)
    after = {r.name: r.after for r in window.desk.measuring.readings_now()}
    assert after["kick_clear_db"] < before["kick_clear_db"] - 1.0
    assert after["pumping_db"] < before["pumping_db"]
    window.margin.keep()
    assert window.desk.bench.log[-1].readings[0].after == pytest.approx(after["kick_clear_db"])


def left_by_a_crash(files):
    """Leaves the workplace as a process does that is killed: it is there, and nobody holds it."""
    files._workplace.release()
    files._workplace = None


def test_work_that_was_never_saved_comes_back(window, qtbot, monkeypatch, settled):
    from zygotone.app.files import empty_project
    from zygotone.session.edits import change_song

    desk = window.desk
    desk.open_project(empty_project(), None)
    desk.edit("Title", lambda s: change_song(s, title="A quarter of one"))
    desk.files.written()
    desk.edit("Title", lambda s: change_song(s, title="Half a song"))
    desk.files.written()  # and then it crashes
    left_by_a_crash(desk.files)
    desk.open_project(empty_project(), None)
    monkeypatch.setattr(QMessageBox, "question", lambda *a, **k: QMessageBox.StandardButton.Yes)
    assert window.files.offer_unsaved()
    assert desk.song.title == "Half a song"
    assert desk.files.dirty
    monkeypatch.setattr(QMessageBox, "question", lambda *a, **k: QMessageBox.StandardButton.No)
    desk.open_project(empty_project(), None)
    assert not window.files.offer_unsaved()
    assert desk.files.unsaved() is None
    settled(window)


def test_files_dropped_anywhere_on_the_window(window, qtbot, settled, tmp_path):
    window.show_stage("log")
    window.files.take_files([write_stem(tmp_path, "Pad", sine(200.0, 1.0, level_db=-12))])
    settled(window)
    assert window.stage == "brief"
    assert window.desk.session.track_named("Pad").role == "pad"
    other = tmp_path / "other.zygotone"
    window.desk.files.save(other)
    window.files.take_files([other])
    assert window.desk.files.path == other


def test_the_meter_shows_what_is_played(window, qtbot):
    assert window.status.meter.text() == "silent"
    window.status.meter.show_peak(np.array([0.5, 0.25]))
    assert window.status.meter.text() == "−6.0 dBFS"
    trigger(window, "play.toggle")
    qtbot.waitUntil(lambda: window.status.meter.text() != "silent", timeout=5000)
    trigger(window, "play.toggle")


def test_the_match_is_of_the_whole_loop(window, qtbot, settled):
    click(qtbot, window, "brief.add_section")
    settled(window)
    desk = window.desk
    desk.selection.set_loop(tuple(s.id for s in desk.song.sections))
    settled(window)
    from zygotone.measure.loudness import integrated_lufs

    whole = desk.renderer.mix(desk.session)
    assert desk.measuring.match.a.lufs == pytest.approx(integrated_lufs(whole, RATE), abs=0.1)


def test_a_tempo_change_moves_the_loop(window, settled):
    window.stages["brief"].tempo.setValue(60.0)
    settled(window)
    assert window.desk.listening.player._loop == window.desk.selection.loop_span()


def answer(words: str) -> list[str]:
    """Presses a button of the next question, as soon as it is there; what was asked comes into the list."""
    asked: list[str] = []

    def press() -> None:
        box = QApplication.activeModalWidget()
        if not isinstance(box, QMessageBox):
            QTimer.singleShot(20, press)
            return
        asked.append(box.text())
        next(b for b in box.buttons() if b.text().replace("&", "") == words).click()

    QTimer.singleShot(20, press)
    return asked


def test_closing_with_changes_asks_first(window):
    from zygotone.session.edits import change_song

    path = window.desk.files.path
    window.desk.edit("Title", lambda s: change_song(s, title="Changed"))
    asked = answer("Stay")
    window.close()
    assert "Changed has changes that are not saved" in asked[0]
    assert window.isVisible()
    assert load_project(path).session.song.title != "Changed"
    asked = answer("Save")
    window.close()
    assert asked
    assert not window.isVisible()
    assert load_project(path).session.song.title == "Changed"


def test_leaving_without_saving_leaves_the_file_and_no_journal(window):
    from zygotone.session.edits import change_song

    path = window.desk.files.path
    before = path.read_bytes()
    window.desk.edit("Title", lambda s: change_song(s, title="Changed"))
    window.desk.files.written()
    assert journal_path(path).exists()
    asked = answer("Leave without saving")
    window.close()
    assert asked
    assert not window.isVisible()
    assert path.read_bytes() == before
    assert not journal_path(path).exists()


def test_the_demo_opens_in_the_background(window, qtbot):
    trigger(window, "file.demo")
    qtbot.waitUntil(lambda: window.desk.song.title == "Slack Tide", timeout=60000)
    qtbot.waitUntil(lambda: bool(window.desk.measuring.findings), timeout=60000)
    assert window.stage == "fit"
    assert window.desk.selection.section.name == "Chorus"


def test_the_mix_is_rendered_from_the_menu(window, qtbot, settled, monkeypatch, tmp_path):
    from PySide6.QtWidgets import QFileDialog

    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "mix.wav"), ""))
    trigger(window, "file.render")
    settled(window)
    assert soundfile.info(tmp_path / "mix.wav").frames > RATE
    assert "Rendered mix.wav" in window.status.message.text()


def test_long_work_shows_itself_and_can_be_stopped(window, qtbot, settled, monkeypatch, tmp_path):
    import time

    def endless(cancel):
        window.desk.measuring.worker.share = 0.5
        while not cancel():
            time.sleep(0.01)

    done = []
    window.desk.measuring.worker.submit("Counting", endless, done.append)
    qtbot.waitUntil(lambda: window.status.stop_work.isVisible(), timeout=5000)
    assert window.status.progress.value() == 50
    click(qtbot, window, "status.stop")
    settled(window)
    assert not done
    assert "Stopped: Counting" in window.status.message.toolTip()
    qtbot.waitUntil(lambda: not window.status.stop_work.isVisible(), timeout=5000)


def test_a_fix_worked_out_before_an_edit_does_not_undo_it(window, qtbot, settled):
    from zygotone.session.edits import change_strip

    desk = window.desk
    desk.edit("Level", lambda s: change_strip(s, "bass", level_db=1.5))
    window.stages["fit"].try_rung(3)  # its fixes are of the version before
    assert desk.bench.trial is None
    assert "worked out again" in window.status.message.toolTip()
    settled(window)
    window.stages["fit"].try_rung(3)
    assert desk.bench.trial.session.track("bass").level_db == 1.5


def test_number_boxes_show_their_numbers(window, qapp, qtbot):
    """Drawn, and not only set: a style can hide the text of a box."""
    window.show_stage("brief")
    qtbot.waitUntil(window.stages["brief"].isVisible)
    qapp.processEvents()
    for name in ("brief.tempo", "brief.a4", "brief.track.bass.seat"):
        box = find(window, name)
        image = box.grab().toImage()
        ink = theme().colours.ink
        dark = sum(
            image.pixelColor(x, y).lightness() < 110
            for x in range(4, image.width() - 4)
            for y in range(4, image.height() - 4)
        )
        assert dark > 8, (name, ink)


@pytest.mark.parametrize("stage", ["brief", "sounds", "chains", "fit", "log"])
def test_tab_goes_everywhere_comes_back_and_chooses_nothing(window, qtbot, settled, stage):
    window.desk.selection.track("bass")
    window.show_stage(stage)
    settled(window)
    window.activateWindow()
    assert QTest.qWaitForWindowActive(window)
    window.setFocus()
    seen: list[QWidget] = []
    for _ in range(600):
        qtbot.keyClick(QApplication.focusWidget() or window, Qt.Key.Key_Tab)
        at = QApplication.focusWidget()
        assert at is not None
        if at in seen:
            break
        seen.append(at)
    assert at is seen[0]  # round, and caught nowhere
    assert window.desk.selection.track_id == "bass"
    for widget in window.findChildren(QWidget):
        by_tab = bool(widget.focusPolicy().value & Qt.FocusPolicy.TabFocus.value)
        inner = widget.objectName().startswith("qt_")  # the fields inside Qt's own number boxes
        if by_tab and widget.isVisible() and widget.isEnabled() and not inner:
            assert widget in seen, (widget, widget.objectName())


@pytest.mark.parametrize("stage", ["sounds", "chains"])
def test_tab_goes_through_a_page_as_it_is_laid_out_whatever_was_shown_before(three_tracks, settled, stage):
    window = three_tracks
    desk, page = window.desk, window.stages[stage]
    kinds = (Scale, QComboBox, DeviceCard, GlanceButton)
    for track, kind in (("two", "fm"), ("three", "string")):
        desk.edit("Source", lambda s, t=track, k=kind: change_layer(s, t, "a", sound={"kind": k}))
    desk.edit("Limiter", lambda s: insert_device(s, "two", device("limiter", "l")))
    window.stages["sounds"].show_tab("Source")
    window.show_stage(stage)
    for track in ("one", "two", "three", "two", "one", "mix", "three", "one"):
        desk.selection.track(track)
        settled(window)
        at, fields = page, []
        while (at := at.nextInFocusChain()) is not page:
            if at.isVisible() and page.isAncestorOf(at) and (isinstance(at, kinds) or at.objectName() == "sounds.wave"):
                fields.append(at)
        places = [(each.mapTo(page, QPoint(0, 0)).y() // 60, each.objectName()) for each in fields]
        bad = [(a, b) for a, b in pairwise(places) if b[0] < a[0] - 1]
        assert not bad, track
        scales = [each for each in fields if isinstance(each, Scale)]
        where = [each.mapTo(page, QPoint(0, 0)) for each in scales]
        assert [(p.y(), p.x()) for p in where] == sorted((p.y(), p.x()) for p in where)
        assert len(fields) > 8 or track == "mix" or (track, stage) == ("three", "chains")


def test_arrow_keys_go_from_track_to_track(window, qtbot, settled):
    window.desk.selection.track("bass")
    row = window.left.row_of("bass")
    row.setFocus()
    qtbot.keyClick(row, Qt.Key.Key_Up)
    assert window.desk.selection.track_id == "kick"
    assert window.left.row_of("kick").hasFocus()
    qtbot.keyClick(window.left.row_of("kick"), Qt.Key.Key_Up)  # the first already
    assert window.desk.selection.track_id == "kick"
    qtbot.keyClick(window.left.row_of("kick"), Qt.Key.Key_Down)
    qtbot.keyClick(window.left.row_of("bass"), Qt.Key.Key_Down)
    assert window.desk.selection.track_id == "mix"
    # The list is made anew as a name changes; the focus stays in it.
    from zygotone.session.edits import change_strip

    window.desk.edit("Rename", lambda s: change_strip(s, "kick", name="Boom"))
    qtbot.waitUntil(lambda: window.left.row_of("mix").hasFocus())
