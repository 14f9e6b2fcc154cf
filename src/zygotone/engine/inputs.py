"""Sound in: a real device through PortAudio, or the simulated singer that ships with the application."""

from __future__ import annotations

import math
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, Protocol

import numpy as np

from zygotone.dsp.types import FloatArray
from zygotone.session.audio_files import read_audio, resample

BLOCK_FRAMES = 512
# What is heard: (channels, n), when its first frame was in the air, by ``time.monotonic``, and whether some was lost before it.
Hear = Callable[[FloatArray, float, bool], None]


class Input(Protocol):
    """Calls ``hear`` with one block after the other, in a thread of its own, until it is stopped."""

    name: str

    def start(self, rate_hz: int, hear: Hear) -> None: ...
    def stop(self) -> None: ...


class SimulatedInput:
    """Somebody who sings what a file holds, to what is heard: silent, until told when to begin. Keeps time like a sound card,
    whose blocks come a while after they were in the air."""

    LATE_S = 0.02
    _FOLLOWS_S = 0.005

    def __init__(self, path: Path) -> None:
        self.path, self.name = path, f"simulated singer ({path.name})"
        self._ending = threading.Event()
        self._thread: threading.Thread | None = None
        self._told: list[tuple[float, float]] = []

    def sing_at(self, when: float, since: float = -math.inf) -> None:
        """The file's first frame is to be in the air at ``when``, or was, as who sings knows from ``since`` on. Told again and again:
        whoever sings follows a song that stumbles."""
        if not self._told or abs(when - self._told[-1][1]) > self._FOLLOWS_S:
            self._told.append((since, when))

    def start(self, rate_hz: int, hear: Hear) -> None:
        """Raises BadFileError where the file cannot be read."""
        audio = read_audio(self.path)
        sung = resample(audio.data[:2], audio.rate_hz, rate_hz)
        self._ending.clear()
        self._told = []
        self._thread = threading.Thread(target=self._go, args=(sung, rate_hz, hear), name="singer", daemon=True)
        self._thread.start()

    def _go(self, sung: FloatArray, rate_hz: int, hear: Hear) -> None:
        begun, done = time.monotonic(), 0
        while not self._ending.is_set():
            at = begun + done / rate_hz  # when this block's first frame is in the air
            if (wait := at + BLOCK_FRAMES / rate_hz + self.LATE_S - time.monotonic()) > 0.0:
                time.sleep(wait)
            block = np.zeros((len(sung), BLOCK_FRAMES))
            for since, when in self._told:
                known = min(max(0.0, (since - at) * rate_hz), BLOCK_FRAMES)
                first = round((at - when) * rate_hz)  # of the file
                block[:, round(known) :] = 0.0
                start, stop = max(0, first + round(known)), min(sung.shape[1], first + BLOCK_FRAMES)
                if stop > start:
                    block[:, start - first : stop - first] = sung[:, start:stop]
            hear(block, at, False)
            done += BLOCK_FRAMES

    def stop(self) -> None:
        self._ending.set()
        if self._thread is not None:
            self._thread.join(1.0)
            self._thread = None


class PortAudioInput:
    """A device of the computer: its first two channels, or its only one."""

    def __init__(self, index: int | None, name: str, channels: int) -> None:
        self.index, self.name, self.channels = index, name, channels
        self._stream: Any = None  # sounddevice publishes no types

    def start(self, rate_hz: int, hear: Hear) -> None:
        import sounddevice

        def take(data: FloatArray, frames: int, when: Any, status: Any) -> None:
            now = time.monotonic()
            # Both of one clock of the driver, which need not be ours; some drivers tell neither.
            waited = when.currentTime - when.inputBufferAdcTime
            if not 0.0 < waited < 1.0 or when.inputBufferAdcTime <= 0.0:
                waited = max(frames / rate_hz, float(self._stream.latency if self._stream is not None else 0.0))
            hear(np.array(data.T, dtype=np.float64), now - waited, bool(status.input_overflow))

        self._stream = sounddevice.InputStream(
            samplerate=rate_hz, blocksize=BLOCK_FRAMES, device=self.index, channels=min(2, self.channels), dtype="float32",
            latency=0.032, callback=take,
        )  # fmt: skip
        self._stream.start()

    def stop(self) -> None:
        if self._stream is not None:
            self._stream.stop()
            self._stream.close()
            self._stream = None


def portaudio_inputs() -> list[PortAudioInput]:
    """Devices that can be recorded from; none where PortAudio is missing or finds nothing."""
    try:
        import sounddevice

        devices = sounddevice.query_devices()
    except Exception:  # a broken sound system must not keep the application from opening
        return []
    return [
        PortAudioInput(i, d["name"], int(d["max_input_channels"]))
        for i, d in enumerate(devices)
        if d["max_input_channels"] >= 1
    ]
