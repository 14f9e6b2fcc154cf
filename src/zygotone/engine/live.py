"""Notes played by hand while the song plays or stands still."""

from __future__ import annotations

import threading

import numpy as np

from zygotone.dsp.types import Stereo

_FADE_S = 0.02


class LiveNotes:
    """Rendered notes on their way to the output. ``add`` and ``let_go`` are called by whoever plays, ``mix_into`` by the
    audio thread."""

    def __init__(self, rate_hz: int) -> None:
        self._lock = threading.Lock()
        # Audio, how much of it has been heard, and whether it is held: then it waits for more when it is at its end.
        self._notes: dict[object, tuple[Stereo, int, bool]] = {}
        self._rising: dict[object, int] = {}  # of those that stand in for another rendering: how much of their fade
        self._leaving: list[tuple[Stereo, int, int]] = []  # and how much of its fade
        self._fade = round(_FADE_S * rate_hz)

    def add(self, key: object, audio: Stereo, *, held: bool = False) -> None:
        """Begin to play ``audio`` (2, frames); what had this key fades out."""
        with self._lock:
            self._drop(key)
            self._notes[key] = (audio, 0, held)

    def replace(self, key: object, audio: Stereo, *, held: bool = False) -> None:
        """Go on with another rendering of the same note from where it is, by a short cross-fade; nothing where it is over."""
        with self._lock:
            if key not in self._notes:
                return
            heard = self._notes[key][1]
            self._drop(key)
            self._notes[key] = (audio, heard, held)
            if heard:
                self._rising[key] = 0

    def heard_frames(self, key: object) -> int | None:
        with self._lock:
            return self._notes[key][1] if key in self._notes else None

    def stop(self) -> None:
        with self._lock:
            for key in tuple(self._notes):
                self._drop(key)

    def _drop(self, key: object) -> None:
        if key in self._notes:
            audio, at, _ = self._notes.pop(key)
            self._rising.pop(key, None)
            self._leaving.append((audio, at, 0))

    @property
    def idle(self) -> bool:
        with self._lock:
            return not self._notes and not self._leaving

    def mix_into(self, out: Stereo) -> None:
        """Add the next frames of all notes to out (2, n), in place."""
        n = out.shape[1]
        with self._lock:
            leaving = []
            for audio, at, faded in self._leaving:
                part = audio[:, at : at + n]
                ramp = np.clip(1.0 - (faded + np.arange(part.shape[1])) / self._fade, 0.0, 1.0)
                out[:, : part.shape[1]] += part * ramp
                if faded + n < self._fade and at + n < audio.shape[1]:
                    leaving.append((audio, at + n, faded + n))
            self._leaving = leaving
            for key, (audio, at, held) in tuple(self._notes.items()):
                part = audio[:, at : at + n]
                if key in self._rising:
                    up = np.clip((self._rising[key] + np.arange(part.shape[1])) / self._fade, 0.0, 1.0)
                    part = part * up
                    self._rising[key] += n
                    if self._rising[key] >= self._fade:
                        del self._rising[key]
                out[:, : part.shape[1]] += part
                if at + n >= audio.shape[1] and not held:
                    del self._notes[key]
                else:
                    self._notes[key] = (audio, at + n, held)
