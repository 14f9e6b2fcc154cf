"""Where played notes come from: MIDI ports of the machine (RtMidi), or a simulated player that ships with it.

Messages arrive in the library's thread; ``MidiInput`` hands them to the interface's by a signal.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from typing import Any, Protocol

from PySide6.QtCore import QObject, Signal

NOTE_OFF, NOTE_ON, CONTROL = 0x80, 0x90, 0xB0
Receive = Callable[[list[int]], None]


class Port(Protocol):
    """Something that sends MIDI messages, as lists of bytes, until it is closed."""

    name: str

    def open(self, receive: Receive) -> None: ...

    def close(self) -> None: ...


class RtMidiPort:
    """A port of the machine."""

    def __init__(self, index: int, name: str, api: int = 0) -> None:
        self.index, self.name, self._api = index, name, api
        self._input: Any = None  # rtmidi publishes no types

    def open(self, receive: Receive) -> None:
        import rtmidi

        self._input = rtmidi.MidiIn(self._api)
        self._input.open_port(self.index)
        self._input.set_callback(lambda event, _: receive(list(event[0])))

    def close(self) -> None:
        if self._input is not None:
            self._input.cancel_callback()
            self._input.close_port()
            self._input.delete()
            self._input = None


class SimulatedPlayer:
    """Plays a few notes over and over, as somebody at a keyboard would who tries a sound."""

    name = "Simulated player"
    NOTES = (0, 3, 7, 10, 12, 10, 7, 3)

    def __init__(self, *, base: int = 57, step_s: float = 0.3) -> None:
        self._base, self._step_s = base, step_s
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None

    def open(self, receive: Receive) -> None:
        self._stop.clear()
        self._thread = threading.Thread(target=self._play, args=(receive,), name="midi player", daemon=True)
        self._thread.start()

    def close(self) -> None:
        self._stop.set()
        if self._thread is not None:
            self._thread.join(2.0)
            self._thread = None

    def _play(self, receive: Receive) -> None:
        at = 0
        while not self._stop.is_set():
            note = self._base + self.NOTES[at % len(self.NOTES)]
            receive([NOTE_ON, note, 70 + 20 * (at % 3)])
            self._stop.wait(0.7 * self._step_s)
            receive([NOTE_OFF, note, 0])
            self._stop.wait(0.3 * self._step_s)
            at += 1


def ports() -> list[Port]:
    """The simulated player, and what the machine has; none of the latter where it has no MIDI at all."""
    found: list[Port] = [SimulatedPlayer()]
    try:
        import rtmidi

        scan = rtmidi.MidiIn()
        found += [RtMidiPort(i, name) for i, name in enumerate(scan.get_ports())]
        scan.delete()
    except Exception:  # the library has an error of its own for each system; without MIDI there is only no port
        pass
    return found


class MidiInput(QObject):
    """One port at a time; notes as signals in the interface's thread."""

    pressed = Signal(int, float)  # MIDI number, velocity 0 to 1
    released = Signal(int)
    wheel = Signal(float)
    _arrived = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self.port: Port | None = None
        self.last_message_s = 0.0
        self._arrived.connect(self._take)

    def choose(self, port: Port | None) -> str:
        """Listen to ``port``, or to none. Returns what went wrong, empty where nothing did."""
        if self.port is not None:
            self.port.close()
            self.port = None
        if port is None:
            return ""
        try:
            port.open(self._arrived.emit)
        except Exception as problem:
            return f"{port.name} cannot be opened: {problem}"
        self.port = port
        return ""

    def _take(self, message: list[int]) -> None:
        if self.port is None or len(message) < 2:
            return
        self.last_message_s = time.monotonic()
        kind = message[0] & 0xF0
        if kind == NOTE_ON and len(message) > 2 and message[2] > 0:
            self.pressed.emit(message[1], message[2] / 127.0)
        elif kind in (NOTE_OFF, NOTE_ON):
            self.released.emit(message[1])
        elif kind == CONTROL and len(message) > 2 and message[1] == 1:
            self.wheel.emit(message[2] / 127.0)
