"""Audio cut, moved, faded, fitted and sliced on its waveform."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtTest import QTest

from tests.app.gestures import Hand
from tests.signals import RATE
from zygotone.session.audio_files import AudioData
from zygotone.session.audio_store import AudioStore
from zygotone.session.edits import change_strip
from zygotone.session.models import ClipSource, Part, Section, Session, Song, Track
from zygotone.session.project_file import Project

CTRL, SHIFT, ALT = (
    Qt.KeyboardModifier.ControlModifier,
    Qt.KeyboardModifier.ShiftModifier,
    Qt.KeyboardModifier.AltModifier,
)


@pytest.fixture
def window(opened, settled):
    t = np.arange(RATE // 2) / RATE
    hit = 0.5 * np.sin(2 * np.pi * 330.0 * t) * np.exp(-12.0 * t)
    audio = np.tile(hit, (2, 8))
    store = AudioStore()
    asset = store.add(AudioData(audio, RATE, "FLOAT", "WAV"), "loop", RATE)
    song = Song(tempo_bpm=120, sections=(Section(id="a", name="A", bars=2), Section(id="b", name="B", bars=2)))
    track = Track(id="loop", name="Loop", source=ClipSource(asset=asset.id))
    made = opened(
        Project(Session(rate_hz=RATE, song=song, tracks=(track,), assets=(asset,)), store=store), stage="sounds"
    )
    made.desk.selection.set_loop(("a",))
    settled(made)
    return made


def parts(window) -> tuple[Part, ...]:
    return window.desk.session.track("loop").parts


def test_audio_is_cut_moved_trimmed_and_faded_on_its_waveform(window, settled):
    hand = Hand(window)
    view = window.stages["sounds"].clips.view
    assert len(view.hits) == 8
    middle = view._area().center().y()
    QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=QPointF(view._x(4.03), middle).toPoint())
    assert view.caret == pytest.approx(4.0, abs=0.01)  # a hit, or the grid
    hand.click("clips.split")
    assert [(round(p.start_beat, 2), round(p.length_beats, 2)) for p in parts(window)] == [(0.0, 4.0), (4.0, 4.0)]
    view.chosen = 1
    hand.drag(view, QPointF(view._x(5.5), middle), QPointF(view._x(6.5), middle))
    assert parts(window)[1].start_beat == pytest.approx(5.0, abs=0.02)
    one = parts(window)[0]
    hand.drag(view, QPointF(view._x(0.0) + 1, middle), QPointF(view._x(1.0), middle))
    assert (parts(window)[0].start_beat, parts(window)[0].clip_start_s) == (
        pytest.approx(1.0, abs=0.02),
        pytest.approx(0.5, abs=0.01),
    )
    assert parts(window)[0].start_beat + parts(window)[0].length_beats == pytest.approx(4.0, abs=0.01)
    top = view._area().top() + 8
    hand.drag(view, QPointF(view._x(1.0) + 1, top), QPointF(view._x(2.0), top))
    assert parts(window)[0].fade_in_ms == pytest.approx(500.0, abs=30.0)
    window.desk.bench.undo()
    window.desk.bench.undo()
    assert parts(window)[0] == one  # each drag was one step
    hand.typed("clips.gain_db", "-6")
    hand.typed("clips.length_beats", "1/2")
    assert (parts(window)[0].gain_db, parts(window)[0].length_beats) == (-6.0, 2.0)
    before = window.desk.session
    for name, text in (("gain_db", "90"), ("stretch", "9"), ("length_beats", "x"), ("transpose_semitones", "99")):
        told = len(hand.told)
        hand.typed(f"clips.{name}", text)
        assert len(hand.told) > told, name
    assert window.desk.session == before


def test_a_section_without_audio_gets_some(window, settled):
    hand = Hand(window)
    hand.click("clips.remove")
    assert window.desk.session.track("loop").mute
    hand.click("clips.here")
    assert not window.desk.session.track("loop").mute
    window.desk.selection.set_loop(("b",))
    hand.click("clips.here")
    assert [(p.section, p.start_beat, p.length_beats) for p in parts(window)] == [("a", 0.0, 8.0), ("b", 0.0, 8.0)]


def test_audio_is_fitted_to_bars_and_sliced_into_notes(window, settled):
    hand = Hand(window)
    page = window.stages["sounds"].clips
    page.fit(1.5)
    assert parts(window)[0].stretch == pytest.approx(0.75)
    window.desk.bench.undo()
    settled(window)
    hand.menu("clips.menu", "Slices to the hits, as notes")
    made = window.desk.session.tracks[1]
    assert len(made.source.phrases[0].notes) == 8
    assert window.desk.selection.track_id == made.id
    assert window.desk.session.track("loop").mute
    page.view.caret = None
    hand.click("track.loop")
    page.split()
    assert "Click in the audio" in hand.told[-1]


def test_the_wave_is_where_the_hits_are_and_drawn_anew_only_where_it_is_another(window, settled, monkeypatch):
    view = window.stages["sounds"].clips.view
    drawn: list[list[QRectF]] = []
    bars_of = view._bars_of
    monkeypatch.setattr(view, "_bars_of", lambda *given: drawn.append(bars_of(*given)) or drawn[-1])
    view.resize(view.width() + 10, view.height())
    view.grab()
    assert len(drawn) == 1
    tall = max(drawn[0], key=lambda bar: bar.height())
    assert min(abs(view._x(hit) - tall.left()) for hit in view.hits) < 4.0  # a hit is loudest as it begins
    assert tall.height() == pytest.approx(
        0.5 * (view._area().height() - 8.0), rel=0.15
    )  # half of full scale, both ways
    window.desk.edit("Level", lambda s: change_strip(s, "loop", level_db=-6.0))
    settled(window)
    view.grab()
    shapes = len(drawn)
    view.grab()
    view.grab()
    assert len(drawn) == shapes
    window.desk.selection.set_loop(("b",))
    settled(window)
    view.grab()
    assert len(drawn) > shapes
    assert [bar.left() for bar in drawn[-1]] == pytest.approx(
        [bar.left() for bar in drawn[0]]
    )  # the clip repeats there
