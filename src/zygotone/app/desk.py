"""Between the bench and the window: the project's file, the selection, and what is measured in the background.

Views read from here and listen; they change the session only through ``edit`` and the trial's own actions.
"""

from __future__ import annotations

import math
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import platformdirs
from PySide6.QtCore import QObject, QSettings, QTimer, Signal

from zygotone.advise.advisor import find_in, with_fixes
from zygotone.advise.findings import RULES, Context, Finding, evidence_readings
from zygotone.advise.views import heard_at
from zygotone.app.audio import SimulatedOutput, Transport
from zygotone.app.key_player import KeyPlayer
from zygotone.app.work import Cancel, Worker
from zygotone.dsp.levels import gain_to_db
from zygotone.dsp.types import Stereo
from zygotone.engine.graph import compile_session
from zygotone.engine.renderer import Renderer
from zygotone.engine.stream import Player, Version
from zygotone.errors import ZygotoneError, one_line
from zygotone.measure.loudness import integrated_lufs, true_peak
from zygotone.session.audio_store import AudioStore
from zygotone.session.bench import Bench, LogEntry, Reading
from zygotone.session.edits import only
from zygotone.session.journal import end_journal, recover, write_journal
from zygotone.session.models import Section, Session, walk
from zygotone.session.project_file import Project, assets_needed, load_project, save_project

MAX_RECENT = 8


@dataclass(frozen=True)
class MixNumbers:
    """Loudness and true peak of the loop."""

    lufs: float
    dbtp: float


@dataclass(frozen=True)
class Match:
    """Both versions measured, and the gains that make them equally loud; the louder one is turned down."""

    a: MixNumbers
    b: MixNumbers | None
    a_gain_db: float = 0.0
    b_gain_db: float = 0.0


class Desk(QObject):
    session_changed = Signal()  # any change of the bench
    selection_changed = Signal()
    loop_changed = Signal()
    match_changed = Signal()
    findings_changed = Signal()
    stems_changed = Signal()
    heard_changed = Signal()
    file_changed = Signal()
    message = Signal(str)
    stage_wanted = Signal(str)

    def __init__(self, project: Project, path: Path | None = None, *, settings: QSettings | None = None) -> None:
        super().__init__()
        self.settings = settings or QSettings("zygotone", "zygotone")
        # What is played must not wait for what is measured, so each has a thread.
        self.worker, self.play_worker = Worker(), Worker()
        for each in (self.worker, self.play_worker):
            each.failed.connect(self.message)
        self._edit_timer = QTimer(self, singleShot=True, interval=60)
        self._edit_timer.timeout.connect(self._measure)
        self._journal_timer = QTimer(self, singleShot=True, interval=1500)
        self._journal_timer.timeout.connect(self.write_journal)
        self.transport: Transport | None = None
        self.output = SimulatedOutput()
        self.keys = KeyPlayer(self)
        self._open(project, path)

    # --- projects ------------------------------------------------------------------------------------------

    def _open(self, project: Project, path: Path | None) -> None:
        if self.transport is not None:
            self.keys.release_all()
            output = self.transport.output
            self.transport.stop()
        else:
            output = self.output
        self.path = path
        self.bench = Bench(project.session, log=project.log, trial=project.trial)
        self.bench.listen(self._on_bench)
        self.store: AudioStore = project.store
        self.renderer = Renderer(self.store)
        self.player = Player(self.renderer, project.session.rate_hz)
        self.transport = Transport(self.player, output)
        self.saved_changes = self.bench.changes
        self._saved_log = len(project.log)
        self._unsaved_assets: set[str] | None = None  # clips that the unsaved project's own file holds
        self.saved_at: float | None = time.time() if path else None
        tracks = project.session.tracks
        self.track_id: str = tracks[0].id if tracks else project.session.mix.id
        self.device_id: str | None = None
        self.loop: tuple[str, ...] = (self._busiest_section(project.session).id,)
        self.heard = 0  # 0 is A, 1 is B
        self.alone = False  # whether the selected track is heard alone
        self.match: Match | None = None
        self._live_numbers: tuple[dict[str, float], dict[str, float]] | None = None
        self.findings: tuple[Finding, ...] | None = None
        self.stem_lufs: dict[str, float] = {}
        self._last_session: Session | None = None

    def start(self) -> None:
        """Begin to measure; separate from opening, so that the window is there first."""
        self._on_bench()
        self._apply_loop()
        for signal in (
            self.file_changed,
            self.selection_changed,
            self.loop_changed,
            self.match_changed,
            self.findings_changed,
        ):
            signal.emit()

    @staticmethod
    def _busiest_section(session: Session) -> Section:
        sections = session.song.sections
        return next((s for s in sections if "chorus" in s.name.lower()), max(sections, key=lambda s: s.bars))

    def open_project(self, project: Project, path: Path | None) -> None:
        self._open(project, path)
        if path is not None:
            self._remember(path)
        self.start()

    def open_file(self, path: Path) -> None:
        """Raises BadFileError; what was open stays open then."""
        self.open_project(load_project(path), path)

    def recoverable(self, path: Path, project: Project) -> Project | None:
        found = recover(path, project)
        if found is not None and (found.session, found.trial, found.log) != (
            project.session,
            project.trial,
            project.log,
        ):
            return found
        return None

    @property
    def dirty(self) -> bool:
        return self.bench.changes != self.saved_changes

    @property
    def project(self) -> Project:
        return Project(self.bench.kept, self.bench.log, self.bench.trial, self.store)

    def save(self, path: Path | None = None) -> None:
        """Raises BadFileError; the file that was there before is untouched then."""
        target = path or self.path
        assert target is not None
        save_project(target, self.project)
        if self.path is not None and self.path != target:
            end_journal(self.path)
        if self.path is None:
            self.forget_unsaved()
        self.path = target
        end_journal(target)
        self._journal_timer.stop()
        self.saved_changes, self._saved_log, self.saved_at = self.bench.changes, len(self.bench.log), time.time()
        self._remember(target)
        self.file_changed.emit()

    def _journal_base(self) -> Path:
        """Beside the project; for one without a file, in the application's own folder."""
        if self.path is not None:
            return self.path
        return self.data_folder / "unsaved.zygotone"

    @property
    def data_folder(self) -> Path:
        """The application's own folder: what is unsaved, and the library."""
        folder = Path(self.settings.value("data_folder") or platformdirs.user_data_dir("zygotone"))
        folder.mkdir(parents=True, exist_ok=True)
        return folder

    def write_journal(self) -> None:
        if not self.dirty:
            return
        base = self._journal_base()
        try:
            if self.path is None:
                # Nothing holds the clips yet: the whole project is written, but only when its clips have changed.
                assets = assets_needed(self.bench.kept, self.bench.log, self.bench.trial)
                if self._unsaved_assets != set(assets):
                    save_project(base, self.project)
                    end_journal(base)
                    self._unsaved_assets, self._saved_log = set(assets), len(self.bench.log)
                    return
            write_journal(base, self.project, saved_log=self._saved_log)
        except (ZygotoneError, OSError) as error:
            self.message.emit(f"The journal could not be written: {error}")

    def forget_unsaved(self) -> None:
        end_journal(self._journal_base())
        self._journal_base().unlink(missing_ok=True)
        self._unsaved_assets = None

    def unsaved(self) -> Path | None:
        """What an earlier run left that was never saved to a file."""
        base = self._journal_base()
        return base if self.path is None and base.exists() else None

    def discard_unsaved(self) -> None:
        """What is not saved is not wanted: leave nothing to recover."""
        self._journal_timer.stop()
        if self.path is not None:
            end_journal(self.path)
        else:
            self.forget_unsaved()

    def _remember(self, path: Path) -> None:
        recent = [str(path.resolve()), *(p for p in self.recent() if p != str(path.resolve()))]
        self.settings.setValue("recent", recent[:MAX_RECENT])

    def recent(self) -> list[str]:
        value = self.settings.value("recent") or []
        return [value] if isinstance(value, str) else list(value)

    def close(self) -> None:
        self.alone = False  # nothing is begun anew as the stage goes
        self._edit_timer.stop()
        self._journal_timer.stop()
        if self.transport is not None:
            self.transport.stop()
        self.worker.close()
        self.play_worker.close()

    # --- the session ---------------------------------------------------------------------------------------

    @property
    def session(self) -> Session:
        return self.bench.session

    @property
    def song(self) -> Any:
        return self.session.song

    def edit(self, label: str, change: Callable[[Session], Session], *, merge_key: object = None) -> bool:
        """Whether the edit was possible; if not, a message says why and nothing changed."""
        try:
            before = self.bench.session
            after = change(before)
            if after is not before:
                compile_session(after)  # refuses a loop before it is anybody's
            self.bench.edit(label, lambda _: after, merge_key=merge_key)
        except (ZygotoneError, ValueError) as error:
            self.message.emit(one_line(error))
            return False
        return True

    def _on_bench(self) -> None:
        session = self.session
        ids = {s.id for s in session.strips()}
        if self.track_id not in ids:
            self.track_id = session.tracks[0].id if session.tracks else session.mix.id
            self.device_id = None
        strip = session.strip(self.track_id)
        if self.device_id not in {path for path, _ in walk(strip.chain)}:
            self.device_id = strip.chain[0].id if strip.chain else None
        sections = {s.id for s in session.song.sections}
        if not all(s in sections for s in self.loop):
            self.loop = (self._busiest_section(session).id,)
        self._apply_loop()  # another tempo or length moves it
        if self.bench.trial is None and self.heard == 1:
            self.heard = 0
            self.player.choose(0)
            self.heard_changed.emit()
        self._play_versions()  # before anything is drawn: the ear is to hear an edit at once
        self.session_changed.emit()
        self._edit_timer.start()
        if self.dirty:
            self._journal_timer.start()
        self.file_changed.emit()

    def _play_versions(self) -> None:
        """Hand the versions to the player; where a source has to be rendered first, in the background."""
        match = self.match
        a = Version(self.as_heard(self.bench.kept), match.a_gain_db if match else 0.0)
        trial = self.bench.trial
        b_gain_db = match.b_gain_db if match and match.b else a.gain_db
        b = Version(self.as_heard(trial.session), b_gain_db) if trial else None
        player = self.player
        if player.set_versions(a, b, wait=False):
            return

        def prepare(cancel: Cancel) -> None:
            player.set_versions(a, b)

        self.play_worker.submit("play", prepare, lambda _: None, urgency=0)

    def hear_alone(self, alone: bool) -> None:
        """Hear the selected track alone, or in the mix; nothing of the session changes."""
        if alone != self.alone:
            self.alone = alone
            self._on_other_heard()

    def as_heard(self, session: Session) -> Session:
        """A version as it is played: with the selected track alone, if wanted."""
        known = {strip.id for strip in session.strips()} - {session.mix.id}
        return only(session, self.track_id) if self.alone and self.track_id in known else session

    def _on_other_heard(self) -> None:
        self._play_versions()
        self.heard_changed.emit()
        self._edit_timer.start()  # what is heard is level-matched

    # --- selection -----------------------------------------------------------------------------------------

    def select_track(self, track_id: str) -> None:
        if track_id == self.track_id:
            return
        self.track_id = track_id
        chain = self.session.strip(track_id).chain
        self.device_id = chain[0].id if chain else None
        self.selection_changed.emit()
        if self.alone:
            self._on_other_heard()

    def select_device(self, device_id: str | None) -> None:
        if device_id != self.device_id:
            self.device_id = device_id
            self.selection_changed.emit()

    def set_loop(self, section_ids: tuple[str, ...]) -> None:
        self.loop = section_ids
        self._apply_loop()
        self.findings = None
        self.match = None
        self.stem_lufs = {}
        self.loop_changed.emit()
        self.findings_changed.emit()
        self._edit_timer.start()

    @property
    def section(self) -> Section:
        """The section that is measured: the first of the loop."""
        return self.song.section(self.loop[0])

    def loop_span(self) -> tuple[int, int]:
        """Frames from the first looped section's start to the last one's end."""
        spans = [self.renderer.span_of(self.session, self.song.section(s)) for s in self.loop]
        return min(s for s, _ in spans), max(e for _, e in spans)

    def _apply_loop(self) -> None:
        self.player.set_loop(*self.loop_span())

    # --- playing -------------------------------------------------------------------------------------------

    @property
    def playing(self) -> bool:
        """Whether the song plays; notes played by hand are heard without it."""
        return self.transport.playing and self.player.rolling

    def wake_for_notes(self) -> None:
        if not self.transport.playing:
            self.player.rolling = False
            self.transport.play()
            if self.transport.error:
                self.message.emit(self.transport.error)

    def toggle_play(self) -> None:
        if self.playing:
            self.transport.stop()
        else:
            self.player.rolling = True
            self.transport.play()
            if self.transport.error:
                self.message.emit(self.transport.error)
        self.heard_changed.emit()

    def hear(self, index: int) -> None:
        if self.bench.trial is None:
            index = 0
        if index != self.heard:
            self.heard = index
            self.player.choose(index)
            self.heard_changed.emit()

    def swap(self) -> None:
        if self.bench.trial is None:
            self.message.emit("A and B are the same while nothing is on trial.")
            return
        self.hear(1 - self.heard)

    # --- trials --------------------------------------------------------------------------------------------

    def try_fix(self, finding: Finding, number: int) -> None:
        found = LogEntry(
            number=0, time="", action="found", title=finding.sentence, tracks=finding.tracks, section=finding.section.id,
            stage=finding.stage, finding=finding.id,
            readings=evidence_readings(finding),
        )  # fmt: skip
        self.match = self._live_numbers = None
        self.bench.try_out(finding.trial(number), stage=finding.stage, found=found)
        self.hear(1)

    def readings_now(self) -> tuple[Reading, ...] | None:
        """The trial's readings with the mix as it is measured now."""
        trial = self.bench.trial
        if trial is None:
            return None
        live = self._live_numbers
        if live is not None:
            # Edits by hand belong to the trial, so its numbers are those of B as it is now, not as it was promised.
            a, b = live
            readings = tuple(
                r.replace(before=a.get(r.name, r.before), after=b.get(r.name, r.after)) for r in trial.readings
            )
            trial = trial.replace(readings=readings)
        if self.match is None or self.match.b is None:
            return trial.readings
        mix = Reading(name="mix_dbtp", label="Mix peak", unit="dBTP", before=self.match.a.dbtp, after=self.match.b.dbtp)
        return (*(r for r in trial.readings if r.name != "mix_dbtp"), mix)

    def keep(self, reason: str = "") -> None:
        if self.bench.trial is not None:
            self.bench.keep(reason, self.readings_now())

    def drop(self, reason: str = "") -> None:
        if self.bench.trial is not None:
            self.bench.drop(reason, self.readings_now())

    # --- measuring -----------------------------------------------------------------------------------------

    def context(self, session: Session, cancel: Cancel) -> Context:
        return Context(session, self.section, self.renderer, cancel)

    def _measure(self) -> None:
        """After a change: level match first, then the findings, then the tracks' levels."""
        kept, trial = self.bench.kept, self.bench.trial
        section, span = self.section, self.loop_span()
        renderer = self.renderer
        heard = [self.as_heard(session) for session in ([kept] if trial is None else [kept, trial.session])]

        def match(cancel: Cancel) -> Match:
            def rendered(session: Session) -> Stereo:
                graph = compile_session(session)
                return renderer.take(graph, graph.mix, span, cancelled=cancel).audio

            def numbers(session: Session) -> MixNumbers:
                audio = rendered(session)
                peak = float(gain_to_db(true_peak(audio, session.rate_hz)))
                return MixNumbers(integrated_lufs(audio, session.rate_hz), peak)

            a = numbers(kept)
            if trial is None:
                return Match(a, None)
            b = numbers(trial.session)
            before, after = a.lufs, b.lufs
            if heard[0] is not kept:  # alone: then that is what has to be equally loud
                before, after = (integrated_lufs(rendered(s), s.rate_hz) for s in heard)
            gap = after - before if math.isfinite(after) and math.isfinite(before) else 0.0
            # The louder one comes down: nothing ever gets louder than its own version is.
            return Match(a, b, a_gain_db=min(0.0, gap), b_gain_db=min(0.0, -gap))

        self.worker.submit("level match", match, self._on_match, urgency=2)
        self._measure_trial()
        session = self.session

        def find(cancel: Cancel) -> tuple[Finding, ...]:
            return tuple(find_in(Context(session, section, renderer, cancel)))

        self.worker.submit("findings", find, self._on_findings, urgency=6)

        def levels(cancel: Cancel) -> dict[str, float]:
            context = Context(session, section, renderer, cancel)
            return {s.id: heard_at(context, context.graph.strip[s.id]).lufs for s in session.strips()}

        self.worker.submit("levels", levels, self._on_levels, urgency=7)

    def _measure_trial(self) -> None:
        """The numbers a trial is judged by, of A and of B as they are now."""
        kept, trial = self.bench.kept, self.bench.trial
        if trial is None or trial.rule not in RULES:
            self._live_numbers = None
            return
        numbers = RULES[trial.rule].numbers
        section = next((s for s in self.song.sections if s.id == trial.section), self.section)

        def measure(cancel: Cancel) -> tuple[dict[str, float], dict[str, float]]:
            a, b = (Context(s, section, self.renderer, cancel) for s in (kept, trial.session))
            return numbers(a, trial.tracks, trial.layers), numbers(b, trial.tracks, trial.layers)

        def measured(both: tuple[dict[str, float], dict[str, float]]) -> None:
            self._live_numbers = both
            self.match_changed.emit()

        self.worker.submit("trial numbers", measure, measured, urgency=4)

    def _on_match(self, match: Match) -> None:
        self.match = match
        self._play_versions()
        self.match_changed.emit()

    def _on_findings(self, findings: tuple[Finding, ...]) -> None:
        self.findings = findings
        self.findings_changed.emit()

    def _on_levels(self, levels: dict[str, float]) -> None:
        self.stem_lufs = levels
        self.stems_changed.emit()

    def work_out(self, finding: Finding, done: Callable[[Finding], None]) -> None:
        """The fixes of a finding, measured against the kept version; anew if that changes meanwhile."""
        kept, renderer = self.bench.kept, self.renderer
        bare = replace(finding, fixes=())

        def deliver(worked_out: Finding) -> None:
            if self.bench.kept != kept:
                self.work_out(finding, done)
            else:
                done(worked_out)

        self.worker.submit(
            f"fixes {finding.id}", lambda cancel: with_fixes(kept, renderer, bare, cancelled=cancel), deliver, urgency=5
        )
