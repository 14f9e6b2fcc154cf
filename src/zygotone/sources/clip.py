"""Audio clips in the song."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from zygotone.dsp.levels import db_to_gain
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.music.tempo import beats_to_seconds
from zygotone.session.audio_store import Clip
from zygotone.session.models import ClipSource, Song
from zygotone.session.parts import Part

_EDGE_S = 0.005  # a clip that runs along fades in before its part and out after it, so that the part itself is whole
_CUT_S = 0.002  # and one that is cut within fades so long at least

ClipOf = Callable[[str, int, float], Clip]  # a clip by asset id, moved by so many semitones, so many times as long


def part_gain(part: Part, at_beats: FloatArray | float, first_beat: float, end_beat: float, bpm: float) -> FloatArray:
    """Gain of a part at beats of the song: its level and its fades, which are straight lines."""
    ms = 60_000.0 / bpm
    gain = np.full(np.shape(at_beats), db_to_gain(part.gain_db))
    if part.fade_in_ms > 0.0:
        gain = gain * np.clip((at_beats - first_beat) * ms / part.fade_in_ms, 0.0, 1.0)
    if part.fade_out_ms > 0.0:
        gain = gain * np.clip((end_beat - at_beats) * ms / part.fade_out_ms, 0.0, 1.0)
    return np.asarray(gain)


class ClipReader:
    """Reads any stretch of the song from a track's clips, without copying them."""

    def __init__(self, clip_of: ClipOf, source: ClipSource, parts: Sequence[Part], song: Song, rate_hz: int) -> None:
        self._source, self._song, self._rate_hz = source, song, rate_hz
        self._gain = db_to_gain(source.gain_db)
        self._start = round(source.start_s * rate_hz)
        self._end = round(song.length_s * rate_hz)
        self._whole = clip_of(source.asset, 0, 1.0) if not parts else None
        self._parts = [
            (part, clip_of(part.clip or source.asset, part.transpose_semitones, part.stretch), *self._frames_of(part))
            for part in parts
        ]

    def _frames_of(self, part: Part) -> tuple[int, int]:
        first, end = part.span_beats(self._song.beats_of(part.section))
        bpm, rate = self._song.tempo_bpm, self._rate_hz
        return round(beats_to_seconds(first, bpm=bpm) * rate), round(beats_to_seconds(end, bpm=bpm) * rate)

    def read(self, start: int, frames: int) -> Stereo:
        """Frames of the song from ``start`` (may be below 0), shape (2, frames)."""
        if self._whole is not None:
            return self._along(self._whole, start, frames, loop=self._source.loop) * self._gain
        out = np.zeros((2, frames))
        edge = round(_EDGE_S * self._rate_hz)
        for part, clip, begin, end in self._parts:
            along = part.clip_start_s is None
            first, last = max(start, begin - edge * along), min(start + frames, end + edge * along)
            if last <= first:
                continue
            if along:
                audio = self._along(clip, first, last - first, loop=part.loop)
            else:
                audio = self._from(clip, part, begin, end, first, last)
            out[:, first - start : last - start] += audio * self._gains(
                part, begin, end, np.arange(first, last, dtype=float), edge * along
            )
        return out * self._gain

    def _along(self, clip: Clip, start: int, frames: int, *, loop: bool) -> Stereo:
        """As it runs with the song from the track's start on."""
        out = np.zeros((2, frames))
        at = start - self._start
        if not loop:
            first, last = max(0, -at), min(frames, clip.frames - at)
            if last > first:
                out[:, first:last] = clip.read(at + first, at + last)
            return out
        return _repeated(clip, 0, clip.frames, at, min(frames, self._end - start), out)

    def _from(self, clip: Clip, part: Part, begin: int, end: int, first: int, last: int) -> Stereo:
        """Frames ``first`` to ``last`` of the song from a part that has its own place in the clip."""
        out = np.zeros((2, last - first))
        assert part.clip_start_s is not None
        head = min(round(part.clip_start_s * self._rate_hz), clip.frames)
        length = min(end - begin, clip.frames - head)  # what is heard of it at a time
        if length <= 0:
            return out
        at, frames = first - begin, last - first
        if not part.loop:
            frames = min(frames, length - at)
        if not part.reverse:
            return _repeated(clip, head, length, at, frames, out)
        # Backwards: the same stretch, read from its end.
        done = 0
        while done < frames:
            position = (at + done) % length
            run = min(frames - done, length - position)
            stop = head + length - position
            out[:, done : done + run] = clip.read(stop - run, stop)[:, ::-1]
            done += run
        return out

    def _gains(self, part: Part, begin: int, end: int, frames: FloatArray, edge: int) -> FloatArray:
        bpm = self._song.tempo_bpm
        first, last = part.span_beats(self._song.beats_of(part.section))
        inside = np.clip(frames, begin, end)
        gain = part_gain(part, inside / self._rate_hz * bpm / 60.0, first, last, bpm)
        if edge:
            return np.asarray(
                gain * np.clip(np.minimum((frames - begin) / edge + 1.0, (end - frames) / edge + 1.0), 0.0, 1.0)
            )
        cut = max(1, round(_CUT_S * self._rate_hz))
        return np.asarray(gain * np.clip((end - frames) / cut, 0.0, 1.0))


def _repeated(clip: Clip, head: int, length: int, at: int, frames: int, out: Stereo) -> Stereo:
    """``frames`` frames into ``out``, from ``at`` of a stretch of ``clip`` that repeats; silence before it."""
    done = max(0, -at)
    while done < frames:
        position = (at + done) % length
        run = min(frames - done, length - position)
        out[:, done : done + run] = clip.read(head + position, head + position + run)
        done += run
    return out
