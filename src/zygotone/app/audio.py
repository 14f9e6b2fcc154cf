"""Sound out: a real device through PortAudio, or the simulated one that ships with the application."""

from __future__ import annotations

import threading
import time
from pathlib import Path
from typing import Protocol

import numpy as np

from zygotone.dsp.types import Stereo
from zygotone.engine.stream import Player
from zygotone.session.audio_files import AudioWriter

BLOCK_FRAMES = 512
_FADE_S = 0.012
# Never louder than full scale, whatever a chain does: ears come first.
_SAFETY = 1.0


class Output(Protocol):
    """Takes blocks as fast as a sound card would: ``write`` returns when there is room for the next one."""

    name: str

    def start(self, rate_hz: int) -> None: ...
    def write(self, block: Stereo) -> bool: ...  # whether the block came too late
    def stop(self) -> None: ...


class SimulatedOutput:
    """Keeps time like a sound card with three blocks of buffer, plays nothing, and can write what it "played" to a WAV."""

    name = "simulated stereo"
    _AHEAD_S = 0.032

    def __init__(self) -> None:
        self._due = 0.0
        self._rate = 48000
        self._writer: AudioWriter | None = None
        self.record_to: Path | None = None

    def start(self, rate_hz: int) -> None:
        self._rate, self._due = rate_hz, time.monotonic()
        if self.record_to is not None:
            self._writer = AudioWriter(self.record_to, rate_hz, 2, subtype="FLOAT")

    def write(self, block: Stereo) -> bool:
        if self._writer is not None:
            self._writer.write(block)
        now = time.monotonic()
        late = now > self._due + self._AHEAD_S
        if late:
            self._due = now
        self._due += block.shape[1] / self._rate
        wait = self._due - self._AHEAD_S - now
        if wait > 0:
            time.sleep(wait)
        return late

    def stop(self) -> None:
        if self._writer is not None:
            self._writer.__exit__(None, None, None)
            self._writer = None


class PortAudioOutput:
    """A device of the computer."""

    def __init__(self, index: int | None, name: str) -> None:
        self._index, self.name = index, name
        self._stream = None

    def start(self, rate_hz: int) -> None:
        import sounddevice

        self._stream = sounddevice.OutputStream(
            samplerate=rate_hz, blocksize=BLOCK_FRAMES, device=self._index, channels=2, dtype="float32", latency=0.032
        )
        self._stream.start()

    def write(self, block: Stereo) -> bool:
        return bool(self._stream.write(np.ascontiguousarray(block.T, dtype=np.float32)))

    def stop(self) -> None:
        if self._stream is not None:
            self._stream.stop()
            self._stream.close()
            self._stream = None


def portaudio_outputs() -> list[PortAudioOutput]:
    """Devices that can play stereo; none where PortAudio is missing or finds nothing."""
    try:
        import sounddevice

        devices = sounddevice.query_devices()
    except Exception:  # a broken sound system must not keep the application from opening
        return []
    return [PortAudioOutput(i, d["name"]) for i, d in enumerate(devices) if d["max_output_channels"] >= 2]


class Transport:
    """Play and stop: a thread that takes blocks from the player and gives them to the output."""

    def __init__(self, player: Player, output: Output) -> None:
        self.player = player
        self.output = output
        self._thread: threading.Thread | None = None
        self._stop = threading.Event()
        self.drop_outs = 0
        self.load = 0.0  # share of a block's time that working it out takes
        self.peak = np.zeros(2)  # largest sample of the last blocks, falls slowly
        self.limited = 0  # samples held at full scale
        self.played_s = 0.0
        self.error: str | None = None

    @property
    def playing(self) -> bool:
        return self._thread is not None and self._thread.is_alive()

    def play(self) -> None:
        """Raises nothing; a device that cannot be opened is reported in ``error``."""
        if self.playing:
            return
        self._stop.clear()
        self.error = None
        try:
            self.output.start(self.player.rate_hz)
        except Exception as problem:
            self.error = f"{self.output.name} cannot be opened: {problem}"
            return
        self._thread = threading.Thread(target=self._loop, name="audio", daemon=True)
        self._thread.start()

    def stop(self) -> None:
        self._stop.set()
        if self._thread is not None:
            self._thread.join(2.0)
            self._thread = None

    def set_output(self, output: Output) -> None:
        was = self.playing
        self.stop()
        self.output = output
        if was:
            self.play()

    def _loop(self) -> None:
        rate = self.player.rate_hz
        gain, step = 0.0, 1.0 / (_FADE_S * rate)
        try:
            while True:
                begin = time.perf_counter()
                block = self.player.block(BLOCK_FRAMES)
                # Where nothing but notes played by hand is heard, it ends with the last of them.
                ending = self._stop.is_set() or (not self.player.rolling and self.player.live.idle)
                ramp = gain + np.arange(1, BLOCK_FRAMES + 1) * (-step if ending else step)
                ramp = np.clip(ramp, 0.0, 1.0)
                gain = float(ramp[-1])
                block = block * ramp
                over = np.abs(block) > _SAFETY
                if over.any():
                    self.limited += int(over.sum())
                    block = np.clip(block, -_SAFETY, _SAFETY)
                spent = time.perf_counter() - begin
                self.load += 0.05 * (spent * rate / BLOCK_FRAMES - self.load)
                self.peak = np.maximum(self.peak * 0.94, np.max(np.abs(block), axis=1))
                if self.output.write(block):
                    self.drop_outs += 1
                self.played_s += BLOCK_FRAMES / rate
                if ending and gain == 0.0:
                    break
        except Exception as problem:
            self.error = f"{self.output.name} stopped: {problem}"
        finally:
            self.peak = np.zeros(2)
            self.output.stop()
