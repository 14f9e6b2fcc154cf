"""Sound out: a real device through PortAudio, or the simulated one that ships with the application."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, Protocol

import numpy as np

from zygotone.dsp.tiny import tiny_as_zero
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.engine.ears import Ears, Listen
from zygotone.engine.inputs import BLOCK_FRAMES
from zygotone.engine.live_meters import LiveMeters
from zygotone.engine.recording import AFTER_S, Recorder
from zygotone.engine.stream import Player
from zygotone.session.audio_files import AudioWriter

_FADE_S = 0.012
_STOP_S, _DRAIN_S = 2.0, 2.0  # how long a run is waited for that is to end
_RELEASE_DB_S, _SHOWN_DB_S = 20.0, 6.0  # how fast it comes back, and what is told of it


class Output(Protocol):
    """Takes blocks as fast as a sound card would: ``write`` returns when there is room for the next one."""

    name: str

    def start(self, rate_hz: int) -> None: ...
    def write(self, block: Stereo) -> bool: ...  # whether the block came too late
    def heard_at(self) -> float: ...  # when the next frame that is written will be in the air, by ``time.monotonic``
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

    def heard_at(self) -> float:
        """It is in time as long as it comes before its turn, which is when what was written before has been played."""
        now = time.monotonic()
        return self._AHEAD_S + (now if now > self._due + self._AHEAD_S else self._due)

    def stop(self) -> None:
        if self._writer is not None:
            self._writer.__exit__(None, None, None)
            self._writer = None


class PortAudioOutput:
    """A device of the computer."""

    def __init__(self, index: int | None, name: str) -> None:
        self.index, self.name = index, name
        self._stream: Any = None  # sounddevice publishes no types

    def start(self, rate_hz: int) -> None:
        import sounddevice

        self._stream = sounddevice.OutputStream(
            samplerate=rate_hz, blocksize=BLOCK_FRAMES, device=self.index, channels=2, dtype="float32", latency=0.032
        )
        self._stream.start()

    def write(self, block: Stereo) -> bool:
        return bool(self._stream.write(np.ascontiguousarray(block.T, dtype=np.float32)))

    def heard_at(self) -> float:
        # The latency is that of a full buffer; so much of it is empty.
        empty = self._stream.write_available / self._stream.samplerate
        return time.monotonic() + max(0.0, float(self._stream.latency) - float(empty))

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


class LastResort:
    """Never louder than full scale, whatever a chain does: ears come first. Turns down within a millisecond or two, comes back by
    20 dB a second, and holds at full scale what is quicker."""

    def __init__(self, rate_hz: int) -> None:
        self.held_db = 0.0  # how far the last block was turned down
        self._gain, self._rate_hz = 1.0, rate_hz
        self._attack = max(1, rate_hz // 1000)

    def process(self, block: Stereo) -> Stereo:
        """The block, (2, n), within full scale; what is not finite is silence."""
        frames = block.shape[1]
        peak = float(np.max(np.abs(block), initial=0.0))
        if not np.isfinite(peak):
            block = np.nan_to_num(block, nan=0.0, posinf=1.0, neginf=-1.0)
            peak = float(np.max(np.abs(block)))
        back = min(1.0, self._gain * 10.0 ** (_RELEASE_DB_S * frames / self._rate_hz / 20.0))
        gain = min(back, 1.0 / peak) if peak > 1.0 else back
        self.held_db = -20.0 * float(np.log10(min(gain, self._gain)))
        if gain == self._gain == 1.0:
            return block
        steps = frames if gain > self._gain else min(frames, self._attack)
        curve = np.full(frames, gain)
        curve[:steps] = self._gain + (gain - self._gain) * np.arange(1, steps + 1) / steps
        self._gain = gain
        return np.asarray(np.clip(block * curve, -1.0, 1.0))


class _Run:
    """One time of playing: the thread that takes blocks from the player and gives them to the output, until it is to end."""

    def __init__(self, transport: Transport, output: Output, after: _Run | None) -> None:
        self.output = output
        self.ending = threading.Event()
        self.silent = threading.Event()  # nothing more goes to the output: what is asked for now needs another run
        self._transport, self._after = transport, after
        self._thread = threading.Thread(target=self._go, name="audio", daemon=True)
        self._thread.start()

    @property
    def alive(self) -> bool:
        return self._thread.is_alive()

    def join(self, most_s: float) -> None:
        self._thread.join(most_s)

    def _go(self) -> None:
        transport = self._transport
        try:
            transport.thread_begins()
            if self._after is not None:  # the output is still playing what the last run gave it
                self._after.join(_DRAIN_S)
                self.output.start(transport.player.rate_hz)
            with tiny_as_zero():
                transport.give_blocks(self)
        except Exception as problem:
            transport.error = f"{self.output.name} stopped: {problem}"
        finally:
            self.silent.set()
            transport.peak = np.zeros(2)
            transport.meters.reset()
            self.output.stop()


class Transport:
    """Play and stop. No two runs give blocks at a time."""

    def __init__(self, player: Player, output: Output, *, thread_begins: Callable[[], None] = lambda: None) -> None:
        """``thread_begins`` is called by the thread that gives blocks, before the first."""
        self.player = player
        self.output = output
        self.thread_begins = thread_begins
        self._run: _Run | None = None
        self.drop_outs = 0
        self.load = 0.0  # share of a block's time that working it out takes
        self.peak = np.zeros(2)  # largest sample of the last blocks, falls slowly
        self.held_db = 0.0  # how far the last blocks had to be turned down to stay within full scale
        self.played_s = 0.0
        self.meters = LiveMeters(player.rate_hz)
        self.ears = Ears(player.rate_hz)
        self.error: str | None = None
        self.recorder = Recorder(self)

    @property
    def rate_hz(self) -> int:
        return self.player.rate_hz

    @property
    def playing(self) -> bool:
        run = self._run
        return run is not None and run.alive and not run.silent.is_set() and not run.ending.is_set()

    def play(self) -> None:
        """Raises nothing; a device that cannot be opened, or that does not let go, is reported in ``error``."""
        if self.playing:
            return
        self.error = None
        last = self._run if self._run is not None and self._run.alive else None
        if last is not None and last.ending.is_set() and last.output is self.output and not last.silent.is_set():
            self.error = f"{self.output.name} does not answer; choose another output"
            return
        if last is None or last.output is not self.output:
            last = None
            try:
                self.output.start(self.player.rate_hz)
            except Exception as problem:
                self.error = f"{self.output.name} cannot be opened: {problem}"
                return
        self._run = _Run(self, self.output, last)

    def stop(self) -> None:
        """Fades, and returns when the output is silent; one that hangs is waited for no longer than a moment."""
        run = self._run
        if run is not None:
            run.ending.set()
            run.join(_STOP_S)
            if not run.alive:
                self._run = None

    def listen(self, wanted: Listen) -> None:
        """How what is played is listened to."""
        self.ears.listen(wanted)

    @property
    def strip_peaks(self) -> FloatArray:
        """Largest sample of each strip of late, linear; falls slowly."""
        return self.player.strip_peaks

    def set_output(self, output: Output) -> None:
        was = self.playing
        self.stop()
        self.output = output
        if was:
            self.play()

    # --- takes ---------------------------------------------------------------------------------------------

    def begin_take(self, start: int, end: int, count_in: FloatArray) -> None:
        """Plays from ``start``, after the count-in, and goes on a while after ``end``: the last of a take comes in late."""
        self.stop()
        self.player.set_loop(start, end + round(AFTER_S * self.rate_hz))
        self.player.seek(start)
        self.player.count_in(count_in)
        self.player.rolling = True
        self.play()

    def end_take(self) -> None:
        self.stop()
        self.player.count_in(np.zeros(0))
        self.player.live.stop()

    def give_blocks(self, run: _Run) -> None:
        """In the run's thread: block after block, faded in, and out where it is to end."""
        rate = self.player.rate_hz
        gain, step, begun = 0.0, 1.0 / (_FADE_S * rate), False
        limiter = LastResort(rate)
        self.meters.reset()
        while True:
            begin = time.perf_counter()
            block = self.player.block(BLOCK_FRAMES)
            # Where nothing but notes played by hand is heard, it ends with the last of them.
            ending = run.ending.is_set() or (not self.player.rolling and self.player.live.idle)
            ramp = gain + np.arange(1, BLOCK_FRAMES + 1) * (-step if ending else step)
            ramp = np.clip(ramp, 0.0, 1.0)
            gain = float(ramp[-1])
            block = block * ramp
            self.peak = np.maximum(self.peak * 0.94, np.minimum(1.0, np.max(np.abs(block), axis=1)))
            self.meters.process(block)  # of the mix, however it is listened to
            block = limiter.process(self.ears.process(block))
            self.held_db = max(limiter.held_db, self.held_db - _SHOWN_DB_S * BLOCK_FRAMES / rate)
            spent = time.perf_counter() - begin
            self.load += 0.05 * (spent * rate / BLOCK_FRAMES - self.load)
            last = ending and gain == 0.0
            if last:
                run.silent.set()  # before the output drains: a key that is pressed now begins a run of its own
            recording = self.recorder.recording and not ending
            heard_at = run.output.heard_at() if recording else 0.0
            late = run.output.write(block)
            self.drop_outs += late and begun  # before the first there was nothing that broke
            begun = True
            if recording:
                self.recorder.played(self.player.heard_frame, heard_at + BLOCK_FRAMES / rate)
            self.played_s += BLOCK_FRAMES / rate
            if last:
                break
