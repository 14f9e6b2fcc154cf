"""Asks every rule about everything it is over."""

from __future__ import annotations

import functools
from collections.abc import Iterable
from dataclasses import replace

from zygotone.advise.findings import RULES, Finding, Rule, Subject
from zygotone.advise.hearing import Hearing
from zygotone.advise.ladder import costs, with_costs
from zygotone.advise.masking import masking_of
from zygotone.advise.on_purpose import marked
from zygotone.dsp.giving_up import IsUnwanted
from zygotone.engine.graph import compile_session
from zygotone.engine.nodes import SourceNode, nodes_below
from zygotone.engine.pipeline import at_once
from zygotone.engine.renderer import Renderer
from zygotone.errors import ParameterError
from zygotone.session.models import Section, Session


def find_in(hearing: Hearing) -> list[Finding]:
    """All findings of one section, the gravest first and those that are meant last, their fixes not yet worked out. A rule is asked again only where what
    it reads has changed.

    Raises
    ------
    Cancelled : nobody waits for them any more.
    """
    hearing.prepare()
    masking_of(hearing).prepare()  # which nearly every rule reads
    rules_of: dict[Subject, list[Rule]] = {}
    for rule in RULES:
        for subject in rule.subjects(hearing.session):
            rules_of.setdefault(subject, []).append(rule)

    def about(subject: Subject) -> list[Finding]:
        return [f for rule in rules_of[subject] for f in asked(hearing, rule, subject)]

    # By subject, since the rules of one read the same facts, and would wait for each other's. The mix, pairs and buses take longest and
    # are begun first.
    mix: Subject = (hearing.session.mix.id,)
    order = [*(each for each in rules_of if each == mix), *(each for each in reversed(rules_of) if each != mix)]
    found = dict(zip(order, at_once([functools.partial(about, subject) for subject in order]), strict=True))
    return _in_order(hearing, (f for subject in rules_of for f in found[subject]))


def find_first(hearing: Hearing) -> list[Finding]:
    """What the rules find that are asked first; for it only few tracks are rendered. As ``find_in``, which asks them all.

    Raises
    ------
    Cancelled : nobody waits for them any more.
    """
    found = [
        f
        for rule in RULES
        if rule.first
        for subject in rule.subjects(hearing.session)
        for f in asked(hearing, rule, subject)
    ]
    return _in_order(hearing, found)


def _in_order(hearing: Hearing, found: Iterable[Finding]) -> list[Finding]:
    all_of_them = (marked(hearing.session, f) for f in found)
    return sorted(all_of_them, key=lambda f: (f.on_purpose is not None, -f.severity))


def asked(hearing: Hearing, rule: Rule, subject: Subject) -> tuple[Finding, ...]:
    about = rule.asked_about(hearing, subject)
    return hearing.fact(
        f"finding {rule.name}", about, lambda: tuple(replace(f, subject=subject) for f in rule.find(hearing, subject))
    )


def find_all(session: Session, renderer: Renderer, sections: Iterable[Section] | None = None) -> list[Finding]:
    """Findings of the song: one for each rule and set of tracks, from the section where it is gravest."""
    sections = tuple(sections if sections is not None else session.song.sections)
    graph = compile_session(session)
    strips = [graph.strip[s.id] for s in session.strips() if not s.mute]
    renderer.make_sources([n for n in nodes_below(strips) if isinstance(n, SourceNode)], session)
    # Side by side, the longest first: none waits for another, and the short ones fill what is left at the end.
    order = sorted(sections, key=lambda section: -section.bars)
    found = at_once([functools.partial(find_in, Hearing.of(graph, section, renderer)) for section in order])
    found_in = dict(zip((section.id for section in order), found, strict=True))
    worst: dict[tuple[str, tuple[str, ...], tuple[str, ...]], Finding] = {}
    for section in sections:
        for finding in found_in[section.id]:
            key = (finding.rule, finding.tracks, finding.layers)
            if key not in worst or (finding.on_purpose is None, finding.severity) > (
                worst[key].on_purpose is None,
                worst[key].severity,
            ):
                worst[key] = finding
    return sorted(worst.values(), key=lambda f: (f.on_purpose is not None, -f.severity))


def with_fixes(
    session: Session, renderer: Renderer, finding: Finding, *, cancelled: IsUnwanted = lambda: False
) -> Finding:
    """The finding with its fixes worked out and measured on its section."""
    hearing = Hearing(session, finding.section, renderer, cancelled)
    return replace(finding, fixes=tuple(with_costs(hearing, f) for f in RULES[finding.rule].fixes(hearing, finding)))


def find_by_id(session: Session, renderer: Renderer, finding_id: str) -> Finding:
    """Raises ParameterError where the session has no such finding."""
    for section in session.song.sections:
        if finding_id.endswith(f".{section.id}"):
            for finding in find_in(Hearing(session, section, renderer)):
                if finding.id == finding_id:
                    return with_fixes(session, renderer, finding)
    known = ", ".join(f.id for f in find_all(session, renderer)) or "none"
    raise ParameterError(f"there is no finding {finding_id!r}; there are: {known}")


def measured_change(
    before: Hearing, after: Hearing, finding: Finding, names: Iterable[str]
) -> dict[str, dict[str, float | None]]:
    """Measures before and after a fix, of two versions over its section: ``{name: {before, after, change}}``."""
    numbers, names = RULES[finding.rule].numbers, tuple(names)
    old, new = (numbers(hearing, finding.tracks, finding.layers) for hearing in (before, after))
    if {"lost_lu", "mix_change_lu"} & set(names):
        for name, value in costs(before, after).items():
            old.setdefault(name, 0.0)
            new.setdefault(name, value)
    if "bass_lufs" in old and "bass_lufs" in new:
        old["bass_lost_lu"], new["bass_lost_lu"] = 0.0, old["bass_lufs"] - new["bass_lufs"]
    return {
        name: {
            "before": old.get(name),
            "after": new.get(name),
            "change": new[name] - old[name] if name in old and name in new else None,
        }
        for name in names
    }
