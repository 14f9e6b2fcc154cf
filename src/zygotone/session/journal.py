"""The journal beside a project: what happened since the last save, so that a crash loses next to nothing.

One line a change: ``{"session": …, "trial": …, "log": [new entries]}``. Saving the project ends the journal.
Only the newest complete line counts; a line that a crash cut in half is passed over.
"""

from __future__ import annotations

import json
import os
from dataclasses import replace
from pathlib import Path

from zygotone.errors import BadFileError
from zygotone.session.bench import LogEntry
from zygotone.session.project_file import Project, assets_needed, parse_model, parse_session, session_json

# Past this the journal is begun anew with only its newest line.
_MAX_BYTES = 32 << 20


def journal_path(project: Path) -> Path:
    return project.with_name(project.name + ".journal")


def write_journal(path: Path, project: Project, *, saved_log: int) -> None:
    """Append the present state. ``saved_log`` is how many log entries the project file holds already."""
    line = json.loads(session_json(project.session, project.trial))
    line["saved_log"] = saved_log
    line["log"] = [e.model_dump(mode="json", exclude_none=True) for e in project.log[saved_log:]]
    target = journal_path(path)
    fresh = target.exists() and target.stat().st_size > _MAX_BYTES
    with open(target, "wb" if fresh else "ab") as f:
        f.write(json.dumps(line, ensure_ascii=False).encode() + b"\n")
        f.flush()
        os.fsync(f.fileno())


def end_journal(path: Path) -> None:
    journal_path(path).unlink(missing_ok=True)


def recover(path: Path, saved: Project) -> Project | None:
    """The state of the newest good line, or None where there is nothing to recover.

    Clips that were added after the last save are in the store only if the caller still has them, so a line
    that needs a clip the file does not hold is passed over for an older one.
    """
    target = journal_path(path)
    if not target.exists():
        return None
    for text in reversed(target.read_bytes().splitlines()):
        try:
            data = json.loads(text)
            session, trial = parse_session(data, target)
            if data["saved_log"] > len(saved.log):
                continue
            new = tuple(parse_model(LogEntry, e, target, "log") for e in data["log"])
        except (BadFileError, ValueError, KeyError, TypeError, RecursionError):
            continue
        log = (*saved.log[: data["saved_log"]], *new)
        if all(asset_id in saved.store for asset_id in assets_needed(session, log, trial)):
            return replace(saved, session=session, trial=trial, log=log)
    return None
