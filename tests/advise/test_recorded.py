"""The judgement on recorded instruments: a clean arrangement is left alone, and what is done to it is found."""

import pytest

from tests.advise.recorded import MIX, mixed
from zygotone.advise.advisor import find_in
from zygotone.advise.hearing import Hearing
from zygotone.engine.renderer import Renderer
from zygotone.session.audio_store import AudioStore
from zygotone.session.held import Held

# What is measured of a track that was left as it is is remembered from test to test.
STORE = AudioStore()
RENDERER = Renderer(STORE, Held(400 << 20))  # which the process of the tests keeps


def found_in(changes=None):
    session = mixed(changes or {}, STORE).session
    return find_in(Hearing(session, session.song.sections[0], RENDERER))


def otherwise(name, **values):
    role, seat, lufs, pan, low_cut = MIX[name]
    new = {"lufs": lufs, "pan": pan, "low_cut": low_cut} | values
    return {name: (role, seat, new["lufs"], new["pan"], new["low_cut"])}


def test_a_clean_arrangement_raises_next_to_nothing():
    found = found_in()
    assert len(found) <= 2, [f.sentence for f in found]
    assert all(f.strength == "slight" for f in found), [(f.strength, f.sentence) for f in found]


@pytest.mark.parametrize("name", list(MIX))
@pytest.mark.parametrize("by_db", [-1.5, 1.5])
def test_neither_does_one_that_is_mixed_a_little_otherwise(name, by_db):
    found = found_in(otherwise(name, lufs=MIX[name][2] + by_db))
    assert len(found) <= 2, [f.sentence for f in found]
    assert all(f.strength == "slight" for f in found), [(f.strength, f.sentence) for f in found]


@pytest.mark.parametrize(
    ("changes", "rules", "track"),
    [
        (otherwise("Lead", lufs=-36.0), {"lead_covered", "too_soft", "nobody_hears"}, "lead"),
        (otherwise("Hats", lufs=-16.0), {"top_too_bright", "too_loud", "drums_over_all", "covers_all"}, "hats"),
        (otherwise("Guitar", lufs=-19.0, pan=100.0), {"leans", "leans_in_band", "too_loud"}, "guitar"),
        (otherwise("Strings", lufs=-15.0), {"too_loud", "covers_all", "lead_covered", "part_covered"}, "strings"),
        (otherwise("Bass", lufs=-14.0), {"kick_bass_clash", "too_loud", "covers_all"}, "bass"),
    ],
    ids=["soft lead", "loud hats", "guitar to one side", "loud strings", "loud bass"],
)
def test_what_is_done_to_it_is_found(changes, rules, track):
    found = found_in(changes)
    about = [f for f in found if f.rule in rules and track in f.tracks]
    assert about, [(f.rule, f.sentence) for f in found]
    assert any(track in f.tracks for f in found[:3]), [f.sentence for f in found[:3]]  # among the gravest
