"""The player in a process of its own, as its user sees it: the same calls, and the same numbers, as of one in this process.

Versions are sent as values, only what is new of them, by digest. Sources are made here, once, into files that both map. A player
that dies or hangs is started anew with what plays now.
"""

from __future__ import annotations

import os
import queue
import subprocess
import sys
import threading
import time
from contextlib import suppress
from multiprocessing.connection import Connection, Pipe
from typing import Any

import numpy as np

from zygotone.dsp.giving_up import IsUnwanted
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.engine.graph import SourceNode, nodes_below
from zygotone.engine.player_state import PlayerState, note_place
from zygotone.engine.renderer import Renderer
from zygotone.engine.stream import Version
from zygotone.engine.transport import Output, PortAudioOutput, SimulatedOutput
from zygotone.session.models import InstrumentSource
from zygotone.session.versions import PartWriter

HUNG_S = 1.0
_QUICK_S, _PATIENCE_S, _MOST_PATIENCE_S = 5.0, 0.25, 30.0
START_S = 20.0  # from its start to its first sign of life
SETTLE_S = 0.5  # until what was asked of it is seen in its numbers


def spec_of(output: Output) -> tuple[Any, ...]:
    """An output as it can be sent."""
    if isinstance(output, PortAudioOutput):
        return ("portaudio", output.index, output.name)
    record_to = output.record_to if isinstance(output, SimulatedOutput) else None
    return ("simulated", str(record_to) if record_to is not None else None)


class _Process:
    """One run of the player's process."""

    def __init__(self, rate_hz: int, takes: str) -> None:
        self.state = PlayerState()
        self.connection, theirs = Pipe()
        handles = (theirs.fileno(), self.state.handle)
        command = [sys.executable, "-m", "zygotone.engine.player_process", *map(str, handles), f"{rate_hz}", takes]
        one_thread = {"OPENBLAS_NUM_THREADS": "1", "NUMBA_NUM_THREADS": "1", "MALLOC_ARENA_MAX": "2"}
        self._process = subprocess.Popen(
            command, pass_fds=handles, stdin=subprocess.DEVNULL, env={**os.environ, **one_thread, "PYTHONPATH": os.pathsep.join(sys.path)},
        )  # fmt: skip
        theirs.close()
        # Sent by a thread of its own: a process that hangs must not hold up whoever speaks to it.
        self._out: queue.SimpleQueue[tuple[Any, ...] | None] = queue.SimpleQueue()
        threading.Thread(target=self._send_all, name="to the player", daemon=True).start()
        self.started = time.monotonic()
        self._seen, self._seen_at = 0.0, self.started

    @property
    def pid(self) -> int:
        return self._process.pid

    def send(self, message: tuple[Any, ...]) -> None:
        self._out.put(message)

    def _send_all(self) -> None:
        with suppress(OSError, ValueError, TypeError):  # a process that is gone is seen by ``look_after``
            while (message := self._out.get()) is not None:
                self.connection.send(message)

    @property
    def works(self) -> bool:
        """Whether it runs and said so of late."""
        if self._process.poll() is not None:
            return False
        now, alive = time.monotonic(), self.state["alive"]
        if alive != self._seen:
            self._seen, self._seen_at = alive, now
        patience = HUNG_S if self._seen > 1.0 else START_S
        return now - self._seen_at < patience

    def end(self) -> None:
        """It is asked to go, and made to where it does not. What it told last can still be read."""
        self._out.put(("quit",))
        self._out.put(None)
        try:
            self._process.wait(0.5)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait(2.0)
        with suppress(OSError):
            self.connection.close()
        with suppress(OSError):
            os.close(self.state.handle)


class RemotePlayer:
    """``Player`` and ``Transport`` in one, in another process. Called from the interface's threads."""

    def __init__(self, renderer: Renderer, rate_hz: int, output: Output | None = None) -> None:
        assert renderer.mapped is not None, "both processes read its takes"
        self._renderer, self.rate_hz = renderer, rate_hz
        self._lock = threading.RLock()
        self.output: Output = output if output is not None else SimulatedOutput()
        self.error: str | None = None
        self.live = _RemoteNotes(self)
        self._versions: tuple[Version, Version | None] | None = None
        self._made: set[str] = set()  # sources that are ready, by node key
        self._loop, self._choice, self._number = (0, 1), 0, 0
        self._rolling, self._wanted = True, False  # what was asked for: whether the song moves, and whether it plays
        self._asked_at = 0.0
        self.restarts = 0
        self._not_before, self._patience_s = 0.0, _PATIENCE_S
        self._begin()

    def _begin(self) -> None:
        assert self._renderer.mapped is not None
        self._process = _Process(self.rate_hz, str(self._renderer.mapped.folder))
        self._parts = PartWriter()
        self._clips: set[tuple[str, str, int]] = set()
        threading.Thread(target=self._hear, args=(self._process.connection,), name="player told", daemon=True).start()

    def _hear(self, connection: Connection) -> None:
        with suppress(EOFError, OSError, TypeError, ValueError):  # whatever a pipe says that is closed meanwhile
            while True:
                kind, *rest = connection.recv()
                if kind == "error":
                    self.error = rest[0]

    def _send(self, *message: Any) -> None:
        self._process.send(message)

    # --- the process ---------------------------------------------------------------------------------------

    @property
    def pid(self) -> int:
        return self._process.pid

    def look_after(self) -> bool:
        """Starts it anew where it died or hangs; whether it had to."""
        with self._lock:
            now = time.monotonic()
            if self._process.works or now < self._not_before:
                return False
            # One that dies as soon as it begins would do so again at once.
            quick = now - self._process.started < _QUICK_S
            self._patience_s = min(_MOST_PATIENCE_S, 2.0 * self._patience_s) if quick else _PATIENCE_S
            self._not_before = now + self._patience_s
            at, playing = int(self._process.state["position"]), self._wanted
            self._process.end()
            self._begin()
            self.restarts += 1
            self._send("output", spec_of(self.output))
            if self._versions is not None:
                self._send_versions(*self._versions)
            self._send("choose", self._choice)
            self._send("loop", *self._loop)
            self._send("seek", at)
            if playing:
                self._send("play", self._rolling)
            return True

    def reset(self, renderer: Renderer, rate_hz: int) -> None:
        """Another project: what played stops; the process stays, where it has the same sample rate."""
        with self._lock:
            self.stop()
            self.live.stop()
            self._renderer, self._versions, self._choice = renderer, None, 0
            self._send("choose", 0)
            if rate_hz != self.rate_hz:
                self.rate_hz = rate_hz
                self._process.end()
                self._begin()
                self._send("output", spec_of(self.output))

    def close(self) -> None:
        with self._lock:
            self._process.end()

    # --- versions ------------------------------------------------------------------------------------------

    def set_versions(
        self, a: Version, b: Version | None, *, wait: bool = True, unwanted: IsUnwanted = lambda: False
    ) -> bool:
        """As ``Player.set_versions``."""
        versions = [a] if b is None else [a, b]
        for version in versions:
            missing = [node for node in _sources(version) if node.key not in self._made]
            if missing and not wait:
                return False
            self._renderer.make_sources(missing, version.graph.session)
            self._made.update(node.key for node in missing)
        with self._lock:
            if unwanted():
                return False
            self._versions = (a, b)
            self._send_versions(a, b)
        return True

    def _send_versions(self, a: Version, b: Version | None) -> None:
        digests = [self._parts.session(v.graph.session) for v in (a, b) if v is not None]
        new = list(self._parts.new.values())
        self._parts.new.clear()
        if new:
            self._send("parts", new)
        clips = []
        for version in (a, b):
            for asset in version.graph.session.assets if version is not None else ():
                blob = self._renderer.store.blob_of(asset.id)
                place = (asset.id, str(blob.path), blob.offset)
                if place not in self._clips:
                    self._clips.add(place)
                    clips.append((asset.model_dump(mode="json"), str(blob.path), blob.offset, blob.length))
        if clips:
            self._send("clips", clips)
        self._number += 1
        self._send("versions", self._number, digests[0], a.gain_db, *((digests[1], b.gain_db) if b else (None, 0.0)))

    @property
    def up_to_date(self) -> bool:
        """Whether what was asked for last is what plays."""
        return self._process.state["version"] >= self._number

    def choose(self, index: int) -> None:
        self._choice = index
        self._send("choose", index)

    def set_loop(self, start: int, end: int) -> None:
        if (start, end) != self._loop:
            self._loop = (start, end)
            self._send("loop", start, end)

    def seek(self, frame: int) -> None:
        self._send("seek", frame)

    def heard_position(self) -> int:
        return int(self._process.state["position"])

    @property
    def position(self) -> int:
        return int(self._process.state["next_position"])

    @property
    def bad_samples(self) -> int:
        return int(self._process.state["bad_samples"])

    # --- transport -----------------------------------------------------------------------------------------

    @property
    def rolling(self) -> bool:
        return self._rolling

    @rolling.setter
    def rolling(self, rolling: bool) -> None:
        self._rolling = rolling

    @property
    def playing(self) -> bool:
        """What was asked for, until it had the time to begin or to end; then what is."""
        if time.monotonic() - self._asked_at > SETTLE_S:
            self._wanted = bool(self._process.state["playing"])
        return self._wanted

    def play(self) -> None:
        self.error = None
        self._wanted, self._asked_at = True, time.monotonic()
        self._send("play", self._rolling)

    def stop(self) -> None:
        """Asks it to fade; the process does so by itself."""
        self._wanted, self._asked_at = False, time.monotonic()
        self._send("stop")

    def set_output(self, output: Output) -> None:
        self.output = output
        self._send("output", spec_of(output))

    @property
    def drop_outs(self) -> int:
        return int(self._process.state["drop_outs"])

    @property
    def limited(self) -> int:
        return int(self._process.state["limited"])

    @property
    def load(self) -> float:
        return self._process.state["load"]

    @property
    def played_s(self) -> float:
        return self._process.state["played_s"]

    @property
    def peak(self) -> FloatArray:
        state = self._process.state
        return np.array([state["left_peak"], state["right_peak"]])


class _RemoteNotes:
    """``LiveNotes`` of the other process."""

    def __init__(self, player: RemotePlayer) -> None:
        self._player = player
        self._begun: dict[object, float] = {}

    def add(self, key: object, audio: Stereo, *, held: bool = False) -> None:
        self._begun[key] = time.monotonic()
        self._player._send("note", "add", key, np.asarray(audio, dtype=np.float32), held)

    def replace(self, key: object, audio: Stereo, *, held: bool = False) -> None:
        if self.heard_frames(key) is not None:
            self._player._send("note", "replace", key, np.asarray(audio, dtype=np.float32), held)

    def heard_frames(self, key: object) -> int | None:
        frames = self._player._process.state.heard_frames[note_place(key)]
        if frames < 0.0:  # over; or sent just now
            return 0 if time.monotonic() - self._begun.get(key, -1.0) < 0.2 else None
        return int(frames)

    def stop(self) -> None:
        self._player._send("notes_stop")

    @property
    def idle(self) -> bool:
        return bool(self._player._process.state["live_idle"])


def _sources(version: Version) -> list[SourceNode]:
    """The instruments that a version plays; clips are decoded where they are played."""
    return [
        node
        for node in nodes_below([version.graph.mix])
        if isinstance(node, SourceNode) and node.track is not None and isinstance(node.track.source, InstrumentSource)
    ]
