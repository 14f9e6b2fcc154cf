"""Full disks, folders that vanish or may not be written, links and pipes at the place of files: what was there stays, one
sentence says what happened and what to do."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np
import pytest

from tests.builders import tone_project
from zygotone.errors import BadFileError
from zygotone.factory.sounds import factory_sounds
from zygotone.music.midi_files import write_midi
from zygotone.plain_files import append_line, open_plain, passing_folder, replace_file, tidy_parts
from zygotone.reports.library import Library
from zygotone.session.audio_files import AudioData, AudioWriter, read_audio
from zygotone.session.audio_store import AudioStore
from zygotone.session.edits import change_song
from zygotone.session.journal import Journal, journal_path, recover
from zygotone.session.mapped import MappedCache
from zygotone.session.project_file import Project, load_project, save_project
from zygotone.session.saved_sounds import load_sound, save_sound
from zygotone.session.workplaces import Workplace, claim, left_by_others, tidy_locks

FULL = "the disk is full; make room, or choose another place"


@pytest.fixture
def small_disk(tmp_path):
    """A disk of 256 KiB that is nearly full, and may be mounted where tests run as root."""
    place = tmp_path / "small"
    place.mkdir()
    mounted = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=256k", "none", str(place)], capture_output=True, check=False
    )
    if mounted.returncode:
        pytest.skip("no disk can be mounted here")
    yield place
    subprocess.run(["umount", "-l", str(place)], check=True)


def fill(disk: Path) -> None:
    with pytest.raises(OSError), open(disk / "filler", "wb", buffering=0) as f:
        while True:
            f.write(bytes(4096))


def noise(frames: int = 200_000) -> np.ndarray:
    return np.random.default_rng(1).uniform(-0.5, 0.5, (2, frames))


def title_of(path: Path) -> str:
    return load_project(path).session.song.title


def retitled(project: Project, title: str) -> Project:
    return Project(change_song(project.session, title=title), store=project.store)


def test_a_full_disk_keeps_the_saved_project(small_disk, tmp_path):
    path = small_disk / "song.zygotone"
    project = tone_project(tmp_path, Bass=50.0)
    save_project(path, project)
    fill(small_disk)
    with pytest.raises(BadFileError, match=FULL):
        save_project(path, retitled(project, "Newer"))
    assert title_of(path) == project.session.song.title
    assert sorted(p.name for p in small_disk.iterdir()) == ["filler", "song.zygotone"]
    (small_disk / "filler").unlink()
    save_project(path, retitled(project, "Newer"))  # work goes on
    assert title_of(path) == "Newer"


def test_a_full_disk_keeps_the_journal_so_far(small_disk, tmp_path):
    path = small_disk / "song.zygotone"
    project = tone_project(tmp_path, Bass=50.0)
    save_project(path, project)
    journal = Journal(path, project)
    journal.write(retitled(project, "One"))
    fill(small_disk)
    with pytest.raises(BadFileError, match=FULL):
        for _ in range(200):  # what is left of the last page may take a few lines
            journal.write(retitled(project, "Two" * 60))
    assert recover(path, load_project(path)).session.song.title.startswith(("One", "Two"))
    (small_disk / "filler").unlink()
    journal.write(retitled(project, "Three"))
    assert recover(path, load_project(path)).session.song.title == "Three"


def test_a_full_disk_ends_an_export_and_keeps_the_last(small_disk):
    path = small_disk / "mix.wav"
    with AudioWriter(path, 48000, 2) as writer:
        writer.write(noise(1000))
    with pytest.raises(BadFileError, match=FULL), AudioWriter(path, 48000, 2) as writer:
        writer.write(noise())
    assert read_audio(path).data.shape[1] == 1000
    assert [p.name for p in small_disk.iterdir()] == ["mix.wav"]


def test_a_full_disk_keeps_sounds_and_notes(small_disk):
    sound = factory_sounds()[0]
    save_sound(small_disk / "sound.json", sound, {})
    write_midi(small_disk / "notes.mid", [("Bass", [])], tempo_bpm=120.0)
    notes = (small_disk / "notes.mid").read_bytes()
    fill(small_disk)
    with pytest.raises(BadFileError, match=FULL):
        save_sound(small_disk / "sound.json", sound.replace(name="Another", notes="x" * 2000), {})
    assert load_sound(small_disk / "sound.json")[0].name == sound.name
    with pytest.raises(BadFileError, match=FULL):
        write_midi(small_disk / "notes.mid", [("Bass" * 20, [])], tempo_bpm=120.0)
    assert (small_disk / "notes.mid").read_bytes() == notes


def test_a_full_disk_refuses_a_clip_and_keeps_a_take_in_memory(small_disk):
    store = AudioStore()
    store.keep_aside_in(small_disk / "clips")
    with pytest.raises(BadFileError, match=FULL):
        store.add(AudioData(noise(), 48000, "PCM_24", "WAV"), "long", 48000)
    take = noise().astype(np.float32)
    np.testing.assert_array_equal(MappedCache(small_disk / "takes").put("digest", take), take)
    assert not list(small_disk.rglob("*.part"))


def test_a_library_that_cannot_grow_stays_whole(tmp_path, monkeypatch):
    library = Library(tmp_path / "sounds.sqlite")
    before = len(library.find())
    pages = Library._open

    def full(self):
        db = pages(self)
        db.execute("PRAGMA max_page_count = 1")  # sqlite's own way of being full
        return db

    monkeypatch.setattr(Library, "_open", full)
    clip = AudioData(noise(), 48000, "PCM_24", "WAV")
    with pytest.raises(BadFileError, match="full"):
        library.add(factory_sounds()[0].replace(name="Mine"), {"clip": clip})
    monkeypatch.setattr(Library, "_open", pages)
    assert len(library.find()) == before


@pytest.mark.parametrize("write", ["project", "audio", "sound", "midi"])
def test_a_folder_that_is_gone_is_told(tmp_path, write):
    place = tmp_path / "gone" / "file.wav"
    writers = {
        "project": lambda: save_project(place, tone_project(tmp_path, Bass=50.0)),
        "audio": lambda: AudioWriter(place, 48000, 2),
        "sound": lambda: save_sound(place, factory_sounds()[0], {}),
        "midi": lambda: write_midi(place, [("Bass", [])], tempo_bpm=120.0),
    }
    with pytest.raises(BadFileError, match="the folder is not there any more; choose another place"):
        writers[write]()


def test_who_may_not_write_is_told(tmp_path):
    """As another user, where the tests are root, who may write everywhere."""
    place = tmp_path / "closed"
    place.mkdir()
    code = (
        "import os, sys; from pathlib import Path\n"
        "from zygotone.plain_files import replace_file\n"
        "if os.getuid() == 0: os.setuid(65534)\n"
        "try: replace_file(Path(sys.argv[1]), lambda f: f.write(b'x'))\n"
        "except Exception as e: print(e)\n"
    )
    place.chmod(0o555)
    for each in (tmp_path, *tmp_path.parents):
        if each.stat().st_uid == os.getuid() and each != Path("/"):
            each.chmod(each.stat().st_mode | 0o055)
    told = subprocess.run(
        [sys.executable, "-c", code, str(place / "file")], capture_output=True, text=True, check=False
    ).stdout
    if not told:
        pytest.skip("another user cannot read the program here")
    assert "cannot be saved: it is not allowed there; choose another place, or ask whoever may" in told


# --- what is no ordinary file -------------------------------------------------------------------------------------


def oddities(place: Path, real: Path) -> dict[str, Path]:
    (place / "folder").mkdir()
    os.mkfifo(place / "pipe")
    (place / "link").symlink_to(real)
    (place / "nowhere").symlink_to(place / "not there")
    return {name: place / name for name in ("folder", "pipe", "link", "nowhere")}


@pytest.mark.parametrize("what", ["folder", "pipe", "link", "nowhere"])
def test_a_project_that_is_no_file_is_refused(tmp_path, what):
    real = tmp_path / "real.zygotone"
    project = tone_project(tmp_path, Bass=50.0)
    save_project(real, project)
    odd = oddities(tmp_path, real)[what]
    with pytest.raises(BadFileError) as told:
        load_project(odd)
    assert any(words in str(told.value) for words in ("is a folder", "no ordinary file", "symbolic link"))
    with pytest.raises(BadFileError, match="cannot be saved"):
        save_project(odd, project)
    assert title_of(real) == project.session.song.title
    assert os.path.lexists(odd)


@pytest.mark.parametrize("what", ["folder", "pipe", "link", "nowhere"])
def test_a_journal_that_is_no_file_is_refused(tmp_path, what):
    path = tmp_path / "song.zygotone"
    project = tone_project(tmp_path, Bass=50.0)
    save_project(path, project)
    other = tmp_path / "precious"
    other.write_text("not to be written to")
    oddities(tmp_path, other)[what].rename(journal_path(path))
    with pytest.raises(BadFileError, match="the journal cannot be written"):
        Journal(path, project).write(retitled(project, "New"))
    with pytest.raises(BadFileError):
        recover(path, project)
    assert other.read_text() == "not to be written to"
    assert not (tmp_path / "not there").exists()


def test_a_line_that_a_crash_cut_in_half_spoils_no_other(tmp_path):
    file = tmp_path / "lines"
    append_line(file, b"one")
    with open(file, "ab") as f:
        f.write(b"half a li")
    append_line(file, b"two")
    assert file.read_bytes().splitlines() == [b"one", b"half a li", b"two"]


def test_what_a_dead_process_left_half_written_goes(tmp_path):
    path = tmp_path / "so[n]g.zygotone"
    dead, own = tmp_path / f".{path.name}.999999999.part", tmp_path / f".{path.name}.{os.getpid()}.part"
    for each in (dead, own, tmp_path / ".song.zygotone.999999999.part"):
        each.write_bytes(b"half")
    tidy_parts(path)
    assert not dead.exists()
    assert own.exists()
    assert (tmp_path / ".song.zygotone.999999999.part").exists()


def test_a_sounds_clips_lie_beside_it(tmp_path):
    (tmp_path / "secret.wav").write_bytes(b"")
    inner = tmp_path / "sounds"
    inner.mkdir()
    file = inner / "sound.json"
    for name in ("../secret.wav", str(tmp_path / "secret.wav")):
        layer = f'{{"sound": {{"kind": "sample", "files": ["{name}"]}}}}'
        file.write_text(f'{{"layers": [{layer}]}}')
        with pytest.raises(BadFileError, match="without a folder"):
            load_sound(file)


def test_writing_stops_midway_without_a_trace(tmp_path):
    file = tmp_path / "file"
    replace_file(file, lambda f: f.write(b"first"))

    def fails(f):
        f.write(b"sec")
        raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        replace_file(file, fails)
    with open_plain(file) as f:
        assert f.read() == b"first"
    assert list(tmp_path.iterdir()) == [file]


# --- who has what -------------------------------------------------------------------------------------------------


def test_a_project_is_one_windows_at_a_time(tmp_path):
    path = tmp_path / "song.zygotone"
    path.write_bytes(b"")
    (tmp_path / "other name").symlink_to(path)
    first = claim(tmp_path / "locks", path)
    assert first is not None
    assert claim(tmp_path / "locks", path) is None
    assert claim(tmp_path / "locks", tmp_path / "other name") is None  # by whatever name
    tidy_locks(tmp_path / "locks")
    assert claim(tmp_path / "locks", path) is None
    first.release()
    again = claim(tmp_path / "locks", path)
    assert again is not None
    again.release()
    tidy_locks(tmp_path / "locks")
    assert not list((tmp_path / "locks").iterdir())


def test_a_workplace_is_found_when_its_user_has_gone(tmp_path):
    mine = Workplace.make(tmp_path)
    mine.belongs_to(tmp_path / "song.zygotone")
    assert not list(left_by_others(tmp_path))
    mine.release()
    (left,) = left_by_others(tmp_path)
    assert (left.folder, left.project) == (mine.folder, tmp_path / "song.zygotone")
    assert not list(left_by_others(tmp_path))  # it is ours now
    left.end()
    assert not list(tmp_path.iterdir())


def test_who_is_killed_as_it_says_whose_a_workplace_is_leaves_no_half_a_name(tmp_path, monkeypatch):
    mine = Workplace.make(tmp_path)
    mine.belongs_to(tmp_path / "song.zygotone")

    def killed(*anything):
        raise OSError("gone")

    with monkeypatch.context() as m:
        m.setattr(os, "replace", killed)
        mine.belongs_to(tmp_path / "another.zygotone")
    assert mine.project == tmp_path / "song.zygotone"
    (mine.folder / "of").write_bytes(b"")  # as an earlier version could leave it
    assert mine.project is None
    mine.release()


def test_who_is_killed_loses_a_second_at_most():
    """The bench and ``python -m tests.killed`` do so more often."""
    found = subprocess.run(
        [sys.executable, "-m", "tests.killed", "8", "400"], capture_output=True, text=True, check=False, timeout=300,
        env={**os.environ, "QT_QPA_PLATFORM": "offscreen"}, cwd=Path(__file__).parents[2],
    )  # fmt: skip
    assert found.returncode == 0, found.stdout + found.stderr
    assert "8 killed, 0 with losses" in found.stdout


def test_what_passes_goes_with_whoever_made_it_also_of_other_processes(monkeypatch):
    monkeypatch.setattr(tempfile, "tempdir", None)
    monkeypatch.delenv("TMPDIR", raising=False)
    with passing_folder():
        mine = Path(tempfile.mkdtemp())
        other = subprocess.run(
            [sys.executable, "-c", "import tempfile; print(tempfile.mkdtemp())"],
            capture_output=True,
            text=True,
            check=True,
        ).stdout.strip()
        assert mine.parent == Path(other).parent
        assert Path(other).is_dir()
    assert not mine.parent.exists()
    assert tempfile.tempdir is None
    assert "TMPDIR" not in os.environ
