"""The Fit stage as a hand uses it: four views, the ladder of any finding, what is meant, settling, and versions side by side."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QComboBox, QDialog, QLabel, QLineEdit, QListWidget, QPushButton, QSpinBox

from tests.advise.arrangements import CASES, clean, project_of
from zygotone.advise.hearing import Hearing
from zygotone.app.versions import BlindDialog, VersionsDialog
from zygotone.engine.renderer import Renderer
from zygotone.session import edits
from zygotone.session.project_file import load_project


def click(qtbot, parent, name: str) -> None:
    made = parent.findChild(QPushButton, name)
    assert made is not None, name
    assert made.isEnabled(), name
    qtbot.mouseClick(made, Qt.MouseButton.LeftButton)


def dialog_of(window, name: str) -> QDialog:
    return next(d for d in window.findChildren(QDialog, name) if d.isVisible())


@pytest.fixture
def covered(opened):
    """A lead under a wall of guitar, and all else in order."""
    case = clean()
    CASES["lead_covered"][0](case)
    return opened(project_of(case))


def test_the_map_shows_all_pairs_and_opens_one(covered, qtbot, settled):
    fit = covered.stages["fit"]
    click(qtbot, covered, "fit.view.map")
    settled(covered)
    table = fit.map.table
    assert table.columns == ("Kick", "Snare", "Hats", "Bass", "Keys", "Lead", "Guitar")
    assert table.rows == (*table.columns, "all others")
    guitar, lead = table.columns.index("Guitar"), table.columns.index("Lead")
    assert table.values[guitar][lead] > 0.2
    assert np.isnan(table.values[lead][lead])
    assert table.values[-1][lead] >= table.values[guitar][lead]
    cell = table._cell(guitar, lead).center().toPoint()
    qtbot.mouseMove(table, cell)
    assert "Guitar hides" in table.toolTip()
    qtbot.mouseClick(table, Qt.MouseButton.LeftButton, pos=cell)
    settled(covered)
    assert fit.view == "pair"
    assert fit.pair.tracks == ("lead", "guitar")
    assert [c.name for c in fit.pair.spectra.curves] == ["in one place", "Lead", "Guitar"]
    assert "Guitar hides" in fit.pair.note.text()
    assert fit.pair.bars.columns == ("1", "2")
    assert fit.finding.rule == "lead_covered"


def test_the_map_is_read_by_keyboard(covered, qtbot, settled):
    fit = covered.stages["fit"]
    fit.show_view("map")
    settled(covered)
    table = fit.map.table
    table.setFocus()
    for _ in range(3):
        qtbot.keyClick(table, Qt.Key.Key_Right)
    for _ in range(8):
        qtbot.keyClick(table, Qt.Key.Key_Up)
    assert "Kick hides" in table.accessibleDescription()
    qtbot.keyClick(table, Qt.Key.Key_Return)
    settled(covered)
    assert fit.view == "pair"
    assert "kick" in fit.pair.tracks


def test_one_against_all_says_who_hides_it_and_where(covered, qtbot, settled):
    fit = covered.stages["fit"]
    fit.open_one("lead")
    settled(covered)
    view = fit.one.picture.view
    assert view.maskers[0] == "guitar"
    assert fit.one.bars.rows[0] == "Guitar"
    assert 0.2 < view.share <= 1.0
    # What is hidden lies where it sounds; the picture and the number say one thing.
    assert float((view.hidden * view.level).sum() / view.level.sum()) == pytest.approx(view.share, abs=0.1)
    picture = fit.one.picture
    picture.setFocus()
    qtbot.keyClick(picture, Qt.Key.Key_Up)
    assert "bar" in picture.accessibleDescription()
    assert "Hz" in picture.accessibleDescription()
    assert "LUFS" in fit.one.note.text()
    table = fit.one.bars
    qtbot.mouseClick(table, Qt.MouseButton.LeftButton, pos=table._cell(0, 1).center().toPoint())
    assert fit.view == "pair"


def test_a_rung_for_any_finding_goes_on_trial_and_moves_the_numbers(covered, qtbot, settled):
    fit, desk = covered.stages["fit"], covered.desk
    finding = next(f for f in desk.measuring.findings if f.rule == "lead_covered")
    covered.act_on(finding)
    settled(covered)
    assert fit.view in ("one", "pair")
    assert fit.finding.fixes
    number = next(n for n, f in enumerate(fit.finding.fixes, 1) if f.applies and "Carve" in f.label)
    before = desk.measuring.findings
    click(qtbot, covered, f"fit.ladder.{number}.try")
    settled(covered)
    assert desk.bench.trial.rule == "lead_covered"
    reading = next(r for r in desk.measuring.readings_now() if r.name == "covered_share")
    assert reading.after < reading.before
    assert reading.after == pytest.approx(
        reading.before + 100 * fit.finding.fixes[number - 1].gain["covered_share"], abs=3.0
    )
    assert not any(f.rule == "lead_covered" for f in desk.measuring.findings)
    assert before
    loud = [r for r in desk.measuring.readings_now() if r.name == "loudness_lufs"]
    assert len({r.label for r in loud}) == len(loud) == 2
    for each in loud:  # of each track its own, not of one for both
        for session, shown in ((desk.bench.kept, each.before), (desk.bench.trial.session, each.after)):
            heard = Hearing(session, desk.selection.section, Renderer(desk.store))
            assert shown == pytest.approx(heard.lufs(each.of), abs=0.1)
    # It is mended for as long as that is on trial, and named all the same; where there is no room for that, it says so.
    box = fit.ladder.box
    shown = box.currentText()
    assert finding.sentence in shown
    assert "On trial" in shown
    assert finding.sentence in box.toolTip()
    box.resize(box.fontMetrics().horizontalAdvance(shown) + 60, box.height())
    assert box.shown_text == shown
    box.resize(160, box.height())
    assert box.shown_text.endswith("…")
    assert shown.startswith(box.shown_text[:-1])
    covered.margin.keep()
    settled(covered)
    assert "On trial" not in " ".join(fit.ladder.box.itemText(i) for i in range(fit.ladder.box.count()))
    assert "guitar" in desk.bench.log[-1].tracks


def test_findings_are_filtered(covered, settled):
    ladder = covered.stages["fit"].ladder
    every = ladder.box.count()
    assert every >= 1
    ladder.of_track.setCurrentIndex(ladder.of_track.findData("kick"))
    ladder._fill()
    assert ladder.box.count() < every or all("Kick" in ladder.box.itemText(i) for i in range(ladder.box.count()))
    ladder.of_track.setCurrentIndex(0)
    ladder.of_band.setCurrentIndex(1)  # the lows
    ladder._fill()
    assert all("Lead" not in ladder.box.itemText(i) for i in range(ladder.box.count()))


def test_a_finding_of_another_stage_shows_its_ladder_here(opened, qtbot, settled):
    case = clean()
    CASES["harsh"][0](case)
    window = opened(project_of(case))
    window.show_stage("chains")
    finding = next(f for f in window.desk.measuring.findings if f.rule == "harsh")
    click(qtbot, window, f"finding.{finding.id}.try")
    settled(window)
    assert window.stage == "fit"
    assert window.stages["fit"].finding.id == finding.id
    assert window.stages["fit"].rungs[0].name.text() == "Take the peak down"


def test_what_is_meant_stays_quiet_until_it_gets_worse(covered, qtbot, settled):
    fit, desk = covered.stages["fit"], covered.desk
    finding = next(f for f in desk.measuring.findings if f.rule == "lead_covered")
    covered.act_on(finding)
    settled(covered)
    desk.accept_finding(finding, "the wall is the song", 0.1, True)
    settled(covered)
    assert all(f.on_purpose for f in desk.measuring.findings if f.rule == "lead_covered")
    assert covered.findChild(QPushButton, f"finding.{finding.id}.try") is None
    assert desk.bench.log[-1].reason == "the wall is the song"
    assert "On purpose: the wall is the song" in fit.ladder.state.text()
    desk.edit("Louder", lambda s: edits.change_strip(s, "guitar", level_db=6.0))
    settled(covered)
    assert any(f.on_purpose is None for f in desk.measuring.findings if f.rule == "lead_covered")
    desk.bench.undo()
    settled(covered)
    mine = next(f for f in desk.measuring.findings if f.rule == "lead_covered")
    desk.judge_again(mine)
    settled(covered)
    assert next(f for f in desk.measuring.findings if f.rule == "lead_covered").on_purpose is None


def test_a_section_is_settled_from_the_window(window, qtbot, settled):
    click(qtbot, window, "fit.settle")
    dialog = dialog_of(window, "fit.settle.dialog")
    dialog.ducking.setChecked(False)
    click(qtbot, dialog, "fit.settle.start")
    qtbot.waitUntil(lambda: dialog.found is not None, timeout=60000)
    assert dialog.found
    click(qtbot, dialog, "fit.settle.1.try")
    settled(window)
    trial = window.desk.bench.trial
    assert trial.title.startswith("Settle ")
    assert not [f for f in window.desk.measuring.findings if f.rule.startswith("kick_bass")]


def test_the_whole_song_is_settled_and_says_how_far_it_is(window, qtbot, settled):
    click(qtbot, window, "fit.settle")
    dialog = dialog_of(window, "fit.settle.dialog")
    dialog.where.setCurrentIndex(1)
    seen = []
    dialog._clock.setInterval(20)
    dialog._clock.timeout.connect(lambda: seen.append((dialog.bar.maximum(), dialog.bar.value())))
    click(qtbot, dialog, "fit.settle.start")
    qtbot.waitUntil(lambda: dialog.found is not None, timeout=60000)
    assert any(most == 100 and 0 < value < 100 for most, value in seen)
    click(qtbot, dialog, "fit.settle.1.try")
    settled(window)
    assert window.desk.bench.trial.title == "Settle the song: section by section"


def test_settling_can_be_called_off(window, qtbot, settled):
    before = window.desk.bench.state
    click(qtbot, window, "fit.settle")
    dialog = dialog_of(window, "fit.settle.dialog")
    click(qtbot, dialog, "fit.settle.start")
    click(qtbot, dialog, "fit.settle.stop")
    assert "Stopped" in dialog.words.text()
    settled(window)
    assert window.desk.bench.state == before
    click(qtbot, dialog, "fit.settle.stop")
    assert not dialog.isVisible()


def test_a_trial_of_ones_own_takes_all_that_is_done(window, qtbot, settled):
    desk = window.desk
    click(qtbot, window, "fit.own")
    assert desk.bench.trial.title == "My own"
    desk.edit("Level", lambda s: edits.change_strip(s, "bass", level_db=-4.0))
    assert desk.bench.kept.track("bass").level_db == 0.0
    assert desk.bench.trial.session.track("bass").level_db == -4.0
    settled(window)
    window.margin.keep()
    assert desk.bench.kept.track("bass").level_db == -4.0


def test_two_trials_stand_side_by_side_and_are_saved(window, qtbot, settled):
    desk = window.desk
    window.stages["fit"].try_rung(3)
    settled(window)
    click(qtbot, window, "trial.set_aside")
    first = desk.bench.second
    assert desk.bench.trial is None
    assert first is not None
    desk.try_own()
    desk.edit("Level", lambda s: edits.change_strip(s, "kick", level_db=-3.0))
    settled(window)
    click(qtbot, window, "trial.set_aside")  # swaps them
    assert desk.bench.trial == first
    assert desk.bench.second.title == "My own"
    window.findChild(QAction, "file.save").trigger()
    saved = load_project(desk.files.path)
    assert saved.trial == desk.bench.trial
    assert saved.second == desk.bench.second
    click(qtbot, window, "trial.drop_second")
    assert desk.bench.second is None
    desk.bench.undo()
    assert desk.bench.second is not None


def test_versions_are_compared_and_taken_over_in_part(window, qtbot, settled):
    desk = window.desk
    desk.edit("Level", lambda s: edits.change_strip(s, "bass", level_db=-4.0, pan_pct=20.0))
    desk.bench.name_version("Wide bass", "as a question")
    desk.edit("Back", lambda s: edits.change_strip(s, "bass", level_db=0.0, pan_pct=0.0))
    window.findChild(QAction, "file.versions").trigger()
    dialog = dialog_of(window, "versions.dialog")
    assert isinstance(dialog, VersionsDialog)
    box = dialog.findChild(QComboBox, "versions.second")
    at = next(i for i in range(box.count()) if "Wide bass" in box.itemText(i))
    box.setCurrentIndex(at)
    dialog._compare()
    listed = dialog.findChild(QListWidget, "versions.differences")
    assert [listed.item(i).text() for i in range(listed.count())] == [
        "Bass: level 0.0 dB → −4.0 dB",
        "Bass: pan 0 % → 20 %",
    ]
    listed.item(1).setCheckState(Qt.CheckState.Checked)
    click(qtbot, dialog, "versions.take")
    bass = desk.bench.kept.track("bass")
    assert (bass.level_db, bass.pan_pct) == (0.0, 20.0)
    dialog.findChild(QLineEdit, "versions.name").setText("Half of it")
    click(qtbot, dialog, "versions.name_it")
    assert desk.bench.log[-1].title == "Version: Half of it"
    click(qtbot, dialog, "versions.close")


def test_the_null_of_two_versions_is_heard(window, qtbot, settled):
    desk = window.desk
    window.stages["fit"].try_rung(3)
    settled(window)
    window.findChild(QAction, "file.versions").trigger()
    dialog = dialog_of(window, "versions.dialog")
    click(qtbot, dialog, "versions.null")
    qtbot.waitUntil(lambda: "You hear what differs" in dialog.words.text(), timeout=20000)
    (graph, _) = desk.listening.heard_graphs()
    assert [t.name for t in graph.session.tracks] == ["Null"]
    click(qtbot, dialog, "versions.close")
    assert desk.listening.heard_graphs()[0] is desk.bench.kept_graph


def test_a_blind_comparison_is_logged_with_its_probability(window, qtbot, settled):
    desk = window.desk
    window.stages["fit"].try_rung(5)
    settled(window)
    window.findChild(QAction, "file.versions").trigger()
    versions = dialog_of(window, "versions.dialog")
    click(qtbot, versions, "versions.blind")
    dialog = dialog_of(window, "blind.dialog")
    assert isinstance(dialog, BlindDialog)
    dialog.findChild(QSpinBox, "blind.count").setValue(6)
    click(qtbot, dialog, "blind.begin")
    qtbot.waitUntil(lambda: dialog.findChild(QPushButton, "blind.hear.x").isEnabled(), timeout=20000)
    for name in ("one", "other", "x"):
        click(qtbot, dialog, f"blind.hear.{name}")
        assert desk.listening.heard == {"one": 0, "other": 1}.get(name, dialog.test.x)
    while not dialog.test.done:
        click(qtbot, dialog, f"blind.answer.{dialog.test.x}")
    assert "6 of 6 right; by guessing that happens in 1.6 % of cases: a difference was heard" in dialog.words.text()
    assert desk.bench.log[-1].title.startswith("Blind comparison: 6 of 6")
    assert not dialog.findChild(QPushButton, "blind.hear.x").isEnabled()
    click(qtbot, dialog, "blind.close")
    click(qtbot, versions, "versions.close")
    assert desk.listening.heard_graphs()[0] is desk.bench.kept_graph


def test_the_views_are_reached_by_buttons_and_follow_the_finding(window, qtbot, settled):
    fit = window.stages["fit"]
    assert fit.view == "low_end"
    for key, word in (
        ("pair", "Bass"),
        ("one", "against all the others"),
        ("low_end", "Kick against bass"),
        ("map", "Who hides whom"),
    ):
        click(qtbot, window, f"fit.view.{key}")
        settled(window)
        assert word in fit.title.text()
        assert fit.stack.currentWidget() is fit.views[key]
    assert window.childAt(QPoint(5, 5)) is not None


def test_the_first_findings_are_shown_while_the_others_are_listened_for(window, settled):
    settled(window)
    measuring = window.desk.measuring
    every = measuring.findings
    assert measuring.complete
    measuring.forget_loop()
    assert (measuring.findings, measuring.complete) == (None, False)
    first = tuple(f for f in every if f.rule == "kick_bass_clash")
    measuring._on_first_findings(first)
    words = [label.text() for label in window.findChildren(QLabel) if "listening" in label.text()]
    assert words[-1] == "1 so far, listening…"
    assert window.stages["fit"].ladder.finding.rule == "kick_bass_clash"
    settled(window)
    assert measuring.complete
    assert measuring.findings == every
    measuring._on_first_findings(())  # which come late
    assert measuring.findings == every
