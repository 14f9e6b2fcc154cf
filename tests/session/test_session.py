"""The session as a value: edits, undo, trials, the log."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.builders import device, tone_project
from zygotone.demo import build_demo
from zygotone.errors import ParameterError
from zygotone.session import edits
from zygotone.session.models import Asset, ClipSource, Part, Section, Session, Song, Track
from zygotone.session.params import Param, Values, format_number, frequency, level, number

DEMO = build_demo().session
CLIPS = Session(
    song=Song(sections=(Section(id="verse", name="Verse", bars=1), Section(id="chorus", name="Chorus", bars=1))),
    tracks=(
        Track(
            id="loop",
            name="Loop",
            source=ClipSource(asset="0" * 64),
            parts=(Part(section="verse"), Part(section="chorus")),
        ),
    ),
    assets=(Asset(id="0" * 64, name="loop", channels=1, frames=10),),
)


def test_a_session_survives_json():
    assert Session.model_validate_json(DEMO.model_dump_json()) == DEMO


def test_values_are_equal_and_hash_alike():
    a, b = Values({"x": 1.0, "bands": (Values({"q": 2.0}),)}), Values({"x": 1.0, "bands": (Values({"q": 2.0}),)})
    assert a == b
    assert hash(a) == hash(b)
    assert a.replace(x=2.0) != a


def test_an_edit_shares_what_it_did_not_change():
    after = edits.change_strip(DEMO, "bass", level_db=-3.0)
    assert after.track("bass").level_db == -3.0
    assert DEMO.track("bass").level_db != -3.0
    assert after.track("kick") is DEMO.track("kick")
    assert after.song is DEMO.song


def test_devices_are_added_moved_duplicated_and_removed():
    session = edits.insert_device(DEMO, "kick", device("eq", "one"))
    session = edits.insert_device(session, "kick", device("compressor", "two"))
    session = edits.move_device(session, "kick", "two", -1)
    assert [d.id for d in session.strip("kick").chain] == ["two", "one"]
    session = edits.duplicate_device(session, "kick", "two")
    assert [d.kind for d in session.strip("kick").chain] == ["compressor", "compressor", "eq"]
    assert len({d.id for d in session.strip("kick").chain}) == 3
    session = edits.remove_device(session, "kick", "two")
    assert [d.kind for d in session.strip("kick").chain] == ["compressor", "eq"]


def test_a_device_is_checked_when_it_is_changed():
    with pytest.raises(ParameterError, match="ratio must be between 1 and 40"):
        edits.change_device(DEMO, "bass", "compressor", ratio=90.0)
    changed = edits.change_device(DEMO, "bass", "compressor", ratio=8.0, on=False)
    assert changed.strip("bass").device("compressor").params["ratio"] == 8.0
    assert not changed.strip("bass").device("compressor").on


def test_removing_a_track_lets_its_listeners_hear_themselves():
    session = edits.insert_device(DEMO, "bass", device("compressor", "duck", key="kick"))
    session = edits.remove_track(session, "kick")
    assert session.strip("bass").device("duck").key is None
    assert Session.model_validate(session.model_dump()) == session


def test_sections_that_go_take_their_parts_along():
    left = [s for s in DEMO.song.sections if s.id != "chorus"]
    session = edits.change_sections(DEMO, left)
    assert all(p.section != "chorus" for p in session.track("kick").parts)
    clips = edits.change_sections(CLIPS, [s for s in CLIPS.song.sections if s.id != "chorus"])
    assert clips.track("loop").parts == (Part(section="verse"),)


@pytest.mark.parametrize(
    ("broken", "words"),
    [
        ({"tracks": (DEMO.tracks[0], DEMO.tracks[0])}, "two tracks or buses are called 'kick'"),
        ({"buses": ()}, "goes to bus 'drums', which does not exist"),
    ],
)
def test_a_session_that_does_not_hold_together_is_refused(broken, words):
    with pytest.raises(ValueError, match=words):
        Session.model_validate({**DEMO.model_dump(), **{k: [v.model_dump() for v in t] for k, t in broken.items()}})


def test_a_session_without_the_clips_it_plays_is_refused():
    with pytest.raises(ValueError, match="plays clip"):
        Session.model_validate({**CLIPS.model_dump(), "assets": []})


# --- parameters ---------------------------------------------------------------------------------------------------

FREQ = frequency("freq_hz", "Frequency", 1000.0, "x.")
TIME = number("time_ms", "Time", "ms", 1.0, 2000.0, 100.0, "x.", scale="log")
GAIN = level("gain_db", "Gain", -24.0, 24.0, 0.0, "x.")


@given(st.floats(0, 1), st.sampled_from([FREQ, TIME, GAIN]))
def test_position_and_value_are_a_pair(position, param: Param):
    assert param.position_of(param.value_at(position)) == pytest.approx(position, abs=1e-9)


@pytest.mark.parametrize(
    ("param", "text", "value"),
    [
        (FREQ, "250", 250.0),
        (FREQ, "2.5k", 2500.0),
        (FREQ, "A#2", 116.5409),
        (TIME, "1/8d", 375.0),
        (TIME, "20 ms", 20.0),
        (GAIN, "−3", -3.0),
        (GAIN, "-3 dB", -3.0),
        (GAIN, "1,5", 1.5),
    ],
)
def test_numbers_as_people_type_them(param, text, value):
    assert param.parse(text, bpm=120.0) == pytest.approx(value, rel=1e-5)


@pytest.mark.parametrize(("param", "text"), [(GAIN, "loud"), (GAIN, "99"), (FREQ, "H2"), (TIME, "1/0")])
def test_what_cannot_be_a_value_is_refused(param, text):
    with pytest.raises(ParameterError):
        param.parse(text, bpm=120.0)


@given(st.floats(-24, 24))
def test_a_shown_level_can_be_typed_again(value):
    assert GAIN.parse(GAIN.format(value), bpm=120) == pytest.approx(value, abs=0.051)


@pytest.mark.parametrize("value", [10**400, -(10**400), 1e308, float("inf"), float("nan")])
def test_a_number_that_is_far_too_large_is_refused(value):
    with pytest.raises(ParameterError, match="must be between"):
        FREQ.check(value, "cutoff_hz")


def test_numbers_have_a_true_minus_and_no_negative_zero():
    assert format_number(-1.44, "dB") == "−1.4 dB"
    assert format_number(-0.01, "dB") == "0.0 dB"
    assert format_number(12345.0, "Hz") == "12.3 kHz"


def test_names_of_new_tracks_are_free(tmp_path):
    project = tone_project(tmp_path, Bass=50.0, Kick=60.0)
    assert [t.id for t in project.session.tracks] == ["bass", "kick"]
