"""Who edits, saves and records without a pause is killed at a random moment, and what comes back is compared with what was done.

``python -m tests.killed COUNT SEED`` prints what went wrong, and fails where anything did. A process that has all loaded begins
one for each life, so that a life takes no longer than it lasts.
"""

from __future__ import annotations

import os
import random
import signal
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
from PySide6.QtCore import QCoreApplication, QSettings, QTimer

from zygotone.app.files import empty_project
from zygotone.app.project_files import ProjectFiles
from zygotone.engine.bench import Bench, Edit
from zygotone.engine.coming_take import Block, ComingTake, RecordingPlan
from zygotone.session.audio_files import AudioData
from zygotone.session.edits import change_song, change_strip
from zygotone.session.journal import journal_path
from zygotone.session.models import ClipSource, Session, Track
from zygotone.session.project_file import Project, load_project, save_project

LOST_S = 1.0  # the most that may be lost
_EVERY_MS, _BLOCK = 7, 336


def _begin(folder: Path) -> tuple[QCoreApplication, ProjectFiles]:
    app = QCoreApplication([])
    settings = QSettings(str(folder / "settings.ini"), QSettings.Format.IniFormat)
    settings.setValue("data_folder", str(folder / "data"))
    return app, ProjectFiles(settings)


def live(folder: Path, path: Path | None, seed: int, told: int) -> None:
    """Edits without end; each is told through the pipe once it is made."""
    rng = random.Random(seed)
    app, files = _begin(folder)
    project = load_project(path) if path is not None else empty_project()
    bench = Bench(project.session)
    files.reset(bench, project.store, path, project)
    bench.listen(files.follow)
    number = 0
    coming: ComingTake | None = None
    if rng.random() < 0.5:
        files.takes.mkdir(parents=True, exist_ok=True)
        files.take_begins()
        coming = ComingTake(RecordingPlan(files.takes / "take.wav", 0, 60 * 48000, np.zeros(0)), 48000, 60 * 48000)

    def with_clip(session: Session) -> Session:
        """A clip comes in, which no file holds yet."""
        wave = np.sin(np.arange(2400) * (0.01 + 0.001 * number))[None, :]
        asset = project.store.add(AudioData(wave, 48000, "PCM_24", "WAV"), f"clip {number}", 48000)
        if len(session.tracks) > 8:
            return change_strip(session, session.tracks[0].id, level_db=-float(number % 50))
        track = Track(id=f"clip-{number}", name=f"Clip {number}", source=ClipSource(asset=asset.id))
        return session.replace(assets=(*session.assets, asset), tracks=(*session.tracks, track))

    def work() -> None:
        nonlocal number
        number += 1
        if rng.random() < 0.02:
            bench.apply(Edit("Clip", with_clip))
        bench.apply(Edit("Title", lambda s: change_song(s, title=str(number))))
        if coming is not None:
            here = Block((number - 1) * _BLOCK, 100.0, 0)
            coming.played(here)
            coming.heard(here, np.full((1, _BLOCK), 0.1))
        frames = 0 if coming is None else number * _BLOCK
        os.write(told, f"{number} {frames} {time.monotonic()}\n".encode())
        if path is not None and rng.random() < 0.01:
            files.save(path)

    hand = QTimer(interval=_EVERY_MS)
    hand.timeout.connect(work)
    hand.start()
    app.exec()


def come_back(folder: Path, path: Path | None, told: int) -> None:
    """The next start: what comes back, and what still lies about."""
    _, files = _begin(folder)
    files.tidy()
    found: Project | None
    if path is not None:
        project = load_project(path)
        files.claim(path)
        found = files.recoverable(path, project) or project
        save_project(path, found)
        files.forget_brought_back()
        journal_path(path).unlink(missing_ok=True)
    else:
        left = files.unsaved()
        found = left[1] if left is not None else None
        if found is not None:
            for asset in found.session.assets:
                found.store.audio(asset, 48000)
        if left is not None:
            left[0].end()
    files.tidy()
    lying = [
        str(p.relative_to(folder))
        for p in folder.rglob("*")
        # The settings, and the lock that their library takes away at its next write, are not ours.
        if p.is_file()
        and not p.name.startswith("settings.ini")
        and p.suffix != ".zygotone"
        and p.parent.name != "locks"
    ]
    title, frames = 0, 0
    if found is not None:
        title = found.session.song.title
        clips = {asset.id: asset.frames for asset in found.session.assets}
        frames = sum(clips[t.source.asset] for t in found.session.tracks if t.name == "Take")
    os.write(told, f"{title}|{frames}|{';'.join(lying)}\n".encode())


def _forked(work, *arguments) -> tuple[int, int]:
    """A process that does ``work``, and the pipe by which it tells."""
    hear, tell = os.pipe()
    pid = os.fork()
    if pid == 0:
        os.close(hear)
        try:
            work(*arguments, tell)
        except BaseException as problem:
            os.write(2, f"{work.__name__}: {problem!r}\n".encode())
        os._exit(0)
    os.close(tell)
    return pid, hear


def one_life(folder: Path, seed: int) -> str:
    """What went wrong; nothing is an empty text."""
    rng = random.Random(seed)
    path = None
    if rng.random() < 0.6:
        path = folder / "song.zygotone"
        save_project(path, empty_project())
    pid, hear = _forked(live, folder, path, seed)
    lived = rng.uniform(0.15, 2.2)
    time.sleep(lived)
    os.kill(pid, signal.SIGKILL)
    killed = time.monotonic()
    os.waitpid(pid, 0)
    with os.fdopen(hear, "rb") as f:
        done = [(int(n), int(frames), float(at)) for n, frames, at in (line.split() for line in f.read().splitlines())]
    pid, hear = _forked(come_back, folder, path)
    os.waitpid(pid, 0)
    with os.fdopen(hear, "rb") as f:
        title, frames, lying = (f.read().decode().strip() or "|0|").split("|", 2)
    due, due_frames = max(((n, frames) for n, frames, at in done if at < killed - LOST_S), default=(0, 0))
    came = int(title) if title.isdigit() else 0
    problems = []
    if lived > 1.0 and len(done) < 10:
        problems.append("hardly anything was done")
    if not title:
        problems.append("did not come back")
    if came < due:
        problems.append(f"edit {due} was over a second old, but {came} came back")
    if int(frames) < due_frames:
        problems.append(f"{due_frames} frames of a take were over a second old, but {frames} came back")
    if lying:
        problems.append(f"left: {lying}")
    return ", ".join(problems)


def main(count: int, seed: int) -> int:
    wrong = 0
    for n in range(count):
        with tempfile.TemporaryDirectory(prefix="killed-") as folder:
            if problem := one_life(Path(folder), seed + n):
                wrong += 1
                print(f"life {seed + n}: {problem}")
    print(f"{count} killed, {wrong} with losses")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main(int(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 1))
