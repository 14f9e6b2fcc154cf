"""A take on its way: what comes in, and when the song was heard, is on the disk as it comes. Whoever records may die; the take is there
as far as it came, and is finished from there in any case.

Beside where the take will be lie its sound, as little-endian 32 bit floating point, frame after frame, and lines of JSON: a head, then
``in`` and ``out``, a line for each block that came in or was played.
"""

from __future__ import annotations

import json
import queue
import statistics
import threading
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, replace
from itertools import groupby, pairwise
from pathlib import Path
from typing import Any, Literal, get_args

import numpy as np

from zygotone.dsp.types import FloatArray
from zygotone.errors import BadFileError, ZygotoneError
from zygotone.plain_files import why_not
from zygotone.session.audio_files import AudioWriter, read_audio
from zygotone.session.clip_edits import with_take
from zygotone.session.history import Trial
from zygotone.session.models import Asset, Session
from zygotone.session.project_file import Project

Side = Literal["both", "left", "right"]
MOST_TAKE_S = 1200.0
_WRITES_S = 0.2
_JOIN_S = 0.005  # from what was played before a drop-out over to what was played after it
_MOST_CHANNELS, _MOST_RATE_HZ = 64, 768_000


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


@dataclass(frozen=True, slots=True)
class Block:
    frame: int  # the first of it, of the song or of what came in
    zero: float  # when frame 0 was in the air, or would have been, by this block
    breaks: int  # how often it had broken off until then


def _sound(take: Path) -> Path:
    return take.with_suffix(".heard")


def _times(take: Path) -> Path:
    return take.with_suffix(".when")


class ComingTake:
    """Written by a thread of its own: whoever hears and plays only hands over."""

    def __init__(self, plan: RecordingPlan, rate_hz: int, end: int) -> None:
        """Raises OSError where it cannot be written there."""
        self.error: str | None = None
        self._plan = plan
        self._sound = _sound(plan.path).open("wb")
        try:
            self._times = _times(plan.path).open("w")
        except OSError:
            self._sound.close()
            raise
        head = {"start": plan.start, "end": end, "rate_hz": rate_hz, "side": plan.side, "earlier_ms": plan.earlier_ms}
        self._came: queue.SimpleQueue[tuple[dict[str, Any], FloatArray | None]] = queue.SimpleQueue()
        self._came.put((head, None))
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._write, name="take on its way", daemon=True)
        self._thread.start()

    def heard(self, block: Block, audio: FloatArray) -> None:
        self._came.put(({"in": [block.frame, block.zero, block.breaks], "channels": len(audio)}, audio))

    def played(self, block: Block) -> None:
        self._came.put(({"out": [block.frame, block.zero, block.breaks]}, None))

    def close(self) -> None:
        """Returns when all of it is written."""
        self._over.set()
        self._thread.join()

    def _write(self) -> None:
        over = False
        try:
            with self._sound, self._times:
                while not over:
                    over = self._over.wait(_WRITES_S)
                    lines = []
                    while not self._came.empty():
                        line, audio = self._came.get()
                        if audio is not None:
                            self._sound.write(np.ascontiguousarray(audio.T, dtype="<f4").tobytes())
                        lines.append(json.dumps(line) + "\n")
                    self._sound.flush()  # before the lines that speak of it
                    self._times.write("".join(lines))
                    self._times.flush()
        except OSError as problem:
            self.error = f"{self._plan.path.parent}: {why_not(problem)}. The take is kept as far as it came."


def forget_coming(take: Path) -> None:
    """What was on its way to ``take`` is not needed any more."""
    for path in (_sound(take), _times(take)):
        with suppress(OSError):
            path.unlink(missing_ok=True)


def takes_on_their_way(folder: Path) -> list[Path]:
    """Where takes would have been written that were never finished."""
    with suppress(OSError):
        return sorted(path.with_suffix(".wav") for path in folder.glob("*.when") if path.is_file())
    return []


def finish_take(path: Path) -> Taken:
    """Writes the take that was on its way to ``path``, as far as it came.

    Raises
    ------
    BadFileError : what is there is no take, or cannot be read or written.
    ZygotoneError : nothing of the song had been heard, or nothing had come in.
    """
    try:
        coming = _read(path)
    except OSError as problem:
        raise BadFileError(_times(path), "", why_not(problem)) from problem
    take, first = coming.laid_where_it_belongs()
    try:
        with AudioWriter(path, coming.rate_hz, len(take), subtype="FLOAT") as writer:
            writer.write(take)
    except OSError as problem:
        raise BadFileError(path, "", why_not(problem)) from problem
    drop_outs = coming.played[-1].breaks - coming.played[0].breaks + coming.heard[-1].breaks
    late_ms = 1000.0 * first / coming.rate_hz
    return Taken(path, coming.start, take.shape[1], late_ms, float(np.max(np.abs(take))), drop_outs)


def with_takes(project: Project, folder: Path) -> tuple[Project, list[Path]]:
    """The project, with what was on its way in ``folder`` on tracks of their own, each where it belongs, and which came: one that cannot
    be finished, as on a full disk, stays there."""
    came = []
    for path in takes_on_their_way(folder):
        with suppress(ZygotoneError):
            taken = finish_take(path)
            asset = project.store.add(read_audio(path), "Take", project.session.rate_hz)
            path.unlink(missing_ok=True)

            def put(session: Session, asset: Asset = asset, start: int = taken.start) -> Session:
                return with_take(session, asset, start)[0]

            def put_in(trial: Trial | None, put: Callable[[Session], Session] = put) -> Trial | None:
                return None if trial is None else trial.replace(session=put(trial.session))

            project = replace(
                project, session=put(project.session), trial=put_in(project.trial), second=put_in(project.second)
            )
            came.append(path)
    return project, came


def _read(path: Path) -> _Come:
    with _times(path).open(errors="replace") as file:
        lines = [line for text in file if (line := _entered(text)) is not None]
    head, *rest = lines or [{}]
    try:
        start, end, rate_hz = int(head["start"]), int(head["end"]), int(head["rate_hz"])
        side, earlier_ms = head["side"], float(head["earlier_ms"])
        came = [line for line in rest if "in" in line]
        heard, played = [_block(line["in"]) for line in came], [_block(line["out"]) for line in rest if "out" in line]
        channels = {int(line["channels"]) for line in came} or {1}
    except (KeyError, TypeError, ValueError, OverflowError) as problem:
        raise BadFileError(_times(path), "", "is no take on its way") from problem
    longest = round(2.0 * MOST_TAKE_S * rate_hz)
    usual = 0 < rate_hz <= _MOST_RATE_HZ and 0 < max(channels) <= _MOST_CHANNELS and side in get_args(Side)
    if len(channels) > 1 or not usual or not 0 <= end - start <= longest:
        raise BadFileError(_times(path), "", "is no take on its way")
    size = _sound(path).stat().st_size // (4 * max(channels))
    sound = np.fromfile(_sound(path), dtype="<f4", count=min(size, longest) * max(channels))
    sound = sound.reshape(-1, max(channels)).T
    heard = [block for block in heard if 0 <= block.frame < sound.shape[1]]
    return _Come(start, end, rate_hz, side, earlier_ms, sound, heard, played)


def _entered(text: str) -> dict[str, Any] | None:
    """A line; None of one that was cut off as it was written."""
    with suppress(ValueError, RecursionError):
        line = json.loads(text)
        return line if isinstance(line, dict) else None
    return None


def _block(values: Any) -> Block:
    frame, zero, breaks = values
    if not np.isfinite(zero):
        raise ValueError("no time")
    return Block(int(frame), float(zero), int(breaks))


@dataclass(frozen=True, slots=True)
class _Come:
    """All that came of a take."""

    start: int
    end: int
    rate_hz: int
    side: Side
    earlier_ms: float
    sound: FloatArray  # (channels, frames), what came in without a gap
    heard: list[Block]
    played: list[Block]

    def laid_where_it_belongs(self) -> tuple[FloatArray, int]:
        """The take, (channels, frames), and which frame of what was heard its first is."""
        if not self.heard or not self.played:
            raise ZygotoneError("nothing came in; nothing was recorded")
        heard, heard_from = self._with_gaps()
        if len(heard) == 2 and self.side != "both":
            heard = heard[:1] if self.side == "left" else heard[1:]
        rate = self.rate_hz
        song = _unbroken(self.played)
        song = [one for one, after in pairwise(song) if after.frame > self.start] + song[-1:]
        # Frame 0 of the song, as a frame of what was heard, in each stretch.
        zeros = [round((one.zero - heard_from) * rate + self.earlier_ms * rate / 1000.0) for one in song]
        first = zeros[0] + self.start
        frames = max(0, min(self.end, heard.shape[1] - zeros[-1]) - self.start)
        if frames == 0:
            raise ZygotoneError("it was stopped before it began; nothing was recorded")
        take = _cut(heard, first, frames)
        for one, zero in zip(song[1:], zeros[1:], strict=True):
            at = one.frame - self.start
            if 0 <= at < frames:
                rest = _cut(heard, zero + one.frame, frames - at)
                ramp = np.minimum(1.0, np.arange(frames - at) / (_JOIN_S * rate))
                take[:, at:] += ramp * (rest - take[:, at:])
        return take, first

    def _with_gaps(self) -> tuple[FloatArray, float]:
        """What came in, (channels, frames), with silence where some was lost, and when its first frame was in the air."""
        stretches = _unbroken(self.heard)
        pieces = np.split(self.sound, [one.frame for one in stretches[1:]], axis=1)
        placed, had = [pieces[0]], pieces[0].shape[1]
        for one, piece in zip(stretches[1:], pieces[1:], strict=True):
            at = round(min(MOST_TAKE_S, one.zero - stretches[0].zero) * self.rate_hz) + one.frame
            placed += [np.zeros((len(self.sound), max(0, at - had))), piece]
            had = max(had, at) + piece.shape[1]
        return np.concatenate(placed, axis=1), stretches[0].zero


def _unbroken(blocks: list[Block]) -> list[Block]:
    """The stretches between breaks. When each was is the middle of many: every block by itself comes a little early or late."""
    stretches = [list(them) for _, them in groupby(blocks, lambda block: block.breaks)]
    return [replace(them[0], zero=statistics.median(block.zero for block in them)) for them in stretches]


def _cut(heard: FloatArray, first: int, frames: int) -> FloatArray:
    """``frames`` of it from ``first`` on, which may lie before its beginning; silence where there is nothing."""
    out = np.zeros((len(heard), frames))
    begin, end = max(0, -first), max(0, min(frames, heard.shape[1] - first))
    if end > begin:
        out[:, begin:end] = heard[:, first + begin : first + end]
    return out
