"""Takes: what an input hears while the song plays, put where it belongs in the song.

Whoever plays along does so to what is heard. So a frame of the input belongs to the frame of the song that was in the air when it
was: what output and input need for their ways is made up for, as far as they tell it. A song that drops out goes on later, and who
plays along goes on with it: what comes after belongs where the song went on.
"""

from __future__ import annotations

import threading
from typing import Protocol

import numpy as np

from zygotone.dsp.types import FloatArray
from zygotone.engine.coming_take import (
    MOST_TAKE_S,
    Block,
    ComingTake,
    RecordingPlan,
    Side,
    Taken,
    finish_take,
    forget_coming,
)  # fmt: skip
from zygotone.engine.inputs import BLOCK_FRAMES, Input, SimulatedInput
from zygotone.errors import BadFileError, ZygotoneError
from zygotone.plain_files import why_not

SIDES: dict[Side, str] = {"both": "all it has", "left": "the first channel", "right": "the second channel"}
AFTER_S = 2.0  # how far the song may go on past the end of a take, until the last of it has come in

_CLICK_S, _CLICK_HZ, _BAR_HZ, _CLICK_GAIN = 0.03, 1000.0, 1500.0, 0.2
_PEAK_FALL = 0.94


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
        self._coming: ComingTake | None = None
        self._had = 0  # frames that came in
        self._lost = 0  # how often some was lost on the way in
        self._zero: float | None = None  # when frame 0 of the song was in the air, as of what was played last
        self._end = 0  # frame of the song at which the take is over
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
        rate = self._playing.rate_hz
        end = min(plan.end, plan.start + round(MOST_TAKE_S * rate))
        try:
            coming = ComingTake(plan, rate, end)
        except OSError as problem:
            self.error = f"{plan.path.parent}: {why_not(problem)}. Nothing is recorded."
            return
        with self._lock:
            self._coming, self._had, self._lost, self._zero, self._end = coming, 0, 0, None, end
            self._over.clear()
            self._plan = plan
        self._playing.begin_take(plan.start, self._end, plan.count_in)

    def take_up(self, plan: RecordingPlan) -> None:
        """A take that was on its way when whoever recorded it died is finished, as far as it came."""
        self._plan = plan
        self._over.set()

    def stop(self) -> None:
        """The take is over, as far as it has come."""
        self._over.set()

    @property
    def ends(self) -> bool:
        """Whether a take is over that is still to be written."""
        return self._plan is not None and self._over.is_set() and self._finishing is None

    def look(self) -> Taken | None:
        """Called now and then: a take that is over is written, and given out once."""
        if self._coming is not None and self._coming.error is not None:
            self._over.set()  # the disk is full
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
            self._zero = zero
            if self._coming is not None:
                self._coming.played(Block(frame - BLOCK_FRAMES, zero, self._playing.drop_outs))
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
            if self._coming is not None:
                self._coming.heard(Block(self._had, at - self._had / rate, self._lost), block)
            self._had += block.shape[1]
            zero = self._zero
        late = max(0.0, self._plan.earlier_ms) / 1000.0
        if zero is not None and at + block.shape[1] / rate > zero + self._end / rate + late:
            self._over.set()

    # --- the end -------------------------------------------------------------------------------------------

    def _finish(self, plan: RecordingPlan) -> None:
        with self._lock:
            coming, self._coming = self._coming, None
        if coming is not None:
            coming.close()
            self.error = coming.error or self.error
        try:
            self._taken = finish_take(plan.path)  # what was on its way stays until somebody has taken it in
        except BadFileError as problem:  # or until there is room for it
            self.error = str(problem)
        except ZygotoneError as problem:
            self.error = str(problem)
            forget_coming(plan.path)
