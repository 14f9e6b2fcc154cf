"""The rungs of ladders by what they do to the sound, and that they leave alone what is not theirs."""

import numpy as np
import pytest

from tests.advise import material as m
from tests.advise.arrangements import CASES, clean, project_of
from tests.demo import DEMO, demo_renderer
from tests.signals import RATE
from zygotone.advise import rungs
from zygotone.advise.advisor import find_in, measured_change, with_fixes
from zygotone.advise.hearing import Hearing
from zygotone.advise.ladder import Aim, Rung, costs, work_out, worth
from zygotone.engine.renderer import Renderer
from zygotone.errors import ParameterError
from zygotone.measure.loudness import integrated_lufs
from zygotone.measure.pitch import fundamental_hz
from zygotone.session import edits
from zygotone.session.models import Part, Section


def rms_db(x: np.ndarray) -> float:
    return 10.0 * np.log10(np.mean(x**2) + 1e-15)


def two_sections(case=None):
    """The clean arrangement as two sections of a bar."""
    project = project_of(case or clean())
    sections = (Section(id="one", name="One", bars=1), Section(id="two", name="Two", bars=1))
    tracks = tuple(t.replace(parts=(Part(section="one"), Part(section="two"))) for t in project.session.tracks)
    session = project.session.replace(song=project.session.song.replace(sections=sections), tracks=tracks)
    return session, project.store


def hearing_of(session, store, section=0):
    return Hearing(session, session.song.sections[section], Renderer(store))


def level_of(session, store, track, section):
    return rms_db(hearing_of(session, store, section).stem(track))


def test_level_is_only_in_the_section_and_the_bars_concerned():
    session, store = two_sections()
    made = rungs.level(hearing_of(session, store), session.track("lead"), None).make(-6.0)
    before = [level_of(session, store, "lead", i) for i in range(2)]
    after = [level_of(made, store, "lead", i) for i in range(2)]
    assert after[0] - before[0] == pytest.approx(-6.0, abs=0.05)
    assert after[1] - before[1] == pytest.approx(0.0, abs=0.05)
    project = project_of(clean())
    hearing = hearing_of(project.session, project.store)
    one_bar = rungs.level(hearing, project.session.track("lead"), (1, 1)).make(-6.0)
    change = hearing.with_session(one_bar).stem("lead"), hearing.stem("lead")
    half = change[0].shape[1] // 2
    assert rms_db(change[0][:, : half - RATE // 4]) == pytest.approx(rms_db(change[1][:, : half - RATE // 4]), abs=0.01)
    assert rms_db(change[0][:, half:]) == pytest.approx(rms_db(change[1][:, half:]) - 6.0, abs=0.05)


def test_level_is_refused_where_it_is_automated_already():
    session, store = two_sections()
    hearing = hearing_of(session, store)
    moved = rungs.level(hearing, session.track("lead"), None).make(-3.0)
    again = rungs.level(hearing.with_session(moved), moved.track("lead"), None)
    assert again.make is None
    assert "automated already" in again.why_not


def test_an_octave_is_an_octave_and_only_here():
    session = DEMO.session
    hearing = Hearing(session, session.song.section("Chorus"), demo_renderer())
    made = rungs.octave(hearing, session.track("sub"), 1).make(1.0)
    rate = session.rate_hz
    before, after = (fundamental_hz(h.stem("sub")[:, : 4 * rate], rate) for h in (hearing, hearing.with_session(made)))
    assert after / before == pytest.approx(2.0, rel=0.01)
    other = Hearing(session, session.song.section("Break"), demo_renderer())
    np.testing.assert_array_equal(other.stem("sub"), other.with_session(made).stem("sub"))
    project = project_of(clean())
    refused = rungs.octave(hearing_of(project.session, project.store), project.session.track("lead"), 1)
    assert "is audio" in refused.why_not


def test_an_inversion_moves_only_the_low_notes():
    session = DEMO.session
    hearing = Hearing(session, session.song.section("Chorus"), demo_renderer())
    limit = 170.0
    made = rungs.higher_inversion(hearing, session.track("keys"), limit).make(1.0)
    (old,), (new,) = (s.track("keys").source.phrases for s in (session, made))
    lowest = 69 + 12 * np.log2(limit / 440.0)
    moved = [(a.pitch, b.pitch) for a, b in zip(old.notes, new.notes, strict=True)]
    assert all(b == a + 12 for a, b in moved if a < lowest)
    assert all(b == a for a, b in moved if a >= lowest)
    assert any(a != b for a, b in moved)


def test_a_part_is_left_out_here_and_plays_elsewhere():
    session, store = two_sections()
    made = rungs.drop_part(hearing_of(session, store), session.track("keys")).make(1.0)
    assert level_of(made, store, "keys", 0) < -90.0
    assert level_of(made, store, "keys", 1) == pytest.approx(level_of(session, store, "keys", 1), abs=0.1)


def test_a_dip_opens_only_while_the_other_speaks():
    case = clean()
    case.tracks["Lead"] = ("lead", 1, m.lead() * (m.T < 2.0))
    case.tracks["Guitar"] = ("guitar", 5, m.at_db(m.band(m.pink(7), 300, 6000), -26.0))
    project = project_of(case)
    hearing = hearing_of(project.session, project.store)
    band = (1500.0, 3000.0)
    made = rungs.dip(hearing, project.session.track("guitar"), project.session.track("lead"), band).make(-9.0)
    before, after = (m.band(h.stem("guitar"), 1800, 2500) for h in (hearing, hearing.with_session(made)))
    speaks, silent = slice(RATE // 2, 2 * RATE - RATE // 4), slice(2 * RATE + RATE, 4 * RATE)
    assert rms_db(after[:, speaks]) - rms_db(before[:, speaks]) < -6.0
    assert rms_db(after[:, silent]) - rms_db(before[:, silent]) == pytest.approx(0.0, abs=0.3)


def test_a_duck_takes_all_of_it_while_the_other_speaks():
    case = clean()
    case.tracks["Guitar"] = ("guitar", 5, m.at_db(m.band(m.pink(7), 300, 6000), -26.0))
    project = project_of(case)
    hearing = hearing_of(project.session, project.store)
    made = rungs.duck(hearing, project.session.track("guitar"), project.session.track("lead")).make(-5.0)
    change = rms_db(hearing.with_session(made).stem("guitar")) - rms_db(hearing.stem("guitar"))
    assert -5.1 <= change <= -3.0


def test_what_lifts_it_there_is_taken_out_first():
    session = DEMO.session
    hearing = Hearing(session, session.song.section("Chorus"), demo_renderer())
    (out,) = rungs.boosts_out(hearing, session.strip("guitars"), (2000.0, 4000.0))
    assert out.label == "Take Presence out"
    assert not out.make(1.0).strip("guitars").chain
    assert rungs.boosts_out(hearing, session.strip("guitars"), (60.0, 120.0)) == []


def test_the_smallest_amount_that_does_is_taken():
    project = project_of(clean())
    hearing = hearing_of(project.session, project.store)
    aim = Aim(quantity="loudness_lufs", read=lambda h: h.lufs("lead"), target=hearing.lufs("lead") - 2.5, least=0.1)
    (fix,) = work_out(hearing, aim, [rungs.fader(hearing, project.session.track("lead"), -12.0)], ("lead",))
    assert fix.gain["loudness_lufs"] == pytest.approx(-2.5, abs=0.15)
    assert fix.cost["lost_lu"] == pytest.approx(2.5, abs=0.15)


def test_one_can_go_too_far_and_then_less_is_taken():
    project = project_of(clean())
    hearing = hearing_of(project.session, project.store)
    target = hearing.lufs("lead") - 3.0
    aim = Aim(quantity="loudness_lufs", read=lambda h: abs(h.lufs("lead") - target), target=0.3, least=0.1)

    def make(amount):
        return edits.change_strip(project.session, "lead", level_db=amount)

    rung = Rung(label="x", school="level first", make=make, deepest=-13.0)
    (fix,) = work_out(hearing, aim, [rung], ())
    assert fix.applies
    assert fix.session.track("lead").level_db == pytest.approx(-3.0, abs=0.4)


def test_a_rung_that_does_nothing_or_cannot_be_says_so():
    project = project_of(clean())
    hearing = hearing_of(project.session, project.store)
    aim = Aim(quantity="loudness_lufs", read=lambda h: h.lufs("lead"), target=-60.0, least=0.1)

    def impossible(amount):
        raise ParameterError("there is no room for it")

    listed = [
        Rung(label="nothing", school="", make=lambda a: project.session),
        Rung(label="impossible", school="", make=impossible),
        Rung.refused("refused", "", "it is audio"),
    ]
    nothing, cannot, refused = work_out(hearing, aim, listed, ())
    assert (nothing.applies, nothing.why_not) == (False, "measured, it does not help here")
    assert cannot.why_not == "there is no room for it"
    assert refused.why_not == "it is audio"
    assert worth(nothing) == 0.0


def test_the_loss_of_a_group_is_the_loss_of_its_tracks():
    session = DEMO.session
    hearing = Hearing(session, session.song.section("Chorus"), demo_renderer())
    softer = hearing.with_session(edits.change_strip(session, "guitars", level_db=-4.0))
    assert costs(hearing, softer)["lost_lu"] == pytest.approx(4.0, abs=0.05)
    without = hearing.with_session(edits.change_strip(session, "pad", mute=True))
    assert costs(hearing, without)["lost_lu"] == 60.0
    assert costs(hearing, hearing.with_session(session)) == {"lost_lu": 0.0, "mix_change_lu": 0.0, "pumping_db": 0.0}


@pytest.mark.parametrize(
    "rule",
    ["lead_covered", "part_covered", "pile_up", "tail_over_next", "sub_shared", "harsh", "sibilant", "hit_jumps", "gate_chatters", "leans", "varies"],
)  # fmt: skip
def test_promises_are_kept(rule):
    """Each rung that applies, rendered afresh: within 0.3 dB or LU, and 3 % hidden."""
    case = clean()
    CASES[rule][0](case)
    project = project_of(case)
    renderer = Renderer(project.store)
    hearing = Hearing(project.session, project.session.song.sections[0], renderer)
    finding = next(f for f in find_in(hearing) if f.rule == rule)
    worked = with_fixes(project.session, renderer, finding)
    applied = [fix for fix in worked.fixes if fix.applies]
    assert applied
    afresh = Hearing(project.session, finding.section, Renderer(project.store))
    for fix in applied:
        promised = {**fix.gain, **fix.cost}
        found = measured_change(afresh, afresh.with_session(fix.session), finding, promised)
        for name, value in promised.items():
            room = 0.03 if name.endswith("share") else 0.3
            assert found[name]["change"] == pytest.approx(value, abs=room), (fix.label, name)


@pytest.mark.parametrize("rule", ["kick_bass_clash", "lead_covered", "wide_low", "clips"])
def test_a_fix_says_what_it_costs_every_track(rule):
    """Whatever rule it is of: against the loudness of each track's own render, before and after."""
    case = clean()
    CASES[rule][0](case)
    project = project_of(case)
    hearing = hearing_of(project.session, project.store)
    found = next(f for f in find_in(hearing) if f.rule == rule)
    fixes = [fix for fix in with_fixes(project.session, hearing.renderer, found).fixes if fix.applies]
    assert fixes
    for fix in fixes:
        after = hearing_of(fix.session, project.store)
        for track in project.session.tracks:
            if not hearing.plays(track.id) or not after.plays(track.id):
                continue
            one, other = (integrated_lufs(h.stem(track.id), h.rate_hz) for h in (hearing, after))
            assert fix.losses_lu.get(track.id, 0.0) == pytest.approx(max(0.0, one - other), abs=0.1), (
                fix.label,
                track.id,
            )
        mix = [integrated_lufs(h.stem(h.session.mix.id), h.rate_hz) for h in (hearing, after)]
        assert fix.cost["mix_change_lu"] == pytest.approx(mix[1] - mix[0], abs=0.05)
