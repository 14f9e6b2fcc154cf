"""The working half of a node: what it remembers between blocks, and how it makes the next one."""

from __future__ import annotations

import functools
from collections.abc import Callable, Sequence

import numpy as np

from zygotone.devices import Host, make_processor
from zygotone.devices.pan import pan_gains
from zygotone.dsp.delays import DelayLine
from zygotone.dsp.dynamics import is_finite, replace_not_finite
from zygotone.dsp.levels import db_to_gain
from zygotone.dsp.types import GRID_FRAMES, FloatArray, Stereo
from zygotone.engine.graph import BlendNode, DeviceNode, Node, SourceNode, StripNode, SumNode
from zygotone.engine.motion import beats_of, by_path, moved
from zygotone.session.paths import read_path, write_path
from zygotone.sources.instrument import side_gains

ReadSource = Callable[[int, int], Stereo]  # first frame of the song, frames
_TAIL_IS_OVER_S = 0.5
_SILENT = 10.0 ** (-120.0 / 20.0)


class Runner:
    """Makes consecutive blocks of one node from the blocks of its inputs."""

    def __init__(self, node: Node) -> None:
        self.node = node
        self.gain_db: FloatArray | None = None  # see Processor.gain_db
        self.bad_samples = 0  # how many NaN or infinite samples were replaced so far
        self._latest = max((i.latency for i in node.inputs), default=0)
        self._in_time = all(i.latency == self._latest for i in node.inputs)
        self._align = [DelayLine(self._latest - i.latency) for i in node.inputs]

    def block(self, start: int, frames: int, inputs: Sequence[Stereo]) -> Stereo:
        """Frames ``start`` to ``start + frames`` of the song, as late as the node's latency says."""
        raise NotImplementedError

    def adopt(self, older: Runner) -> None:
        """Take over the memory of the runner that stood in this place before an edit."""
        for mine, old in zip(self._align, older._align, strict=False):
            mine.adopt(old)

    def _clean(self, x: Stereo) -> Stereo:
        clean, bad = _finite(x)
        self.bad_samples += bad
        return clean

    def _aligned(self, inputs: Sequence[Stereo]) -> list[Stereo]:
        if self._in_time:
            return list(inputs)
        return [line.process(x) for line, x in zip(self._align, inputs, strict=True)]


class SourceRunner(Runner):
    """The source is made ready at the first block: where several threads pull blocks, each makes another one ready."""

    def __init__(self, node: SourceNode, reader: Callable[[SourceNode], ReadSource]) -> None:
        super().__init__(node)
        self._ready = functools.cache(lambda: reader(node))

    def block(self, start: int, frames: int, inputs: Sequence[Stereo]) -> Stereo:
        return self._ready()(start, frames)


class DeviceRunner(Runner):
    """Signal and key aligned, the processor, dry aligned to wet, automation, and nothing but finite numbers."""

    def __init__(self, node: DeviceNode, host: Host) -> None:
        super().__init__(node)
        assert node.device is not None
        self._device = node.device
        self._on = node.device.on
        self._ringing = False  # switched off while its tail still sounded
        self._quiet = 0
        self._motions = by_path(node.motions)
        self._host = Host(host.rate_hz, node.bpm, host.clip, automated=bool(self._motions))
        self._params = node.device.params
        self._mix = node.device.mix
        self._cell: int | None = None  # of the control grid, whose parameters are in force
        self.processor = make_processor(node.device, self._host)
        self._dry = DelayLine(self.processor.latency)

    def block(self, start: int, frames: int, inputs: Sequence[Stereo]) -> Stereo:
        aligned = self._aligned(inputs)
        for i, x in enumerate(aligned):
            if isinstance(self.node.inputs[i], SourceNode):  # what other nodes give has been looked at there
                aligned[i] = self._clean(x)
        x, key = aligned[0], aligned[1] if len(aligned) > 1 else None
        if not self._on:
            return self._ring_out(x)
        position = start - self._latest
        if not self._motions:
            return self._process(position, x, key)
        out = np.empty_like(x)
        gains: list[FloatArray] = []
        at = 0
        while at < frames:  # cell by cell of the control grid, wherever the block begins
            n = min(frames - at, GRID_FRAMES - (position + at) % GRID_FRAMES)
            cell_number = (position + at) // GRID_FRAMES
            if cell_number != self._cell:
                self._cell = cell_number
                self._move(cell_number * GRID_FRAMES)
            part = slice(at, at + n)
            cell = np.ascontiguousarray(x[:, part])
            out[:, part] = self._process(
                position + at, cell, None if key is None else np.ascontiguousarray(key[:, part])
            )
            if self.processor.gain_db is not None:
                gains.append(self.processor.gain_db)
            at += n
        self.gain_db = np.concatenate(gains) if gains else None
        return out

    def _process(self, position: int, x: Stereo, key: Stereo | None) -> Stereo:
        self.processor.position = position
        with np.errstate(invalid="ignore", over="ignore"):  # what is not finite is dealt with below
            wet = self.processor.process(x, key)
        self.gain_db = self.processor.gain_db
        if self._mix < 1.0:
            dry = self._dry.process(x)
            # Written so that an idle device gives back its input to the last bit.
            wet = dry + self._mix * (wet - dry)
        else:
            self._dry.remember(x)
        wet, bad = _finite(wet)
        if bad:
            self.bad_samples += bad
            # A filter that has met a NaN keeps it; only fresh memory helps.
            self.processor = make_processor(self._device, self._host, self._params)
        return wet

    def _move(self, frame: int) -> None:
        """Parameters as automation has them at a frame of the song."""
        beats = beats_of(np.array([max(0, frame)]), rate_hz=self._host.rate_hz, bpm=self._host.bpm)
        params = self._params
        for path, motions in self._motions.items():
            if path == "mix":
                self._mix = float(moved(motions, self._device.mix, beats)[0])
                continue
            value = float(moved(motions, read_path(self._device.params, path), beats)[0])
            if value != read_path(params, path):
                params = write_path(params, path, value)
        if params is not self._params:
            self._params = params
            self.processor.retune(params, self._host)

    def _ring_out(self, x: Stereo) -> Stereo:
        """The input as it is, and what is left of the tail."""
        if not self._ringing:
            return x
        tail = self.processor.process(np.zeros_like(x), None) * self._mix
        loud = float(np.max(np.abs(tail), initial=0.0)) > _SILENT
        self._quiet = 0 if loud else self._quiet + x.shape[1]
        if self._quiet > _TAIL_IS_OVER_S * self._host.rate_hz:
            self._ringing = False
        return x + tail

    def adopt(self, older: Runner) -> None:
        super().adopt(older)
        if isinstance(older, DeviceRunner) and type(self.processor) is type(older.processor):
            self._ringing = not self._on and (older._on or older._ringing)
            self.processor.adopt(older.processor)
            self._dry.adopt(older._dry)


class StripRunner(Runner):
    """Level and pan, moving where automation says so."""

    def __init__(self, node: StripNode, rate_hz: int) -> None:
        super().__init__(node)
        self._node, self._rate_hz = node, rate_hz
        self._motions = by_path(node.motions)
        self._gains = strip_gains(node.level_db, node.pan_pct)
        self._passes = bool(np.all(self._gains == 1.0))

    def block(self, start: int, frames: int, inputs: Sequence[Stereo]) -> Stereo:
        if not self._motions:
            return inputs[0] if self._passes else inputs[0] * self._gains
        at = np.maximum(0, np.arange(start - self._latest, start - self._latest + frames))
        beats = beats_of(at, rate_hz=self._rate_hz, bpm=self._node.bpm)
        level, pan = np.full(frames, self._node.level_db), np.full(frames, self._node.pan_pct)
        for path, motions in self._motions.items():
            if path == "pan_pct":
                pan = moved(motions, self._node.pan_pct, beats)
            else:  # level_db, a send's level, or a branch's gain: what this fader is there for
                level = moved(motions, self._node.level_db, beats)
        return inputs[0] * side_gains(level, pan)


def strip_gains(level_db: float, pan_pct: float) -> FloatArray:
    """Gains of left and right, shape (2, 1)."""
    left, right = pan_gains(pan_pct, -3.0)
    return np.array([[left], [right]]) * db_to_gain(level_db)


class SumRunner(Runner):
    def block(self, start: int, frames: int, inputs: Sequence[Stereo]) -> Stereo:
        parts = self._aligned(inputs)
        if not parts:
            return np.zeros((2, frames))
        if len(parts) == 1:
            return self._clean(parts[0])
        out = parts[0] + parts[1]
        for x in parts[2:]:
            out += x
        return self._clean(out)


class BlendRunner(Runner):
    """Dry and wet of a split."""

    def __init__(self, node: BlendNode, rate_hz: int) -> None:
        super().__init__(node)
        self._node, self._rate_hz = node, rate_hz

    def block(self, start: int, frames: int, inputs: Sequence[Stereo]) -> Stereo:
        dry, wet = self._aligned(inputs)
        mix: float | FloatArray = self._node.mix
        if self._node.motions:
            at = np.maximum(0, np.arange(start - self._latest, start - self._latest + frames))
            beats = beats_of(at, rate_hz=self._rate_hz, bpm=self._node.bpm)
            mix = moved(self._node.motions, self._node.mix, beats)
        return self._clean(dry + mix * (wet - dry))


def _finite(x: Stereo) -> tuple[Stereo, int]:
    """``x``, or a copy in which NaN and infinity are 0, and how many there were."""
    if is_finite(x):
        return x, 0
    clean = x.copy()
    return clean, replace_not_finite(clean)


def make_runner(node: Node, host: Host, reader: Callable[[SourceNode], ReadSource]) -> Runner:
    if isinstance(node, SourceNode):
        return SourceRunner(node, reader)
    if isinstance(node, DeviceNode):
        return DeviceRunner(node, host)
    if isinstance(node, StripNode):
        return StripRunner(node, host.rate_hz)
    if isinstance(node, BlendNode):
        return BlendRunner(node, host.rate_hz)
    assert isinstance(node, SumNode)
    return SumRunner(node)
