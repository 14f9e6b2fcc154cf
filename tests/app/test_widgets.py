"""The parts of the window by themselves."""

import threading
import time

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QImage, QWheelEvent
from PySide6.QtWidgets import QGridLayout, QLabel, QWidget

from zygotone.advise.fit_views import OneView
from zygotone.advise.sound_views import ClipShape
from zygotone.app.widgets.basic import OneLine, row
from zygotone.app.widgets.clip_view import ClipView
from zygotone.app.widgets.over_time import OverTime
from zygotone.app.widgets.plot import FREQUENCY, Axis, Curve, Plot
from zygotone.app.widgets.readings import reading_text
from zygotone.app.widgets.ruler import Choice, Fields, Ruler, ruler_ticks
from zygotone.app.work import Worker
from zygotone.dsp.giving_up import Cancelled
from zygotone.engine.transport import SimulatedOutput
from zygotone.measure.masking import bands_hz
from zygotone.session.catalogue import DEVICES
from zygotone.session.history import Reading
from zygotone.session.models import Part
from zygotone.session.params import choice, frequency, level, number, whole


@pytest.fixture
def worker(qapp):
    made = Worker()
    yield made
    made.close()


def test_the_most_urgent_job_comes_first_and_only_the_newest_of_a_name(worker, qtbot):
    order, gate = [], threading.Event()
    worker.submit("gate", lambda cancel: gate.wait(5), lambda _: None, urgency=0)
    qtbot.waitUntil(lambda: worker.running == "gate")
    worker.submit("late", lambda cancel: "late", order.append, urgency=9)
    worker.submit("twice", lambda cancel: "old", order.append, urgency=5)
    worker.submit("twice", lambda cancel: "new", order.append, urgency=5)
    worker.submit("soon", lambda cancel: "soon", order.append, urgency=1)
    gate.set()
    qtbot.waitUntil(lambda: len(order) == 3)
    assert order == ["soon", "new", "late"]


def test_a_job_that_is_replaced_says_nothing(worker, qtbot):
    results, started = [], threading.Event()

    def slow(cancel):
        started.set()
        while not cancel():
            time.sleep(0.002)
        raise Cancelled

    worker.submit("job", slow, results.append)
    assert started.wait(5)
    worker.submit("job", lambda cancel: "second", results.append)
    qtbot.waitUntil(lambda: results == ["second"])
    qtbot.waitUntil(lambda: worker.idle)


def test_an_error_is_told_and_the_next_job_runs(worker, qtbot, capsys):
    told, results = [], []
    worker.failed.connect(told.append)

    def broken(cancel):
        raise ValueError("no")

    worker.submit("broken", broken, results.append)
    worker.submit("fine", lambda cancel: 1, results.append)
    qtbot.waitUntil(lambda: results == [1])
    assert told == ["broken: no"]
    assert "ValueError" in capsys.readouterr().err  # for whoever has to mend it


# --- rulers -------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("param", [p for kind in DEVICES for p in kind.params if p.is_number], ids=lambda p: p.name)
def test_every_ruler_has_ticks_within_its_range(param):
    ticks = ruler_ticks(param)
    assert 2 <= len(ticks) <= 9
    assert all(param.low - 1e-9 <= t <= param.high + 1e-4 * abs(param.high) for t in ticks)
    positions = [param.position_of(t) for t in ticks]
    assert positions == sorted(positions)


@pytest.fixture
def ruler(qapp, qtbot):
    values: list[float] = []
    errors: list[str] = []
    made = Ruler(level("gain_db", "Gain", -24, 24, 0.0, "x."), "r", on_change=values.append, on_error=errors.append)
    made.values, made.errors = values, errors
    made.resize(240, 60)
    qtbot.addWidget(made)
    made.show()
    return made


def test_showing_is_never_setting(ruler):
    ruler.show_value(-6.0, -3.0)
    assert ruler.values == []
    assert ruler.field.text() == "−6.0 dB"
    assert ruler.scale.kept == -3.0


def test_the_wheel_turns_only_with_the_focus(ruler, qtbot):
    def wheel() -> None:
        at = QPointF(50, 10)
        event = QWheelEvent(at, at, at.toPoint(), QPointF(0, 120).toPoint(), Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False)  # fmt: skip
        ruler.scale.wheelEvent(event)

    ruler.show_value(0.0, None)
    wheel()
    assert ruler.values == []
    ruler.activateWindow()
    ruler.scale.setFocus()
    qtbot.waitUntil(ruler.scale.hasFocus)
    wheel()
    assert ruler.values == [pytest.approx(0.48)]


def test_shift_makes_a_tenth_of_the_step(ruler, qtbot):
    ruler.show_value(0.0, None)
    qtbot.keyClick(ruler.scale, Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
    assert ruler.values == [pytest.approx(0.048)]


def test_a_ruler_cannot_leave_its_range(ruler):
    ruler.scale._set_from(-500)
    ruler.scale._set_from(5000)
    assert ruler.values == [-24.0, 24.0]


def test_whole_numbers_step_by_one(qapp, qtbot):
    values: list[float] = []
    made = Ruler(whole("n", "N", 0, 1000, 5, "x."), "r", on_change=values.append)
    qtbot.addWidget(made)
    made.show_value(5, None)
    qtbot.keyClick(made.scale, Qt.Key.Key_Right)
    assert values == [6.0]


def test_fields_stand_for_others_as_if_they_were_new(qapp, qtbot):
    """A page that is made anew: the same widgets, and nothing of what they stood for; Tab goes by their new order."""
    page, told = QWidget(), []
    parts = Fields(page)
    page.setLayout(QGridLayout())
    qtbot.addWidget(page)

    def make(names: str) -> list[Ruler | Choice]:
        parts.take_back()
        grid = QGridLayout()
        page.layout().addLayout(grid, 0, 0)
        made: list[Ruler | Choice] = []
        for name in names:
            if name.isupper():
                p = choice(name, f"Choice {name}", (f"{name}1", f"{name}2"), f"{name}1", "x.")
                made.append(parts.choice(p, name, on_change=lambda v: told.append(v)))
            else:
                p = level(name, f"Ruler {name}", -24, 24, 0.0, "x.")
                made.append(parts.ruler(p, name, on_change=lambda v, n=name: told.append((n, v)), on_release=lambda: None, bpm=lambda: 120.0, on_error=told.append))  # fmt: skip
                made[-1].show_value(0.0, None)
        parts.put(made, grid, 3)
        return made

    page.show()
    first = make("abXc")
    first[0].show_value(-6.0, -3.0)
    first[0].show_moves((-3.0, 3.0))
    first[0].offers = tuple
    first[1].field.setText("3 d")  # half typed
    first[1].field.setModified(True)
    second = make("dYe")
    assert {id(w) for w in second} <= {id(w) for w in first}
    assert [w.objectName() for w in page.findChildren(Ruler) if w.isVisible()] == ["d", "e"]
    for gone in "abcX":
        assert page.findChild(QWidget, gone) is None
        assert page.findChild(QWidget, f"{gone}.value") is None
    assert not [each for each in page.findChildren(QLabel) if each.text() == "moves" and each.isVisible()]
    ruler, words = second[0], second[1]
    assert (ruler.field.text(), ruler.scale.kept, ruler.scale.moves, ruler.offers) == ("0.0 dB", None, None, None)
    assert [words.box.itemText(i) for i in range(words.box.count())] == ["Y1", "Y2"]
    assert told == []
    qtbot.keyClick(ruler.scale, Qt.Key.Key_Right)
    words.box.activated.emit(1)
    assert [told[0][0], told[1]] == ["d", "Y2"]
    at, order = page, []
    while (at := at.nextInFocusChain()) is not page:
        if at.isVisible() and at.focusPolicy() & Qt.FocusPolicy.TabFocus and at.window() is page:
            order.append(at.objectName())
    assert order == ["d.value", "d.scale", "Y.value", "e.value", "e.scale"]
    parts.take_back()
    make("fghij")  # more than there were
    assert len(page.findChildren(Ruler)) == 5
    assert all(w.isVisible() for w in page.findChildren(Ruler))


def test_a_choice_names_what_was_kept(qapp, qtbot):
    chosen: list[object] = []
    made = Choice(choice("law", "Law", (-3.0, -6.0), -3.0, "x.", ("−3 dB", "−6 dB")), "c", on_change=chosen.append)
    qtbot.addWidget(made)
    made.show_value(-6.0, -3.0)
    assert made.box.currentText() == "−6 dB"
    assert made.kept_note.text() == "A −3 dB"
    assert chosen == []
    made.box.activated.emit(0)
    assert chosen == [-3.0]


# --- plots --------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("axis", [FREQUENCY, Axis(-60.0, 0.0, "dB"), Axis(0.0, 4.0, "beat")])
@pytest.mark.parametrize("position", [0.0, 0.31, 1.0])
def test_axis_and_value_are_a_pair(axis, position):
    assert float(axis.position(axis.value(position))) == pytest.approx(position, abs=1e-12)


def test_a_plot_reads_its_curves(qapp, qtbot):
    plot = Plot(FREQUENCY, Axis(-60, 0, "dB"), name="p", accessible="A plot")
    qtbot.addWidget(plot)
    hz = np.geomspace(25, 16000, 100)
    plot.show_curves([Curve("Kick", hz, np.full(100, -12.0), "ink"), Curve("low", hz, np.full(100, -90.0), "a")])
    text = plot.readout(float(FREQUENCY.position(1000.0)))
    assert "1.00 kHz" in text
    assert "Kick −12.0 dB" in text
    assert "low" not in text  # below what the plot shows
    plot.resize(400, 200)
    plot.grab()


@pytest.mark.parametrize("style", ["line", "dash", "dot", "fill", "hatch", "bars"])
def test_every_style_draws_something(qapp, qtbot, style):
    plot = Plot(Axis(0, 1, "s"), Axis(0, 1, ""), name="p", accessible="A plot")
    qtbot.addWidget(plot)
    plot.resize(300, 160)
    plot.show_curves((), empty="")
    before = plot.grab().toImage()
    plot.show_curves([Curve("c", np.linspace(0, 1, 20), np.full(20, 0.6), "b", style)])
    assert plot.grab().toImage() != before


def test_readings_are_written_with_units():
    assert (
        reading_text(Reading(name="x", label="Kick clear", unit="dB", before=-1.44, after=2.8))
        == "Kick clear −1.4 → 2.8 dB"
    )
    assert reading_text(Reading(name="x", label="Kick", unit="Hz", before=46.9)) == "Kick 46.9 Hz"
    assert reading_text(Reading(name="x", label="Nothing")) == ""


def test_typed_numbers_of_several_units(qapp, qtbot):
    for param, text, value in (
        (frequency("f", "F", 1000.0, "x."), "A4", 440.0),
        (number("t", "T", "ms", 1, 2000, 100, "x.", scale="log"), "1/4t", 1000.0 * 60 / 92 * 2 / 3),
    ):
        values: list[float] = []
        made = Ruler(param, "r", on_change=values.append, bpm=lambda: 92.0)
        qtbot.addWidget(made)
        made.field.setText(text)
        made.field._typed()
        assert values == [pytest.approx(value)]


def test_the_simulated_output_keeps_time():
    output = SimulatedOutput()
    output.start(48000)
    begin = time.monotonic()
    for _ in range(40):
        output.write(np.zeros((2, 512)))
    took = time.monotonic() - begin
    # 40 blocks of 512 last 427 ms, less what is buffered; a busy machine may be slower but never faster.
    assert took > 40 * 512 / 48000 - 0.05
    output.stop()


def _pixels(widget) -> np.ndarray:
    """What a widget shows, (height, width, 4), 0 to 255."""
    image = widget.grab().toImage().convertToFormat(QImage.Format.Format_ARGB32)
    return np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.width(), 4).astype(int)


def test_what_is_hidden_is_hatched_and_nothing_else(qapp, qtbot):
    bands, columns = len(bands_hz()), 60
    hidden = np.zeros((bands, columns))
    hidden[bands // 4 : bands // 2, 12:24] = hidden[bands // 2 :, 36:] = 0.9
    picture = OverTime(name="picture")
    qtbot.addWidget(picture)
    picture.resize(600 + 58, 240)

    def shown(hidden):
        view = OneView(
            "a", 1, 4, np.full(hidden.shape, 0.5), hidden, 0.3, np.zeros(4), (), np.zeros((0, 4)), -20.0, -3.0
        )
        picture.show_view(view, "Lead")
        return _pixels(picture)[24 : 24 + 196, 46 : 46 + 600]

    changed = np.abs(shown(hidden) - shown(0.0 * hidden)).max(axis=2)
    where = np.repeat(np.repeat(hidden[::-1], 10, axis=1), 196, axis=0).reshape(bands, 196, 600)
    where = where[:, 0][np.arange(196) * bands // 196] > 0.5
    edge = np.zeros_like(where)  # a row of pixels may lie in two bands
    edge[1:] |= where[1:] != where[:-1]
    edge[:-1] |= where[1:] != where[:-1]
    assert not changed[~where & ~edge].any()
    tinted = changed[where & ~edge]
    lines = tinted > 1.5 * np.median(tinted)
    assert np.all(tinted > 0)
    assert 0.05 < lines.mean() < 0.5


def test_a_wave_is_as_high_as_its_clip_wherever_it_is(qapp, qtbot):
    def nothing(*_: object) -> None:
        pass

    picture = ClipView(nothing, nothing, nothing, nothing)
    qtbot.addWidget(picture)
    picture.resize(700, 200)
    columns = 1200
    loud = np.where(np.arange(columns) % 300 < 100, 0.8, 0.1)
    part = Part(section="a", clip="0" * 64)
    picture.show_parts([(0, part, 0.0, 16.0)], (0.0, 16.0), bar_beats=4.0, bpm=120.0)
    blank = _pixels(picture)
    picture.show_shape(ClipShape("a", 0.0, 16.0, -loud / 2, loud, ()))
    area = picture._area()
    drawn = np.abs(_pixels(picture) - blank).max(axis=2) > 100
    at = np.linspace(area.left(), area.right(), columns, endpoint=False).astype(int)
    middle, half = area.center().y(), area.height() / 2 - 4
    for column in range(5, columns, 50):
        rows = np.flatnonzero(drawn[:, at[column]])
        assert rows[0] == pytest.approx(middle - half * loud[column], abs=2.0)
        assert rows[-1] == pytest.approx(middle + half * loud[column] / 2, abs=2.0)
    assert drawn[:, at[0] : at[-1]].any(axis=0).all()


def test_a_line_without_room_ends_in_an_ellipsis_and_comes_back(qapp, qtbot):
    beside, line = QLabel("at hand"), OneLine(name="line")
    holder = QWidget()
    holder.setLayout(row(line, beside))
    qtbot.addWidget(holder)
    holder.resize(220, 30)
    holder.show()
    words = "Something that takes a good deal more room than two hundred pixels have for it"
    line.say(words)
    qtbot.waitUntil(lambda: line.text().endswith("…"), timeout=5000)
    shown = line.text()
    assert words.startswith(shown[:-1])
    assert line.fontMetrics().horizontalAdvance(shown) <= line.width()
    assert line.toolTip() == words
    assert beside.width() >= beside.sizeHint().width()
    holder.resize(900, 30)
    qtbot.waitUntil(lambda: line.text() == words, timeout=5000)
