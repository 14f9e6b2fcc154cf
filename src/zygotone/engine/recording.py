"""Takes: what an input hears while the song plays, put where it belongs in the song.

Whoever plays along does so to what is heard. So a frame of the input belongs to the frame of the song that was in the air when it
was: what output and input need for their ways is made up for, as far as they tell it. A song that drops out goes on later, and who
plays along goes on with it: what comes after belongs where the song went on.
"""

from __future__ import annotations

import statistics
import threading
from dataclasses import dataclass, replace
from itertools import groupby, pairwise
from pathlib import Path
from typing import Literal, Protocol

import numpy as np

from zygotone.dsp.types import FloatArray
from zygotone.engine.inputs import BLOCK_FRAMES, Input, SimulatedInput
from zygotone.errors import ZygotoneError
from zygotone.session.audio_files import AudioWriter

Side = Literal["both", "left", "right"]
SIDES: dict[Side, str] = {"both": "all it has", "left": "the first channel", "right": "the second channel"}
MOST_TAKE_S = 1200.0
AFTER_S = 2.0  # how far the song may go on past the end of a take, until the last of it has come in

_CLICK_S, _CLICK_HZ, _BAR_HZ, _CLICK_GAIN = 0.03, 1000.0, 1500.0, 0.2
_PEAK_FALL = 0.94
_JOIN_S = 0.005  # from what was played before a drop-out over to what was played after it


@dataclass(frozen=True, slots=True)
class RecordingPlan:
    """``start`` and ``end`` are frames of the song. ``earlier_ms`` is made up for besides what the devices tell of themselves."""

    path: Path  # where the take is written, as WAV of 32 bit floating point
    start: int
    end: int
    count_in: FloatArray  # (frames,) to be heard before, as long as it takes; may be empty
    side: Side = "both"
    earlier_ms: float = 0.0


@dataclass(frozen=True, slots=True)
class Taken:
    """A take that was written: it belongs to ``start`` of the song."""

    path: Path
    start: int
    frames: int
    late_ms: float  # by how much it came in later than it was heard
    peak: float
    drop_outs: int


def count_in(beats: int, bar_beats: int, beat_s: float, rate_hz: int) -> FloatArray:
    """A click a beat, higher where a bar begins, shape (frames,)."""
    out = np.zeros(round(beats * beat_s * rate_hz))
    t = np.arange(round(_CLICK_S * rate_hz)) / rate_hz
    for beat in range(beats):
        hz = _BAR_HZ if beat % bar_beats == 0 else _CLICK_HZ
        at = round(beat * beat_s * rate_hz)
        click = _CLICK_GAIN * np.sin(2.0 * np.pi * hz * t) * np.minimum(1.0, t * 1000.0) * np.exp(-t / 0.006)
        out[at : at + len(click)] += click[: len(out) - at]
    return out


@dataclass(frozen=True, slots=True)
class _Block:
    frame: int  # the first of it, of the song or of what came in
    zero: float  # when frame 0 was in the air, or would have been, by this block
    breaks: int  # how often it had broken off until then


def _unbroken(blocks: list[_Block]) -> list[_Block]:
    """The stretches between breaks. When each was is the middle of many: every block by itself comes a little early or late."""
    stretches = [list(them) for _, them in groupby(blocks, lambda block: block.breaks)]
    return [replace(them[0], zero=statistics.median(block.zero for block in them)) for them in stretches]


class Playing(Protocol):
    """What a recorder asks of whoever plays."""

    drop_outs: int

    @property
    def rate_hz(self) -> int: ...
    def begin_take(self, start: int, end: int, count_in: FloatArray) -> None:
        """Plays the song from frame ``start`` to a little past ``end``, and before it ``count_in``, (frames,)."""

    def end_take(self) -> None: ...


class Recorder:
    """``open`` shows what comes in, ``record`` takes it. Called by one thread; blocks come from those of the input and output."""

    def __init__(self, playing: Playing) -> None:
        self._playing = playing
        self._lock = threading.Lock()
        self._input: Input | None = None
        self._plan: RecordingPlan | None = None
        self._came: list[FloatArray] = []
        self._in: list[_Block] = []  # of what came
        self._had = 0  # frames of it
        self._lost = 0  # how often some was lost on the way in
        self._out: list[_Block] = []  # of the song, as it was played
        self._end = 0  # frame of the song at which the take is over
        self._drop_outs = 0
        self._finishing: threading.Thread | None = None
        self._over = threading.Event()
        self._taken: Taken | None = None
        self.peak = 0.0  # largest sample of what comes in; falls slowly
        self.error: str | None = None

    @property
    def recording(self) -> bool:
        return self._plan is not None

    def open(self, wanted: Input | None) -> None:
        """Another input, or none. One that cannot be opened is told in ``error``."""
        if self.recording:
            self.stop()
        if self._input is not None:
            self._input.stop()
        self._input, self.peak = None, 0.0
        if wanted is None:
            return
        try:
            wanted.start(self._playing.rate_hz, self._hear)
            self._input = wanted
        except Exception as problem:  # whatever a driver says
            self.error = (
                str(problem) if isinstance(problem, ZygotoneError) else f"{wanted.name} cannot be opened: {problem}"
            )

    def record(self, plan: RecordingPlan) -> None:
        """The count-in, then the song from ``start``; the take is over at ``end``, or when it is stopped."""
        if self._input is None or self.recording:
            self.error = "choose an input to record from first" if self._input is None else None
            return
        with self._lock:
            self._came, self._in, self._out, self._had, self._lost = [], [], [], 0, 0
            self._end = min(plan.end, plan.start + round(MOST_TAKE_S * self._playing.rate_hz))
            self._drop_outs = self._playing.drop_outs
            self._over.clear()
            self._plan = plan
        self._playing.begin_take(plan.start, self._end, plan.count_in)

    def stop(self) -> None:
        """The take is over, as far as it has come."""
        self._over.set()

    @property
    def ends(self) -> bool:
        """Whether a take is over that is still to be written."""
        return self._plan is not None and self._over.is_set() and self._finishing is None

    def look(self) -> Taken | None:
        """Called now and then: a take that is over is written, and given out once."""
        if self.ends:
            self._playing.end_take()
            self._finishing = threading.Thread(target=self._finish, args=(self._plan,), name="take", daemon=True)
            self._finishing.start()
        if self._finishing is None or self._finishing.is_alive():
            return None
        self._finishing, self._plan = None, None
        taken, self._taken = self._taken, None
        return taken

    # --- from the threads of output and input --------------------------------------------------------------

    def played(self, frame: int, until: float) -> None:
        """The song was heard up to ``frame``, which will be in the air at ``until``; both before its start while it is counted in."""
        plan = self._plan
        if plan is None or self._over.is_set() or frame > self._end:
            return
        rate = self._playing.rate_hz
        zero = until - frame / rate
        with self._lock:
            self._out.append(_Block(frame - BLOCK_FRAMES, zero, self._playing.drop_outs))
        if isinstance(self._input, SimulatedInput):
            self._input.sing_at(zero + plan.start / rate, until - BLOCK_FRAMES / rate)

    def _hear(self, block: FloatArray, at: float, lost: bool) -> None:
        if not np.all(np.isfinite(block)):
            block = np.nan_to_num(block, nan=0.0, posinf=0.0, neginf=0.0)
        self.peak = max(self.peak * _PEAK_FALL, float(np.max(np.abs(block), initial=0.0)))
        if self._plan is None or self._over.is_set():
            return
        rate = self._playing.rate_hz
        with self._lock:
            self._lost += lost
            self._came.append(block)
            self._in.append(_Block(self._had, at - self._had / rate, self._lost))
            self._had += block.shape[1]
            zero = self._out[-1].zero if self._out else None
        late = max(0.0, self._plan.earlier_ms) / 1000.0
        if zero is not None and at + block.shape[1] / rate > zero + self._end / rate + late:
            self._over.set()

    # --- the end -------------------------------------------------------------------------------------------

    def _finish(self, plan: RecordingPlan) -> None:
        rate = self._playing.rate_hz
        with self._lock:
            came, self._came = self._came, []
        if not came or not self._out:
            self.error = "nothing came in; nothing was recorded"
            return
        heard, heard_from = self._laid_out(np.concatenate(came, axis=1))
        if len(heard) == 2 and plan.side != "both":
            heard = heard[:1] if plan.side == "left" else heard[1:]
        take, first = self._put(plan, heard, heard_from)
        if take.shape[1] == 0:
            self.error = "it was stopped before it began; nothing was recorded"
            return
        try:
            with AudioWriter(plan.path, rate, len(take), subtype="FLOAT") as writer:
                writer.write(take)
        except (ZygotoneError, OSError) as problem:
            self.error = str(problem)
            return
        self._taken = Taken(
            plan.path, plan.start, take.shape[1], 1000.0 * first / rate, float(np.max(np.abs(take))),
            self._playing.drop_outs - self._drop_outs + self._lost,
        )  # fmt: skip

    def _put(self, plan: RecordingPlan, heard: FloatArray, heard_from: float) -> tuple[FloatArray, int]:
        """The take, (channels, frames), and which frame of what was ``heard`` its first is."""
        rate = self._playing.rate_hz
        song = _unbroken(self._out)
        song = [one for one, after in pairwise(song) if after.frame > plan.start] + song[-1:]
        # Frame 0 of the song, as a frame of what was heard, in each stretch.
        zeros = [round((one.zero - heard_from) * rate + plan.earlier_ms * rate / 1000.0) for one in song]
        first = zeros[0] + plan.start
        frames = max(0, min(self._end, heard.shape[1] - zeros[-1]) - plan.start)
        take = _cut(heard, first, frames)
        for one, zero in zip(song[1:], zeros[1:], strict=True):
            at = one.frame - plan.start
            if at < frames:
                rest = _cut(heard, zero + one.frame, frames - at)
                ramp = np.minimum(1.0, np.arange(frames - at) / (_JOIN_S * rate))
                take[:, at:] += ramp * (rest - take[:, at:])
        return take, first

    def _laid_out(self, came: FloatArray) -> tuple[FloatArray, float]:
        """What came in, (channels, frames), with silence where some was lost, and when its first frame was in the air."""
        stretches = _unbroken(self._in)
        pieces = np.split(came, [one.frame for one in stretches[1:]], axis=1)
        placed, had = [pieces[0]], pieces[0].shape[1]
        for one, piece in zip(stretches[1:], pieces[1:], strict=True):
            at = round((one.zero - stretches[0].zero) * self._playing.rate_hz) + one.frame
            placed += [np.zeros((len(came), max(0, at - had))), piece]
            had = max(had, at) + piece.shape[1]
        return np.concatenate(placed, axis=1), stretches[0].zero


def _cut(heard: FloatArray, first: int, frames: int) -> FloatArray:
    """``frames`` of it from ``first`` on, which may lie before its beginning; silence where there is nothing."""
    out = np.zeros((len(heard), frames))
    begin, end = max(0, -first), max(0, min(frames, heard.shape[1] - first))
    if end > begin:
        out[:, begin:end] = heard[:, first + begin : first + end]
    return out
