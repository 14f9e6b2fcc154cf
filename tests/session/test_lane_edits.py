"""Movements to begin from, and lanes that add to what is set."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.builders import device
from tests.signals import RATE, sine
from zygotone.engine.renderer import Renderer
from zygotone.errors import ParameterError
from zygotone.session import lane_edits as edits
from zygotone.session.audio_files import AudioData
from zygotone.session.audio_store import AudioStore
from zygotone.session.automation import Lane, Point, lane_values, offset_param, shifted
from zygotone.session.edits import change_strip, put_lane
from zygotone.session.models import LEVEL, ClipSource, Section, Session, Song, Track
from zygotone.session.params import Param, frequency

LANE = Lane(id="l", strip="t", param="level_db")


def at(lane: Lane, beats: list[float], param: Param = LEVEL) -> list[float]:
    return lane_values(lane, param, np.array(beats)).tolist()


def test_a_ramp_begins_and_ends_where_it_says():
    assert at(edits.ramp(LANE, 8.0, -20.0, -4.0), [0.0, 4.0, 8.0]) == pytest.approx([-20.0, -12.0, -4.0])


def test_steps_hold_and_come_round():
    stairs = edits.steps(LANE, 6.0, 2.0, (-10.0, -3.0))
    assert at(stairs, [0.0, 1.99, 2.0, 3.9, 4.0]) == pytest.approx([-10, -10, -3, -3, -10])


@given(st.lists(st.integers(0, 31).map(lambda n: n / 4), unique=True, max_size=12).map(sorted), st.floats(0.05, 3.0))
def test_a_push_is_there_on_the_beat_and_gone_before_the_next(beats, last):
    lane = edits.pushes(LANE, 8.0, beats, -12.0, 0.0, last=last)
    assert all(b.beat > a.beat for a, b in zip(lane.points, lane.points[1:], strict=False))
    for beat in beats:
        assert at(lane, [beat]) == pytest.approx([0.0])
        if beat > 0.25:
            assert at(lane, [beat - 1 / 32])[0] < -3.0 or any(abs(beat - 1 / 32 - b) < last for b in beats if b < beat)


def test_what_the_hand_writes_takes_the_place_of_what_was_there_and_of_nothing_else():
    lane = edits.ramp(LANE, 8.0, -20.0, -4.0).replace(points=(*[Point(beat=float(b), value=-20.0) for b in range(9)],))
    since = None
    for beat, value in ((2.5, -6.0), (3.5, -5.0), (4.5, -4.0)):
        lane = edits.written(lane, beat, value, since=since)
        since = beat
    assert at(lane, [2.4, 2.5, 3.5, 4.5]) == pytest.approx([-20.0, -6.0, -5.0, -4.0], abs=0.1)
    assert [p.value for p in lane.points if p.beat > 4.5] == [-20.0] * 4
    assert not [p for p in lane.points if 2.5 < p.beat < 4.5 and p.value == -20.0]


@settings(max_examples=40)
@given(st.lists(st.floats(-60, 12), min_size=3, max_size=60))
def test_fewer_points_say_the_same(values):
    lane = edits.as_points(LANE, [Point(beat=n / 8, value=v) for n, v in enumerate(values)])
    less = edits.thinned(lane, LEVEL, within=0.01)
    beats = np.arange(8 * len(values)) / 64.0
    assert len(less.points) <= len(lane.points)
    off = lane_values(lane, LEVEL, beats) - lane_values(less, LEVEL, beats)
    assert np.max(np.abs(off)) <= 0.0101 * 72.0
    line = edits.as_points(LANE, [Point(beat=n / 8, value=-20.0 + n / 10) for n in range(50)])
    assert len(edits.thinned(line, LEVEL).points) == 2


# --- what adds to the ruler ----------------------------------------------------------------------------------------


def of_tone(*lanes: Lane, level_db: float = -10.0) -> tuple[Session, AudioStore]:
    store = AudioStore()
    asset = store.add(AudioData(sine(1000.0, 4.0), RATE, "FLOAT", "WAV"), "tone", RATE)
    song = Song(tempo_bpm=60, sections=(Section(id="a", name="A", bars=1),))
    track = Track(id="t", name="T", level_db=level_db, source=ClipSource(asset=asset.id), chain=(device("filter", "f", cutoff_hz=2000.0),))  # fmt: skip
    session = Session(rate_hz=RATE, song=song, tracks=(track,), assets=(asset,))
    for lane in lanes:
        session = put_lane(session, lane)
    return session, store


def level_at(session: Session, store: AudioStore, second: float) -> float:
    audio = Renderer(store).stem(session, "t")
    some = audio[0, round(second * RATE) : round((second + 0.2) * RATE)]
    return 20.0 * np.log10(np.sqrt(2.0 * np.mean(some**2)))


SWELL = Lane(id="s", strip="t", param="level_db", relative=True, shape="steps", points=(Point(beat=0, value=0.0), Point(beat=2, value=6.0)))  # fmt: skip


@pytest.mark.parametrize("ruler_db", [-20.0, -10.0, 0.0])
def test_a_relative_lane_is_heard_on_top_of_the_ruler_wherever_it_stands(ruler_db):
    session, store = of_tone(SWELL, level_db=ruler_db)
    plain, _ = of_tone(level_db=ruler_db)
    base = level_at(plain, store, 0.5)
    assert level_at(session, store, 0.5) == pytest.approx(base, abs=0.01)
    assert level_at(session, store, 2.5) == pytest.approx(base + 6.0, abs=0.01)


def test_a_relative_lane_is_added_to_an_absolute_one_in_either_order():
    ramp = Lane(id="a", strip="t", param="level_db", points=(Point(beat=0, value=-30.0),))
    for lanes in ((ramp, SWELL), (SWELL, ramp)):
        session, store = of_tone(*lanes)
        low, high = level_at(session, store, 0.5), level_at(session, store, 2.5)
        assert high - low == pytest.approx(6.0, abs=0.02)
        assert session.automated_range("t", "level_db") == pytest.approx(
            (-30.0, -4.0)
        )  # the ruler's −10 counts as well


def test_of_a_frequency_octaves_are_added_and_the_range_holds():
    p = frequency("cutoff_hz", "Cutoff", 1000.0, "x.")
    added = offset_param(p)
    assert (added.unit, added.high) == ("octaves", pytest.approx(np.log2(1000.0)))
    assert shifted(p, np.array([500.0, 500.0]), np.array([1.0, -2.0])).tolist() == pytest.approx([1000.0, 125.0])
    assert shifted(p, np.array([15000.0]), np.array([3.0])).tolist() == [20000.0]
    down = Lane(id="c", strip="t", device="f", param="cutoff_hz", relative=True, points=(Point(beat=0, value=-3.0),))
    session, store = of_tone(down)
    assert session.automated_range("t", "cutoff_hz", device="f") == pytest.approx((250.0, 2000.0))
    plain, _ = of_tone()
    assert level_at(session, store, 1.0) < level_at(plain, store, 1.0) - 15.0  # two octaves above the cutoff now


def test_the_ruler_still_works_beneath_it():
    session, store = of_tone(SWELL)
    lower = change_strip(session, "t", level_db=-22.0)
    assert level_at(lower, store, 2.5) == pytest.approx(level_at(session, store, 2.5) - 12.0, abs=0.01)


def test_more_than_the_ruler_is_long_is_refused():
    with pytest.raises(ParameterError, match="between -72 and 72 dB"):
        of_tone(SWELL.replace(points=(Point(beat=0, value=80.0),)))
