"""Files in and out, and files that lie."""

import gc
import json
import struct
import time
import zipfile
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import soundfile
from hypothesis import given
from hypothesis import strategies as st

from tests.builders import device, tone_project, write_stem
from tests.signals import RATE, noise, sine
from zygotone.advise.new_project import project_from_stems
from zygotone.demo import build_demo
from zygotone.engine.bench import Bench, Edit
from zygotone.engine.graph import compile_session
from zygotone.errors import BadFileError, LoopError
from zygotone.session import edits
from zygotone.session.audio_files import AudioData, AudioWriter, dither, read_audio, resample, write_audio
from zygotone.session.audio_store import AudioStore
from zygotone.session.history import Trial
from zygotone.session.journal import Journal, journal_path, recover
from zygotone.session.models import (
    InstrumentSource,
    KeyInput,
    Layer,
    Note,
    Part,
    Phrase,
    Section,
    Session,
    Song,
    Sound,
    Track,
)
from zygotone.session.project_file import Project, load_project, save_project

# --- audio --------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("subtype", ["PCM_U8", "PCM_16", "PCM_24", "PCM_32", "FLOAT", "DOUBLE", "ULAW", "ALAW"])
@pytest.mark.parametrize("channels", [1, 2])
def test_wav_of_every_usual_subtype_is_read(tmp_path, subtype, channels):
    x = sine(440.0, 0.1, level_db=-6)[:channels]
    soundfile.write(tmp_path / "a.wav", x.T, RATE, subtype=subtype)
    audio = read_audio(tmp_path / "a.wav")
    assert audio.data.shape == x.shape
    worst = {"PCM_U8": 0.01, "ULAW": 0.02, "ALAW": 0.02}.get(subtype, 1e-4)
    assert np.max(np.abs(audio.data - x)) < worst


@pytest.mark.parametrize("suffix", ["flac", "ogg", "aiff"])
def test_other_formats_are_read(tmp_path, suffix):
    x = sine(440.0, 0.3, level_db=-6)
    soundfile.write(tmp_path / f"a.{suffix}", x.T, 44100)
    audio = read_audio(tmp_path / f"a.{suffix}")
    assert audio.rate_hz == 44100
    assert np.max(np.abs(audio.data[:, :8000] - x[:, :8000])) < 0.05


def _write(path: Path, data: bytes) -> Path:
    path.write_bytes(data)
    return path


def bad_audio(folder: Path) -> dict[str, tuple[Path, str]]:
    """Files that cannot be used, each wrong in one way, and what the refusal says."""
    good = write_stem(folder, "good", noise(0.2), subtype="PCM_16").read_bytes()
    soundfile.write(folder / "eight.wav", np.zeros((100, 8)), RATE)
    soundfile.write(folder / "nan.wav", np.full((100, 2), np.nan), RATE, subtype="FLOAT")
    soundfile.write(folder / "none.wav", np.zeros((0, 2)), RATE)
    zero_channels = bytearray(good)
    zero_channels[22:24] = struct.pack("<H", 0)
    flac = folder / "cut.flac"
    soundfile.write(flac, noise(1.0).T, RATE)
    flac.write_bytes(flac.read_bytes()[:30000])
    return {
        "truncated": (_write(folder / "short.wav", good[: len(good) // 2]), "cut short"),
        "truncated flac": (flac, "cut short|cannot be read"),
        "empty": (_write(folder / "empty.wav", b""), "the file is empty"),
        "no frames": (folder / "none.wav", "holds no audio"),
        "0 channels": (_write(folder / "zero.wav", bytes(zero_channels)), "cannot be read as audio|0 channels"),
        "nan": (folder / "nan.wav", "200 of 200 samples are not numbers"),
        "8 channels": (folder / "eight.wav", "has 8 channels"),
        "not audio": (_write(folder / "text.wav", b"hello, I am a letter" * 50), "cannot be read as audio"),
        "missing": (folder / "nowhere.wav", "there is no such file"),
        "a folder": (folder, "this is not a file"),
    }


@pytest.mark.parametrize(
    "what",
    [
        "truncated",
        "truncated flac",
        "empty",
        "no frames",
        "0 channels",
        "nan",
        "8 channels",
        "not audio",
        "missing",
        "a folder",
    ],
)
def test_bad_audio_is_refused_in_one_line(tmp_path, what):
    path, words = bad_audio(tmp_path)[what]
    with pytest.raises(BadFileError, match=words) as told:
        read_audio(path)
    assert str(path) in str(told.value)
    assert "\n" not in str(told.value)


def test_a_wav_whose_length_was_not_known_is_read(tmp_path):
    data = bytearray(write_stem(tmp_path, "a", noise(0.1), subtype="PCM_16").read_bytes())
    at = data.index(b"data")
    data[at + 4 : at + 8] = b"\xff\xff\xff\xff"
    assert read_audio(_write(tmp_path / "stream.wav", bytes(data))).data.shape == (2, 4800)


def test_384_khz_is_resampled(tmp_path):
    path = write_stem(tmp_path, "high", sine(1000.0, 0.5, rate=384000, level_db=-6), rate=384000)
    project = project_from_stems([path])
    assert project.session.rate_hz == 48000
    audio = project.store.audio(project.session.assets[0], 48000)
    assert audio.shape == (2, 24000)
    np.testing.assert_allclose(audio[0, 1000:-1000], sine(1000.0, 0.5, level_db=-6)[0, 1000:-1000], atol=1e-4)


def test_resampling_keeps_the_start_where_it_was():
    x = np.zeros((1, 44100))
    x[0, 22050] = 1.0
    assert abs(int(np.argmax(resample(x, 44100, 48000)[0])) - 24000) <= 1


@pytest.mark.parametrize("frames", [1, 2, 100])
def test_clips_come_back_as_they_went_in(frames):
    store = AudioStore()
    x = np.random.default_rng(3).uniform(-1, 1, (2, frames))
    asset = store.add(AudioData(x, RATE, "FLOAT", "WAV"), "a", RATE)
    np.testing.assert_allclose(store.audio(asset, RATE), x, atol=2**-23)


def test_levels_above_full_scale_survive():
    store = AudioStore()
    x = 7.3 * sine(100.0, 0.1)
    asset = store.add(AudioData(x, RATE, "FLOAT", "WAV"), "loud", RATE)
    np.testing.assert_allclose(store.audio(asset, RATE), x, atol=1e-5)


def test_float_stays_float_and_pcm_is_held(tmp_path):
    loud = 2.0 * sine(100.0, 0.1)
    write_audio(tmp_path / "f.wav", loud, RATE, subtype="FLOAT")
    np.testing.assert_allclose(read_audio(tmp_path / "f.wav").data, loud, atol=1e-6)
    with AudioWriter(tmp_path / "p.wav", RATE, 2, subtype="PCM_24") as writer:
        writer.write(loud)
    assert writer.clipped > 0
    assert np.max(np.abs(read_audio(tmp_path / "p.wav").data)) <= 1.0


def test_dither_leaves_noise_and_no_distortion():
    # Lipshitz et al. 1992: after triangular dither the error is white, power three times a step²/12.
    x = sine(997.0, 2.0, level_db=-80.0)
    steps = np.round(dither(x, 16) * 2**15) / 2**15
    error = (steps - x)[0]
    assert np.mean(error**2) == pytest.approx(3 * (2.0**-15) ** 2 / 12, rel=0.05)
    spectrum = np.abs(np.fft.rfft(error * np.hanning(len(error)))) ** 2
    assert spectrum[(3 * 997 * 2)] < 30 * np.median(spectrum)  # no third harmonic
    assert not dither(np.zeros((2, 10)), 16).any()


def test_the_same_sound_is_the_same_file_at_any_time(tmp_path):
    kinds = ("PCM_16", "PCM_24", "FLOAT", "DOUBLE")
    for when in ("now", "later"):
        for kind in kinds:
            write_audio(tmp_path / f"{kind} {when}.wav", sine(100, 0.1), RATE, subtype=kind)
        if when == "now":
            time.sleep(1.1)  # the clock of files counts seconds
    for kind in kinds:
        later = tmp_path / f"{kind} later.wav"
        assert (tmp_path / f"{kind} now.wav").read_bytes() == later.read_bytes()
        np.testing.assert_allclose(read_audio(later).data[0], sine(100, 0.1)[0], atol=2e-4)


def test_a_failed_write_leaves_what_was_there(tmp_path):
    path = tmp_path / "mix.wav"
    write_audio(path, sine(100, 0.1), RATE)
    before = path.read_bytes()
    with pytest.raises(RuntimeError, match="half way"), AudioWriter(path, RATE, 2) as writer:
        writer.write(sine(200, 0.1))
        raise RuntimeError("half way")
    assert path.read_bytes() == before
    assert [p.name for p in tmp_path.iterdir()] == ["mix.wav"]
    with pytest.raises(BadFileError, match=r"neither in \.wav nor in \.flac"):
        write_audio(tmp_path / "a.mp3", sine(100, 0.1), RATE)


# --- projects -----------------------------------------------------------------------------------------------------


def test_a_project_comes_back_whole(tmp_path):
    project = tone_project(tmp_path, Bass=50.0, Kick=60.0)
    bench = Bench(project.session)
    bench.note("made", "Made")
    full = replace(project, log=bench.log)
    save_project(tmp_path / "a.zygotone", full)
    loaded = load_project(tmp_path / "a.zygotone")
    assert loaded.session == project.session
    assert loaded.log == bench.log
    for asset in loaded.session.assets:
        np.testing.assert_array_equal(loaded.store.audio(asset, RATE), project.store.audio(asset, RATE))


def test_the_same_project_is_the_same_bytes(tmp_path):
    for name in ("a", "b"):
        save_project(tmp_path / f"{name}.zygotone", build_demo())
    assert (tmp_path / "a.zygotone").read_bytes() == (tmp_path / "b.zygotone").read_bytes()


@pytest.fixture
def parts(tmp_path) -> dict[str, bytes]:
    """The members of a good project."""
    save_project(tmp_path / "good.zygotone", tone_project(tmp_path, Bass=50.0, Kick=60.0))
    with zipfile.ZipFile(tmp_path / "good.zygotone") as z:
        return {name: z.read(name) for name in z.namelist()}


def pack(path: Path, parts: dict[str, bytes], *, packed_audio: bool = False) -> Path:
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as z:
        for name, data in parts.items():
            audio = name.startswith("audio/") and not packed_audio
            z.writestr(name, data, zipfile.ZIP_STORED if audio else zipfile.ZIP_DEFLATED)
    return path


def first_version(parts: dict[str, bytes], session: Session) -> dict[str, bytes]:
    """A project as the first version of the format had it: each session whole."""
    data = session.model_dump(mode="json")
    for track in data["tracks"]:
        played = track.pop("parts")
        if track["source"]["type"] == "instrument":
            track["source"]["parts"] = [{"section": p["section"], "phrase": p["phrase"]} for p in played]
        else:
            track["source"]["sections"] = [p["section"] for p in played] or None
    head = {"format": "zygotone", "version": 1, "session": data}
    return {name: each for name, each in parts.items() if name != "parts.jsonl"} | {
        "session.json": json.dumps(head).encode()
    }


def with_session(parts: dict[str, bytes], change) -> dict[str, bytes]:
    """The good project in the first version, changed in one place."""
    lines = [json.loads(line) for line in parts["parts.jsonl"].splitlines()]
    held = {line["digest"]: line[line["is"]] for line in lines}
    data = dict(held[json.loads(parts["session.json"])["session"]])
    data |= {name: held[data[name]] for name in ("song", "mix")}
    data |= {name: [held[each] for each in data[name]] for name in ("tracks", "buses", "lanes")}
    old = first_version(parts, Session.model_validate(data))
    head = json.loads(old["session.json"])
    change(head)
    return {**old, "session.json": json.dumps(head).encode()}


def _chain(kind: str, **more):
    return lambda d: d["session"]["tracks"][0].update(chain=[{"id": "x", "kind": kind, **more}])


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda d: d.update(version=99), "a newer one is needed"),
        (lambda d: d.update(version="one"), "not a number from 1"),
        (lambda d: d.update(format="other"), "does not say that it is a Zygotone session"),
        (lambda d: d["session"].pop("song"), r"song: Field required"),
        (lambda d: d["session"].update(colour="blue"), "colour"),
        (lambda d: d["session"]["song"].update(tempo_bpm="fast"), "tempo_bpm"),
        (lambda d: d["session"]["song"].update(tempo_bpm=-3), "tempo_bpm"),
        (lambda d: d["session"].update(rate_hz=12345), "rate_hz"),
        (_chain("teleporter"), "there is no device of kind 'teleporter'"),
        (_chain("compressor", ratio=1e9), "ratio must be between"),
        (_chain("eq", bands=[{"q": -1}]), r"bands\[0\].q must be between"),
        (_chain("compressor", key={"track": "nobody"}), "listens to track 'nobody', which does not exist"),
        (_chain("pan", key={"track": "kick"}), "pan takes no key"),
        (lambda d: d["session"]["assets"].clear(), "plays clip"),
        (lambda d: d["session"]["tracks"][0].update(id="../../etc/passwd"), "id"),
    ],
)
def test_a_session_that_lies_is_refused(tmp_path, parts, change, words):
    path = pack(tmp_path / "bad.zygotone", with_session(parts, change))
    with pytest.raises(BadFileError, match=words) as told:
        load_project(path)
    assert str(told.value).startswith(f"{path}: ")
    assert "\n" not in str(told.value)


def test_a_loop_of_keys_is_refused_by_name(tmp_path):
    session = tone_project(tmp_path, Bass=50.0, Kick=60.0).session
    session = edits.insert_device(session, "bass", device("compressor", key="kick"))
    session = edits.insert_device(session, "kick", device("compressor", key="bass"))
    with pytest.raises(LoopError, match=r"in a circle: (Bass → Kick → Bass|Kick → Bass → Kick)"):
        compile_session(session)
    # Listening to a track before its chain is no circle.
    early = device("compressor").replace(key=KeyInput(track="bass", tap="before"))
    kick = session.track("kick").replace(chain=(early,))
    compile_session(edits.with_strip(session, kick))


def test_what_is_not_a_zip_is_refused(tmp_path):
    for name, data in (("text", b"not a zip at all"), ("empty", b""), ("cut", b"PK\x03\x04" + b"\0" * 40)):
        with pytest.raises(BadFileError, match="is not a Zygotone project"):
            load_project(_write(tmp_path / f"{name}.zygotone", data))
    with pytest.raises(BadFileError, match="there is no such file"):
        load_project(tmp_path / "nowhere.zygotone")


@pytest.mark.parametrize(
    "name", ["../evil.txt", "/etc/passwd", "audio/../../x.flac", "audio/short.flac", "run.sh", "audio/"]
)
def test_a_member_that_climbs_out_is_refused(tmp_path, parts, name):
    with pytest.raises(BadFileError, match="is not a member that a project has"):
        load_project(pack(tmp_path / "bad.zygotone", {**parts, name: b"x"}))


def test_a_bomb_is_refused_without_being_unpacked(tmp_path, parts):
    huge = b" " * (65 << 20)
    with pytest.raises(BadFileError, match="would unpack to 65 MiB"):
        load_project(pack(tmp_path / "bomb.zygotone", {**parts, "session.json": huge}))
    with pytest.raises(BadFileError, match="is packed; audio is stored as it is"):
        load_project(pack(tmp_path / "packed.zygotone", parts, packed_audio=True))


def test_a_member_that_lies_about_its_size_is_refused(tmp_path, parts):
    path = pack(tmp_path / "liar.zygotone", {**parts, "session.json": b" " * (65 << 20)})
    data = bytearray(path.read_bytes())
    with zipfile.ZipFile(path) as z:
        at = z.start_dir
    while data[at : at + 4] == b"PK\x01\x02":
        length = struct.unpack("<HHH", data[at + 28 : at + 34])
        if data[at + 46 : at + 46 + length[0]] == b"session.json":
            data[at + 24 : at + 28] = struct.pack("<I", 1000)  # the directory now claims 1000 bytes
        at += 46 + sum(length)
    with pytest.raises(BadFileError, match=r"session\.json"):
        load_project(_write(path, bytes(data)))


def test_deep_nesting_is_refused(tmp_path, parts):
    deep = b"[" * 200000 + b"]" * 200000
    with pytest.raises(BadFileError, match="nested too deeply|does not say"):
        load_project(pack(tmp_path / "deep.zygotone", {**parts, "session.json": deep}))


def test_a_missing_clip_is_named(tmp_path, parts):
    gone = next(name for name in parts if name.startswith("audio/"))
    with pytest.raises(BadFileError, match="is missing from the project"):
        load_project(pack(tmp_path / "bad.zygotone", {k: v for k, v in parts.items() if k != gone}))


def test_a_clip_that_is_not_what_its_name_says_is_refused(tmp_path, parts):
    first, second = (name for name in parts if name.startswith("audio/"))
    swapped = {**parts, first: parts[second]}
    project = load_project(pack(tmp_path / "bad.zygotone", swapped))
    with pytest.raises(BadFileError, match="does not hold the audio its name promises"):
        for asset in project.session.assets:
            project.store.audio(asset, RATE)


def test_a_damaged_log_line_is_named(tmp_path, parts):
    with pytest.raises(BadFileError, match=r"log\.jsonl line 2"):
        line = b'{"number": 1, "time": "2026-01-01T00:00:00+00:00", "action": "made", "title": "x"}\n'
        load_project(pack(tmp_path / "bad.zygotone", {**parts, "log.jsonl": line + b"{oops\n"}))


def test_a_failed_save_leaves_the_old_file(tmp_path):
    project = tone_project(tmp_path, Bass=50.0)
    path = tmp_path / "a.zygotone"
    save_project(path, project)
    before = path.read_bytes()
    broken = replace(project, store=AudioStore())  # the clip cannot be found while writing
    with pytest.raises(KeyError):
        save_project(path, broken)
    assert path.read_bytes() == before
    assert not list(tmp_path.glob(".*.part"))
    with pytest.raises(BadFileError, match="cannot be saved"):
        save_project(tmp_path / "no" / "such" / "folder.zygotone", project)


def test_undo_after_saving_still_has_its_clip(tmp_path):
    project = tone_project(tmp_path, Bass=50.0, Kick=60.0)
    path = tmp_path / "a.zygotone"
    save_project(path, project)
    loaded = load_project(path)
    without = replace(loaded, session=edits.remove_track(loaded.session, "kick"))
    save_project(path, without)
    for asset in loaded.session.assets:  # undo brings the old session back
        assert loaded.store.audio(asset, RATE).any()


def test_saving_elsewhere_makes_the_first_file_superfluous(tmp_path):
    save_project(tmp_path / "first.zygotone", tone_project(tmp_path, Bass=50.0))
    loaded = load_project(tmp_path / "first.zygotone")
    save_project(tmp_path / "second.zygotone", loaded)
    (tmp_path / "first.zygotone").unlink()
    assert loaded.store.audio(loaded.session.assets[0], RATE).any()


# --- journal ------------------------------------------------------------------------------------------------------


def test_a_crash_loses_next_to_nothing(tmp_path):
    project = tone_project(tmp_path, Bass=50.0, Kick=60.0)
    path = tmp_path / "a.zygotone"
    save_project(path, project)
    journal = Journal(path, project)
    for value in (-3.0, -6.0):
        journal.write(replace(project, session=edits.change_strip(project.session, "bass", level_db=value)))
    saved = load_project(path)
    found = recover(path, saved)
    assert found.session.track("bass").level_db == -6.0
    # The crash came in the middle of a line: the one before counts.
    written = journal_path(path)
    written.write_bytes(written.read_bytes()[:-200])
    assert recover(path, saved).session.track("bass").level_db == -3.0
    written.write_bytes(b"\x00garbage\n{}\n[1,2]\n")
    assert recover(path, saved) is None


def test_a_change_costs_the_journal_only_what_changed(tmp_path):
    project = build_demo()
    path = tmp_path / "a.zygotone"
    save_project(path, project)
    journal = Journal(path, project)
    sizes = []
    for value in (-3.0, -6.0, -3.0):
        before = journal_path(path).stat().st_size if sizes else 0
        journal.write(replace(project, session=edits.change_strip(project.session, "bass", level_db=value)))
        sizes.append(journal_path(path).stat().st_size - before)
    whole = len(project.session.model_dump_json())
    assert sizes[0] < whole / 10
    assert sizes[2] < sizes[0] / 5  # a version that is there already is only named
    assert recover(path, load_project(path)).session.track("bass").level_db == -3.0


def test_a_journal_of_an_older_program_is_read(tmp_path, parts):
    path = pack(tmp_path / "old.zygotone", with_session(parts, lambda head: None))
    saved = load_project(path)
    head = json.loads(with_session(parts, lambda d: d["session"]["tracks"][0].update(level_db=-4.5))["session.json"])
    journal_path(path).write_text(json.dumps({**head, "saved_log": 0, "log": []}) + "\n")
    assert recover(path, saved).session.tracks[0].level_db == -4.5


# --- versions, each part once ---------------------------------------------------------------------------------------


def parts_of(path: Path) -> list[dict]:
    with zipfile.ZipFile(path) as z:
        return [json.loads(line) for line in z.read("parts.jsonl").splitlines()]


def test_a_file_of_the_first_version_is_migrated(tmp_path, parts):
    """Parts stood in the instrument, the sections of a clip in the clip; both are the track's now."""
    for session in (build_demo().session.replace(assets=()), tone_project(tmp_path, Low=50.0).session):
        old = first_version(parts, session) if not session.assets else None
        if old is not None:
            loaded = load_project(pack(tmp_path / "old.zygotone", old))
            assert loaded.session == session
    heard = with_session(parts, lambda d: d["session"]["tracks"][0]["source"].update(sections=["song"], loop=True))
    track = load_project(pack(tmp_path / "clip.zygotone", heard)).session.tracks[0]
    assert track.parts == (Part(section="song", loop=True),)
    silent = with_session(parts, lambda d: d["session"]["tracks"][0]["source"].update(sections=[]))
    assert load_project(pack(tmp_path / "silent.zygotone", silent)).session.tracks[0].mute


def test_each_part_is_written_once(tmp_path):
    project = build_demo()
    bench = Bench(project.session)
    for value in range(20):
        softer = edits.change_strip(bench.session, "bass", level_db=-20.0 + value / 4)
        bench.try_out(Trial(session=softer, title=f"{value}"))
        bench.keep()
    path = tmp_path / "a.zygotone"
    save_project(path, replace(project, session=bench.kept, log=bench.log))
    lines = parts_of(path)
    assert len({line["digest"] for line in lines}) == len(lines)
    kinds = [line["is"] for line in lines]
    # 20 kept versions and the first differ in the bass alone, and it is the last of them that is present.
    assert kinds.count("session") == 20
    assert kinds.count("track") == len(project.session.tracks) - 1 + 20
    assert kinds.count("phrase") == sum(
        len({p.digest for p in t.source.phrases})
        for t in project.session.tracks
        if isinstance(t.source, InstrumentSource)
    )
    loaded = load_project(path)
    assert (loaded.session, loaded.log) == (bench.kept, bench.log)
    kept = [e.session for e in loaded.log if e.session is not None]
    assert kept[0].track("kick") is kept[-1].track("kick") is loaded.session.track("kick")


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda lines: lines[1:], "is missing"),
        (lambda lines: [*lines, lines[0]], "is there twice"),
        (lambda lines: [{**line, "is": "ghost"} for line in lines], "does not say what it is"),
        (lambda lines: [{"digest": 5}, *lines], "is no part of a version"),
        (lambda lines: [*lines[:-1], {**lines[-1], "session": {**lines[-1]["session"], "song": lines[-1]["session"]["mix"]}}], "names a song, but .* is a bus"),
        (lambda lines: [*lines[:-1], {**lines[-1], "session": {**lines[-1]["session"], "tracks": [lines[-1]["digest"]]}}], "names a track, but .* is a session"),
        (lambda lines: [*lines[:-1], {**lines[-1], "session": {**lines[-1]["session"], "tracks": [7]}}], "names a track that is missing"),
        (lambda lines: [{**line, "song": {**line["song"], "tempo_bpm": -3}} if line["is"] == "song" else line for line in lines], "tempo_bpm"),
    ],
)  # fmt: skip
def test_parts_that_lie_are_refused(tmp_path, parts, change, words):
    lines = change([json.loads(line) for line in parts["parts.jsonl"].splitlines()])
    bad = {**parts, "parts.jsonl": "\n".join(map(json.dumps, lines)).encode()}
    path = pack(tmp_path / "bad.zygotone", bad)
    with pytest.raises(BadFileError, match=words) as told:
        load_project(path)
    assert str(told.value).startswith(f"{path}: ")
    assert "\n" not in str(told.value)


def test_what_was_saved_opens(tmp_path):
    """A large session with a long record: 60 tracks of 400 notes, 100 kept decisions; ``./run bench`` has a larger one."""
    layer = build_demo().session.track("bass").source.layers[0]
    rng = np.random.default_rng(5)

    def track(n: int) -> Track:
        notes = tuple(
            Note(start_beat=float(b), length_beats=0.5, pitch=int(p), velocity=float(v))
            for b, p, v in zip(
                np.sort(rng.uniform(0, 64, 400)), rng.integers(30, 80, 400), rng.uniform(0, 1, 400), strict=True
            )
        )
        source = InstrumentSource(layers=(layer,), phrases=(Phrase(id="p", beats=64, notes=notes),))
        return Track(id=f"t{n}", name=f"T{n}", source=source, parts=(Part(section="a", phrase="p"),))

    song = Song(sections=(Section(id="a", name="A", bars=16),))
    bench = Bench(Session(song=song, tracks=tuple(map(track, range(60)))))
    for n in range(100):
        strip = f"t{n % 60}"
        bench.apply(Edit("Pan", lambda s, strip=strip, n=n: edits.change_strip(s, strip, pan_pct=float(n - 50))))
        bench.try_out(Trial(session=edits.change_strip(bench.session, strip, level_db=-n / 10), title=f"{n}"))
        bench.keep(f"reason {n}")
    path = tmp_path / "large.zygotone"
    project = Project(bench.kept, bench.log)
    save_project(path, project)
    loaded = load_project(path)
    assert loaded.session == project.session
    assert loaded.log == project.log
    assert path.stat().st_size < 3_000_000


NAMES = st.text(
    st.characters(min_codepoint=32, max_codepoint=0x2FFF, exclude_categories=("Cs", "Cc")), min_size=1, max_size=20
)
NOTES = st.lists(
    st.builds(
        Note, start_beat=st.floats(0, 60), length_beats=st.floats(1e-3, 8), pitch=st.integers(0, 127), velocity=st.floats(0, 1),
        nudge_ms=st.floats(-200, 200),
    ),
    max_size=30,
).map(tuple)  # fmt: skip
EDITS = st.lists(
    st.tuples(st.integers(0, 11), st.floats(-60, 12), NOTES, st.sampled_from(["keep", "drop", "edit", "undo", "try"])),
    max_size=12,
)


@given(st.lists(NOTES, min_size=1, max_size=12), NAMES, EDITS)
def test_whatever_was_done_comes_back(tmp_path_factory, lines, title, edits_made):
    """Any tracks, any notes, any record of trials, keeps and drops: saved, opened, and the same; and so is its journal."""
    folder = tmp_path_factory.mktemp("any")
    layer = Layer(id="a", name="A", sound=Sound.model_validate({"kind": "oscillator"}))
    tracks = tuple(
        Track(
            id=f"t{n}", name=f"{title[:60]} {n}", parts=(Part(section="a", phrase="p"),),
            source=InstrumentSource(layers=(layer,), phrases=(Phrase(id="p", beats=64, notes=notes),)),
        )
        for n, notes in enumerate(lines)
    )  # fmt: skip
    bench = Bench(Session(song=Song(title=title, sections=(Section(id="a", name="A", bars=16),)), tracks=tracks))
    path = folder / "any.zygotone"
    before = Project(bench.kept, bench.log, bench.trial)
    save_project(path, before)
    journal = Journal(path, before)
    for which, level_db, notes, what in edits_made:
        track = f"t{which % len(tracks)}"
        phrase = bench.session.track(track).source.phrases[0].replace(notes=notes)
        changed = edits.put_phrase(edits.change_strip(bench.session, track, level_db=level_db), track, phrase)
        if what == "undo":
            bench.undo()
        elif what == "edit" or bench.trial is not None:
            bench.apply(Edit("Change", lambda s, new=changed: new))
            if bench.trial is not None and what in ("keep", "drop"):
                getattr(bench, what)("because")
        else:
            bench.try_out(Trial(session=changed, title=what))
        journal.write(Project(bench.kept, bench.log, bench.trial))
    after = Project(bench.kept, bench.log, bench.trial)
    found = recover(path, load_project(path))
    if edits_made:
        assert (found.session, found.log, found.trial) == (after.session, after.log, after.trial)
    save_project(path, after)
    loaded = load_project(path)
    assert (loaded.session, loaded.log, loaded.trial) == (after.session, after.log, after.trial)


def test_the_parts_are_plain(parts):
    lines = [json.loads(line) for line in parts["parts.jsonl"].splitlines()]
    tracks = [line["track"] for line in lines if line["is"] == "track"]
    assert json.loads(parts["session.json"])["format"] == "zygotone"
    assert {track["name"] for track in tracks} == {"Bass", "Kick"}


@pytest.mark.parametrize("collects", [True, False])
def test_reading_leaves_the_collector_as_it_was(tmp_path, collects):
    """Nothing is let go while a file is read; the player never lets go on its own, and goes on not to."""
    (tmp_path / "no.zygotone").write_bytes(b"no project")
    before = gc.isenabled()
    (gc.enable if collects else gc.disable)()
    try:
        with pytest.raises(BadFileError):
            load_project(tmp_path / "no.zygotone")
        assert gc.isenabled() == collects
    finally:
        (gc.enable if before else gc.disable)()
