"""What is played has no click and is never over full scale, whatever is done meanwhile.

A click is a second difference of more than four times that of the steady sound (issue of the house; common practice: a step in a
sine of 200 Hz is heard from about there).
"""

from __future__ import annotations

import json
import subprocess
import sys
import threading
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.builders import tone_project, write_stem
from tests.processes import wait_for
from tests.signals import sine
from zygotone.advise.new_project import project_from_stems
from zygotone.engine.graph import compile_session
from zygotone.engine.inputs import BLOCK_FRAMES
from zygotone.engine.renderer import Renderer
from zygotone.engine.stream import Player, Version
from zygotone.engine.transport import LastResort, Transport
from zygotone.session.edits import change_device, change_song, change_strip, insert_device, new_device

RATE = 48000
CLICK = 4.0


class SteppedOutput:
    """Takes as many blocks as a test lets it, and keeps what it was given."""

    name = "stepped"

    def __init__(self) -> None:
        self.blocks: list[np.ndarray] = []
        self.is_late = False  # what it says of each block
        self._may, self._took = threading.Semaphore(0), threading.Semaphore(0)

    def start(self, rate_hz: int) -> None:
        pass

    def write(self, block: np.ndarray) -> bool:
        self._may.acquire()
        self.blocks.append(block.copy())
        self._took.release()
        return self.is_late

    def step(self, blocks: int) -> None:
        for _ in range(blocks):
            self._may.release()
            assert self._took.acquire(timeout=10.0)

    def stop(self) -> None:
        pass

    def free(self) -> None:
        """It waits for nobody any more."""
        for _ in range(10_000):
            self._may.release()

    @property
    def played(self) -> np.ndarray:
        return np.concatenate(self.blocks, axis=1)


class Desk:
    """A player that plays three tones through a few devices."""

    def __init__(self, tmp_path) -> None:
        project = tone_project(tmp_path, seconds=4.0, Low=60.0, Mid=210.0, High=430.0)
        session = project.session
        for track in session.tracks:
            session = change_strip(session, track.id, level_db=-8.0)
        for track, kind in (("low", "compressor"), ("mid", "eq"), ("high", "saturation")):
            session = insert_device(session, track, new_device(session.track(track), kind), 0)
        self.session = session
        self.renderer = Renderer(project.store)
        self.player = Player(self.renderer, RATE)
        self.output = SteppedOutput()
        self.transport = Transport(self.player, self.output)
        self.player.set_loop(RATE // 2, RATE * 3 // 2 + 1234)
        self.show()

    def show(self, session=None, trial=None) -> None:
        self.session = session or self.session
        b = None if trial is None else Version(compile_session(trial), -1.5)
        self.player.set_versions(Version(compile_session(self.session)), b)

    def edit(self, change: Callable) -> None:
        self.show(change(self.session))


@pytest.fixture
def desk(tmp_path):
    made = Desk(tmp_path)
    made.transport.play()
    yield made
    made.output.free()
    made.transport.stop()


def bends(x: np.ndarray) -> np.ndarray:
    """Largest second difference of either side, at each frame."""
    return np.max(np.abs(np.diff(x, n=2, axis=1)), axis=0)


def drag(desk: Desk) -> None:
    for n in range(30):  # 30 edits a second: one every three blocks
        desk.edit(lambda s, n=n: change_strip(s, "mid", level_db=-30.0 + n))
        desk.output.step(3)


def drag_device(desk: Desk) -> None:
    for n in range(30):
        desk.edit(lambda s, n=n: change_device(s, "low", "compressor", threshold_db=-40.0 + n))
        desk.output.step(3)


def mute_four_times(desk: Desk) -> None:
    for _ in range(4):
        desk.edit(lambda s: change_strip(s, "mid", mute=not s.track("mid").mute))
        desk.output.step(1)


def switch(desk: Desk) -> None:
    for on in (False, True):
        desk.edit(lambda s, on=on: change_device(s, "high", "saturation", on=on))
        desk.output.step(6)


def undo(desk: Desk) -> None:
    before = desk.session
    desk.edit(lambda s: change_strip(s, "low", level_db=-30.0, pan_pct=80.0))
    desk.output.step(4)
    desk.show(before)


def swap(desk: Desk) -> None:
    desk.show(trial=change_strip(desk.session, "mid", level_db=-20.0))
    for choice in (1, 0, 1, 0):
        desk.player.choose(choice)
        desk.output.step(2)


def trial(desk: Desk) -> None:
    desk.show(trial=change_strip(desk.session, "mid", level_db=-20.0))
    desk.player.choose(1)
    desk.output.step(6)
    desk.show()  # and it is dropped


def tempo(desk: Desk) -> None:
    desk.edit(lambda s: change_song(s, tempo_bpm=97.0))


def jump(desk: Desk) -> None:
    for frame in (RATE, RATE // 2 + 77, RATE + 4321):
        desk.player.seek(frame)
        desk.output.step(4)


def add_and_remove(desk: Desk) -> None:
    before = desk.session
    for kind in ("delay", "reverb", "limiter"):
        desk.edit(lambda s, k=kind: insert_device(s, "mid", new_device(s.track("mid"), k), 1))
        desk.output.step(5)
    desk.show(before)


def nothing(desk: Desk) -> None:
    """It only goes round its loop."""


ACTS = [nothing, drag, drag_device, mute_four_times, switch, undo, swap, trial, tempo, jump, add_and_remove]


@pytest.mark.parametrize("act", ACTS, ids=lambda act: act.__name__)
def test_it_does_not_click(desk, act):
    desk.output.step(60)
    steady = desk.output.played[:, 24 * BLOCK_FRAMES :]
    most = CLICK * float(np.max(bends(steady)))
    act(desk)
    desk.output.step(120)  # round the loop at least once
    played = desk.output.played
    worst = int(np.argmax(bends(played)))
    assert bends(played)[worst] <= most, f"a click at block {worst / BLOCK_FRAMES:.2f}"
    assert np.max(np.abs(played)) <= 1.0


def test_it_begins_and_ends_without_a_click(desk):
    desk.output.step(60)
    most = CLICK * float(np.max(bends(desk.output.played[:, 24 * BLOCK_FRAMES :])))
    ending = threading.Thread(target=desk.transport.stop)
    ending.start()
    desk.output.free()
    ending.join()
    assert np.max(bends(desk.output.played)) <= most
    assert np.max(np.abs(desk.output.played[:, -8:])) < 1e-3


def test_each_block_that_comes_late_counts_but_the_first_which_interrupts_nothing(desk):
    desk.output.is_late = True
    desk.output.step(10)
    wait_for(lambda: desk.transport.drop_outs >= 9)
    assert desk.transport.drop_outs == 9


# --- the last resort ----------------------------------------------------------------------------------------------


def through_the_last_resort(x: np.ndarray) -> tuple[np.ndarray, list[float]]:
    limiter, out, held = LastResort(RATE), [], []
    for at in range(0, x.shape[1], BLOCK_FRAMES):
        out.append(limiter.process(x[:, at : at + BLOCK_FRAMES]))
        held.append(limiter.held_db)
    return np.concatenate(out, axis=1), held


def test_what_fits_passes_to_the_last_bit():
    x = sine(997.0, 1.0, level_db=-0.1)
    y, held = through_the_last_resort(x)
    np.testing.assert_array_equal(x, y)
    assert set(held) == {0.0}


@given(st.floats(-20.0, 60.0), st.integers(0, 2**32 - 1))
@settings(max_examples=40, deadline=None)
def test_nothing_over_full_scale_leaves(level_db, seed):
    rng = np.random.default_rng(seed)
    x = (
        10.0 ** (level_db / 20.0)
        * rng.standard_normal((2, 20 * BLOCK_FRAMES))
        * rng.integers(0, 2, (1, 20 * BLOCK_FRAMES))
    )
    x[0, rng.integers(0, x.shape[1])] = rng.choice((np.nan, np.inf, -np.inf, 1e300))
    y, _ = through_the_last_resort(x)
    assert np.all(np.isfinite(y))
    assert np.max(np.abs(y)) <= 1.0


def test_a_loud_tone_is_turned_down_not_cut_and_comes_back():
    loud = sine(1000.0, 1.0, level_db=12.0)
    y, held = through_the_last_resort(np.concatenate([loud, sine(1000.0, 2.0, level_db=-20.0)], axis=1))
    assert held[40] == pytest.approx(12.0, abs=0.1)
    steady = y[0, RATE // 2 : RATE // 2 + 9600]
    spectrum = np.abs(np.fft.rfft(steady * np.hanning(9600)))
    fundamental = spectrum[150:251].max()
    assert spectrum[400:].max() < 10.0 ** (-60.0 / 20.0) * fundamental  # cut at full scale it would be −12 dB at 3 kHz
    assert np.max(np.abs(y[0, -RATE // 2 :])) == pytest.approx(0.1, abs=0.001)  # 12 dB of hold are over after 0.6 s
    assert held[-1] == 0.0


@pytest.mark.parametrize("kinds", [(), ("saturation",), ("saturation", "limiter")], ids=["no latency", "some", "more"])
def test_the_first_beat_keeps_its_attack(tmp_path, kinds):
    """Hits stand where playing begins: at the first, after a jump, and each time round the loop."""
    hit = np.exp(-np.arange(4000) / 400.0) * np.sin(np.arange(4000) * 0.9)
    song = np.zeros(4 * RATE)
    for at in (0, RATE, 2 * RATE):
        song[at : at + 4000] = 0.5 * hit
    project = project_from_stems(
        [
            write_stem(tmp_path, "Snare", np.stack([song, song])),
            write_stem(tmp_path, "Pad", sine(80.0, 4.0, level_db=-60)),
        ],
        tempo_bpm=120.0,
    )
    session = project.session
    for kind in kinds:  # on the other track: the snare waits in a delay
        session = insert_device(session, "pad", new_device(session.track("pad"), kind), 0)
    player = Player(Renderer(project.store), RATE)
    player.set_loop(RATE, 2 * RATE)
    player.set_versions(Version(compile_session(session)), None)
    played = np.concatenate([player.block(BLOCK_FRAMES) for _ in range(250)], axis=1)[0]
    player.seek(0)
    player.set_loop(0, RATE)
    played = np.concatenate([played, *(player.block(BLOCK_FRAMES)[0] for _ in range(120))])
    found = np.correlate(played, 0.5 * hit, "valid") / np.sum((0.5 * hit) ** 2)
    whole = [
        at for at in range(len(found)) if found[at] > 0.97 and found[at] == np.max(found[max(0, at - 400) : at + 400])
    ]
    assert len(whole) == 5, whole  # three rounds of the one loop, two of the other
    assert np.diff(whole[:3]).tolist() == [RATE, RATE]


def test_whoever_plays_waits_for_no_code_to_load():
    """Neither as playing begins nor after an edit, as of a fader that is moved. In a process of its own, since here other tests
    have loaded what they need."""
    done = subprocess.run(
        [sys.executable, "-m", "tests.engine.loaded_while_playing"], cwd=Path(__file__).parents[2], capture_output=True, text=True, check=False
    )  # fmt: skip
    assert done.returncode == 0, done.stderr[-2000:]
    assert json.loads(done.stdout) == []
