"""An audio clip in the song."""

from __future__ import annotations

import numpy as np

from zygotone.dsp.levels import db_to_gain
from zygotone.dsp.types import Stereo
from zygotone.session.audio_store import Clip
from zygotone.session.models import ClipSource, Song

_FADE_S = 0.005  # at the edges of sections in which the clip is silent


class ClipReader:
    """Reads any stretch of the song from a clip, without copying the clip."""

    def __init__(self, clip: Clip, source: ClipSource, song: Song, rate_hz: int) -> None:
        self._clip, self._loop = clip, source.loop
        self._gain = db_to_gain(source.gain_db)
        self._start = round(source.start_s * rate_hz)
        self._end = round(song.length_s * rate_hz)
        self._fade = round(_FADE_S * rate_hz)
        self._spans: list[tuple[int, int]] | None = None
        if source.sections is not None:
            frames_per_bar = song.bar_s * rate_hz
            self._spans = [
                (round(first * frames_per_bar), round(end * frames_per_bar))
                for section, first, end in song.spans()
                if section.id in source.sections
            ]

    def read(self, start: int, frames: int) -> Stereo:
        """Frames of the song from ``start`` (may be below 0), shape (2, frames)."""
        out = np.zeros((2, frames))
        size = self._clip.frames
        at = start - self._start
        if not self._loop:
            first, last = max(0, -at), min(frames, size - at)
            if last > first:
                out[:, first:last] = self._clip.read(at + first, at + last)
        else:
            first, last = max(0, -at), min(frames, self._end - start)
            while first < last:
                position = (at + first) % size
                run = min(last - first, size - position)
                out[:, first : first + run] = self._clip.read(position, position + run)
                first += run
        if self._spans is not None:
            out *= self._window(np.arange(start, start + frames))
        return out * self._gain

    def _window(self, frames: np.ndarray) -> np.ndarray:
        window = np.zeros(len(frames))
        assert self._spans is not None
        for begin, end in self._spans:
            rise = (frames - begin) / self._fade + 1.0
            fall = (end - frames) / self._fade
            window = np.maximum(window, np.clip(np.minimum(rise, fall), 0.0, 1.0))
        return window
