"""Takes: what an input hears while the song plays, put where it belongs in the song.

Whoever plays along does so to what is heard. So a frame of the input belongs to the frame of the song that was in the air when it
was: what output and input need for their ways is made up for, as far as they tell it.
"""

from __future__ import annotations

import statistics
import threading
from dataclasses import dataclass
from pathlib import Path
from typing import Literal, Protocol

import numpy as np

from zygotone.dsp.types import FloatArray
from zygotone.engine.inputs import Input, SimulatedInput
from zygotone.errors import ZygotoneError
from zygotone.session.audio_files import AudioWriter

Side = Literal["both", "left", "right"]
SIDES: dict[Side, str] = {"both": "all it has", "left": "the first channel", "right": "the second channel"}
MOST_TAKE_S = 1200.0
AFTER_S = 2.0  # how far the song may go on past the end of a take, until the last of it has come in

_CLICK_S, _CLICK_HZ, _BAR_HZ, _CLICK_GAIN = 0.03, 1000.0, 1500.0, 0.2
_PEAK_FALL = 0.94


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
        self._blocks: list[tuple[float, FloatArray]] = []
        self._had = 0  # frames of them
        self._begins: list[
            float
        ] = []  # when frame 0 of the song was, or would have been, in the air, by each block that was played
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
            self._blocks, self._begins, self._had = [], [], 0
            self._end = min(plan.end, plan.start + round(MOST_TAKE_S * self._playing.rate_hz))
            self._drop_outs = self._playing.drop_outs
            self._over.clear()
            self._plan = plan
        self._playing.begin_take(plan.start, self._end, plan.count_in)

    def stop(self) -> None:
        """The take is over, as far as it has come."""
        self._over.set()

    def look(self) -> Taken | None:
        """Called now and then: a take that is over is written, and given out once."""
        if self._plan is not None and self._over.is_set() and self._finishing is None:
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
        with self._lock:
            self._begins.append(until - frame / self._playing.rate_hz)
        if isinstance(self._input, SimulatedInput):
            self._input.sing_at(until + (plan.start - frame) / self._playing.rate_hz)

    def _hear(self, block: FloatArray, at: float) -> None:
        if not np.all(np.isfinite(block)):
            block = np.nan_to_num(block, nan=0.0, posinf=0.0, neginf=0.0)
        self.peak = max(self.peak * _PEAK_FALL, float(np.max(np.abs(block), initial=0.0)))
        if self._plan is None or self._over.is_set():
            return
        with self._lock:
            self._blocks.append((at - self._had / self._playing.rate_hz, block))
            self._had += block.shape[1]
            begin = self._begins[-1] if self._begins else None
        rate = self._playing.rate_hz
        late = max(0.0, self._plan.earlier_ms) / 1000.0
        if begin is not None and at + block.shape[1] / rate > begin + self._end / rate + late:
            self._over.set()

    # --- the end -------------------------------------------------------------------------------------------

    def _finish(self, plan: RecordingPlan) -> None:
        rate = self._playing.rate_hz
        with self._lock:
            blocks, begins = self._blocks, self._begins
            self._blocks = []
        if not blocks or not begins:
            self.error = "nothing came in; nothing was recorded"
            return
        heard = np.concatenate([block for _, block in blocks], axis=1)
        if len(heard) == 2 and plan.side != "both":
            heard = heard[:1] if plan.side == "left" else heard[1:]
        # The middle of many: each block by itself comes a little early or late.
        input_begin, song_begin = (statistics.median(times) for times in ([at for at, _ in blocks], begins))
        first = round((song_begin + plan.start / rate - input_begin) * rate + plan.earlier_ms * rate / 1000.0)
        frames = min(self._end - plan.start, heard.shape[1] - first)
        if frames <= 0:
            self.error = "it was stopped before it began; nothing was recorded"
            return
        take = np.zeros((len(heard), frames))
        begin = max(0, -first)
        take[:, begin:] = heard[:, first + begin : first + frames]
        try:
            with AudioWriter(plan.path, rate, len(take), subtype="FLOAT") as writer:
                writer.write(take)
        except (ZygotoneError, OSError) as problem:
            self.error = str(problem)
            return
        self._taken = Taken(
            plan.path, plan.start, frames, 1000.0 * first / rate, float(np.max(np.abs(take))), self._playing.drop_outs - self._drop_outs
        )  # fmt: skip
