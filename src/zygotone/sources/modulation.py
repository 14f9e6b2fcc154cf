"""What moves within a note: LFOs, routes, and where they lead.

Conventions
-----------
Everything is worked out at the boundaries of the control grid's cells, shape (cells + 1,), counted from the note's start.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace

import numpy as np

from zygotone.dsp.lfo import SHAPES, lfo_at, noise_at
from zygotone.dsp.types import GRID_FRAMES, FloatArray
from zygotone.session.instruments import FILTERS, LFO, Layer, Lfo, Route, layer_params, layer_value, with_layer_value
from zygotone.session.params import Values
from zygotone.session.paths import write_path
from zygotone.sources.envelopes import envelope_curve

_RATE, _CLIMB, _DELAY, _RISE = LFO[0], LFO[2], LFO[3], LFO[4]

# Values of a layer's parameter over frames of the song given as beats, where automation moves it: path, beats (n,).
Automation = Mapping[str, Callable[[FloatArray], FloatArray]]


def lfo_line(lfo: Lfo, at_s: FloatArray, *, song_s: float, bpm: float, seed: int) -> FloatArray:
    """The LFO at times ``at_s`` of a note (n,) that begins at ``song_s`` of the song: −1 to 1, one-sided 0 to 1."""
    rate = _RATE.number_of(lfo.rate, bpm=bpm)
    later = _RATE.number_of(lfo.rate_to, bpm=bpm)
    climb_s = _CLIMB.number_of(lfo.climb, bpm=bpm) * 1e-3
    waits, rises = (p.number_of(v, bpm=bpm) * 1e-3 for p, v in ((_DELAY, lfo.delay_ms), (_RISE, lfo.rise_ms)))
    t = at_s + (song_s if lfo.mode == "free" else -waits)
    t = np.maximum(t, 0.0)
    if climb_s > 0.0:
        # The rate climbs in a straight line, so the phase is its integral.
        climbing = np.minimum(t, climb_s)
        phase = rate * climbing + (later - rate) * climbing**2 / (2.0 * climb_s) + later * (t - climbing)
    else:
        phase = rate * t
    if lfo.mode == "one_shot":
        phase = np.minimum(phase, 1.0 - 1e-9)
    phase = phase + lfo.phase_deg / 360.0
    out = lfo_heights(lfo, phase, seed)
    if lfo.one_sided:
        out = 0.5 + 0.5 * out
    if rises > 0.0:
        return np.asarray(out * np.clip((at_s - waits) / rises, 0.0, 1.0))
    return np.where(at_s < waits, 0.0, out) if waits > 0.0 else out


def lfo_heights(lfo: Lfo, phase: FloatArray, seed: int = 0) -> FloatArray:
    """Its shape at ``phase`` in cycles (n,), −1 to 1."""
    if lfo.shape == "drawn":
        points = sorted(lfo.cycle, key=lambda p: p.at)
        if not points:
            return np.zeros(len(phase))
        at = np.array([p.at for p in points])
        height = np.array([2.0 * p.height - 1.0 for p in points])
        return np.asarray(np.interp(phase - np.floor(phase), at, height))
    if lfo.shape == "steps":
        return np.array([noise_at(math.floor(p), seed) for p in phase])
    which = SHAPES.index(lfo.shape)
    return np.array([lfo_at(which, float(p), seed) for p in phase])


@dataclass(frozen=True, slots=True)
class Played:
    """What a voice knows of its note: when it begins in the song (s), how long the key is down and the whole of it (frames),
    its velocity, macros and wheel, its pitch in MIDI numbers, and which note of the layer it is."""

    song_s: float
    gate: int
    frames: int
    velocity: float
    pitch: float
    macros: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 0.0)
    wheel: float = 0.0
    number: int = 0


class Motions:
    """Where a layer's parameters stand at each boundary of the grid of one note."""

    def __init__(
        self, layer: Layer, shared: tuple[Lfo, Lfo], played: Played, *, rate_hz: int, bpm: float, automation: Automation
    ) -> None:
        self._layer, self._shared, self._played = layer, shared, played
        self._rate_hz, self._bpm = rate_hz, bpm
        self._automation = automation
        self.cells = max(1, math.ceil(played.frames / GRID_FRAMES))
        self._at_s: FloatArray = np.arange(self.cells + 1, dtype=np.float64) * (GRID_FRAMES / rate_hz)
        self._params = layer_params(layer)
        self._routes: dict[str, list[Route]] = {}
        for route in layer.note_routes:
            self._routes.setdefault(route.target, []).append(route)
        self._sources: dict[str, FloatArray] = {}

    def source(self, name: str) -> FloatArray:
        """A modulation source over the note, (cells + 1,)."""
        if name not in self._sources:
            self._sources[name] = self._work_out(name)
        return self._sources[name]

    def _work_out(self, name: str) -> FloatArray:
        layer, played = self._layer, self._played
        if name in ("amp", "bend", *FILTERS):
            envelope = layer.bend if name == "bend" else layer.envelope
            if name in FILTERS and (f := getattr(layer, name)) is not None:
                envelope = f.envelope
            return envelope_curve(envelope, played.gate, self._rate_hz, every=GRID_FRAMES, points=self.cells + 1)
        if name.startswith(("lfo", "shared")):
            which = int(name[-1]) - 1
            lfo = layer.lfos[which] if name.startswith("lfo") else self._shared[which]
            seed = 2 * played.number + which if lfo.mode != "free" else which
            return lfo_line(lfo, self._at_s, song_s=played.song_s, bpm=self._bpm, seed=seed)
        if name.startswith("macro"):
            still = played.macros[int(name[-1]) - 1]
        elif name == "velocity":
            still = played.velocity
        elif name == "key":
            still = (played.pitch - 60.0) / 12.0
        elif name == "wheel":
            still = played.wheel
        else:
            still = noise_at(played.number, 97)
        return np.full(self.cells + 1, float(still))

    def moves(self, path: str) -> bool:
        return path in self._routes or path in self._automation

    def routed(self, path: str) -> bool:
        return path in self._routes

    def added(self, path: str) -> FloatArray:
        """What routes add to a parameter, (cells + 1,), within its range."""
        param = self._params[path]
        total = np.zeros(self.cells + 1)
        for route in self._routes.get(path, ()):
            total += self._moved_by(route)
        return np.clip(total, param.low, param.high)

    def value(self, path: str) -> FloatArray:
        """A parameter over the note, (cells + 1,), within its range."""
        param = self._params[path]
        automated = self._automation.get(path)
        if automated is not None:
            beats = (self._played.song_s + self._at_s) * self._bpm / 60.0
            base = automated(np.maximum(beats, 0.0))
        else:
            base = np.full(self.cells + 1, layer_value(self._layer, path, bpm=self._bpm))
        for route in self._routes.get(path, ()):
            added = self._moved_by(route)
            base = base * 2.0**added if param.scale == "log" else base + added
        return np.clip(base, param.low, param.high)

    def _moved_by(self, route: Route) -> FloatArray:
        by = route.amount * self.source(route.source)
        return by if route.scaled_by is None else by * self.source(route.scaled_by)

    def moving_sound(self) -> dict[str, FloatArray]:
        """The parameters of the layer's source that move within the note, by their path within it."""
        return {
            path.removeprefix("sound."): self.value(path)
            for path in {*self._routes, *self._automation}
            if path.startswith("sound.") and not self._params[path].at_start
        }


def as_it_begins(
    layer: Layer, shared: tuple[Lfo, Lfo], played: Played, *, rate_hz: int, bpm: float, automation: Automation
) -> tuple[Layer, Values]:
    """The layer with what a note takes at its start set to where it stands then; and all of the source's parameters as they
    stand then, also those that move on."""
    params = layer_params(layer)
    moved = {*(route.target for route in layer.note_routes), *automation}
    starting = sorted(path for path in moved if params[path].at_start or path.startswith("sound."))
    if not starting:
        return layer, layer.sound.params
    first = replace(played, frames=1)
    motions = Motions(layer, shared, first, rate_hz=rate_hz, bpm=bpm, automation=automation)
    found, begun = layer, layer.sound.params
    for path in starting:
        value = float(motions.value(path)[0])
        if params[path].at_start:
            found = with_layer_value(found, path, value)
        if path.startswith("sound."):
            begun = write_path(begun, path.removeprefix("sound."), value)
    return found, begun


def _sources(layer: Layer) -> set[str]:
    """What the layer's routes come from."""
    return {name for route in layer.note_routes for name in (route.source, route.scaled_by) if name is not None}


def depends_on_place(layer: Layer, shared: tuple[Lfo, Lfo]) -> bool:
    """Whether a note of the layer sounds otherwise elsewhere in the song."""
    used = _sources(layer)
    lfos = {"lfo1": layer.lfos[0], "lfo2": layer.lfos[1], "shared1": shared[0], "shared2": shared[1]}
    return any(lfo.mode == "free" for name, lfo in lfos.items() if name in used)


def depends_on_number(layer: Layer, shared: tuple[Lfo, Lfo]) -> bool:
    """Whether two equal notes of the layer may differ by lot."""
    used = _sources(layer)
    lfos = {"lfo1": layer.lfos[0], "lfo2": layer.lfos[1], "shared1": shared[0], "shared2": shared[1]}
    drawn_by_lot = any(lfo.shape in ("steps", "drift") for name, lfo in lfos.items() if name in used)
    return "random" in used or drawn_by_lot
