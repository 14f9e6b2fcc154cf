"""The player in a process of its own: what it plays, and what happens when it dies, hangs, or is left alone."""

import os
import signal
import tempfile
import threading
import time
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.builders import device, tone_project
from tests.processes import goes_with_its_parent, wait_for
from tests.signals import RATE
from zygotone.demo import build_demo
from zygotone.engine.graph import compile_session
from zygotone.engine.player_process import _Versions
from zygotone.engine.remote import RemotePlayer
from zygotone.engine.renderer import KeptTake, Renderer, _cut
from zygotone.engine.stream import Player, Version
from zygotone.engine.transport import SimulatedOutput
from zygotone.errors import BadFileError
from zygotone.session.audio_files import AudioData, read_audio
from zygotone.session.audio_store import AudioStore, MappedClip
from zygotone.session.edits import change_strip, insert_device
from zygotone.session.mapped import MappedCache, sounds, stretches, takes_below
from zygotone.warm_up import play_ready


@pytest.fixture
def tones(tmp_path):
    return tone_project(tmp_path, Low=100.0, High=1000.0)


@pytest.fixture
def started(tmp_path):
    """Makes players that end with the test."""
    made: list[RemotePlayer] = []

    def start(project, *, output: SimulatedOutput | None = None) -> RemotePlayer:
        renderer = Renderer(project.store, project.store.held, mapped=MappedCache(tmp_path / "takes"))
        made.append(RemotePlayer(renderer, project.session.rate_hz))
        if output is not None:
            made[-1].set_output(output)
        return made[-1]

    yield start
    for each in made:
        each.close()


def play_for(player: RemotePlayer, session, seconds: float) -> None:
    player.set_versions(Version(compile_session(session)), None)
    player.set_loop(0, session.section_span(None)[1])
    wait_for(lambda: player.up_to_date)
    player.play()
    begun = player.played_s
    wait_for(lambda: player.played_s - begun > seconds)
    player.stop()
    wait_for(lambda: not player.playing)


def recorded(path: Path) -> np.ndarray:
    wait_for(lambda: path.exists() and path.stat().st_size > 1000)
    time.sleep(0.2)
    return read_audio(path).data


def test_it_plays_what_the_renderer_gives(tones, started, tmp_path):
    """Sample for sample, but for the fade in and out."""
    session = insert_device(tones.session, "low", device("saturation", "s", drive_db=9.0))
    output = SimulatedOutput()
    output.record_to = tmp_path / "played.wav"
    player = started(tones, output=output)
    play_for(player, session, 0.5)
    heard = recorded(output.record_to)
    latency = compile_session(session).mix.latency
    expected = Renderer(tones.store).mix(session)
    n = RATE // 4
    start = RATE // 10
    np.testing.assert_allclose(
        heard[:, start + latency : start + latency + n], expected[:, start : start + n], atol=1e-6
    )


def test_an_instrument_is_rendered_once_for_both(started, tmp_path):
    project = build_demo()
    output = SimulatedOutput()
    output.record_to = tmp_path / "played.wav"
    player = started(project, output=output)
    play_for(player, project.session, 0.5)
    takes = list((tmp_path / "takes").glob("*.take"))
    assert len(takes) >= 10
    assert np.max(np.abs(recorded(output.record_to))) > 0.01
    # Changed in the window's process, heard in the player's, with no layer made again.
    made = {path.name: path.stat().st_mtime_ns for path in takes}
    player.set_versions(Version(compile_session(change_strip(project.session, "bass", level_db=-20.0))), None)
    wait_for(lambda: player.up_to_date)
    assert {p.name for p in (tmp_path / "takes").glob("*.take")} == set(made)


@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGSTOP], ids=["killed", "hung"])
def test_one_that_is_gone_is_started_anew_where_it_was(tones, started, how):
    player = started(tones)
    session = change_strip(tones.session, "low", level_db=-3.0)
    player.set_versions(Version(compile_session(session)), None)
    player.set_loop(0, RATE)
    wait_for(lambda: player.up_to_date)
    player.play()
    wait_for(lambda: player.played_s > 0.3)
    old = player.pid
    os.kill(old, how)
    begin = time.monotonic()
    player.live.add(60, np.zeros((2, 20 * RATE)))  # more than a pipe takes: whoever speaks to it is not held up
    assert time.monotonic() - begin < 1.0
    played = player.played_s
    wait_for(player.look_after, seconds=10.0)
    assert player.restarts == 1
    assert player.pid != old
    said = []  # it was never asked to stop

    def plays_on() -> bool:
        said.append(player.playing)
        return player.up_to_date and player.played_s > played + 0.2

    assert player.played_s >= played  # what was counted stays counted
    assert player.drop_outs >= 1  # and that it did not play is
    wait_for(plays_on)
    assert all(said)
    assert time.monotonic() - begin < 15.0
    with pytest.raises(ProcessLookupError):
        os.kill(old, 0)


def test_one_that_is_gone_before_it_played_plays_once_it_is_started_anew(tones, started):
    player = started(tones)
    os.kill(player.pid, signal.SIGSTOP)  # it begins, as on a machine that has no time for it
    player.set_versions(Version(compile_session(tones.session)), None)
    player.set_loop(0, RATE)
    player.play()
    until = time.monotonic() + 1.0
    while time.monotonic() < until:
        assert player.playing  # so it was asked, whatever it has come to yet
        time.sleep(0.05)
    os.kill(player.pid, signal.SIGKILL)
    wait_for(player.look_after)
    wait_for(lambda: player.played_s > 0.2)
    assert player.playing
    player.stop()
    wait_for(lambda: not player.playing)


def test_one_that_is_gone_while_nothing_played_stays_silent(tones, started):
    player = started(tones)
    play_for(player, tones.session, 0.1)
    os.kill(player.pid, signal.SIGKILL)
    wait_for(player.look_after)
    played = player.played_s
    wait_for(lambda: player.up_to_date)
    time.sleep(0.2)
    assert not player.playing
    assert player.played_s == played


def test_edits_that_never_pause_are_heard_though_each_takes_longer_than_the_next_is_away(tones, monkeypatch):
    player = Player(Renderer(tones.store), RATE)
    prepare = player._blocks.prepare
    monkeypatch.setattr(player._blocks, "prepare", lambda *given: (time.sleep(0.05), prepare(*given))[1])
    graphs = [compile_session(change_strip(tones.session, "low", level_db=-0.5 * n)) for n in range(80)]
    server = SimpleNamespace(
        player=player, choice=0, state={"version": -1}, received=SimpleNamespace(graph=graphs.__getitem__)
    )
    versions = _Versions(server)
    player.set_loop(0, RATE)
    reached = []
    for n in range(len(graphs)):
        versions.want(n, n, 0.0, None, 0.0)
        player.block(512)
        time.sleep(0.01)
        reached.append(server.state["version"])
    assert len(set(reached)) > 5  # of about sixteen that there is time for
    wait_for(lambda: server.state["version"] == len(graphs) - 1)  # and the last of them stays


def test_it_goes_with_whoever_started_it(tmp_path):
    """However that ends: nothing is left that plays on."""
    assert goes_with_its_parent(tmp_path, "zygotone.engine.remote", "RemotePlayer(renderer, 48000)")


def test_keys_are_heard_from_silence(tones, started, tmp_path):
    output = SimulatedOutput()
    output.record_to = tmp_path / "keys.wav"
    player = started(tones, output=output)
    wait_for(lambda: player._process.state["alive"] > 1.0)
    player.live.add(60, 0.25 * np.ones((2, RATE // 5)))
    wait_for(lambda: player.played_s > 0.1)
    wait_for(lambda: player._process.state["playing"] == 0.0)
    assert np.max(recorded(output.record_to)) > 0.2
    assert player.live.heard_frames(60) is None


def test_what_is_chosen_before_it_is_there_is_heard(tones, started):
    """B is chosen at once; it is ready a moment later."""
    player = started(tones)
    a, b = (Version(compile_session(change_strip(tones.session, "low", level_db=v))) for v in (0.0, -20.0))
    player.set_versions(a, b)
    player.choose(1)
    player.set_loop(0, RATE)
    wait_for(lambda: player.up_to_date)
    player.play()
    wait_for(lambda: player.played_s > 0.3)
    loud = player.peak[0]
    assert 0.0 < loud < 0.5  # B, or the fade into it
    player.choose(0)
    wait_for(lambda: player.peak[0] > 1.1 * loud)
    assert player.peak[0] > loud


def test_a_project_of_another_rate_is_played(tones, started, tmp_path):
    player = started(tones)
    other = replace(tones, session=tones.session.replace(rate_hz=44100, tracks=(), assets=()))
    player.reset(Renderer(other.store, other.store.held, mapped=MappedCache(tmp_path / "takes")), 44100)
    player.set_versions(Version(compile_session(other.session)), None)
    wait_for(lambda: player.up_to_date)
    assert player.rate_hz == 44100


# --- the files that both map ------------------------------------------------------------------------------------------


def test_a_take_is_mapped_found_by_others_and_bounded(tmp_path):
    cache = MappedCache(tmp_path, limit_bytes=1_000_000)
    audio = np.random.default_rng(1).standard_normal((2, 20_000)).astype(np.float32)
    held = cache.put("a", audio)
    assert isinstance(held, np.memmap)
    np.testing.assert_array_equal(MappedCache(tmp_path).get("a"), audio)
    for name in "bcdefghij":
        cache.put(name, audio)
    assert sum(p.stat().st_size for p in tmp_path.iterdir()) <= 1_000_000
    np.testing.assert_array_equal(held, audio)  # deleted, and still mapped


@given(st.lists(st.tuples(st.integers(0, 1), st.integers(0, 99_000), st.integers(1, 30_000)), max_size=4))
def test_what_is_silent_is_known_and_takes_no_room(bursts):
    """Bursts on either side: between them nothing is stored, and whoever asks is never told that a burst is silence."""
    audio = np.zeros((2, 100_000), dtype=np.float32)
    for channel, at, frames in bursts:
        audio[channel, at : at + frames] = 0.25
    with tempfile.TemporaryDirectory() as folder:
        cache = MappedCache(Path(folder))
        np.testing.assert_array_equal(cache.put("a", audio), audio)
        found = cache.sounding("a")
        (file,) = Path(folder).iterdir()
        assert found is not None
        for begin in range(0, 100_000, 1000):
            if audio[:, begin : begin + 1000].any():
                assert sounds(found, begin, begin + 1000)
        # The file system keeps it by pages of 4096 bytes, and pieces are of 8192 frames.
        assert sum(stop - start for start, stop in found) <= 2 * 2048 + sum(f + 2 * 8192 + 2048 for _, _, f in bursts)
        assert 512 * file.stat().st_blocks <= 4 * (2 * 2048 + sum(f + 2 * 8192 + 2048 for _, _, f in bursts))


def test_silence_of_a_layer_is_not_read(tmp_path, monkeypatch):
    """A song whose layers are silent for most of it sounds the same, and what is silent stays out of memory."""
    audio = np.zeros((1, 2_000_000), dtype=np.float32)
    audio[0, 1_000_000:1_050_000] = np.random.default_rng(2).uniform(-0.5, 0.5, 50_000)
    cache = MappedCache(tmp_path)
    cache.put("a", audio)
    take = KeptTake(np.asarray(MappedCache(tmp_path).get("a")), sounding=MappedCache(tmp_path).sounding("a"))
    in_memory = KeptTake(take.audio, sounding=stretches(audio))
    assert sum(last - first for first, last in in_memory.sounding or ()) <= 50_000 + 2 * 8192
    gain = np.full((2, 1), 0.5)
    for start in range(-1000, 2_001_000, 999):
        want = np.zeros((2, 999))
        first, last = max(0, -start), min(999, 2_000_000 - start)
        if last > first:
            want[:, first:last] = 0.5 * audio[:, start + first : start + last]
        np.testing.assert_array_equal(_cut([take], [gain], start, 999), want)
        np.testing.assert_array_equal(_cut([in_memory], [gain], start, 999), want)
    assert mapped_kib(cache._path("a")) < 1024  # of 8 MiB


def mapped_kib(path: Path) -> int:
    """How much of a file lies in this process's memory; the most of all its maps."""
    maps = Path("/proc/self/smaps").read_text().split(str(path))
    return max(int(part.split("Rss:")[1].split()[0]) for part in maps[1:] if "Rss:" in part)


def test_who_plays_holds_what_comes_and_not_what_was(tmp_path):
    """A clip of 24 s that is played to its end, and is let go but for what comes next."""
    project = tone_project(tmp_path, seconds=24.0, Low=100.0)
    cache = MappedCache(tmp_path / "takes")
    renderer = Renderer(project.store, mapped=cache)
    session = project.session
    player = Player(renderer, RATE)
    player.set_versions(Version(compile_session(session)), None)
    player.set_loop(0, 24 * RATE)
    player.seek(0)
    first = [player.block(512) for _ in range(40 * RATE // 512)]
    (file,) = (tmp_path / "takes").iterdir()
    assert mapped_kib(file) > 4000  # all of it
    cache.let_pages_go()
    player.read_ahead(4 * RATE)
    assert 4 * 4 * RATE / 1024 <= mapped_kib(file) < 2000
    player.seek(0)
    again = [player.block(512) for _ in range(40 * RATE // 512)]
    np.testing.assert_array_equal(np.hstack(again[20:]), np.hstack(first[20:]))


def test_pages_are_let_go_while_others_map_more(tmp_path):
    cache, mapped, wrong = MappedCache(tmp_path), [], []

    def let_go() -> None:
        try:
            while len(mapped) < 300:
                cache.let_pages_go()
        except RuntimeError as problem:
            wrong.append(problem)

    other = threading.Thread(target=let_go)
    other.start()
    for n in range(300):
        mapped.append(cache.put(str(n), np.ones((1, 8), dtype=np.float32)))
    other.join()
    assert not wrong


@pytest.mark.parametrize("sent_to_s", [1.0, 1.7, 2.6, 0.2])
def test_what_is_read_ahead_is_what_plays_next(tmp_path, monkeypatch, sent_to_s):
    """Also round the loop of 1 to 3 s, and from before it."""
    project = tone_project(tmp_path, seconds=4.0, Low=100.0)
    player = Player(Renderer(project.store, mapped=MappedCache(tmp_path / "takes")), RATE)
    player.set_versions(Version(compile_session(project.session)), None)
    player.set_loop(RATE, 3 * RATE)
    read = set[int]()
    plain = MappedClip.read

    def seen(clip: MappedClip, start: int, stop: int) -> np.ndarray:
        read.update(range(start, stop))
        return plain(clip, start, stop)

    monkeypatch.setattr(MappedClip, "read", seen)
    to = round(sent_to_s * RATE)
    player.read_ahead(RATE, to)
    before, _ = set(read), read.clear()
    player.seek(to)
    player.read_ahead(RATE)
    ahead = set(read)
    player.block(512)  # where it was fades
    read.clear()
    for _ in range(RATE // 512 - 1):
        player.block(512)
    assert len(read) > 0.9 * RATE
    assert before == ahead >= read
    assert len(ahead) <= RATE + 256  # over which it fades round the loop


def test_a_cache_that_lies_or_cannot_be_written_is_no_obstacle(tmp_path):
    cache = MappedCache(tmp_path / "takes")
    (tmp_path / "takes").mkdir()
    cache._path("bad").write_bytes(b"\x93NUMPY nonsense")
    assert cache.get("bad") is None
    blocked = tmp_path / "file"
    blocked.write_text("in the way")
    audio = np.ones((1, 10))
    np.testing.assert_array_equal(MappedCache(blocked / "takes").put("x", audio), audio)


@pytest.mark.parametrize("peak", [0.5, 3.0], ids=["within full scale", "over it"])
@pytest.mark.parametrize("channels", [1, 2])
def test_a_clip_is_decoded_once_for_all(tmp_path, monkeypatch, channels, peak):
    audio = peak * np.random.default_rng(4).uniform(-1.0, 1.0, (channels, 150_000))
    first, second = AudioStore(), AudioStore()
    asset = first.add(AudioData(audio, 48000, "FLOAT", "WAV"), "noise", 48000)
    second.add_blob(asset, first.blob_of(asset.id))
    first.mapped = second.mapped = MappedCache(tmp_path / "takes")
    exact = first.audio(asset, 48000)
    heard = first.clip(asset, 48000).read(1000, 140_000)
    np.testing.assert_allclose(heard, exact[:, 1000:140_000], atol=peak * 2.0**-24)
    monkeypatch.setattr("zygotone.session.audio_store.decoded_blocks", None)  # nobody decodes it again
    np.testing.assert_array_equal(second.clip(asset, 48000).read(1000, 140_000), heard)


def test_a_damaged_clip_leaves_nothing_in_the_cache(tmp_path):
    store = AudioStore()
    asset = store.add(AudioData(np.zeros((1, 100_000)) + 0.1, 48000, "FLOAT", "WAV"), "tone", 48000)
    blob = store.blob_of(asset.id)
    data = bytearray(blob.read())
    data[-40:] = bytes(40)
    blob.path.write_bytes(data)
    store.mapped = MappedCache(tmp_path / "takes")
    with pytest.raises(BadFileError):
        store.clip(asset, 48000)
    assert not list((tmp_path / "takes").iterdir())


def test_what_another_version_of_the_program_made_is_not_heard(tmp_path, monkeypatch):
    audio = np.ones((1, 100), dtype=np.float32)
    MappedCache(tmp_path).put("a", audio)
    assert MappedCache(tmp_path).holds("a")
    monkeypatch.setattr("zygotone.session.mapped._program", lambda: "another")
    assert not MappedCache(tmp_path).holds("a")
    assert MappedCache(tmp_path).get("a") is None


def test_what_was_made_ready_plays_without_being_rendered(tmp_path, monkeypatch):
    project = build_demo()
    play_ready(project, tmp_path)

    def never(*args, **options):
        raise AssertionError("it was there")

    monkeypatch.setattr("zygotone.engine.renderer.render_layer", never)
    graph = compile_session(project.session)
    afresh = Renderer(AudioStore(), mapped=MappedCache(takes_below(tmp_path)))
    audio = afresh.take(graph, graph.mix, project.session.section_span("chorus")).audio
    assert np.max(np.abs(audio)) > 0.01
