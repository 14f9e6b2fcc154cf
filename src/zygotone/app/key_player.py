"""Keys that are played by hand: each sounds for as long as it is down."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject, QTimer

from zygotone.engine.playing import HeldKey
from zygotone.session.models import InstrumentSource, Session, Track

if TYPE_CHECKING:
    from zygotone.app.desk import Desk

# A key sounds at once from little, and while it is down longer ones take its place, each twice as long as the one before,
# well before the one that is heard comes to its end.
_FIRST_S, _NEXT_S, _MOST_S = 1.0, 12.0, 240.0
_AHEAD_S = 4.0


@dataclass(slots=True)
class _Key:
    """What a key plays and for how long it is worked out."""

    session: Session
    track_id: str
    source: InstrumentSource
    velocity: float
    gate_s: float = _FIRST_S


class KeyPlayer(QObject):
    """Plays the selected track's instrument by keys that go down and up, alone or into the song."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._desk = desk
        self._down: dict[int, _Key] = {}
        self.wheel = 0.0  # as it stands now, 0 to 1
        self._lengthen = QTimer(self, interval=500)
        self._lengthen.timeout.connect(self._make_longer)

    def press(self, pitch: int, velocity: float) -> None:
        desk = self._desk
        track = desk.session.strip(desk.selection.track_id)
        if not isinstance(track, Track) or not isinstance(track.source, InstrumentSource):
            desk.message.emit("This track plays a clip; choose one with an instrument to play it.")
            return
        key = self._down[pitch] = _Key(desk.session, track.id, track.source, velocity)
        live = desk.listening.player.live

        def start(audio: Any) -> None:
            live.add(pitch, audio, held=self._down.get(pitch) is key)
            desk.listening.wake_for_notes()
            if self._down.get(pitch) is not key:  # let go before it was there
                self._let_go(pitch, key)
            else:
                self._hold(pitch, key, _NEXT_S)

        self._render(pitch, key, _FIRST_S, start)
        self._lengthen.start()

    def release(self, pitch: int) -> None:
        key = self._down.pop(pitch, None)
        if key is not None:
            self._let_go(pitch, key)
        if not self._down:
            self._lengthen.stop()

    def turn_wheel(self, value: float) -> None:
        """What is down and listens to the wheel goes on as it would sound with the wheel there."""
        self.wheel = value
        for pitch, key in self._down.items():
            if any("wheel" in (route.source, route.scaled_by) for layer in key.source.layers for route in layer.routes):
                heard_s = self._heard_s(pitch)
                if heard_s is not None:
                    self._hold(pitch, key, heard_s + 2.0 * _AHEAD_S)

    def release_all(self) -> None:
        for pitch in tuple(self._down):
            self.release(pitch)

    def _let_go(self, pitch: int, key: _Key) -> None:
        """The same note again, released where it is now."""
        heard_s = self._heard_s(pitch)
        if heard_s is not None:
            live = self._desk.listening.player.live
            # 30 ms: what is heard until it is rendered.
            self._render(pitch, key, heard_s + 0.03, lambda audio: live.replace(pitch, audio))

    def _make_longer(self) -> None:
        for pitch, key in self._down.items():
            heard_s = self._heard_s(pitch)
            if heard_s is not None and heard_s > key.gate_s - _AHEAD_S and key.gate_s < _MOST_S:
                self._hold(pitch, key, max(_NEXT_S, 2.0 * key.gate_s))

    def _hold(self, pitch: int, key: _Key, gate_s: float) -> None:
        live = self._desk.listening.player.live
        key.gate_s = min(_MOST_S, gate_s)
        self._render(
            pitch, key, key.gate_s, lambda audio: live.replace(pitch, audio, held=self._down.get(pitch) is key)
        )

    def _heard_s(self, pitch: int) -> float | None:
        frames = self._desk.listening.player.live.heard_frames(pitch)
        return None if frames is None else frames / self._desk.session.rate_hz

    def _render(self, pitch: int, key: _Key, gate_s: float, done: Callable[[Any], None]) -> None:
        question = HeldKey(key.session, key.track_id, pitch, key.velocity, gate_s, self.wheel)
        self._desk.listening.ask(question, done)
