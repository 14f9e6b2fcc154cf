"""A section or the whole song settled and kept, without a window."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from zygotone.advise.hearing import Hearing
from zygotone.advise.settling import Limits, Progress, settle, settle_song
from zygotone.engine.bench import Bench
from zygotone.engine.renderer import Renderer
from zygotone.session.history import Trial
from zygotone.session.project_file import Project


def settle_and_keep(
    project: Project, section_name: str | None, limits: Limits, *, whole: bool = False, progress: Progress = lambda share, words: None
) -> tuple[Project, dict[str, Any]]:  # fmt: skip
    """The project with the best trial kept and logged, and a report of all of them. ``whole``: of all sections.

    Raises
    ------
    ParameterError : there is no such section.
    """
    song = project.session.song
    section = song.section(section_name) if section_name is not None else song.sections[0]
    search = settle_song if whole else settle
    trials = search(Hearing(project.session, section, Renderer.to_judge(project.store)), limits, progress=progress)
    name = "the song" if whole else section.name
    report: dict[str, Any] = {
        "section": None if whole else section.name,
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
            title=f"Settle {name}: {best.title.lower()}",
            section=section.id,
            readings=best.readings(),
        )
    )
    bench.keep()
    return replace(project, session=bench.kept, log=bench.log, trial=None), report
