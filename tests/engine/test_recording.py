"""Takes from an input: they belong where they were sung, whatever the ways in and out take."""

import errno
import os
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.builders import device, tone_project
from tests.processes import wait_for
from tests.signals import RATE
from zygotone.engine.coming_take import (
    Block,
    ComingTake,
    RecordingPlan,
    Taken,
    finish_take,
    forget_coming,
    takes_on_their_way,
    with_takes,
)  # fmt: skip
from zygotone.engine.graph import compile_session
from zygotone.engine.inputs import BLOCK_FRAMES, SimulatedInput
from zygotone.engine.recording import Recorder, count_in
from zygotone.engine.remote import RemotePlayer
from zygotone.engine.renderer import Renderer
from zygotone.engine.stream import Player, Version
from zygotone.engine.transport import SimulatedOutput, Transport
from zygotone.errors import BadFileError, ZygotoneError
from zygotone.session.audio_files import AudioWriter, read_audio
from zygotone.session.edits import insert_device
from zygotone.session.mapped import MappedCache

NO_CLICKS = np.zeros(0)
CLAPS_S = (0.0, 0.31, 0.6, 1.05)
TAKE_FRAMES = round(1.4 * RATE)


def claps(tmp_path: Path, *, channels: int = 1) -> tuple[Path, np.ndarray]:
    """Noise bursts at no even times, as a file."""
    x = np.zeros((channels, TAKE_FRAMES))
    rng = np.random.default_rng(4)
    for at_s in CLAPS_S:
        at = round(at_s * RATE)
        x[:, at : at + 2400] = 0.5 * rng.uniform(-1, 1, (channels, 2400))
    if channels == 2:
        x[1] *= -0.5
    path = tmp_path / "claps.wav"
    with AudioWriter(path, RATE, channels, subtype="FLOAT") as writer:
        writer.write(x)
    return path, x


@pytest.fixture
def session(tmp_path):
    """Two tones; one goes through what takes its time: the song is heard later than it is read."""
    made = insert_device(
        tone_project(tmp_path, Low=100.0, High=1000.0).session, "low", device("limiter", "l", lookahead_ms=10.0)
    )
    assert compile_session(made).mix.latency > 400
    return made


@pytest.fixture
def transport(tmp_path, session):
    project = tone_project(tmp_path, Low=100.0, High=1000.0)
    player = Player(Renderer(project.store), RATE)
    player.set_versions(Version(compile_session(session)), None)
    made = Transport(player, SimulatedOutput())
    yield made
    made.recorder.open(None)
    made.stop()


@pytest.fixture
def remote(tmp_path, session):
    """A player in a process of its own that plays the session, and the simulated singer before it."""
    path, sung = claps(tmp_path)
    project = tone_project(tmp_path, Low=100.0, High=1000.0)
    renderer = Renderer(project.store, project.store.held, mapped=MappedCache(tmp_path / "takes"))
    player = RemotePlayer(renderer, RATE)
    player.set_versions(Version(compile_session(session)), None)
    wait_for(lambda: player.up_to_date)
    player.recorder.open(SimulatedInput(path))
    yield player, sung
    player.close()


def taken_by(player: RemotePlayer) -> Taken:
    found: list[Taken] = []
    wait_for(lambda: (taken := player.recorder.look()) is not None and not found.append(taken), seconds=30.0)
    return found[0]


def _one_take(recorder: Recorder, plan: RecordingPlan) -> Taken | None:
    recorder.record(plan)
    found: list[Taken] = []
    wait_for(
        lambda: ((taken := recorder.look()) is not None and not found.append(taken)) or not recorder.recording,
        seconds=30.0,
    )
    return found[0] if found else None


def take(recorder: Recorder, plan: RecordingPlan, *, whole: bool = True) -> Taken | None:
    """Once more where the machine stood still while it went, as one would, unless that is what is looked at."""
    for _ in range(10):
        taken = _one_take(recorder, plan)
        if not (whole and taken is not None and taken.drop_outs):
            break
    return taken


def plan_of(tmp_path: Path, **more) -> RecordingPlan:
    whole = {
        "path": tmp_path / "take.wav",
        "start": RATE // 2,
        "end": RATE // 2 + TAKE_FRAMES,
        "count_in": NO_CLICKS,
    } | more
    return RecordingPlan(**whole)


def late_frames(x: np.ndarray, y: np.ndarray) -> int:
    """How much later y is than x."""
    n = 1 << (len(x) + len(y)).bit_length()
    whole = np.fft.irfft(np.conj(np.fft.rfft(x, n)) * np.fft.rfft(y, n), n)
    at = int(np.argmax(whole))
    return at if at < n // 2 else at - n


@pytest.mark.parametrize("clicks", [NO_CLICKS, count_in(2, 4, 0.4, RATE)], ids=["at once", "counted in"])
def test_a_take_is_where_it_was_sung(transport, tmp_path, clicks):
    path, sung = claps(tmp_path)
    transport.recorder.open(SimulatedInput(path))
    taken = take(transport.recorder, plan_of(tmp_path, count_in=clicks))
    assert transport.recorder.error is None
    assert (taken.start, taken.frames, taken.drop_outs) == (RATE // 2, TAKE_FRAMES, 0)
    audio = read_audio(taken.path).data
    late = late_frames(sung[0], audio[0])
    assert abs(late) <= 2
    np.testing.assert_allclose(audio[0, 2 + late : RATE], sung[0, 2 : RATE - late], atol=1e-6)
    assert taken.peak == pytest.approx(np.max(np.abs(sung)), abs=0.01)
    assert not transport.playing


class Room(SimulatedOutput):
    """A loudspeaker with a microphone before it: what is played comes back, with a time of its own."""

    name = "room"

    def start(self, rate_hz: int, hear=None) -> None:
        if hear is not None:
            self.hear = hear
        else:
            super().start(rate_hz)

    def write(self, block: np.ndarray) -> bool:
        self.hear(block.copy(), self.heard_at(), False)
        return super().write(block)


@pytest.mark.parametrize("clicks", [NO_CLICKS, count_in(2, 4, 0.25, RATE)], ids=["at once", "counted in"])
def test_a_microphone_before_the_loudspeaker_hears_the_song_where_it_is(transport, session, tmp_path, clicks):
    room = Room()
    transport.recorder.open(room)
    transport.set_output(room)
    taken = take(transport.recorder, plan_of(tmp_path, count_in=clicks))
    project = tone_project(tmp_path, Low=100.0, High=1000.0)
    song = Renderer(project.store).mix(session)[0, taken.start : taken.start + taken.frames]
    # The tones repeat, so what comes late is looked for within half of a turn of the lower: 240 frames.
    x, y = song[4800:52800], read_audio(taken.path).data[0]
    errors = [np.max(np.abs(y[4800 + late : 52800 + late] - x)) for late in range(-230, 230)]
    assert abs(int(np.argmin(errors)) - 230) <= 2
    assert min(errors) < 1e-3


class Stumbling(SimulatedOutput):
    """A sound card that gets nothing for a while before these of its blocks."""

    name = "stumbling"

    def __init__(self, *blocks: int) -> None:
        super().__init__()
        self.blocks, self.none_before = 0, blocks

    def write(self, block: np.ndarray) -> bool:
        self.blocks += 1
        if self.blocks in self.none_before:
            time.sleep(0.15)
        return super().write(block)


@pytest.mark.parametrize(
    ("before", "clicks"),
    [((12,), NO_CLICKS), ((85,), NO_CLICKS), ((40, 70, 100), NO_CLICKS), ((60,), count_in(4, 4, 0.4, RATE))],
    ids=["early", "late", "three times", "in the count-in"],
)
def test_a_song_that_drops_out_is_followed_and_all_is_where_it_was_sung(transport, tmp_path, before, clicks):
    path, sung = claps(tmp_path)
    transport.set_output(Stumbling(*before))
    transport.recorder.open(SimulatedInput(path))
    taken = take(transport.recorder, plan_of(tmp_path, count_in=clicks), whole=False)
    assert taken.drop_outs >= len(before)
    audio = read_audio(taken.path).data[0]
    for clap_s in CLAPS_S:
        clap = slice(round(clap_s * RATE), round((clap_s + 0.15) * RATE))
        assert abs(late_frames(sung[0, clap], audio[clap])) <= 2


class Losing(SimulatedInput):
    """A driver that loses a tenth of a second of what came in, once, and says so."""

    def start(self, rate_hz, hear):
        self.blocks = 0

        def less(block, at, lost):
            self.blocks += 1
            if not 60 <= self.blocks < 70:
                hear(block, at, self.blocks == 70)

        super().start(rate_hz, less)


def test_what_an_input_loses_is_silent_and_the_rest_stays_in_its_place(transport, tmp_path):
    path, sung = claps(tmp_path)
    transport.recorder.open(Losing(path))
    transport.recorder._input.blocks = 0
    taken = take(transport.recorder, plan_of(tmp_path), whole=False)
    assert taken.drop_outs >= 1
    audio = read_audio(taken.path).data[0]
    assert abs(late_frames(sung[0, : RATE // 4], audio[: RATE // 4])) <= 2
    assert abs(late_frames(sung[0, RATE:], audio[RATE:])) <= 2


def test_what_the_devices_do_not_tell_is_made_up_for_by_hand(transport, tmp_path):
    path, sung = claps(tmp_path)
    transport.recorder.open(SimulatedInput(path))
    taken = take(transport.recorder, plan_of(tmp_path, earlier_ms=25.0))
    assert late_frames(sung[0], read_audio(taken.path).data[0]) == pytest.approx(-0.025 * RATE, abs=2)
    assert taken.frames == TAKE_FRAMES  # the end is there too


def test_a_count_in_is_heard_before_and_the_song_right_after(transport, tmp_path):
    path, _ = claps(tmp_path)
    transport.output.record_to = tmp_path / "heard.wav"
    transport.recorder.open(SimulatedInput(path))
    beat = 0.4
    clicks = count_in(3, 3, beat, RATE)
    take(transport.recorder, plan_of(tmp_path, count_in=clicks))
    heard = read_audio(tmp_path / "heard.wav").data[0]
    begins = round(3 * beat * RATE)
    for n in range(3):
        at = round(n * beat * RATE)
        assert np.max(np.abs(heard[at : at + 1000])) > 0.02
        assert np.max(np.abs(heard[at + 4000 : at + 12000])) < 1e-6  # and nothing between them
    project = tone_project(tmp_path, Low=100.0, High=1000.0)
    song = Renderer(project.store).mix(
        insert_device(project.session, "low", device("limiter", "l", lookahead_ms=10.0))
    )[0]
    lead = 2000
    np.testing.assert_allclose(
        heard[begins + lead : begins + RATE], song[RATE // 2 + lead : RATE // 2 + RATE], atol=1e-5
    )


def test_a_count_in_shorter_than_what_comes_before_the_song_is_still_right(transport, tmp_path):
    path, sung = claps(tmp_path)
    transport.recorder.open(SimulatedInput(path))
    taken = take(transport.recorder, plan_of(tmp_path, count_in=count_in(1, 4, 0.01, RATE)))
    assert abs(late_frames(sung[0], read_audio(taken.path).data[0])) <= 2


@pytest.mark.parametrize(
    ("side", "channels", "want"), [("both", 2, 2), ("left", 2, 1), ("right", 2, 1), ("right", 1, 1)]
)
def test_the_channels_that_are_asked_for(transport, tmp_path, side, channels, want):
    path, sung = claps(tmp_path, channels=channels)
    transport.recorder.open(SimulatedInput(path))
    taken = take(transport.recorder, plan_of(tmp_path, side=side))
    audio = read_audio(taken.path).data
    assert len(audio) == want
    which = sung[-1] if side == "right" else sung[0]
    late = late_frames(which, audio[0])
    assert abs(late) <= 2
    n = RATE
    np.testing.assert_allclose(audio[0, 10 + late : 10 + late + n], which[10 : 10 + n], atol=1e-6)


def test_one_that_is_stopped_is_kept_as_far_as_it_came(transport, tmp_path):
    path, sung = claps(tmp_path)
    recorder = transport.recorder
    recorder.open(SimulatedInput(path))
    recorder.record(plan_of(tmp_path))
    time.sleep(0.9)
    recorder.stop()
    found: list[Taken] = []
    wait_for(lambda: (taken := recorder.look()) is not None and not found.append(taken))
    assert 0.4 * RATE < found[0].frames < 1.3 * RATE
    audio = read_audio(found[0].path).data[0]
    assert abs(late_frames(sung[0], audio)) <= 2
    assert not transport.playing


def test_what_is_stopped_in_its_count_in_is_no_take(transport, tmp_path):
    path, _ = claps(tmp_path)
    recorder = transport.recorder
    recorder.open(SimulatedInput(path))
    recorder.record(plan_of(tmp_path, count_in=count_in(4, 4, 0.5, RATE)))
    time.sleep(0.5)
    recorder.stop()
    wait_for(lambda: recorder.look() is None and not recorder.recording)
    assert "before it began" in recorder.error
    assert not (tmp_path / "take.wav").exists()
    # And what is played next does not wait.
    transport.player.seek(0)
    transport.play()
    begun = transport.played_s
    wait_for(lambda: transport.played_s > begun + 0.3)
    assert transport.player.position > 0.1 * RATE


def test_an_input_shows_its_level_and_one_that_fails_is_told(transport, tmp_path):
    path, _ = claps(tmp_path)
    singer = SimulatedInput(path)
    transport.recorder.open(singer)
    assert transport.recorder.peak == 0.0
    singer.sing_at(time.monotonic())
    wait_for(lambda: transport.recorder.peak > 0.3)
    transport.recorder.open(SimulatedInput(tmp_path / "nothing.wav"))
    assert "nothing.wav" in transport.recorder.error
    transport.recorder.error = None
    transport.recorder.record(plan_of(tmp_path))
    assert "choose an input" in transport.recorder.error
    assert not transport.playing


def test_a_take_by_the_player_in_a_process_of_its_own(remote, tmp_path):
    player, sung = remote
    player.recorder.record(plan_of(tmp_path, count_in=count_in(1, 4, 0.3, RATE)))
    assert player.playing
    assert abs(late_frames(sung[0], read_audio(taken_by(player).path).data[0])) <= 2
    wait_for(lambda: not player.recorder.recording and not player.playing)


def test_of_a_player_that_dies_while_it_records_the_take_is_kept_as_far_as_it_came(remote, tmp_path):
    player, sung = remote
    player.recorder.record(plan_of(tmp_path))
    wait_for(lambda: player.state["recording"] == 1.0 and player.state["position"] > RATE // 2 + RATE)
    os.kill(player.pid, signal.SIGKILL)
    wait_for(player.look_after)
    assert "kept as far as it came" in player.error
    taken = taken_by(player)
    assert taken.start == RATE // 2
    assert RATE // 2 < taken.frames < TAKE_FRAMES  # a second, less what was not written yet
    assert taken.peak == pytest.approx(0.5, abs=0.02)
    kept = read_audio(taken.path).data[0]
    assert abs(late_frames(sung[0][: len(kept)], kept)) <= 2
    wait_for(lambda: not player.recorder.recording)
    assert not player.playing
    wait_for(lambda: player.up_to_date)
    player.recorder.record(plan_of(tmp_path, path=tmp_path / "again.wav"))  # the input is open there too
    assert abs(late_frames(sung[0], read_audio(taken_by(player).path).data[0])) <= 2


def test_of_a_player_that_dies_before_the_take_begins_nothing_is_there_and_that_is_said(remote, tmp_path):
    player, _ = remote
    os.kill(player.pid, signal.SIGSTOP)
    player.recorder.record(plan_of(tmp_path))
    os.kill(player.pid, signal.SIGKILL)
    wait_for(player.look_after)
    wait_for(lambda: player.error is not None and "take.when" in player.error)
    wait_for(lambda: not player.recorder.recording)
    assert player.recorder.look() is None


def come(
    folder: Path, seconds: float, *, channels: int = 1, lost_at: int | None = None
) -> tuple[RecordingPlan, np.ndarray]:
    """What lies in a folder of a take of noise that nobody finished: it was heard half a second after the song began."""
    plan = plan_of(folder, start=0, end=60 * RATE)
    sung = np.random.default_rng(5).uniform(-0.5, 0.5, (channels, round(seconds * RATE))).astype(np.float32)
    coming = ComingTake(plan, RATE, plan.end)
    for n, at in enumerate(range(0, sung.shape[1], BLOCK_FRAMES)):
        block = sung[:, at : at + BLOCK_FRAMES]
        coming.played(Block(at, 100.0, 0))
        gap = 0.25 if lost_at is not None and n >= lost_at else 0.0
        coming.heard(Block(at, 99.5 + gap, int(gap > 0.0)), block)
    coming.close()
    return plan, sung


@pytest.mark.parametrize("channels", [1, 2])
def test_a_take_that_nobody_finished_is_finished_later(tmp_path, channels):
    plan, sung = come(tmp_path, 2.0, channels=channels)
    assert takes_on_their_way(tmp_path) == [plan.path]
    taken = finish_take(plan.path)
    assert (taken.start, taken.frames) == (0, sung.shape[1] - RATE // 2)
    np.testing.assert_array_equal(read_audio(plan.path).data, sung[:, RATE // 2 :])
    forget_coming(plan.path)
    assert takes_on_their_way(tmp_path) == []
    assert [p.name for p in tmp_path.iterdir()] == ["take.wav"]


def test_of_takes_that_come_back_one_that_cannot_be_finished_stays(tmp_path, monkeypatch):
    project = tone_project(tmp_path, Low=100.0)
    come(tmp_path, 2.0)
    (tmp_path / "other.when").write_text("no take")
    brought, came = with_takes(project, tmp_path)
    assert [t.name for t in brought.session.tracks] == ["Low", "Take"]
    assert came == [tmp_path / "take.wav"]
    with monkeypatch.context() as full:
        full.setattr(
            "zygotone.engine.coming_take.finish_take",
            lambda path: (_ for _ in ()).throw(BadFileError(path, "", "full")),
        )
        assert with_takes(project, tmp_path) == (project, [])
    assert takes_on_their_way(tmp_path) == [tmp_path / "other.wav", tmp_path / "take.wav"]


def test_what_was_lost_on_the_way_in_leaves_its_place(tmp_path):
    plan, sung = come(tmp_path, 2.0, lost_at=100)
    taken = finish_take(plan.path)
    at = 100 * BLOCK_FRAMES - RATE // 2
    assert taken.drop_outs == 1
    kept = read_audio(plan.path).data
    np.testing.assert_array_equal(kept[:, :at], sung[:, RATE // 2 : 100 * BLOCK_FRAMES])
    assert not kept[:, at : at + RATE // 4].any()
    np.testing.assert_array_equal(kept[:, at + RATE // 4 :], sung[:, 100 * BLOCK_FRAMES :])


@given(st.data())
def test_of_files_that_were_cut_off_anywhere_there_is_what_they_still_hold(data):
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        plan, sung = come(folder, 1.0)
        for path in (plan.path.with_suffix(".heard"), plan.path.with_suffix(".when")):
            whole = path.read_bytes()
            kept = whole[: data.draw(st.integers(0, len(whole)), label=path.suffix)]
            path.write_bytes(kept + data.draw(st.binary(max_size=40)))
        try:
            said, frames = "", finish_take(plan.path).frames
        except ZygotoneError as problem:
            said, frames = str(problem), 1
        assert len(said) <= 300
        assert "\n" not in said
        assert 0 < frames <= sung.shape[1]


def test_a_disk_that_is_full_ends_the_take_and_what_came_is_kept(transport, tmp_path):
    path, sung = claps(tmp_path)
    transport.recorder.open(SimulatedInput(path))
    transport.recorder.record(plan_of(tmp_path))
    wait_for(lambda: transport.player.position > RATE // 2 + RATE // 2)

    class Full:
        def __init__(self, file):
            self._file = file

        def write(self, data):
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))

        def __getattr__(self, name):
            return getattr(self._file, name)

    transport.recorder._coming._sound = Full(transport.recorder._coming._sound)
    found: list[Taken] = []
    wait_for(lambda: (taken := transport.recorder.look()) is not None and not found.append(taken))
    assert "take is kept as far as it came" in transport.recorder.error
    assert "full" in transport.recorder.error
    assert 0 < found[0].frames < TAKE_FRAMES
    kept = read_audio(found[0].path).data[0]
    assert abs(late_frames(sung[0][: len(kept)], kept)) <= 2


def test_an_input_that_takes_long_to_open_holds_up_nobody(remote, tmp_path):
    """Seven minutes to sing, at another rate: longer to read than a process may be silent."""
    player, _ = remote
    with AudioWriter(tmp_path / "long.wav", 44100, 2, subtype="FLOAT") as writer:
        for n in range(28):
            writer.write(np.random.default_rng(n).uniform(-0.5, 0.5, (2, 15 * 44100)))
    player.recorder.open(SimulatedInput(tmp_path / "long.wav"))
    player.recorder.record(plan_of(tmp_path))
    longest, seen, at = 0.0, player.state["alive"], time.monotonic()
    end, taken = at + 120.0, None
    while taken is None:
        if player.state["alive"] != seen:
            seen, at = player.state["alive"], time.monotonic()
        longest = max(longest, time.monotonic() - at)
        assert time.monotonic() < end
        time.sleep(0.005)
        player.look_after()
        taken = player.recorder.look()
    assert (player.restarts, player.error) == (0, None)
    assert longest < 1.0
    assert taken.peak > 0.1


def test_portaudio_records_from_a_device(tmp_path):
    """The real PortAudio path without hardware: ALSA's file device, which hears what a file holds, as fast as it is asked."""
    t = np.arange(4 * RATE) / RATE
    sung = np.stack([0.25 * np.sin(2 * np.pi * 440 * t), np.where(t < 0.001, np.nan, 0.1)]).astype("<f4")
    (tmp_path / "sung.raw").write_bytes(sung.T.tobytes())
    (tmp_path / "asound.conf").write_text(
        f'pcm.!default {{ type file slave.pcm {{ type null }} file "/dev/null" infile "{tmp_path}/sung.raw" format "raw" }}\n'
        "ctl.!default { type null }\n"
    )
    code = (
        "import sys, time, numpy as np\n"
        "from pathlib import Path\n"
        "from zygotone.engine.inputs import portaudio_inputs\n"
        "from zygotone.engine.coming_take import RecordingPlan\n"
        "from zygotone.engine.recording import Recorder\n"
        "class Playing:\n"
        "    rate_hz, drop_outs = 48000, 0\n"
        "    def begin_take(self, start, end, clicks): pass\n"
        "    def end_take(self): pass\n"
        "recorder = Recorder(Playing())\n"
        "recorder.open(portaudio_inputs()[0])\n"
        "assert recorder.error is None, recorder.error\n"
        "recorder.record(RecordingPlan(Path(sys.argv[1]), 0, 24000, np.zeros(0)))\n"
        "recorder.played(0, time.monotonic())\n"
        "end = time.monotonic() + 20\n"
        "while (taken := recorder.look()) is None: time.sleep(0.01); assert time.monotonic() < end, recorder.error\n"
        "recorder.open(None); print(taken.frames, taken.peak)\n"
    )
    env = {**os.environ, "ALSA_CONFIG_PATH": str(tmp_path / "asound.conf")}
    done = subprocess.run(
        [sys.executable, "-W", "ignore", "-c", code, str(tmp_path / "take.wav")], capture_output=True, text=True, timeout=60, env=env, check=False
    )  # fmt: skip
    assert done.stdout.strip().startswith("24000 0.25"), done.stderr
    audio = read_audio(tmp_path / "take.wav").data
    assert audio.shape == (2, 24000)
    # Whatever of the file came into the take: a tone of 440 Hz on the left, and what was not finite is silence on the right.
    spectrum = np.abs(np.fft.rfft(audio[0]))
    assert np.argmax(spectrum) * RATE / 24000 == pytest.approx(
        440.0, abs=20.0
    )  # blocks may be missed, at many times the speed
    assert set(np.unique(audio[1])) <= {0.0, np.float64(np.float32(0.1))}


def test_clicks_are_on_the_beats_and_the_first_of_a_bar_is_higher():
    clicks = count_in(4, 2, 0.5, RATE)
    assert len(clicks) == 2 * RATE
    hz = []
    for beat in range(4):
        at = round(beat * 0.5 * RATE)
        assert np.max(np.abs(clicks[at : at + 96])) > 0.1
        spectrum = np.abs(np.fft.rfft(clicks[at : at + BLOCK_FRAMES], 8192))
        hz.append(np.argmax(spectrum) * RATE / 8192)
    assert hz == pytest.approx([1500.0, 1000.0, 1500.0, 1000.0], rel=0.05)
