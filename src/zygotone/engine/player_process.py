"""The player as a process of its own: the graph and the output, and nothing else. Started by ``engine.remote``.

Four threads: one takes commands and says that it is alive, one makes versions ready, one reads ahead of what plays, one gives blocks
to the output. No file is read, nothing is compiled or rendered in the last.
"""

from __future__ import annotations

import gc
import os
import sys
import threading
import time
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

import numpy as np

from zygotone.engine import cores
from zygotone.engine.coming_take import RecordingPlan
from zygotone.engine.ears import Listen, Way
from zygotone.engine.inputs import Input, PortAudioInput, SimulatedInput
from zygotone.engine.player_state import PlayerState, note_place
from zygotone.engine.renderer import Renderer
from zygotone.engine.sent_versions import ServedVersions, VersionReceiver
from zygotone.engine.stream import Player, Version
from zygotone.engine.transport import Output, PortAudioOutput, SimulatedOutput, Transport
from zygotone.errors import ZygotoneError
from zygotone.session.audio_store import AudioStore
from zygotone.session.held import Held
from zygotone.session.mapped import MappedCache

_HELD_BYTES = 256 << 20
_SWITCH_S = 1e-5
_AHEAD_S, _LOOKS_AHEAD_S = 4.0, 2.0  # of the song are read, and how often
_AT_ONCE_S = 0.5  # of it are read before it begins elsewhere


def output_of(spec: tuple[Any, ...]) -> Output:
    """From what ``engine.remote.spec_of`` made of an output."""
    if spec[0] == "portaudio":
        return PortAudioOutput(spec[1], spec[2])
    made = SimulatedOutput()
    made.record_to = Path(spec[1]) if spec[1] is not None else None
    return made


def input_of(spec: tuple[Any, ...] | None) -> Input | None:
    """From what ``engine.remote.spec_of_input`` made of an input."""
    if spec is None:
        return None
    return PortAudioInput(*spec[1:]) if spec[0] == "portaudio" else SimulatedInput(Path(spec[1]))


class _Versions:
    """The newest versions that were asked for, made ready in a thread of its own."""

    def __init__(self, server: Server) -> None:
        self._server = server
        self._wanted: tuple[Any, ...] | None = None
        self._change = threading.Condition()
        threading.Thread(target=self._loop, name="versions", daemon=True).start()

    def want(self, *wanted: Any) -> None:
        with self._change:
            self._wanted = wanted
            self._change.notify()

    def _loop(self) -> None:
        while True:
            with self._change:
                while self._wanted is None:
                    self._change.wait()
                wanted, self._wanted = self._wanted, None
            try:
                self._make(*wanted)
            except Exception as problem:  # told where somebody can see it
                self._server.tell("error", f"A version could not be played: {problem}")

    def _make(self, number: int, a: str, a_gain_db: float, b: str | None, b_gain_db: float) -> None:
        server = self._server
        graphs = [server.received.graph(digest) for digest in ([a] if b is None else [a, b])]
        first = Version(graphs[0], a_gain_db)
        second = Version(graphs[1], b_gain_db) if b is not None else None

        def unwanted() -> bool:
            """What is ready and has not to wait is heard, though there is a newer one: else one that takes longer than the next is
            away would never be, as long as edits go on."""
            return self._wanted is not None and server.player.is_crowded

        if server.player.set_versions(first, second, unwanted=unwanted):
            server.player.choose(server.choice)
            server.state["version"] = number


class _ReadsAhead:
    """While it plays, what plays next is in memory, and what has played is not."""

    def __init__(self, server: Server, mapped: MappedCache) -> None:
        self._server, self._mapped = server, mapped
        threading.Thread(target=self._loop, name="reads ahead", daemon=True).start()

    def _loop(self) -> None:
        while True:
            time.sleep(_LOOKS_AHEAD_S)
            if self._server.transport.playing:
                self._mapped.let_pages_go()
                self.read(_AHEAD_S)

    def read(self, seconds: float, sent_to: int | None = None) -> None:
        player = self._server.player
        with suppress(ZygotoneError):  # who plays it is told
            player.read_ahead(round(seconds * player.rate_hz), sent_to)


class Server(ServedVersions):
    state: PlayerState

    def __init__(self, connection: Connection, state: PlayerState, rate_hz: int, takes: Path) -> None:
        super().__init__(connection, state)
        cores.keep_as_player()
        self.store = AudioStore(Held(_HELD_BYTES))
        self.received = VersionReceiver(self.store, "player")
        mapped = MappedCache(takes)
        self.player = Player(Renderer(self.store, self.store.held, mapped=mapped), rate_hz)
        self.player.rolling = False
        self.transport = Transport(self.player, SimulatedOutput(), thread_begins=_come_first)
        self._versions = _Versions(self)
        self._ahead = _ReadsAhead(self, mapped)
        self._keys: set[object] = set()
        # An input may take its time to open, more than a process may be silent.
        self._opens = ThreadPoolExecutor(1, thread_name_prefix="input")
        self._opening: Future[None] | None = None
        self._plan: RecordingPlan | None = None  # what is to be recorded once it is open
        self.choice = 0

    def look_around(self) -> None:
        """Renews the numbers."""
        state, player, transport = self.state, self.player, self.transport
        state["position"] = player.heard_position()
        state["next_position"] = player.position
        state["load"] = transport.load
        state["left_peak"], state["right_peak"] = transport.peak
        state["drop_outs"], state["held_db"] = transport.drop_outs, transport.held_db
        state["played_s"], state["playing"] = transport.played_s, transport.playing
        meters = transport.meters
        state["momentary_lufs"], state["short_term_lufs"] = meters.momentary_lufs, meters.short_term_lufs
        state["correlation"], state["balance_db"] = meters.correlation, meters.balance_db
        state.strip_peaks[:] = player.strip_peaks
        state.bands_db[:] = meters.bands_db
        state["rolling"], state["live_idle"] = player.rolling, player.live.idle
        state["bad_samples"] = player.bad_samples
        for key in tuple(self._keys):
            frames = player.live.heard_frames(key)
            state.heard_frames[note_place(key)] = -1.0 if frames is None else frames
            if frames is None:
                self._keys.discard(key)
        recorder = transport.recorder
        if self._plan is not None and (self._opening is None or self._opening.done()):
            plan, self._plan = self._plan, None
            self.patiently(lambda: recorder.record(plan))
        if (taken := self.patiently(recorder.look) if recorder.ends else recorder.look()) is not None:
            self.tell("taken", taken)
        state["input_peak"], state["recording"] = recorder.peak, recorder.recording or self._plan is not None
        for who in (transport, recorder):
            if who.error:
                self.tell("error", who.error)
                who.error = None

    # --- commands ------------------------------------------------------------------------------------------

    def do_versions(self, *wanted: Any) -> None:
        self._versions.want(*wanted)

    def do_choose(self, index: int) -> None:
        self.choice = index  # what is on its way may be what is chosen
        self.player.choose(index)

    def do_loop(self, start: int, end: int) -> None:
        self.patiently(lambda: self.player.set_loop(start, end))

    def do_seek(self, frame: int) -> None:
        self.patiently(lambda: self._ahead.read(_AT_ONCE_S, frame))
        self.patiently(lambda: self.player.seek(frame))

    def do_play(self, rolling: bool) -> None:
        self.player.rolling = rolling
        if rolling:
            self.patiently(lambda: self._ahead.read(_AT_ONCE_S))
        self.patiently(self.transport.play)

    def do_stop(self) -> None:
        self.patiently(self.transport.stop)
        gc.collect()  # versions leave no circles behind; whatever else does waits until nobody listens
        self.tell("stopped")

    def do_asked(self, number: int) -> None:
        """All before it is done, and told."""
        self.state["asked"] = number

    def do_listen(self, way: Way, band: str, dim: bool) -> None:
        self.transport.listen(Listen(way, band, dim))

    def do_output(self, spec: tuple[Any, ...]) -> None:
        self.patiently(lambda: self.transport.set_output(output_of(spec)))

    def do_input(self, spec: tuple[Any, ...] | None) -> None:
        self._plan = None
        self._opening = self._opens.submit(self.transport.recorder.open, input_of(spec))

    def do_record(self, plan: RecordingPlan) -> None:
        self._plan = plan

    def do_take_up(self, plan: RecordingPlan) -> None:
        self.transport.recorder.take_up(plan)

    def do_record_stop(self) -> None:
        self._plan = None
        self.transport.recorder.stop()

    def do_note(self, how: str, key: object, audio: np.ndarray, held: bool) -> None:
        self._keys.add(key)
        self.state.heard_frames[note_place(key)] = 0.0
        (self.player.live.add if how == "add" else self.player.live.replace)(key, audio, held=held)
        if how == "add" and not self.transport.playing:
            self.player.rolling = False
            self.patiently(self.transport.play)

    def do_notes_stop(self) -> None:
        self.player.live.stop()


def _come_first(before: int = 2) -> None:
    """This thread, and those that it begins, get as much priority as is granted. All threads of the process do, since the one that
    plays now and then waits for the interpreter that another one holds; the one that plays comes before them."""
    try:
        os.sched_setscheduler(0, os.SCHED_RR, os.sched_param(before))
    except (OSError, AttributeError):
        with suppress(OSError):
            os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), -9 - before)


def _settle_down() -> None:
    """No pause for tidying up, and no long wait for the interpreter: before the first block."""
    # The audio thread asks for the interpreter after each kernel, sixty times a block: it must not wait long each time.
    sys.setswitchinterval(_SWITCH_S)
    gc.collect()
    gc.freeze()
    gc.disable()


def main(arguments: list[str]) -> None:
    _come_first(before=1)
    server = Server.of_arguments(arguments, PlayerState, int(arguments[2]), Path(arguments[3]))
    _settle_down()
    server.serve()
    server.transport.stop()
    os._exit(0)


if __name__ == "__main__":
    main(sys.argv[1:])
