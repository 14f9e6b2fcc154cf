"""Asks every rule about every section."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace

from zygotone.advise import clipping, kick_bass, layers, wide_low  # noqa: F401  (each enters its rules)
from zygotone.advise.findings import RULES, Context, Finding
from zygotone.engine.renderer import Renderer
from zygotone.errors import ParameterError
from zygotone.session.audio_store import AudioStore
from zygotone.session.models import Section, Session


def find_in(context: Context) -> list[Finding]:
    """All findings of one section, the gravest first, their fixes not yet worked out."""
    context.stem(
        context.session.mix.id
    )  # all at once is quicker than one after the other; the tracks are kept on the way
    found = [finding for rule in RULES.values() for finding in rule.find(context)]
    return sorted(found, key=lambda f: -f.severity)


def find_all(
    session: Session,
    renderer: Renderer,
    sections: Iterable[Section] | None = None,
    *,
    progress: Callable[[float, str], None] = lambda share, what: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> list[Finding]:
    """Findings of the song: one for each rule and set of tracks, from the section where it is gravest."""
    sections = tuple(sections if sections is not None else session.song.sections)
    worst: dict[tuple[str, tuple[str, ...], tuple[str, ...]], Finding] = {}
    for i, section in enumerate(sections):
        progress(i / len(sections), section.name)
        for finding in find_in(Context(session, section, renderer, cancelled)):
            key = (finding.rule, finding.tracks, finding.layers)
            if key not in worst or finding.severity > worst[key].severity:
                worst[key] = finding
    return sorted(worst.values(), key=lambda f: -f.severity)


def with_fixes(
    session: Session, renderer: Renderer, finding: Finding, *, cancelled: Callable[[], bool] = lambda: False
) -> Finding:
    """The finding with its fixes worked out and measured on its section."""
    context = Context(session, finding.section, renderer, cancelled)
    return replace(finding, fixes=RULES[finding.rule].fixes(context, finding))


def find_by_id(session: Session, renderer: Renderer, finding_id: str) -> Finding:
    """Raises ParameterError where the session has no such finding."""
    for section in session.song.sections:
        if finding_id.endswith(f".{section.id}"):
            for finding in find_in(Context(session, section, renderer)):
                if finding.id == finding_id:
                    return with_fixes(session, renderer, finding)
    known = ", ".join(f.id for f in find_all(session, renderer)) or "none"
    raise ParameterError(f"there is no finding {finding_id!r}; there are: {known}")


def measured_change(
    before: Session, after: Session, store: AudioStore, finding: Finding, names: Iterable[str]
) -> dict[str, dict[str, float | None]]:
    """Measures before and after a fix, each version rendered afresh: ``{name: {before, after, change}}``."""
    numbers = RULES[finding.rule].numbers
    old = numbers(Context(before, finding.section, Renderer(store)), finding.tracks, finding.layers)
    new = numbers(Context(after, finding.section, Renderer(store)), finding.tracks, finding.layers)
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
