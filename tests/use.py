"""A scripted user and the clock beside it, for ``./run bench``: what holds the window, for how long, and what it costs.

``python -m tests.use SECONDS [demo|stems] [busy]`` prints one line of JSON; with ``busy`` another process takes a whole core.
"""

from __future__ import annotations

import contextlib
import json
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from tests.standstill import Standstill

if TYPE_CHECKING:
    from zygotone.session.project_file import Project

TICK_MS = 5
LOOK_S = 5.0  # how often memory is looked at
# A drop-out is the machine's where it stood still for so long in the half second before: a third of the buffer that is played meanwhile.
_BEFORE_S, _STOOD_S = 0.5, 0.01


def in_use_mib(pid: int | None = None) -> dict[str, float]:
    """Memory of this process and those that it started, by what they are; what they share is counted once."""
    pid = os.getpid() if pid is None else pid
    found: dict[str, float] = {}
    for each in (pid, *_children(pid)):
        with contextlib.suppress(OSError):
            lines = Path(f"/proc/{each}/smaps_rollup").read_text().splitlines()
            words = Path(f"/proc/{each}/cmdline").read_text().split("\0")
            name = next(
                (w.rpartition(".")[2].removesuffix("_process") for w in words if w.endswith("_process")), "window"
            )
            found[name] = (
                found.get(name, 0.0) + next(int(line.split()[1]) for line in lines if line.startswith("Pss:")) / 1024.0
            )
    return found


def peak_mib() -> float:
    """The most memory that this process has had at a time. Not what ``getrusage`` says, which is at first that of who began it."""
    line = next(x for x in Path("/proc/self/status").read_text().splitlines() if x.startswith("VmHWM:"))
    return int(line.split()[1]) / 1024.0


def forget_peak() -> None:
    """From now on it is that of what comes (proc(5), clear_refs)."""
    Path("/proc/self/clear_refs").write_text("5")


def _children(pid: int) -> list[int]:
    tasks = Path(f"/proc/{pid}/task").glob("*/children")
    return [int(child) for task in tasks for child in task.read_text().split()]


def steps(window, rng: random.Random) -> Iterator[Callable[[], object]]:
    """What a person does, without end: looks around, moves things, tries, swaps, keeps or drops, takes back."""
    from zygotone.session.edits import change_device, change_strip

    desk = window.desk
    tracks = [t.id for t in desk.session.tracks]
    pressed, device = next((t.id, d.id) for t in desk.session.tracks for d in t.chain if d.kind == "compressor")
    while True:
        kind = rng.choice(("look", "drag", "drag", "fader", "mute", "trial", "swap", "back", "loop", "device"))
        if kind == "look":
            yield lambda: window.show_stage(rng.choice(list(window.stages)))
            yield lambda: desk.selection.track(rng.choice(tracks))
        elif kind == "drag":
            for n in range(20):
                value = -30.0 + n
                yield lambda v=value: desk.edit(
                    "Threshold", lambda s: change_device(s, pressed, device, threshold_db=v), merge_key="drag"
                )
            yield desk.end_merge
        elif kind == "fader":
            track = rng.choice(tracks)
            for n in range(15):
                value = -20.0 + n
                yield lambda v=value, t=track: desk.edit(
                    "Level", lambda s: change_strip(s, t, level_db=v), merge_key="fader"
                )
            yield desk.end_merge
        elif kind == "mute":
            track = rng.choice(tracks)
            for _ in range(2):
                yield lambda t=track: desk.edit("Mute", lambda s: change_strip(s, t, mute=not s.track(t).mute))
        elif kind == "trial":
            yield lambda: window.show_stage("fit")
            yield lambda: window.stages["fit"].try_rung(rng.randint(1, 5))
            for _ in range(4):
                yield desk.listening.swap
            yield desk.drop
        elif kind == "swap":
            yield desk.listening.swap
        elif kind == "back":
            for _ in range(3):
                yield desk.bench.undo
            yield desk.bench.redo
        elif kind == "loop":
            yield lambda: desk.selection.set_loop((rng.choice(desk.song.sections).id,))
        else:
            yield lambda: window.show_stage("chains")
            yield lambda: window.stages["chains"].toggle()


def stems() -> Project:
    """24 stems of four minutes, as another program would give them: noise with a beat, each of its own."""
    import soundfile

    from zygotone.advise.new_project import project_from_stems
    from zygotone.session.edits import change_song, insert_device, new_device
    from zygotone.session.models import Section

    folder, rate, rng = Path(tempfile.mkdtemp()), 48000, np.random.default_rng(9)
    names = ("Kick", "Snare", "Hats", "Bass", "Sub", "Guitar L", "Guitar R", "Lead", "Keys", "Pad", "Voice")
    time_s = np.arange(240 * rate) / rate
    paths = []
    for n in range(24):
        paths.append(folder / f"{names[n % len(names)]}{'' if n < len(names) else f' {n}'}.wav")
        beat = 0.1 * np.exp(-8.0 * (time_s * (1 + n % 4) % 1.0))
        tone = np.sin(2.0 * np.pi * 55.0 * (1 + n) * time_s)
        noise = np.roll(np.resize(rng.standard_normal(rate), len(time_s)), n)
        soundfile.write(paths[-1], np.stack([beat * tone, beat * (tone + 0.2 * noise)], axis=1), rate, subtype="PCM_16")
    project = project_from_stems(paths, tempo_bpm=120.0)
    sections = tuple(Section(id=f"part-{n}", name=f"Part {n}", bars=8) for n in range(1, 16))
    project.session = change_song(project.session, sections=sections)
    for track in project.session.tracks:
        for kind in ("compressor", "eq"):
            session = project.session
            project.session = insert_device(session, track.id, new_device(session.track(track.id), kind), 0)
    return project


def use(project: Project, seconds: float) -> dict[str, float]:
    """In the window, playing: holds of the event loop in ms, drop-outs as the application counts them and what the clock says
    was not played, memory at the start, the mean of each minute (or half) and the most, and how long the machine itself stood still.

    ``own`` are holds less what the machine stood still in them, as long as it would have taken at its fastest of this time, and drop-outs
    before which it did not stand still; ``there_s`` is how long it was so that one would have counted."""
    from PySide6.QtCore import QTimer
    from PySide6.QtWidgets import QApplication

    from zygotone.app.main import make_application, make_window, settle_down
    from zygotone.app.shots import scratch_settings, settle

    make_application()
    window = make_window(project, settings=scratch_settings())
    window.resize(1280, 800)
    window.show()
    window.desk.start()
    settle(window)
    settle_down(window)
    beats: list[float] = []

    clock = QTimer(interval=TICK_MS)
    clock.timeout.connect(lambda: beats.append(time.monotonic()))
    script = steps(window, random.Random(11))
    hand = QTimer(interval=33)
    hand.timeout.connect(lambda: next(script)())
    window.desk.listening.toggle_play()
    first = sum(in_use_mib().values())
    clock.start()
    hand.start()
    transport = window.desk.listening.transport
    while transport.played_s < 0.5:
        QApplication.processEvents()
    with Standstill() as machine:
        begun, played = time.monotonic(), transport.played_s
        end, looks = time.monotonic() + seconds, list[float]()
        broke, told = (
            list[tuple[float, float, int]](),
            transport.drop_outs,
        )  # seen before, seen, and how many drop-outs between
        seen = time.monotonic()
        while time.monotonic() < end:
            QApplication.processEvents()
            time.sleep(0.001)
            seen_before, seen = seen, time.monotonic()
            if transport.drop_outs != told:
                broke.append((seen_before, seen, transport.drop_outs - told))
                told = transport.drop_outs
            if time.monotonic() > end - seconds + (len(looks) + 1) * LOOK_S:
                looks.append(sum(in_use_mib().values()))
        missing_ms = 1000.0 * (time.monotonic() - begun - (transport.played_s - played))
    memory = in_use_mib()
    begins, ends = np.array(beats[:-1]), np.array(beats[1:])
    gaps = 1000.0 * (ends - begins) - TICK_MS
    own_gaps = 1000.0 * machine.at_its_fastest(np.minimum(begins + 0.001 * TICK_MS, ends), ends)
    moments = np.arange(begun + _BEFORE_S, end, _BEFORE_S)
    a_minute = max(1, round(min(60.0, seconds / 2) / LOOK_S))
    minutes = [float(np.mean(looks[at : at + a_minute])) for at in range(0, len(looks) - a_minute + 1, a_minute)]
    found = {
        "longest_ms": max(gaps), "p99_ms": float(np.percentile(gaps, 99)), "over_100_ms": int(np.sum(gaps > 100.0)),
        "own_longest_ms": max(own_gaps), "own_p99_ms": float(np.percentile(own_gaps, 99)), "own_over_100_ms": int(np.sum(own_gaps > 100.0)),
        "own_drop_outs": sum(n for before, seen, n in broke if machine.between(before - _BEFORE_S, seen) < _STOOD_S),
        "there_s": _BEFORE_S * int(np.sum(machine.between(moments - _BEFORE_S, moments) < _STOOD_S)),
        "drop_outs": transport.drop_outs, "missing_ms": missing_ms, "first_mib": first, "most_mib": max(looks), "least_minute_mib": min(minutes[1:]), "most_minute_mib": max(minutes[1:]),
        **{f"{name}_mib": mib for name, mib in memory.items()}, **{f"minute_{n}_mib": mib for n, mib in enumerate(minutes, 1)},
        **machine.found,
        "restarts": window.desk.listening.player.restarts,
    }  # fmt: skip
    window.desk.listening.stop()
    return found


def begun_anew() -> dict[str, float]:
    """Seconds from when the player is killed, and from when it hangs, until the demo sounds again."""
    from zygotone.demo import build_demo
    from zygotone.engine.graph import compile_session
    from zygotone.engine.remote import RemotePlayer
    from zygotone.engine.renderer import Renderer
    from zygotone.engine.standby import Standby
    from zygotone.engine.stream import Version
    from zygotone.session.mapped import MappedCache

    project, standby = build_demo(), Standby()
    renderer = Renderer(project.store, project.store.held, mapped=MappedCache(Path(tempfile.mkdtemp())))
    player = RemotePlayer(renderer, project.session.rate_hz, standby=standby)

    def until(done: Callable[[], bool]) -> float:
        start = time.perf_counter()
        while not done():
            player.look_after()  # as often as the window does
            standby.look_after()
            time.sleep(0.03)
        return time.perf_counter() - start

    def sounds() -> bool:
        return player.played_s > played + 0.05 and float(np.max(player.peak)) > 0.001

    player.set_versions(Version(compile_session(project.session)), None)
    player.set_loop(*project.session.section_span("chorus"))
    player.play()
    found, played = dict[str, float](), 0.0
    for how in (signal.SIGKILL, signal.SIGSTOP):
        until(lambda: sounds() and standby.ready)
        os.kill(player.pid, how)
        restarts = player.restarts
        waited_s = until(lambda restarts=restarts: player.restarts > restarts)
        played = player.played_s
        found[how.name] = waited_s + until(sounds)
    player.close()
    standby.close()
    return found


def hold_of_an_edit() -> float:
    """ms that an edit of one note, and of one fader, holds the window with 60 tracks of 1000 notes; the longer median."""
    from zygotone.demo import build_demo
    from zygotone.engine.bench import Bench, Edit
    from zygotone.session.edits import change_strip, put_phrase
    from zygotone.session.models import InstrumentSource, Note, Part, Phrase, Section, Session, Song, Track

    layers = build_demo().session.track("bass").source.layers
    rng = np.random.default_rng(5)

    def track(n: int) -> Track:
        notes = tuple(
            Note(start_beat=float(b), length_beats=0.5, pitch=int(p))
            for b, p in zip(np.sort(rng.uniform(0, 64, 1000)), rng.integers(30, 80, 1000), strict=True)
        )
        source = InstrumentSource(layers=layers, phrases=(Phrase(id="p", beats=64, notes=notes),))
        return Track(id=f"t{n}", name=f"T{n}", source=source, parts=(Part(section="a", phrase="p"),))

    song = Song(sections=(Section(id="a", name="A", bars=16),))
    bench = Bench(Session(song=song, tracks=tuple(map(track, range(60)))))

    def median(change: Callable[[int], Edit]) -> float:
        times = []
        for n in range(15):
            edit = change(n)
            start = time.perf_counter()
            bench.apply(edit)
            times.append(1000.0 * (time.perf_counter() - start))
        return float(np.median(times))

    def note(n: int) -> Edit:
        def moved(session: Session) -> Session:
            phrase = session.track("t30").source.phrases[0]
            notes = (phrase.notes[0].replace(start_beat=0.01 * n), *phrase.notes[1:])
            return put_phrase(session, "t30", phrase.replace(notes=notes))

        return Edit("Move note", moved)

    return max(median(note), median(lambda n: Edit("Level", lambda s: change_strip(s, "t30", level_db=-float(n)))))


def opening_a_large_file() -> tuple[float, float]:
    """Seconds to open 200 tracks of 1000 notes with 300 kept decisions, and MiB of the file."""
    from zygotone.demo import build_demo
    from zygotone.engine.bench import Bench
    from zygotone.session.edits import change_strip
    from zygotone.session.history import Trial
    from zygotone.session.models import InstrumentSource, Note, Part, Phrase, Section, Session, Song, Track
    from zygotone.session.project_file import Project, load_project, save_project

    layers = build_demo().session.track("bass").source.layers
    rng = np.random.default_rng(7)

    def track(n: int) -> Track:
        places = zip(
            np.sort(rng.uniform(0, 64, 1000)), rng.integers(30, 80, 1000), rng.uniform(0, 1, 1000), strict=True
        )
        notes = tuple(
            Note(start_beat=float(b), length_beats=0.5, pitch=int(p), velocity=float(v)) for b, p, v in places
        )
        source = InstrumentSource(layers=layers, phrases=(Phrase(id="p", beats=64, notes=notes),))
        return Track(id=f"t{n}", name=f"T{n}", source=source, parts=(Part(section="a", phrase="p"),))

    song = Song(sections=(Section(id="a", name="A", bars=16),))
    bench = Bench(Session(song=song, tracks=tuple(map(track, range(200)))))
    for n in range(300):
        bench.try_out(Trial(session=change_strip(bench.session, f"t{n % 200}", level_db=-n / 10), title=f"{n}"))
        bench.keep()
    path = Path(tempfile.mkdtemp()) / "large.zygotone"
    save_project(path, Project(bench.kept, bench.log))
    start = time.perf_counter()
    loaded = load_project(path)
    seconds = time.perf_counter() - start
    assert (loaded.session, loaded.log) == (bench.kept, bench.log)
    return seconds, path.stat().st_size / 2**20


def judging() -> dict[str, float]:
    """Seconds to judge all sections of the demo from nothing, ms to judge the chorus again after an edit of one track with as much
    held as the application's measurer holds, one edit after the other, and the longest ms from findings being unwanted to their
    being given up, of 24 random moments."""
    import threading

    from zygotone.advise.advisor import find_all, find_in
    from zygotone.advise.hearing import Hearing
    from zygotone.app.desk import MEASURED_BYTES
    from zygotone.demo import build_demo
    from zygotone.dsp.giving_up import Cancelled
    from zygotone.engine.graph import compile_session
    from zygotone.engine.renderer import Renderer
    from zygotone.session.edits import change_strip
    from zygotone.session.held import Held
    from zygotone.session.laid_aside import LaidAside
    from zygotone.session.mapped import MappedCache

    project = build_demo()
    session = project.session
    graph, chorus = compile_session(session), session.song.section("chorus")
    find_in(Hearing.of(graph, chorus, Renderer(project.store)))  # everything loaded
    start = time.perf_counter()
    find_all(session, Renderer(project.store))
    whole = time.perf_counter() - start
    # As in the application, where what instruments play, and what there is no room for, lies in files that are mapped.
    mapped = MappedCache(Path(tempfile.mkdtemp()))
    held = Held(MEASURED_BYTES, LaidAside(mapped.folder))
    renderer = Renderer(project.store, held, mapped=mapped)
    find_in(Hearing.of(graph, chorus, renderer))
    again, edited = [], graph
    for n, track in enumerate(t.id for t in session.tracks):
        edited = compile_session(change_strip(edited.session, track, level_db=-9.0 - n), edited)
        renderer.recent.forget()
        start = time.perf_counter()
        find_in(Hearing.of(edited, chorus, renderer))
        again.append(1000.0 * (time.perf_counter() - start))
    rng, late = random.Random(3), []
    for _ in range(24):
        stop, done = threading.Event(), threading.Event()
        hearing = Hearing.of(graph, chorus, Renderer(project.store), stop.is_set)

        def work(hearing=hearing, done=done) -> None:
            with contextlib.suppress(Cancelled):
                find_in(hearing)
            done.set()

        threading.Thread(target=work).start()
        time.sleep(rng.uniform(0.05, 2.5))
        start = time.perf_counter()
        over = done.is_set()
        stop.set()
        done.wait()
        if not over:
            late.append(1000.0 * (time.perf_counter() - start))
    return {"all_s": whole, "again_ms": float(np.median(again)), "given_up_ms": max(late)}


def main(arguments: list[str]) -> None:
    from zygotone.demo import build_demo
    from zygotone.plain_files import passing_folder

    with contextlib.ExitStack() as stack:
        stack.enter_context(passing_folder())  # gigabytes, of stems
        project = stems() if "stems" in arguments else build_demo()
        if "busy" in arguments:
            other = stack.enter_context(subprocess.Popen([sys.executable, "-c", "while True: pass"]))
            stack.callback(other.kill)
        print(json.dumps(use(project, float(arguments[0]))), flush=True)


if __name__ == "__main__":
    main(sys.argv[1:])
    os._exit(0)
