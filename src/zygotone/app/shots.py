"""Pictures of the main views, from the demo: ``python -m zygotone.app.shots FOLDER [NAME...]``."""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QApplication, QDialog

from zygotone.app.bouncing import bounce
from zygotone.app.help import show_keys
from zygotone.app.main import make_application, make_window
from zygotone.app.stages.base import StageWidget
from zygotone.app.stages.chains import ChainsStage
from zygotone.app.stages.fit import FitStage
from zygotone.app.stages.library import LibraryDialog
from zygotone.app.stages.sounds import SoundsStage
from zygotone.app.theme import theme
from zygotone.app.window import Window
from zygotone.demo import build_demo
from zygotone.plain_files import passing_folder
from zygotone.reports.bounce_in_place import BounceSpec
from zygotone.session.edits import change_device
from zygotone.session.models import KeyInput

WAIT_S = 300.0  # 24 stems of four minutes take one to be measured, on a quick machine


def scratch_settings() -> QSettings:
    """Settings and folders that are nobody's own."""
    folder = Path(tempfile.mkdtemp())
    made = QSettings(str(folder / "settings.ini"), QSettings.Format.IniFormat)
    made.setValue("data_folder", str(folder / "data"))
    made.setValue("cache_folder", str(folder / "cache"))
    return made


def settle(window: Window, ready: Callable[[], bool] = lambda: True) -> None:
    """Run the event loop until the background work is done and ``ready`` holds."""
    end = time.monotonic() + WAIT_S
    quiet = 0
    while time.monotonic() < end:
        QApplication.processEvents()
        time.sleep(0.02)
        waiting = not (window.desk.measuring.settled and window.desk.listening.worker.idle)
        quiet = 0 if waiting or not ready() else quiet + 1
        if quiet > 8:
            return
    raise TimeoutError("the window did not settle")


_S = TypeVar("_S", bound=StageWidget)


def _stage(window: Window, key: str, kind: type[_S]) -> _S:
    stage = window.stages[key]
    assert isinstance(stage, kind)
    return stage


def _fixes_are_there(window: Window) -> bool:
    finding = _stage(window, "fit", FitStage).finding
    return finding is not None and bool(finding.fixes)


def _fit_views(window: Window, shot: Callable[[str], None]) -> None:
    """The map, a pair, and one against all; then the low end again, with its ladder."""
    fit = _stage(window, "fit", FitStage)
    first = fit.finding
    fit.show_view("map")
    settle(window)
    shot("fit-map")
    for rule, name in (("part_covered", "fit-pair"), ("lead_covered", "fit-one")):
        found = next(f for f in window.desk.measuring.findings or () if f.rule == rule)
        window.act_on(found)
        settle(window, lambda: _fixes_are_there(window))
        shot(name)
    assert first is not None
    window.act_on(first)
    settle(window, lambda: _fixes_are_there(window))


def take(folder: Path, only: list[str]) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    make_application()
    settings = scratch_settings()
    settings.setValue("theme", "paper")
    window = make_window(build_demo(), settings=settings)
    window.resize(1280, 800)
    window.show()
    window.desk.start()
    desk = window.desk

    def shot(name: str) -> None:
        if only and name not in only:
            return
        QApplication.processEvents()
        window.grab().save(str(folder / f"{name}.png"))

    settle(window, lambda: _fixes_are_there(window))
    shot("fit")
    _fit_views(window, shot)
    window.show_stage("brief")
    settle(window)
    shot("brief")
    desk.selection.track("bass")
    window.show_stage("chains")
    settle(window)
    shot("chains-eq")
    desk.selection.device("compressor")
    settle(window)
    shot("chains-compressor")
    desk.selection.track("guitar-l")
    desk.selection.device("saturation")
    settle(window)
    shot("chains-saturation")
    _new_devices(window, shot)
    _sounds(window, shot, folder, only)
    window.show_stage("fit")
    _stage(window, "fit", FitStage).try_rung(4)
    desk.selection.track("bass")
    settle(window)
    window.show_stage("chains")
    desk.selection.device(desk.session.track("bass").chain[-1].id)
    settle(window)
    shot("chains-trial")
    theme().prefer("night")
    window.show_stage("fit")
    settle(window)
    shot("fit-trial-night")
    theme().prefer("paper")
    assert window.margin._reason is not None
    window.margin._reason.setText("the kick speaks, the bass line stays whole")
    window.margin.keep()
    settle(window)
    window.show_stage("log")
    settle(window)
    shot("log")
    show_keys(window)
    QApplication.processEvents()
    if not only or "keys" in only:
        dialog = window.findChild(QDialog, "help.keys.dialog")
        assert dialog is not None
        dialog.grab().save(str(folder / "keys.png"))
    desk.files.saved_changes = desk.bench.changes  # nothing here is worth a question about saving
    window.close()


def _sounds(window: Window, shot: Callable[[str], None], folder: Path, only: list[str]) -> None:
    window.desk.selection.track("keys")
    window.show_stage("sounds")
    settle(window)
    shot("sounds")
    _stage(window, "sounds", SoundsStage).show_tab("Notes")
    settle(window)
    shot("sounds-notes")
    _stage(window, "sounds", SoundsStage).show_tab("Source")
    _audio(window, shot)
    dialog = LibraryDialog(_stage(window, "sounds", SoundsStage))
    dialog.show()
    dialog.table.selectRow(0)
    QApplication.processEvents()
    if not only or "library" in only:
        dialog.grab().save(str(folder / "library.png"))
    dialog.close()


def _audio(window: Window, shot: Callable[[str], None]) -> None:
    """A bounce of the keys, cut and faded for a picture, and taken out again."""
    desk, clips = window.desk, _stage(window, "sounds", SoundsStage).clips
    bounce(desk, BounceSpec("keys", desk.selection.section.id))
    settle(window, lambda: desk.selection.track_id != "keys")
    clips.view.caret = desk.song.beats_of(desk.selection.section.id)[0] + 16.0
    clips.split()
    clips.set("Fade", fade_in_ms=600.0, gain_db=-3.0)
    settle(window)
    shot("sounds-audio")
    while desk.bench.undo_label is not None:
        desk.bench.undo()
    desk.selection.track("keys")
    settle(window)


def _new_devices(window: Window, shot: Callable[[str], None]) -> None:
    """Devices and lanes that the demo has not, put in for a picture and taken out again."""
    desk, chains = window.desk, _stage(window, "chains", ChainsStage)
    desk.selection.track("space")
    settle(window)
    shot("chains-reverb")
    before = desk.bench.changes
    desk.selection.track("pad")
    chains.add_device("ducker")
    desk.edit("Key", lambda s: change_device(s, "pad", "ducker", key=KeyInput(track="kick")))
    settle(window)
    shot("chains-ducker")
    chains.add_device("filter")
    chains.lanes.add_lane("filter", "cutoff_hz")
    for beat, hz in ((0.0, 20000.0), (8.0, 600.0), (24.0, 9000.0)):
        chains.lanes.plot.pressed.emit(beat, hz)
        chains.lanes.plot.released.emit()
    settle(window)
    inner = chains.lanes
    QApplication.processEvents()
    chains.scroller.ensureWidgetVisible(inner.plot)
    shot("chains-automation")
    while desk.bench.changes > before and desk.bench.undo_label is not None:
        desk.bench.undo()
    settle(window)


if __name__ == "__main__":
    with passing_folder():
        take(Path(sys.argv[1]), sys.argv[2:])
