"""Names from a stranger's file are shown as the text that they are, and two windows do not undo each other's work."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QSettings, Qt
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QLabel, QMessageBox, QWidget

from zygotone.app.desk import Desk
from zygotone.app.files import empty_project
from zygotone.app.stages import STAGES
from zygotone.app.widgets.basic import as_plain
from zygotone.app.window import Window
from zygotone.session.edits import change_device, change_song, change_strip
from zygotone.session.journal import journal_path
from zygotone.session.project_file import load_project

MARKUP = "<b>x</b><img src=a>&amp"


@pytest.fixture
def answered(monkeypatch):
    """What is clicked in a dialog, by its words; and what the dialogs said."""
    told: list[str] = []

    def choose(words: str) -> list[str]:
        def run(box: QMessageBox) -> int:
            assert box.textFormat() == Qt.TextFormat.PlainText
            told.append(box.text())
            chosen = next(b for b in box.buttons() if b.text().replace("&", "") == words)
            monkeypatch.setattr(QMessageBox, "clickedButton", lambda _: chosen)
            return 0

        monkeypatch.setattr(QMessageBox, "exec", run)
        return told

    return choose


def rich(widget: QWidget) -> bool:
    """Whether a text of it would be shown as markup that came from outside."""
    tip = widget.toolTip()
    shown = isinstance(widget, QLabel) and "<b>x" in widget.text() and widget.textFormat() != Qt.TextFormat.PlainText
    return shown or "<b>x" in tip


def test_names_are_text_everywhere(window, settled, qtbot):
    desk = window.desk

    def renamed(session):
        for n, track in enumerate(session.tracks):
            session = change_strip(session, track.id, name=f"{MARKUP} {n}")
            for device in track.chain:
                session = change_device(session, track.id, device.id, label=MARKUP)
        session = change_song(session, title=MARKUP)
        sections = tuple(s.replace(name=f"{MARKUP} {n}") for n, s in enumerate(session.song.sections))
        return session.replace(song=session.song.replace(sections=sections))

    assert desk.edit("Rename", renamed)
    for stage in STAGES:
        window.show_stage(stage.key)
        settled(window)
        for track in desk.session.tracks:
            desk.selection.track(track.id)
            qtbot.wait(30)
        wrong = [w.objectName() or type(w).__name__ for w in window.findChildren(QWidget) if rich(w)]
        assert not wrong, (stage.key, wrong)
    desk.message.emit(f"{MARKUP} cannot be read")
    assert not rich(window.status.message)
    assert not [a.text() for a in window.findChildren(QAction) if "<b>x" in a.toolTip()]


def test_what_looks_like_markup_is_escaped_in_tips():
    assert as_plain("Kick") == "Kick"
    assert "<b>" not in as_plain(MARKUP)
    assert "&lt;b&gt;x" in as_plain(MARKUP)


# --- two windows --------------------------------------------------------------------------------------------------


@pytest.fixture
def other_window(window, settings, tmp_path, qapp):
    """A second one, with settings and data of its own file but the same folders."""
    mine = QSettings(str(tmp_path / "other.ini"), QSettings.Format.IniFormat)
    for key in ("data_folder", "cache_folder"):
        mine.setValue(key, settings.value(key))
    made = Window(Desk(empty_project(), settings=mine, own_processes=False))
    made.show()
    yield made
    made.desk.files.saved_changes = made.desk.bench.changes
    made.close()


def test_the_second_window_is_told_and_may_only_look(window, other_window, answered, settled, monkeypatch, tmp_path):
    path = window.desk.files.path
    told = answered("Open read-only")
    assert other_window.files.open_path(path)
    assert "is open in another window already" in told[0]
    assert other_window.desk.files.read_only
    assert "read-only" in other_window.windowTitle()
    other_window.desk.edit("Level", lambda s: change_strip(s, "bass", level_db=-33.0))
    other_window.desk.files.written()
    assert not journal_path(path).exists()  # its own work is safe elsewhere
    asked = []
    target = tmp_path / "mine.zygotone"
    monkeypatch.setattr(
        "zygotone.app.files.QFileDialog.getSaveFileName", lambda *a, **k: asked.append(a) or (str(target), "")
    )
    assert other_window.files.save()
    assert asked  # under another name
    assert load_project(target).session.track("bass").level_db == -33.0
    assert load_project(path).session.track("bass").level_db != -33.0
    assert not other_window.desk.files.read_only
    settled(other_window)


def test_the_second_window_opens_a_copy(window, other_window, answered, settled):
    answered("Open a copy")
    assert other_window.files.open_path(window.desk.files.path)
    assert other_window.desk.files.path is None
    assert other_window.desk.files.dirty
    assert other_window.desk.session == window.desk.session
    settled(other_window)


def test_no_window_saves_over_what_another_has_open(window, other_window, answered, monkeypatch):
    path, before = window.desk.files.path, window.desk.session
    said = []
    monkeypatch.setattr(QMessageBox, "warning", lambda *a, **k: said.append(a[2]))
    assert not other_window.files._save_to(path)
    assert "is open in another window; choose another name" in said[0]
    assert load_project(path).session == before


def test_unsaved_work_of_each_window_comes_back_alone(window, other_window, settings, monkeypatch, settled):
    for each, title in ((window, "Mine"), (other_window, "Hers")):
        each.desk.open_project(empty_project(), None)
        each.desk.edit("Title", lambda s, t=title: change_song(s, title=t))
        each.desk.files.written()
    # Hers crashes; mine goes on.
    other_window.desk.files._workplace.release()
    other_window.desk.files._workplace = None
    monkeypatch.setattr(QMessageBox, "question", lambda *a, **k: QMessageBox.StandardButton.Yes)
    other_window.desk.open_project(empty_project(), None)
    assert other_window.files.offer_unsaved()
    assert other_window.desk.song.title == "Hers"
    assert not other_window.files.offer_unsaved()
    assert window.desk.song.title == "Mine"
    settled(window)


def test_a_clip_taken_in_since_the_save_outlives_a_crash(window, monkeypatch, settled, tmp_path):
    from tests.builders import sine, write_stem
    from zygotone.session.audio_files import read_audio
    from zygotone.session.edits import add_asset

    desk = window.desk
    path = desk.files.path
    audio = read_audio(write_stem(tmp_path, "New", sine(300.0, 0.5, level_db=-12)))
    asset = desk.store.add(audio, "New", desk.session.rate_hz)
    desk.edit("Clip", lambda s: change_song(add_asset(s, asset), title="With a clip"))
    desk.edit("Clip", lambda s: s.replace(tracks=(s.tracks[0].replace(source=s.tracks[0].source.replace(asset=asset.id)), *s.tracks[1:])))  # fmt: skip
    desk.files.written()
    desk.files._workplace.release()
    desk.files._workplace = None
    monkeypatch.setattr(QMessageBox, "question", lambda *a, **k: QMessageBox.StandardButton.Yes)
    assert window.files.open_path(path)
    assert desk.song.title == "With a clip"
    assert desk.store.audio(asset, desk.session.rate_hz).shape[1] == asset.frames
    settled(window)


def test_who_only_looks_keeps_the_clips_whatever_the_other_saves(window, other_window, answered, settled):
    """A save writes the file anew, and clips lie elsewhere in it then."""
    from zygotone.session.edits import remove_track

    path = window.desk.files.path
    answered("Open read-only")
    other_window.files.open_path(path)
    settled(other_window)
    window.desk.edit("Remove", lambda s: remove_track(s, "kick"))
    window.desk.files.save()
    store = other_window.desk.store
    store.held = type(store.held)()
    for asset in other_window.desk.session.assets:
        assert store.audio(asset, other_window.desk.session.rate_hz).shape[1] == asset.frames


def test_without_a_place_for_its_data_the_window_works_and_says_so(window, settings, tmp_path, settled):
    from zygotone.session.project_file import load_project

    blocked = tmp_path / "a file"
    blocked.write_text("in the way")
    settings.setValue("data_folder", str(blocked / "data"))
    said = []
    window.desk.files.message.connect(said.append)
    path = window.desk.files.path
    assert window.files.open_path(path)
    assert any("cannot be kept safe from a crash" in each and "Save often" in each for each in said)
    assert not window.desk.files.read_only
    window.desk.edit("Level", lambda s: change_strip(s, "bass", level_db=-21.0))
    window.desk.files.written()  # the journal lies beside the project
    assert journal_path(path).exists()
    assert window.files.save()
    assert load_project(path).session.track("bass").level_db == -21.0
    window.stages["sounds"].open_library()  # refused in words
    assert "no library" in window.status.message.toolTip()
    settled(window)


def test_a_save_under_another_name_that_fails_leaves_the_project_this_windows(
    window, other_window, answered, settled, monkeypatch, tmp_path
):
    path = window.desk.files.path
    monkeypatch.setattr(QMessageBox, "warning", lambda *a, **k: None)
    assert not window.files._save_to(tmp_path / "gone" / "song.zygotone")
    assert window.desk.files.path == path
    told = answered("Leave")
    assert not other_window.files.open_path(path)
    assert "is open in another window already" in told[0]
    assert window.files.save()
    settled(window)


def test_another_project_opens_while_a_track_has_the_focus(window, settled, qtbot):
    """Rows that go hand the focus on to the next, which is of the project that is closed."""
    window.activateWindow()
    qtbot.waitUntil(window.isActiveWindow)
    row = window.left.rows[0]
    row.setFocus()
    qtbot.waitUntil(row.hasFocus)
    window.desk.open_project(empty_project(), None)
    assert window.desk.selection.track_id == window.desk.session.mix.id
    assert [each.strip_id for each in window.left.rows] == [window.desk.session.mix.id]
    settled(window)
