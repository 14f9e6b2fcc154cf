"""Each rule over tracks finds its planted fault, and an arrangement that only comes near it raises nothing at all."""

import pytest

from tests.advise.arrangements import CASES, clean, project_of
from zygotone.advise.advisor import find_in
from zygotone.advise.findings import RULES
from zygotone.advise.hearing import Hearing
from zygotone.engine.renderer import Renderer
from zygotone.session.audio_store import AudioStore
from zygotone.session.held import Held

# Rules that need an instrument's layers have cases in test_layers.py.
OF_LAYERS = {rule.name for rule in RULES if rule.over == "layers"}


STORE = AudioStore()
RENDERER = Renderer(STORE, Held(400 << 20))  # which the process of the tests keeps


def heard(case):
    session = project_of(case, STORE).session
    return Hearing(session, session.song.sections[0], RENDERER)


def test_every_rule_has_a_case():
    assert set(CASES) == {rule.name for rule in RULES} - OF_LAYERS
    assert len(CASES) >= 40


def test_a_clean_arrangement_raises_nothing():
    hearing = heard(clean())
    assert find_in(hearing) == []


@pytest.mark.parametrize("rule", sorted(CASES))
def test_a_planted_fault_is_found(rule):
    case = clean()
    CASES[rule][0](case)
    hearing = heard(case)
    found = {f.rule: f for f in find_in(hearing)}
    assert rule in found, sorted(found)
    finding = found[rule]
    assert 0.0 < finding.severity <= 1.0
    assert finding.sentence
    assert finding.advice
    assert finding.evidence
    assert RULES[rule].reads[0] in finding.evidence


@pytest.mark.parametrize("rule", sorted(CASES))
def test_what_only_comes_near_it_raises_nothing(rule):
    case = clean()
    CASES[rule][1](case)
    hearing = heard(case)
    assert [(f.rule, f.sentence) for f in find_in(hearing)] == []
