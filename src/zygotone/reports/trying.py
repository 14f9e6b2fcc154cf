"""One fix tried and kept, without a window."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from zygotone.advise.advisor import find_by_id, measured_change
from zygotone.advise.hearing import Hearing
from zygotone.engine.bench import Bench
from zygotone.engine.renderer import Renderer
from zygotone.errors import ParameterError
from zygotone.session.history import LogEntry
from zygotone.session.project_file import Project


def try_and_keep(project: Project, finding_id: str, number: int) -> tuple[Project, dict[str, Any]]:
    """The project with fix ``number`` (from 1) kept and logged, and a report of promise against measurement.

    Raises
    ------
    ParameterError : there is no such finding or fix, or the fix does not apply.
    """
    finding = find_by_id(project.session, Renderer.to_judge(project.store), finding_id)
    if not 1 <= number <= len(finding.fixes):
        raise ParameterError(f"finding {finding_id} has fixes 1 to {len(finding.fixes)}, not {number}")
    fix = finding.fixes[number - 1]
    if not fix.applies or fix.session is None:
        raise ParameterError(f"fix {number}, {fix.label.lower()}, does not apply: {fix.why_not}")
    bench = Bench(project.session, log=project.log, trial=project.trial, second=project.second)
    found = LogEntry(
        number=0, time="", action="found", title=finding.sentence, tracks=finding.tracks, section=finding.section.id,
        stage=finding.stage, finding=finding.id, readings=finding.readings(),
    )  # fmt: skip
    bench.try_out(finding.trial(number), found=found)
    bench.keep()
    # Rendered afresh: what was promised was heard by another renderer.
    before = Hearing(project.session, finding.section, Renderer.to_judge(project.store))
    measured = measured_change(before, before.with_session(bench.kept), finding, {**fix.gain, **fix.cost})
    report = {
        "finding": finding.id,
        "fix": number,
        "label": fix.label,
        "detail": fix.detail,
        "promised": {name: round(value, 3) for name, value in (fix.gain | fix.cost).items()},
        "measured": {
            name: {k: None if v is None else round(v, 3) for k, v in values.items()}
            for name, values in measured.items()
        },
    }
    return replace(project, session=bench.kept, log=bench.log, trial=None), report
