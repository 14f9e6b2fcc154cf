"""The whole song settled: what is promised is there in a fresh render, within limits, and told as it goes."""

import pytest

from tests.builders import pair_project
from zygotone.advise.advisor import find_in
from zygotone.advise.hearing import Hearing
from zygotone.advise.settling import Limits, settle_song
from zygotone.dsp.giving_up import Cancelled
from zygotone.engine.renderer import Renderer
from zygotone.session.edits import change_song
from zygotone.session.models import Section
from zygotone.session.project_file import Project


@pytest.fixture(scope="module")
def two(tmp_path_factory) -> Project:
    """A kick and a bass that clash, over two sections."""
    project = pair_project(tmp_path_factory.mktemp("pair"), level=0.5)
    sections = (Section(id="a", name="A", bars=1), Section(id="b", name="B", bars=2))
    return Project(change_song(project.session, sections=sections), store=project.store)


def found_in(project: Project, session) -> dict[str, float]:
    """By a renderer that has heard nothing yet."""
    renderer = Renderer(project.store)
    hearings = [Hearing(session, section, renderer) for section in session.song.sections]
    return {f"{h.section.id} {f.id}": f.severity for h in hearings for f in find_in(h) if f.on_purpose is None}


@pytest.fixture(scope="module")
def settled(two):
    told: list[tuple[float, str]] = []
    hearing = Hearing(two.session, two.session.song.sections[0], Renderer(two.store))
    (made,) = settle_song(hearing, progress=lambda share, words: told.append((share, words)))
    return made, told


def test_what_is_left_is_what_is_found_afresh(two, settled):
    made, _ = settled
    before, after = found_in(two, two.session), found_in(two, made.session)
    assert {key.split()[0] for key in before} == {"a", "b"}
    assert made.severity == pytest.approx((sum(before.values()), sum(after.values())), abs=1e-6)
    assert made.severity[1] < 0.5 * made.severity[0]
    assert sorted(f"{f.section.id} {f.id}" for f in made.left) == sorted(after)
    assert made.steps
    assert made.session.song == two.session.song


def test_it_tells_how_far_it_is_and_in_which_section(settled):
    _, told = settled
    shares = [share for share, _ in told]
    assert shares == sorted(shares)
    assert shares[-1] == 1.0
    assert {"Listening to A", "Listening to B"} <= {words for _, words in told}
    assert any(words.startswith(("A: ", "B: ")) for _, words in told)


def test_limits_count_from_where_it_began(two):
    hearing = Hearing(two.session, two.session.song.sections[0], Renderer(two.store))
    for made in settle_song(hearing, Limits(most_devices=0, ducking=False)):
        assert sum(len(s.chain) for s in made.session.strips()) <= sum(len(s.chain) for s in two.session.strips())
    everything = tuple(s.id for s in two.session.strips())
    assert settle_song(hearing, Limits(untouched=everything)) == []


def test_it_is_given_up_when_nobody_wants_it(two):
    asked = iter(range(100_000))
    hearing = Hearing(two.session, two.session.song.sections[0], Renderer(two.store), lambda: next(asked) > 50)
    with pytest.raises(Cancelled):
        settle_song(hearing)
    assert next(asked) < 200
