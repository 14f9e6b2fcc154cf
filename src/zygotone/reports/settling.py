"""A section settled and kept, without a window."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from zygotone.advise.hearing import Hearing
from zygotone.advise.settling import Limits, Progress, settle
from zygotone.engine.bench import Bench
from zygotone.engine.renderer import Renderer
from zygotone.session.history import Trial
from zygotone.session.project_file import Project


def settle_and_keep(
    project: Project, section_name: str | None, limits: Limits, *, progress: Progress = lambda share, words: None
) -> tuple[Project, dict[str, Any]]:
    """The project with the best trial kept and logged, and a report of all of them.

    Raises
    ------
    ParameterError : there is no such section.
    """
    song = project.session.song
    section = song.section(section_name) if section_name is not None else song.sections[0]
    trials = settle(Hearing(project.session, section, Renderer(project.store)), limits, progress=progress)
    report: dict[str, Any] = {
        "section": section.name,
        "trials": [trial.to_json(trial.session) for trial in trials],
        "kept": trials[0].title if trials else None,
    }
    if not trials:
        return project, report
    best = trials[0]
    bench = Bench(project.session, log=project.log, second=project.second)
    bench.try_out(
        Trial(
            session=best.session,
            title=f"Settle {section.name}: {best.title.lower()}",
            section=section.id,
            readings=best.readings(),
        )
    )
    bench.keep()
    return replace(project, session=bench.kept, log=bench.log, trial=None), report
