"""Where producers disagree the Brief chooses: what comes first in ladders, and what a search tries first."""

import itertools

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.advise.arrangements import CASES, clean, project_of
from zygotone.advise.advisor import find_in
from zygotone.advise.findings import RULES
from zygotone.advise.hearing import Hearing
from zygotone.advise.schools import in_order
from zygotone.engine.renderer import Renderer
from zygotone.session.differences import differences
from zygotone.session.schools import SCHOOLS, Schools

CHOICES = [Schools(room=room, cut=cut) for room, cut in itertools.product(("carve", "duck"), ("drawn", "moving"))]
ORDERS = {
    ("carve", "drawn"): ["carve", "moving cut", "duck"],
    ("carve", "moving"): ["moving cut", "carve", "duck"],
    ("duck", "drawn"): ["duck", "carve", "moving cut"],
    ("duck", "moving"): ["duck", "moving cut", "carve"],
}


@pytest.fixture(scope="module")
def clash():
    case = clean()
    CASES["kick_bass_clash"][0](case)
    project = project_of(case)
    return project.session, Renderer(project.store)


def ladder(session, renderer, rule="kick_bass_clash"):
    hearing = Hearing(session, session.song.sections[0], renderer)
    finding = next(f for f in find_in(hearing) if f.rule == rule)
    return list(RULES[rule].each_fix(hearing, finding))


@given(st.lists(st.sampled_from(["level first", "carve", "moving cut", "duck", "place"])), st.sampled_from(CHOICES))
def test_schools_only_change_places_among_what_they_are_about(names, schools):
    rungs = list(enumerate(names))
    ordered = in_order(schools, rungs, lambda rung: rung[1])
    assert sorted(ordered) == rungs  # none is lost or doubled
    about = {"carve", "moving cut", "duck"}
    for before, after in zip(rungs, ordered, strict=True):
        assert (before == after) or {before[1], after[1]} <= about
    order = ORDERS[schools.room, schools.cut]
    moved = [name for _, name in ordered if name in about]
    assert moved == sorted(moved, key=order.index)
    for name in about:  # of two alike the first stays the first
        same = [at for at, each in ordered if each == name]
        assert same == sorted(same)


@pytest.mark.parametrize("schools", CHOICES, ids=lambda s: f"{s.room}-{s.cut}")
def test_the_ladder_of_kick_and_bass_follows_the_school(clash, schools):
    session, renderer = clash
    fixes = ladder(session.replace(schools=schools), renderer)
    assert [f.school for f in fixes][:2] == ["timing first", "timing first"]  # what harms least is no matter of school
    assert [f.school for f in fixes][2:] == ORDERS[schools.room, schools.cut]


def test_a_rung_does_the_same_wherever_it_stands(clash):
    session, renderer = clash
    one, other = (
        {f.label: (f.detail, f.gain) for f in ladder(session.replace(schools=s), renderer)}
        for s in (CHOICES[0], CHOICES[3])
    )
    assert one == other


def test_ladders_of_checks_follow_it_too():
    case = clean()
    rule = "lead_covered"
    CASES[rule][0](case)
    project = project_of(case)
    renderer = Renderer(project.store)
    orders = {}
    for schools in CHOICES:
        schools_of = [f.school for f in ladder(project.session.replace(schools=schools), renderer, rule)]
        orders[schools.room, schools.cut] = [s for s in schools_of if s in ("carve", "moving cut", "duck")]
    for key, found in orders.items():
        assert len(set(found)) > 1
        assert found == sorted(found, key=ORDERS[key].index)


def test_every_choice_is_named_with_its_cost():
    for school in SCHOOLS:
        values = {choice.value for choice in school.choices}
        for schools in CHOICES:
            assert school.chosen(schools).value == getattr(schools, school.name)
        assert values == {getattr(schools, school.name) for schools in CHOICES}
        assert all(choice.cost.endswith(".") for choice in school.choices)


def test_a_school_is_a_difference_that_can_be_brought_back_alone(clash):
    session, _ = clash
    other = session.replace(schools=Schools(room="duck", cut="moving"))
    found = list(differences(session, other))
    assert [d.sentence for d in found] == [
        "To make room: carve first → duck first",
        "To cut: a drawn curve first → a moving cut first",
    ]
    assert found[0].take(session).schools == Schools(room="duck")
