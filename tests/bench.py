"""Measures speed and memory and writes docs/performance.md. Run by ``./run bench``; ``./run bench ten-minutes`` measures ten minutes of
use instead, which takes most of an hour. What the page has beside that stays in it.

Where another program does the same work it runs in the same session on the same file, on one core, and the
ratio is what counts; the seconds are this machine's.
"""

from __future__ import annotations

import datetime as dt
import json
import os
import platform
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import soundfile

from tests.use import begun_anew, forget_peak, hold_of_an_edit, judging, opening_a_large_file, peak_mib
from zygotone.plain_files import passing_folder

ROOT = Path(__file__).parent.parent
RATE = 48000
MINUTES = 5
USE_S, LONG_USE_S = 120.0, 600.0  # of the scripted user, each
USES = (("the demo",), ("the demo, another process takes a core", "busy"))
LONG_USES = (*USES, ("24 stems of four minutes", "stems"), ("the same, another process takes a core", "stems", "busy"))
KILLS = 60
ONE_CORE = {**os.environ, "OPENBLAS_NUM_THREADS": "1", "NUMBA_NUM_THREADS": "1"}

EQ = {"kind": "eq", "bands": [{"shape": "low_cut", "freq_hz": 40.0}, {"freq_hz": 250.0, "gain_db": -3.0, "q": 1.0}, {"freq_hz": 3000.0, "gain_db": 2.0, "q": 1.0}, {"shape": "high_shelf", "freq_hz": 9000.0, "gain_db": 2.0}]}  # fmt: skip
COMPRESSOR = {"kind": "compressor", "threshold_db": -20.0, "ratio": 3.0, "attack_ms": 10.0, "release_ms": 120.0}
SATURATION = {"kind": "saturation", "curve": "soft", "drive_db": 6.0, "oversampling": 4}
LIMITER = {"kind": "limiter", "ceiling_dbtp": -1.0}
REVERB = {"kind": "reverb", "space": "hall", "decay_s": 2.0, "mix": 0.3}
DELAY = {"kind": "delay", "time": 375.0, "feedback": 0.4, "mix": 0.3}
FFMPEG = {
    "eq": "highpass=f=40,equalizer=f=250:t=q:w=1:g=-3,equalizer=f=3000:t=q:w=1:g=2,highshelf=f=9000:g=2",
    "compressor": "acompressor=threshold=0.1:ratio=3:attack=10:release=120",
    "saturation": "asoftclip=type=tanh:oversample=4",
    "limiter": "alimiter=limit=0.89:attack=3:release=100",
    "delay": "aecho=0.8:0.9:375|750|1125:0.4|0.16|0.064",
}


def timed(work: Callable[[], object], *, runs: int = 3) -> float:
    """Median seconds."""
    seconds = []
    for _ in range(runs):
        start = time.perf_counter()
        work()
        seconds.append(time.perf_counter() - start)
    return statistics.median(seconds)


def cpu_s(work: Callable[[], object]) -> float:
    """Seconds that processors were at it, in this process and in those that it started: waiting for a disk is nobody's work."""

    def spent() -> float:
        both = [resource.getrusage(who) for who in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN)]
        return sum(used.ru_utime + used.ru_stime for used in both)

    start = spent()
    work()
    return spent() - start


def against_others(folder: Path) -> list[tuple[str, str, str, str]]:
    """Read a file, do the work, write a file: in this process, and by ffmpeg or sox, each on one core, by turns."""
    import soxr

    from zygotone.dsp.types import OFFLINE_BLOCK_FRAMES
    from zygotone.measure.loudness import integrated_lufs
    from zygotone.measure.report import measure_audio
    from zygotone.reports.processing import process_file
    from zygotone.session.audio_files import read_audio, write_audio

    os.sched_setaffinity(0, {0})  # of every thread, and of the programs that are started from here
    rng = np.random.default_rng(4)
    envelope = 0.4 + 0.3 * np.sin(np.arange(RATE * 60 * MINUTES) / RATE * 2.0)
    for name, seed in (("in.wav", 4), ("key.wav", 5)):
        rng = np.random.default_rng(seed)
        audio = (0.2 * rng.standard_normal((2, len(envelope))) * envelope).T
        soundfile.write(folder / name, audio, RATE, subtype="FLOAT")
    source, out = folder / "in.wav", folder / "out.wav"
    made_files = (out, folder / "ff.wav", folder / "sox.wav")

    def chain(*devices: dict[str, object], key: Path | None = None) -> Callable[[], object]:
        file = folder / f"chain{len(list(folder.glob('chain*')))}.json"
        file.write_text(json.dumps({"devices": devices}))
        return lambda: process_file(source, out, file, key=key, block_frames=OFFLINE_BLOCK_FRAMES, subtype=None)

    def ffmpeg(filters: str, *more: str, inputs: tuple[Path, ...] = (source,)) -> Callable[[], object]:
        files = [part for path in inputs for part in ("-i", str(path))]
        how = ["-filter_complex" if len(inputs) > 1 else "-af", filters]
        command = ["ffmpeg", "-y", "-v", "error", "-threads", "1", "-filter_threads", "1", *files, *how, *more, "-c:a", "pcm_f32le", str(folder / "ff.wav")]  # fmt: skip
        return lambda: subprocess.run(command, check=True, env=ONE_CORE)

    def sox(*effects: str) -> Callable[[], object]:
        command = ["sox", "--single-threaded", "-V1", str(source), str(folder / "sox.wav"), *effects]
        return lambda: subprocess.run(command, check=True, env=ONE_CORE)

    def resampled() -> None:
        audio = read_audio(source)
        write_audio(out, soxr.resample(audio.data.T, RATE, 44100, quality="VHQ").T, 44100, subtype="FLOAT")

    def loudness() -> None:
        integrated_lufs(read_audio(source).data, RATE)

    def measured() -> None:
        audio = read_audio(source)
        measure_audio(audio.data, audio.rate_hz)

    keyed = ffmpeg("[0:a][1:a]sidechaincompress=threshold=0.1:ratio=3:attack=10:release=120", inputs=(source, folder / "key.wav"))  # fmt: skip
    jobs = [
        ("EQ, 4 bands", chain(EQ), "ffmpeg", ffmpeg(FFMPEG["eq"])),
        ("Compressor", chain(COMPRESSOR), "ffmpeg", ffmpeg(FFMPEG["compressor"])),
        ("Compressor with a key", chain(COMPRESSOR, key=folder / "key.wav"), "ffmpeg", keyed),
        ("Saturation, 4×", chain(SATURATION), "ffmpeg", ffmpeg(FFMPEG["saturation"])),
        ("Limiter", chain(LIMITER), "ffmpeg", ffmpeg(FFMPEG["limiter"])),
        ("Delay", chain(DELAY), "ffmpeg", ffmpeg(FFMPEG["delay"])),
        ("Reverb", chain(REVERB), "sox", sox("reverb", "50")),
        ("Resampling, 48 to 44.1 kHz", resampled, "sox", sox("rate", "-v", "44100")),
        ("Integrated loudness", loudness, "ffmpeg", ffmpeg("ebur128=framelog=verbose")),
        ("All measures of a file", measured, "ffmpeg, loudness and true peak", ffmpeg("ebur128=peak=true:framelog=verbose")),
        ("EQ, compressor, saturation, limiter", chain(EQ, COMPRESSOR, SATURATION, LIMITER), "ffmpeg", ffmpeg(",".join(FFMPEG[f] for f in ("eq", "compressor", "saturation", "limiter")))),
    ]  # fmt: skip
    rows = []
    for name, mine, other, theirs in jobs:
        ours, others = [], []
        mine()  # kernels are loaded
        for _ in range(4):  # by turns, so that a machine that is slow for a while is so for both
            for work, seconds in ((theirs, others), (mine, ours)):
                for made in made_files:
                    made.unlink(missing_ok=True)  # to put away an old file is no work of theirs either
                seconds.append(cpu_s(work))
        m, t = statistics.mean(ours), statistics.mean(others)
        rows.append((name, f"{m:.2f} s", f"{other} {t:.2f} s", f"{t / m:.2f} ×"))
        print(*rows[-1], sep="   ", flush=True)
    os.sched_setaffinity(0, range(os.cpu_count() or 1))
    return rows


def device_costs() -> list[tuple[str, float]]:
    """µs for 512 frames of stereo noise at 48 kHz, each device with its usual settings or those that make it work."""
    from tests.devices.test_every_device import BUSY
    from zygotone.devices import Host, make_processor
    from zygotone.session.catalogue import DEVICES
    from zygotone.session.models import Device

    rng = np.random.default_rng(1)
    blocks = [np.ascontiguousarray(0.2 * rng.standard_normal((2, 512))) for _ in range(8)]
    rows = []
    for kind in DEVICES:
        if kind.kind == "split":
            continue  # whose parts are other devices
        device = Device.model_validate({"kind": kind.kind, **BUSY.get(kind.kind, {})})
        processor = make_processor(device, Host(RATE))

        def run(processor=processor, key=blocks[0] if kind.takes_key else None) -> None:
            for n in range(200):
                processor.position = 512 * n
                processor.process(blocks[n % 8], key)

        run()
        rows.append((kind.title, 1e6 * timed(run) / 200))
    return rows


def growth() -> list[tuple[str, str]]:
    """Times real time of a render on two cores, by number of tracks, devices a track, and length."""
    from zygotone.engine.graph import compile_session
    from zygotone.engine.renderer import Renderer
    from zygotone.engine.stream import stream_nodes
    from zygotone.session.audio_files import AudioData
    from zygotone.session.audio_store import AudioStore
    from zygotone.session.models import ClipSource, Section, Session, Song, Track
    from zygotone.session.models import Device as D

    store = AudioStore()
    noise = 0.1 * np.random.default_rng(2).standard_normal((2, 10 * RATE))
    asset = store.add(AudioData(noise, RATE, "FLOAT", "WAV"), "noise", RATE)
    kinds = [EQ, COMPRESSOR, {"kind": "transient"}, {"kind": "gain", "gain_db": -1.0}]

    def speed(tracks: int, devices: int, seconds: float) -> str:
        song = Song(tempo_bpm=120.0, sections=(Section(id="s", name="S", bars=max(1, round(seconds / 2))),))
        chain = tuple(D.model_validate({"id": f"d{i}", **kinds[i % 4]}) for i in range(devices))
        made = tuple(
            # A level of its own each, so that no two tracks are one and the same node.
            Track(
                id=f"t{i}", name=f"T{i}", source=ClipSource(asset=asset.id, loop=True, gain_db=-0.01 * i), chain=chain
            )
            for i in range(tracks)
        )
        session = Session(song=song, tracks=made, assets=(asset,))
        renderer, graph = Renderer(store), compile_session(session)
        end = round(seconds * RATE)

        def go() -> None:
            stream_nodes(renderer, graph, {"mix": graph.mix}, (0, end), sink=lambda n, x: None)

        go()
        return f"{seconds / timed(go, runs=1):.0f}"

    return [
        ("1, 4, 16, 64 tracks of 2 devices, 20 s", " · ".join(speed(n, 2, 20.0) for n in (1, 4, 16, 64))),
        ("1, 4, 16 devices on each of 8 tracks, 20 s", " · ".join(speed(8, n, 20.0) for n in (1, 4, 16))),
        ("1, 5, 30 minutes of 4 tracks of 2 devices", " · ".join(speed(4, 2, 60.0 * n) for n in (1, 5, 30))),
    ]


def long_session() -> tuple[float, float]:
    """60 tracks of 5-minute stems: peak memory in MiB of a program that opens and renders it, and times real time."""
    code = (
        "import sys, time, tempfile, pathlib\n"
        "from tests.use import peak_mib\n"
        "import numpy as np\n"
        "from zygotone.session.audio_files import AudioData\n"
        "from zygotone.session.audio_store import AudioStore\n"
        "from zygotone.session.models import *\n"
        "from zygotone.session.project_file import Project, load_project, save_project\n"
        "from zygotone.engine.renderer import Renderer\n"
        "if sys.argv[1] == 'make':\n"
        "    store = AudioStore(); tracks = []; assets = []\n"
        "    for i in range(60):\n"
        "        x = 0.05 * np.random.default_rng(i).standard_normal((2, 300 * 48000)).cumsum(axis=1) % 0.1 - 0.05\n"
        "        a = store.add(AudioData(x, 48000, 'FLOAT', 'WAV'), f'stem {i}', 48000); assets.append(a)\n"
        "        tracks.append(Track(id=f't{i}', name=f'T{i}', source=ClipSource(asset=a.id), level_db=-20.0))\n"
        "    song = Song(tempo_bpm=120.0, sections=(Section(id='s', name='Song', bars=150),))\n"
        "    save_project(sys.argv[2], Project(Session(song=song, tracks=tuple(tracks), assets=tuple(assets)), store=store))\n"
        "else:\n"
        "    p = load_project(sys.argv[2]); t = time.perf_counter()\n"
        "    Renderer(p.store).mix(p.session)\n"
        "    print(peak_mib(), 300 / (time.perf_counter() - t))\n"
    )
    with tempfile.TemporaryDirectory() as folder:
        path = str(Path(folder) / "long.zygotone")
        subprocess.run([sys.executable, "-c", code, "make", path], check=True)
        out = subprocess.run(
            [sys.executable, "-c", code, "open", path], check=True, capture_output=True, text=True
        ).stdout
    memory, speed = map(float, out.split())
    return memory, speed


def demo_speed() -> tuple[float, float]:
    """The whole demo, everything live, block by block: times real time, on two cores; and peak memory in MiB."""
    code = (
        "import time\n"
        "from tests.use import peak_mib\n"
        "from zygotone.demo import build_demo\n"
        "from zygotone.engine.graph import compile_session\n"
        "from zygotone.engine.renderer import Renderer\n"
        "from zygotone.engine.stream import stream_nodes\n"
        "p = build_demo(); s = p.session; g = compile_session(s)\n"
        "def go():\n"
        "    r = Renderer(p.store); t = time.perf_counter()\n"
        "    stream_nodes(r, g, {'mix': g.mix}, s.section_span(None), sink=lambda n, x: None)\n"
        "    return s.song.length_s / (time.perf_counter() - t)\n"
        "go(); print(sorted(go() for _ in range(3))[1], peak_mib())\n"
    )
    out = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
    speed, memory = map(float, out.split())
    return speed, memory


def voices_speed() -> list[tuple[str, float]]:
    """Times real time of 16 voices at once on one core: of an instrument of three layers, and of each source alone."""
    from zygotone.session.catalogue import SOURCES
    from zygotone.session.models import Layer, Lfo, Note
    from zygotone.sources.instrument import render_voices
    from zygotone.sources.voices import Voice

    def layer(kind: str, **more: object) -> Layer:
        sound = {"kind": kind, **more}
        return Layer.model_validate({"id": kind, "name": kind, "sound": sound, "envelope": {"sustain": 1.0}})

    seconds = 5
    voices = [
        Voice(37 * n, seconds * RATE, Note(start_beat=0, length_beats=1, pitch=40 + 3 * n), ((0, 40.0 + 3 * n),))
        for n in range(16)
    ]
    opened = {"filter": {"cutoff_hz": 2000, "envelope_octaves": 2}}
    body = Layer.model_validate({**layer("wavetable", table="ah to ee").model_dump(), **opened})
    air = Layer.model_validate({**layer("oscillator").model_dump(), **opened})
    sets = [("a sine, a table and a saw, two of them filtered", [layer("oscillator", shape="sine"), body, air])]
    sets += [(kind.title, [layer(kind.kind)]) for kind in SOURCES if kind.kind not in ("sample", "drum")]
    os.sched_setaffinity(0, {0})
    rows = []
    for name, layers in sets:

        def run(layers=layers) -> None:
            for each in layers:
                render_voices(
                    each, voices, seconds * RATE, shared=(Lfo(), Lfo()), rate_hz=RATE, bpm=120.0, a4_hz=440.0, automation={},
                    clip=lambda name: np.zeros((2, 1)),
                )  # fmt: skip

        run()
        rows.append((name, seconds / timed(run)))
    os.sched_setaffinity(0, range(os.cpu_count() or 1))
    return rows


def commands_s() -> tuple[float, float]:
    """Seconds of processor time that short commands take, the least of five: a list of the devices, and a second of audio through
    an EQ and a compressor."""

    def least(*arguments: object) -> float:
        command = [sys.executable, "-m", "zygotone", *map(str, arguments)]
        return min(cpu_s(lambda: subprocess.run(command, check=True, capture_output=True)) for _ in range(5))

    with tempfile.TemporaryDirectory() as folder:
        source, chain = Path(folder) / "in.wav", Path(folder) / "chain.json"
        soundfile.write(source, 0.1 * np.random.default_rng(6).standard_normal((RATE, 2)), RATE, subtype="FLOAT")
        chain.write_text(json.dumps({"devices": [EQ, COMPRESSOR]}))
        processed = least("process", source, Path(folder) / "out.wav", "--chain", chain)
    return least("devices", "--json"), processed


def start_time() -> float:
    """From the start of the program to a window that answers, warm; without a screen."""
    code = (
        "from PySide6.QtWidgets import QApplication\n"
        "from zygotone.app.main import make_application, make_window\n"
        "make_application(); w = make_window(); w.show(); QApplication.processEvents(); QApplication.processEvents()\n"
        "import os; os._exit(0)\n"
    )
    return timed(lambda: subprocess.run([sys.executable, "-c", code], check=True, capture_output=True), runs=5)


def opening_the_demo() -> dict[str, float]:
    """Seconds from the command that opens the demo, and then plays, until it is heard, until its first findings are shown, and until all
    of the chorus are; its instruments are rendered, as the set-up does."""
    from PySide6.QtWidgets import QApplication

    from zygotone.app.main import make_application, make_window
    from zygotone.app.shots import scratch_settings
    from zygotone.demo import build_demo
    from zygotone.warm_up import play_ready

    make_application()
    settings = scratch_settings()
    play_ready(build_demo(), Path(str(settings.value("cache_folder"))))
    window = make_window(settings=settings)
    window.show()
    desk = window.desk
    desk.start()
    end = time.monotonic() + 3.0  # the other processes have begun
    while time.monotonic() < end:
        QApplication.processEvents()
        time.sleep(0.005)
    found: dict[str, float] = {}
    start = time.perf_counter()
    window.files.open_demo()
    while len(found) < 4:
        QApplication.processEvents()
        time.sleep(0.005)
        now = time.perf_counter() - start
        if "opened" not in found and desk.song.title == "Slack Tide":
            found["opened"] = now
            desk.listening.toggle_play()
        if "opened" in found and float(np.max(desk.listening.player.peak)) > 1e-3:
            found.setdefault("heard", now)
        if desk.measuring.findings:
            found.setdefault("first", now)
        if desk.measuring.complete and desk.measuring.findings:
            found.setdefault("all", now)
    desk.listening.toggle_play()
    desk.files.saved_changes = desk.bench.changes
    window.close()
    return found


def edit_to_number() -> tuple[float, float, float, int, float]:
    """In the window with the demo: ms from moving a parameter of the bass to its new numbers on the screen, ms
    until the change is in what is played, share of a core that playing takes, drop-outs, and peak memory."""
    from PySide6.QtWidgets import QApplication

    from zygotone.app.main import make_application, make_window
    from zygotone.app.shots import scratch_settings, settle
    from zygotone.demo import build_demo

    forget_peak()
    make_application()
    window = make_window(build_demo(), settings=scratch_settings())
    window.show()
    desk = window.desk
    desk.start()
    desk.selection.track("bass")
    desk.selection.device("compressor")
    window.show_stage("chains")
    settle(window)
    numbers, heard = [], []
    taken = desk.listening.player.set_versions

    def taking(*versions: object, **options: object) -> bool:
        done = taken(*versions, **options)
        heard.append(1000.0 * (time.perf_counter() - start))
        return done

    desk.listening.player.set_versions = taking
    for i in range(9):
        before = window.stages["chains"]._measured
        start = time.perf_counter()
        window.stages["chains"].change("compressor", "Threshold", threshold_db=-20.0 - i)
        while window.stages["chains"]._measured is before:
            QApplication.processEvents()
            time.sleep(0.001)
        numbers.append(1000.0 * (time.perf_counter() - start))
        settle(window)
    heard = heard[::2]  # the first of each pair is the edit, the second the new level match
    desk.listening.toggle_play()
    end = time.monotonic() + 20.0
    while time.monotonic() < end:
        QApplication.processEvents()
        time.sleep(0.005)
    load, drop_outs = desk.listening.transport.load, desk.listening.transport.drop_outs
    desk.listening.toggle_play()
    desk.files.saved_changes = desk.bench.changes
    window.close()
    memory = peak_mib()
    return statistics.median(numbers), statistics.median(heard), load, drop_outs, memory


def used(seconds: float, *how: str) -> dict[str, float]:
    """What ``tests.use`` finds, in a process of its own."""
    command = [sys.executable, "-m", "tests.use", f"{seconds}", *how]
    out = subprocess.run(command, capture_output=True, text=True, check=True, cwd=ROOT).stdout
    found: dict[str, float] = json.loads(out.splitlines()[-1])
    return found


def masking_costs() -> dict[str, float]:
    """Who hides whom: seconds for all pairs of twelve tracks of eight bars on first look, ms after a change of one, MiB held for 24 of
    32 bars; and seconds to settle the demo's chorus."""
    from tests.advise import material as m
    from zygotone.advise.hearing import Hearing
    from zygotone.advise.masking import Masking
    from zygotone.advise.settling import settle
    from zygotone.demo import build_demo
    from zygotone.engine.pipeline import at_once
    from zygotone.engine.renderer import Renderer
    from zygotone.session.audio_files import AudioData
    from zygotone.session.audio_store import AudioStore
    from zygotone.session.edits import change_strip
    from zygotone.session.held import bytes_of
    from zygotone.session.models import ClipSource, Section, Session, Song, Track

    def session(tracks: int, bars: int) -> tuple[Session, AudioStore]:
        song = Song(tempo_bpm=92.0, sections=(Section(id="s", name="S", bars=bars),))
        frames, store, made, assets = round(song.length_s * RATE), AudioStore(), [], []
        for i in range(tracks):
            low = 60.0 * 1.4**i % 6000.0 + 40.0
            audio = np.stack(
                [np.resize(m.at_db(m.band(m.pink(7 * i + side), low, 3.0 * low), -26.0), frames) for side in range(2)]
            )
            asset = store.add(AudioData(audio, RATE, "FLOAT", "WAV"), f"{i}", RATE)
            assets.append(asset)
            made.append(Track(id=f"t{i}", name=f"T {i}", role="other", source=ClipSource(asset=asset.id)))
        return Session(rate_hz=RATE, song=song, tracks=tuple(made), assets=tuple(assets)), store

    def pairs(masking: Masking) -> None:
        ids = [t.id for t in masking.session.tracks]
        at_once([lambda i=i: masking.heard(i) for i in ids])
        at_once([lambda i=i: [masking.hiding(i, j) for j in ids if i != j] for i in ids])

    version, store = session(12, 8)
    renderer = Renderer(store)
    hearing = Hearing(version, version.song.sections[0], renderer)
    for track in version.tracks:  # what is heard is there already; what is measured is the judging
        hearing.stem(track.id)
    pairs(Masking(hearing))  # kernels loaded
    renderer.held = type(renderer.held)()
    for track in version.tracks:
        hearing.stem(track.id)
    first = timed(lambda: pairs(Masking(hearing)), runs=1)
    changed = hearing.with_session(change_strip(version, "t5", level_db=-2.0))
    changed.stem("t5")
    after = timed(lambda: pairs(Masking(changed)), runs=1)
    large, store = session(24, 32)
    renderer = Renderer(store)
    hearing = Hearing(large, large.song.sections[0], renderer)
    held = bytes_of(Masking(hearing).heard("t3")) / 2**20
    demo = build_demo()
    chorus = Hearing(demo.session, demo.session.song.section("Chorus"), Renderer(demo.store))
    started = time.perf_counter()
    settled = settle(chorus)
    return {
        "first_s": first, "after_ms": 1000.0 * after, "mib": 24.0 * held, "settle_s": time.perf_counter() - started,
        "left": settled[0].severity[1],
    }  # fmt: skip


def machine() -> str:
    model = next(
        (line.split(":")[1].strip() for line in Path("/proc/cpuinfo").read_text().splitlines() if "model name" in line),
        platform.machine(),
    )
    return f"{model}, {os.cpu_count()} cores, Python {platform.python_version()}"


def table_of_use(uses: list[tuple[str, dict[str, float]]], *bars: str) -> list[str]:
    return [
        "Behind a semicolon stands what is left without what the machine stood still: drop-outs before which it did not for half a second, "
        "and holds less what it stood in them, as long as they would have been at the fastest that it was in this run; *there* is how long "
        "it did not stand, so that a drop-out would have counted, and *speed* the mean of how fast it was, the fastest of the run being 100 %.",
        "",
        "| what | drop-outs | not played | longest hold of the window | over 100 ms | 99th percentile | memory, means of all minutes "
        "but the first; at most | the machine stood still; there; speed |",
        "|---|---|---|---|---|---|---|---|",
        *(
            f"| {what} | {u['drop_outs']:.0f}; {u['own_drop_outs']:.0f} | {max(0.0, u['missing_ms']):.0f} ms | "
            f"{u['longest_ms']:.0f}; {u['own_longest_ms']:.0f} ms | {u['over_100_ms']:.0f}; {u['own_over_100_ms']:.0f} | "
            f"{u['p99_ms']:.0f}; {u['own_p99_ms']:.0f} ms | {u['least_minute_mib']:.0f} to {u['most_minute_mib']:.0f}; {u['most_mib']:.0f} MiB | "
            f"{u['stood_ms']:.0f} ms; {u['there_s']:.0f} s; {100.0 * u['speed']:.0f} % |"
            for what, u in uses
        ),
        *(f"| bar | 0; with the other process 2 a minute | | 100 ms | 0 | 25 ms | {memory} | |" for memory in bars),
        "",
    ]


def ten_minutes() -> list[str]:
    return [
        "## Ten minutes of a scripted user, playing all the while",
        "",
        f"Written by `./run bench ten-minutes` on {dt.date.today().isoformat()}.",
        "",
        *table_of_use([(what, used(LONG_USE_S, *how)) for what, *how in LONG_USES], "1126 MiB; stems 1638 MiB"),
    ]


def sections(text: str) -> dict[str, str]:
    """A page by its headings of the second level; what stands before the first one by ""."""
    found: dict[str, str] = {}
    heading = ""
    for line in text.splitlines(keepends=True):
        heading = line if line.startswith("## ") else heading
        found[heading] = found.get(heading, "") + line
    return found


def write(new: str, *, whole: bool) -> None:
    """Into the page: as its beginning, if it is the ``whole`` bench, or each section in its place. All other sections stay."""
    page = ROOT / "docs" / "performance.md"
    old, made = sections(page.read_text()), sections(new)
    merged = {**made, **{h: text for h, text in old.items() if h not in made}} if whole else {**old, **made}
    page.write_text("\n".join(text.rstrip() + "\n" for text in merged.values()))


def bench() -> list[str]:
    lines = [
        "# Performance",
        "",
        "Written by `./run bench`; the ratios are what counts, since both sides ran in one session on one machine.",
        "",
        f"Measured on {dt.date.today().isoformat()}: {machine()}.",
        "",
        f"## Against ffmpeg and sox, a {MINUTES}-minute stereo file, read and written: processor time on one core",
        "",
        "| work | Zygotone | the other | Zygotone is |",
        "|---|---|---|---|",
    ]
    with tempfile.TemporaryDirectory() as folder:
        for row in against_others(Path(folder)):
            lines.append("| " + " | ".join(row) + " as fast |")
    costs, grown, voices = device_costs(), growth(), voices_speed()
    long_memory, long_speed = long_session()
    speed, memory = demo_speed()
    listed, processed = commands_s()
    start, opened = start_time(), opening_the_demo()
    numbers, heard, load, drop_outs, window_memory = edit_to_number()
    judged, hold, fit = judging(), hold_of_an_edit(), masking_costs()
    uses = [(what, used(USE_S, *how)) for what, *how in USES]
    killed = subprocess.run(
        [sys.executable, "-m", "tests.killed", f"{KILLS}", "1"], capture_output=True, text=True, check=False, cwd=ROOT
    ).stdout.splitlines()[-1]
    opening, size = opening_a_large_file()
    anew = begun_anew()
    lines += [
        "",
        "The two do not do the same in all: ffmpeg's EQ is not analog-matched near the top; its soft clipper has no level "
        "match and a shorter filter; its limiter looks at samples and not at what lies between them, which is most of "
        "the work of ours, the more so on white noise as here, where four readers look; its echo has no feedback path; sox's reverb is of another kind.",
        "",
        "## Cost of each device, µs for 512 frames of stereo at 48 kHz (10 667 µs of sound), one core",
        "",
        "| device | µs | device | µs | device | µs |",
        "|---|---|---|---|---|---|",
        *(
            "| " + " | ".join(f"{name} | {cost:.0f}" for name, cost in costs[i : i + 3]) + " |"
            for i in range(0, len(costs), 3)
        ),
        "",
        "## How a render grows, times real time on two cores",
        "",
        "| what | times real time |",
        "|---|---|",
        *(f"| {what} | {numbers} |" for what, numbers in grown),
        f"| 60 tracks of 5-minute stems, read from disk | {long_speed:.0f} |",
        "",
        "## Instruments, 16 voices at once, one core",
        "",
        "| what | times real time |",
        "|---|---|",
        *(f"| {name} | {speed:.0f} |" for name, speed in voices),
        "",
        "The bar is 20 for an instrument of three layers.",
        "",
        "## The demo",
        "",
        "| what | measured | bar |",
        "|---|---|---|",
        f"| render, everything live, two cores | {speed:.1f} × real time | 10 × on two cores |",
        f"| `devices --json`, processor time | {listed:.2f} s | 0.5 s |",
        f"| `process` of a second through EQ and compressor, processor time | {processed:.2f} s | 0.9 s |",
        f"| start to a window that answers, warm | {start:.2f} s | 3 s |",
        f"| the demo opened: heard, first findings shown, all of the chorus (while it plays) | {opened['heard']:.1f}, {opened['first']:.1f}, "
        f"{opened['all']:.1f} s | heard in 3 s |",
        f"| a parameter moved: its new numbers on the screen | {numbers:.0f} ms | 300 ms |",
        f"| a parameter moved: in what is played | {heard:.0f} ms, and 32 ms of output buffer | 50 ms |",
        f"| playing the demo for 20 s: share of real time | {100 * load:.0f} % | |",
        f"| playing the demo for 20 s: drop-outs | {drop_outs} | 0 |",
        f"| all sections judged from nothing, two cores | {judged['all_s']:.1f} s | 6 s |",
        f"| the chorus judged again after an edit of one track, median of all tracks | {judged['again_ms']:.0f} ms | 400 ms |",
        f"| findings given up after they became unwanted, longest of 24 | {judged['given_up_ms']:.0f} ms | 50 ms |",
        f"| all pairs of twelve tracks, eight bars, on first look, two cores | {fit['first_s']:.1f} s | 2 s |",
        f"| all pairs again after a change of one track | {fit['after_ms']:.0f} ms | 300 ms |",
        f"| what is held of 24 tracks of 32 bars to judge them | {fit['mib']:.0f} MiB | 400 MiB |",
        f"| the demo's chorus settled (severity left: {fit['left']:.1f}), two cores | {fit['settle_s']:.0f} s | 60 s |",
        f"| an edit with 60 tracks of 1000 notes holds the window | {hold:.0f} ms | 30 ms |",
        f"| opening 200 tracks of 1000 notes with 300 kept decisions ({size:.1f} MiB) | {opening:.1f} s | 5 s |",
        f"| {KILLS} lives killed at random moments while they edit, save and record | {killed} | at most a second of work |",
        f"| the player killed, or hung: the demo sounds again after | {anew['SIGKILL']:.1f}, {anew['SIGSTOP']:.1f} s | 2 s |",
        f"| peak memory, rendering | {memory:.0f} MiB | |",
        f"| peak memory, window with all measures | {window_memory:.0f} MiB | |",
        f"| peak memory, opening and rendering 60 tracks of 5 minutes | {long_memory:.0f} MiB | 2048 MiB |",
        "",
        f"## {USE_S:.0f} s of a scripted user, playing all the while",
        "",
        "Thirty acts a second: stages, tracks, drags, faders, mutes, trials, swaps, undo, loops. Not played is what the clock says is "
        "missing of what should have been played, beside the application's own count. How long the machine itself stood still is what a "
        "process finds that only looks at the clock and comes before all others: gaps of over 20 ms (`tests/standstill.py`).",
        "",
        *table_of_use(uses, "1126 MiB"),
    ]
    return lines


def main(arguments: list[str]) -> None:
    whole = arguments != ["ten-minutes"]
    with passing_folder():
        lines = bench() if whole else ten_minutes()
    write("\n".join(lines), whole=whole)
    print("\n".join(lines[-12:]))


if __name__ == "__main__":
    main(sys.argv[1:])
