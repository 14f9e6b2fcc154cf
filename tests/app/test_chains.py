"""Chains with every device: pictures, entries, branches, sends, automation, impulse files."""

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QLabel, QPushButton

from tests.builders import write_stem
from tests.signals import noise
from zygotone.app.widgets.plot import Plot
from zygotone.app.widgets.ruler import Ruler
from zygotone.session.catalogue import DEVICES
from zygotone.session.edits import chain_of


@pytest.fixture
def chains(window, settled):
    window.desk.selection.track("bass")
    window.show_stage("chains")
    settled(window)
    return window.stages["chains"]


def click(window, name: str) -> None:
    window.findChildren(QPushButton, name)[-1].click()


def pick(window, name: str, text: str) -> None:
    """Choose an entry of a box as a hand does."""
    box = window.findChildren(QComboBox, name)[-1]  # the newest: one made anew stands beside the old until that is gone
    index = box.findText(text)
    assert index >= 0, [box.itemText(i) for i in range(box.count())]
    box.setCurrentIndex(index)
    box.activated.emit(index)


def ruler_of(window, name: str) -> Ruler:
    return window.findChildren(Ruler, name)[-1]


def bass(window):
    return window.desk.session.track("bass")


def test_every_device_opens_with_its_picture_and_rulers(window, chains, qtbot):
    for kind in DEVICES:
        click(window, f"chains.add.{kind.kind}")
        device = chains.device
        assert device.kind == kind.kind
        assert device.mix == kind.usual_mix

        def drawn() -> bool:
            shown = [picture for picture in chains.picture.by_kind.values() if picture.isVisible()]
            return any(p._curves for picture in shown for p in picture.findChildren(Plot))

        qtbot.waitUntil(drawn, timeout=60000)
        for p in kind.params:
            if p.has_range:
                assert ruler_of(window, f"chains.ruler.{p.name}").field.text() == p.format(device.params[p.name])
        window.desk.bench.undo()
        assert not bass(window).chain


def test_note_values_are_typed_and_stay_note_values(window, chains):
    chains.add_device("delay")
    ruler = ruler_of(window, "chains.ruler.time")
    ruler.field.setText("1/4t")
    ruler.field.setModified(True)
    ruler.field.editingFinished.emit()
    assert chains.device.params["time"] == "1/4t"
    assert ruler.field.text() == "1/4t"
    assert ruler.scale.value == pytest.approx(1000 * 60 / 120 * 2 / 3)  # at 120 BPM
    ruler.field.setText("nonsense")
    ruler.field.setModified(True)
    ruler.field.editingFinished.emit()
    assert chains.device.params["time"] == "1/4t"


def test_entries_are_added_chosen_changed_and_removed(window, chains):
    chains.add_device("multiband")
    click(window, "chains.band.2")
    ruler_of(window, "chains.ruler.threshold_db").scale._on_change(-24.0)
    assert [b["threshold_db"] for b in chains.device.params["bands"]] == [0.0, -24.0, 0.0]
    click(window, "chains.crossovers_hz.add")
    assert len(chains.device.params["crossovers_hz"]) == 3
    ruler_of(window, "chains.ruler.crossovers_hz.0").scale._on_change(90.0)
    assert chains.device.params["crossovers_hz"][0] == 90.0
    click(window, "chains.band.remove")
    assert len(chains.device.params["bands"]) == 2


def test_a_ducking_curve_is_drawn_by_hand(window, chains):
    chains.add_device("ducker")
    picture = chains.picture.by_kind["duck"]
    picture.curve.pressed.emit(0.25, 0.85)
    picture.curve.dragged.emit(0.4, 0.5)
    picture.curve.released.emit()
    point = chains.device.params["points"][1]
    assert (point["at"], point["depth"]) == pytest.approx((0.4, 0.5))
    window.desk.bench.undo()
    assert chains.device.params["points"][1]["at"] == 0.25


def test_branches_are_entered_filled_and_left(window, chains, settled):
    chains.add_device("split")
    click(window, "chains.band.2")
    click(window, "chains.branch.open")
    assert chains.where == "split/1"
    click(window, "chains.add.saturation")
    click(window, "chains.add.gain")
    settled(window)
    assert [d.kind for d in chain_of(bass(window), "split/1")] == ["saturation", "gain"]
    assert window.desk.selection.device_id == "split/1/gain"
    assert set(chains._cards) == {"split/1/saturation", "split/1/gain"}
    chains._move(-1)
    assert [d.kind for d in chain_of(bass(window), "split/1")] == ["gain", "saturation"]
    chains._remove()
    assert chains.where == "split/1"
    click(window, "chains.branch.back")
    assert window.desk.selection.device_id == "split"
    assert set(chains._cards) == {"split"}
    assert [d.kind for d in chain_of(bass(window), "split/1")] == ["saturation"]


def test_two_in_series_are_set_from_the_material(window, chains, settled):
    click(window, "chains.add.series")
    settled(window)
    first, second = bass(window).chain
    assert (first.kind, second.kind) == ("compressor", "compressor")
    assert first.params["threshold_db"] > second.params["threshold_db"]
    assert first.params["ratio"] > second.params["ratio"]
    window.desk.bench.undo()
    assert not bass(window).chain


def test_a_send_to_a_new_return(window, chains):
    pick(window, "chains.send.add", "new return…")
    session = window.desk.session
    assert [b.name for b in session.buses] == ["Return"]
    assert bass(window).sends[0].to == "return"
    ruler_of(window, "chains.send.return").scale._on_change(-6.0)
    assert bass(window).sends[0].level_db == -6.0
    pick(window, "chains.send.return.tap", "before level and pan")
    assert bass(window).sends[0].tap == "before"
    pick(window, "chains.group", "Return")
    assert bass(window).bus == "return"
    click(window, "chains.send.return.remove")
    assert not bass(window).sends


def test_a_circle_of_sends_is_refused_in_words(window, chains, settled):
    pick(window, "chains.send.add", "new return…")
    window.desk.selection.track("return")
    window.stages["chains"].add_device("compressor")
    told = []
    window.desk.message.connect(told.append)
    window.desk.selection.track("bass")
    window.stages["chains"].add_device("compressor")
    pick(window, "chains.key", "Return, after its chain")
    assert told
    assert "circle" in told[-1]
    assert bass(window).chain[0].key is None


def test_automation_is_drawn_heard_and_undone(window, chains, settled):
    chains.add_device("filter")
    pick(window, "lane.add", "Filter: Cutoff")
    lanes = chains.lanes
    lane = window.desk.session.lanes[0]
    assert (lane.strip, lane.device, lane.param) == ("bass", "filter", "cutoff_hz")
    assert lane.points[0].value == bass(window).value_of("filter", "cutoff_hz")
    lanes.plot.pressed.emit(4.0, 500.0)
    lanes.plot.dragged.emit(5.1, 300.0)
    lanes.plot.released.emit()
    points = window.desk.session.lanes[0].points
    assert [(p.beat, p.value) for p in points] == [(0.0, 20000.0), (5.0, pytest.approx(300.0))]
    lanes.setFocus()
    lanes.keyPressEvent(_key(Qt.Key.Key_Delete))
    assert len(window.desk.session.lanes[0].points) == 1
    pick(window, "lane.shape", "triangle")
    pick(window, "lane.period", "1/8t")
    lane = window.desk.session.lanes[0]
    assert (lane.shape, lane.period) == ("triangle", "1/8t")
    ruler_of(window, "lane.low").scale._on_change(100.0)
    assert window.desk.session.lanes[0].low == 100.0
    click(window, "lane.on")
    assert not window.desk.session.lanes[0].on
    click(window, "lane.remove")
    assert not window.desk.session.lanes
    window.desk.bench.undo()
    assert window.desk.session.lanes


def _key(key):
    from PySide6.QtCore import QEvent
    from PySide6.QtGui import QKeyEvent

    return QKeyEvent(QEvent.Type.KeyPress, key, Qt.KeyboardModifier.NoModifier)


def test_a_ruler_shows_that_automation_moves_it_and_from_where_to_where(window, chains, settled):
    chains.add_device("filter")
    settled(window)
    ruler = ruler_of(window, "chains.ruler.cutoff_hz")
    assert ruler.scale.moves is None
    pick(window, "lane.add", "Filter: Cutoff")
    pick(window, "lane.shape", "triangle")
    ruler_of(window, "lane.low").scale._on_change(200.0)
    ruler_of(window, "lane.high").scale._on_change(2000.0)
    settled(window)
    ruler = ruler_of(window, "chains.ruler.cutoff_hz")
    low, high = ruler.scale.moves
    assert (low, high) == (pytest.approx(200.0, rel=0.02), pytest.approx(2000.0, rel=0.02))
    word = ruler.findChild(QLabel, "chains.ruler.cutoff_hz.moves")
    assert word.isVisible()
    assert "from 200" in word.toolTip()
    assert ruler_of(window, "chains.ruler.resonance").scale.moves is None
    click(window, "lane.on")
    settled(window)
    assert ruler_of(window, "chains.ruler.cutoff_hz").scale.moves is None
    chains.lanes.add_lane(None, "pan_pct")
    settled(window)
    assert ruler_of(window, "chains.ruler.pan_pct").scale.moves is not None
    chains.lanes.add_lane("filter", "mix")
    pick(window, "lane.shape", "triangle")
    ruler_of(window, "lane.low").scale._on_change(0.25)
    ruler_of(window, "lane.high").scale._on_change(0.75)
    settled(window)
    # Of wet and dry in percent, as its ruler counts.
    assert ruler_of(window, "chains.ruler.mix").scale.moves == pytest.approx((25.0, 75.0), abs=1.0)


def test_removing_a_device_takes_its_lanes_along(window, chains):
    chains.add_device("filter")
    chains.lanes.add_lane("filter", "cutoff_hz")
    chains.lanes.add_lane(None, "level_db")
    chains._remove()
    assert [lane.param for lane in window.desk.session.lanes] == ["level_db"]


def test_an_impulse_file_comes_into_the_project(window, chains, settled, tmp_path):
    chains.add_device("cabinet")
    impulse = write_stem(tmp_path, "Room", noise(0.1) * np.exp(-np.arange(4800) / 800), rate=44100)
    chains.fields.use_impulse("cabinet", "impulse", impulse)
    settled(window)
    used = chains.device.params["impulse"]
    assert used in {a.id for a in window.desk.session.assets}
    chains.change("cabinet", "Impulse", merge=None, impulse="")
    assert used not in {a.id for a in window.desk.session.assets}
    told = []
    window.desk.message.connect(told.append)
    chains.fields.use_impulse("cabinet", "impulse", tmp_path / "gone.wav")
    assert "no such file" in told[-1]


def test_buses_are_made_named_and_removed_in_the_brief(window, settled, qtbot):
    window.show_stage("brief")
    qtbot.waitUntil(window.stages["brief"].isVisible)
    click(window, "brief.add_bus")
    field = window.findChild(type(window.stages["brief"].title), "brief.bus.bus.name")
    field.setText("Drums")
    field.editingFinished.emit()
    assert window.desk.session.buses[0].name == "Drums"
    click(window, "brief.bus.bus.remove")
    assert not window.desk.session.buses
