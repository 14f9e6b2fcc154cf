"""The player in a process of its own, as its user sees it: the same calls, and the same numbers, as of one in this process.

Versions are sent as values, only what is new of them, by digest. Sources are rendered once, by the measurer, into files that all
map. A player that dies or hangs is started anew with what plays now.
"""

from __future__ import annotations

import threading
import time
from contextlib import suppress
from multiprocessing.connection import Connection
from typing import Any

import numpy as np

from zygotone.dsp.giving_up import IsUnwanted
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.engine.child import Child, Patience
from zygotone.engine.coming_take import RecordingPlan, Taken
from zygotone.engine.ears import Listen
from zygotone.engine.inputs import Input, PortAudioInput, SimulatedInput
from zygotone.engine.live_meters import Metered
from zygotone.engine.measurer import Answers, AnswersHere
from zygotone.engine.nodes import SourceNode, nodes_below
from zygotone.engine.player_state import PlayerState, note_place
from zygotone.engine.playing import MakeSources
from zygotone.engine.renderer import Renderer
from zygotone.engine.sent_versions import VersionSender
from zygotone.engine.standby import Standby
from zygotone.engine.stream import Version
from zygotone.engine.transport import Output, PortAudioOutput, SimulatedOutput

SETTLE_S = 0.5  # until a take that was asked for is seen in its numbers


def spec_of(output: Output) -> tuple[Any, ...]:
    """An output as it can be sent."""
    if isinstance(output, PortAudioOutput):
        return ("portaudio", output.index, output.name)
    record_to = output.record_to if isinstance(output, SimulatedOutput) else None
    return ("simulated", str(record_to) if record_to is not None else None)


def spec_of_input(wanted: Input | None) -> tuple[Any, ...] | None:
    """An input as it can be sent."""
    if isinstance(wanted, PortAudioInput):
        return ("portaudio", wanted.index, wanted.name, wanted.channels)
    return ("simulated", str(wanted.path)) if isinstance(wanted, SimulatedInput) else None


class RemotePlayer:
    """``Player`` and ``Transport`` in one, in another process. Called from the interface's threads."""

    def __init__(
        self,
        renderer: Renderer,
        rate_hz: int,
        output: Output | None = None,
        answers: Answers | None = None,
        standby: Standby | None = None,
    ) -> None:
        """``answers``: who renders the layers that are missing; else they are rendered in this process. ``standby``: what a new
        process is made of where there is time for it."""
        assert renderer.mapped is not None, "both processes read its takes"
        self._renderer, self.rate_hz = renderer, rate_hz
        self._answers: Answers = answers if answers is not None else AnswersHere(renderer)
        self._standby = standby
        self._lock = threading.RLock()
        self.output: Output = output if output is not None else SimulatedOutput()
        self.error: str | None = None
        self.live = _RemoteNotes(self)
        self.recorder = _RemoteRecorder(self)
        self._versions: tuple[Version, Version | None] | None = None
        self._made: set[str] = set()  # sources that are ready, by node key
        self._loop, self._choice, self._number = (0, 1), 0, 0
        self._rolling, self._wanted = True, False  # what was asked for: whether the song moves, and whether it plays
        self._listen = Listen()
        self._asked = 0  # how often it was asked to play or to end
        self.restarts = 0
        self._drop_outs_before, self._played_before_s = 0, 0.0  # by processes that are gone
        self._patience = Patience()
        self._begin()

    def _begin(self) -> None:
        assert self._renderer.mapped is not None
        arguments = (str(self.rate_hz), str(self._renderer.mapped.folder))
        self.state = PlayerState()
        self._process = Child("zygotone.engine.player_process", self.state, arguments, self._standby)
        self._versions_sent = VersionSender(self._renderer.store)
        self._send("asked", self._asked)
        threading.Thread(target=self._hear, args=(self._process.connection,), name="player told", daemon=True).start()

    def _hear(self, connection: Connection) -> None:
        with suppress(EOFError, OSError, TypeError, ValueError):  # whatever a pipe says that is closed meanwhile
            while True:
                kind, *rest = connection.recv()
                if kind == "error":
                    self.error = rest[0]
                elif kind == "taken":
                    self.recorder.take(rest[0])

    def _send(self, *message: Any) -> None:
        self._process.send(*message)

    def _ask(self, wanted: bool, *message: Any) -> None:
        """To play, or to end; until that is done, what is wanted counts and not what is."""
        self._wanted, self._asked = wanted, self._asked + 1
        self._send(*message)
        self._send("asked", self._asked)

    # --- the process ---------------------------------------------------------------------------------------

    @property
    def pid(self) -> int:
        return self._process.pid

    def look_after(self) -> bool:
        """Starts it anew where it died or hangs; whether it had to."""
        with self._lock:
            if self._process.works or not self._patience.allows():
                return False
            self._patience.restarted(self._process)
            at, playing, recorded = int(self.state["position"]), self._wanted, self.recorder.recorded
            self._drop_outs_before += playing  # what was to be played meanwhile was not
            self._end_process(at_once=True)
            self._begin()
            self.restarts += 1
            self._send("output", spec_of(self.output))
            self.listen(self._listen)
            if self._versions is not None:
                self._send_versions(*self._versions)
            self._send("choose", self._choice)
            self._send("loop", *self._loop)
            self._send("seek", at)
            self.recorder.begin_anew()
            if recorded is not None:
                self._wanted = False
                self.recorder.take_up(recorded)
                self.error = "The player stopped while it recorded; the take is kept as far as it came."
            elif playing:
                self._ask(True, "play", self._rolling)
            return True

    def _end_process(self, *, at_once: bool = False) -> None:
        """What it counted goes on being counted."""
        self._process.end(at_once=at_once)
        self._drop_outs_before, self._played_before_s = self.drop_outs, self.played_s

    def reset(self, renderer: Renderer, rate_hz: int) -> None:
        """Another project: what played stops; the process stays, where it has the same sample rate."""
        with self._lock:
            self.stop()
            self.recorder.open(None)
            self.live.stop()
            if isinstance(self._answers, AnswersHere):
                self._answers.reset(renderer)
            self._renderer, self._versions, self._choice = renderer, None, 0
            self._send("forget", self._versions_sent.known)
            self._versions_sent = VersionSender(renderer.store)
            self._send("choose", 0)
            if rate_hz != self.rate_hz:
                self.rate_hz = rate_hz
                self._end_process()
                self._begin()
                self._send("output", spec_of(self.output))
                self.listen(self._listen)

    def close(self) -> None:
        with self._lock:
            self._process.end()

    # --- versions ------------------------------------------------------------------------------------------

    def is_ready_for(self, a: Version, b: Version | None) -> bool:
        """As ``Player.is_ready_for``."""
        return not any(self._missing(version) for version in (a, b) if version is not None)

    def _missing(self, version: Version) -> frozenset[str]:
        return frozenset(node.key for node in _sources(version) if node.key not in self._made)

    def set_versions(self, a: Version, b: Version | None, *, unwanted: IsUnwanted = lambda: False) -> bool:
        """As ``Player.set_versions``."""
        for version in (a, b):
            if version is not None and (keys := self._missing(version)):
                self._answers.answer(MakeSources(version.graph, keys), unwanted, at_once=True)
                self._made.update(keys)
        with self._lock:
            if unwanted():
                return False
            self._versions = (a, b)
            self._send_versions(a, b)
        return True

    def _send_versions(self, a: Version, b: Version | None) -> None:
        for message in self._versions_sent.news(v.graph.session for v in (a, b) if v is not None):
            self._send(*message)
        self._number += 1
        second = (b.graph.session.digest, b.gain_db) if b is not None else (None, 0.0)
        self._send("versions", self._number, a.graph.session.digest, a.gain_db, *second)

    @property
    def up_to_date(self) -> bool:
        """Whether what was asked for last is what plays."""
        return self.state["version"] >= self._number

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
        return int(self.state["position"])

    @property
    def position(self) -> int:
        return int(self.state["next_position"])

    @property
    def bad_samples(self) -> int:
        return int(self.state["bad_samples"])

    # --- transport -----------------------------------------------------------------------------------------

    @property
    def rolling(self) -> bool:
        return self._rolling

    @rolling.setter
    def rolling(self, rolling: bool) -> None:
        self._rolling = rolling

    @property
    def playing(self) -> bool:
        """What was asked for, until that has begun or ended; then what is."""
        if self.state["asked"] >= self._asked:
            self._wanted = bool(self.state["playing"])
        return self._wanted

    def play(self) -> None:
        self.error = None
        self._ask(True, "play", self._rolling)

    def begin_take(self, plan: RecordingPlan) -> None:
        """It plays of itself then, and another loop."""
        self._rolling, self._loop = True, (0, 0)
        self._ask(True, "record", plan)

    def stop(self) -> None:
        """Asks it to fade; the process does so by itself."""
        self._ask(False, "stop")

    def listen(self, wanted: Listen) -> None:
        """As ``Transport.listen``."""
        self._listen = wanted
        self._send("listen", wanted.way, wanted.band, wanted.dim)

    def set_output(self, output: Output) -> None:
        self.output = output
        self._send("output", spec_of(output))

    @property
    def drop_outs(self) -> int:
        return self._drop_outs_before + int(self.state["drop_outs"])

    @property
    def held_db(self) -> float:
        return self.state["held_db"]

    @property
    def load(self) -> float:
        return self.state["load"]

    @property
    def played_s(self) -> float:
        return self._played_before_s + self.state["played_s"]

    @property
    def meters(self) -> Metered:
        state = self.state
        return Metered(
            state["momentary_lufs"], state["short_term_lufs"], state["correlation"], state["balance_db"],
            state.bands_db.copy(),
        )  # fmt: skip

    @property
    def strip_peaks(self) -> FloatArray:
        """Largest sample of each strip of late, linear; falls slowly."""
        return self.state.strip_peaks.copy()

    @property
    def peak(self) -> FloatArray:
        """Of left and right of late, linear, (2,)."""
        state = self.state
        return np.array([state["left_peak"], state["right_peak"]])


class _RemoteRecorder:
    """``Recorder`` of the other process."""

    def __init__(self, player: RemotePlayer) -> None:
        self._player = player
        self._input: Input | None = None
        self._asked_at = -1.0
        self._plan: RecordingPlan | None = None
        self._taken: Taken | None = None
        self.error: str | None = None  # what goes wrong there is told with all else

    @property
    def peak(self) -> float:
        return self._player.state["input_peak"]

    @property
    def recording(self) -> bool:
        """From when it was asked for until the take is here, or there is none."""
        return time.monotonic() - self._asked_at < SETTLE_S or bool(self._player.state["recording"])

    def open(self, wanted: Input | None) -> None:
        self._input = wanted
        self._player._send("input", spec_of_input(wanted))

    @property
    def recorded(self) -> RecordingPlan | None:
        """What is being recorded."""
        return self._plan if self.recording else None

    def record(self, plan: RecordingPlan) -> None:
        self._asked_at, self._plan, self._taken = time.monotonic(), plan, None
        self._player.begin_take(plan)

    def take_up(self, plan: RecordingPlan) -> None:
        """As ``Recorder.take_up``."""
        self._asked_at = time.monotonic()
        self._player._send("take_up", plan)

    def stop(self) -> None:
        self._player._send("record_stop")

    def take(self, taken: Taken) -> None:
        """It came, by the thread that hears the other process."""
        self._taken = taken

    def look(self) -> Taken | None:
        taken, self._taken = self._taken, None
        return taken

    def begin_anew(self) -> None:
        """There is a new process."""
        self._asked_at = -1.0
        self._player._send("input", spec_of_input(self._input))


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
        frames = self._player.state.heard_frames[note_place(key)]
        if frames < 0.0:  # over; or sent just now
            return 0 if time.monotonic() - self._begun.get(key, -1.0) < 0.2 else None
        return int(frames)

    def stop(self) -> None:
        self._player._send("notes_stop")

    @property
    def idle(self) -> bool:
        return bool(self._player.state["live_idle"])


def _sources(version: Version) -> list[SourceNode]:
    """What a version plays from, of instruments and clips."""
    return [
        node for node in nodes_below([version.graph.mix]) if isinstance(node, SourceNode) and node.track is not None
    ]
