"""The working half of a node: what it remembers between blocks, and how it makes the next one."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from zygotone.devices import make_processor
from zygotone.devices.pan import pan_gains
from zygotone.dsp.delays import DelayLine
from zygotone.dsp.dynamics import replace_not_finite
from zygotone.dsp.levels import db_to_gain
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.engine.graph import DeviceNode, Node, SourceNode, StripNode, SumNode

ReadSource = Callable[[int, int], Stereo]  # first frame of the song, frames


class Runner:
    """Makes consecutive blocks of one node from the blocks of its inputs."""

    def __init__(self, node: Node) -> None:
        self.node = node
        self.gain_db: FloatArray | None = None  # see Processor.gain_db
        self.bad_samples = 0  # how many NaN or infinite samples were replaced so far
        latest = max((i.latency for i in node.inputs), default=0)
        self._align = [DelayLine(latest - i.latency) for i in node.inputs]

    def block(self, start: int, frames: int, inputs: Sequence[Stereo]) -> Stereo:
        raise NotImplementedError

    def adopt(self, older: Runner) -> None:
        """Take over the memory of the runner that stood in this place before an edit."""
        for mine, old in zip(self._align, older._align, strict=False):
            if mine.held.shape == old.held.shape:
                mine.held = old.held


class SourceRunner(Runner):
    def __init__(self, node: SourceNode, read: ReadSource) -> None:
        super().__init__(node)
        self._read = read

    def block(self, start: int, frames: int, inputs: Sequence[Stereo]) -> Stereo:
        return self._read(start, frames)


class DeviceRunner(Runner):
    """Signal and key aligned, the processor, dry aligned to wet, and nothing but finite numbers out."""

    def __init__(self, node: DeviceNode, rate_hz: int) -> None:
        super().__init__(node)
        assert node.device is not None
        self._device, self._rate_hz = node.device, rate_hz
        self.processor = make_processor(node.device, rate_hz)
        self._mix = node.device.mix
        self._dry = DelayLine(self.processor.latency)

    def block(self, start: int, frames: int, inputs: Sequence[Stereo]) -> Stereo:
        aligned = [line.process(x) for line, x in zip(self._align, inputs, strict=True)]
        with np.errstate(invalid="ignore", over="ignore"):  # what is not finite is dealt with below
            wet = self.processor.process(aligned[0], aligned[1] if len(aligned) > 1 else None)
        self.gain_db = self.processor.gain_db
        if self._mix < 1.0:
            # Written so that an idle device gives back its input to the last bit.
            dry = self._dry.process(aligned[0])
            with np.errstate(invalid="ignore", over="ignore"):
                wet = dry + self._mix * (wet - dry)
        bad = replace_not_finite(wet)
        if bad:
            self.bad_samples += bad
            # A filter that has met a NaN keeps it; only fresh memory helps.
            self.processor = make_processor(self._device, self._rate_hz)
        return wet

    def adopt(self, older: Runner) -> None:
        super().adopt(older)
        if isinstance(older, DeviceRunner) and type(self.processor) is type(older.processor):
            self.processor.adopt(older.processor)
            if self._dry.held.shape == older._dry.held.shape:
                self._dry.held = older._dry.held


class StripRunner(Runner):
    def __init__(self, node: StripNode) -> None:
        super().__init__(node)
        left, right = pan_gains(node.pan_pct, -3.0)
        self._gains = np.array([[left], [right]]) * db_to_gain(node.level_db)

    def block(self, start: int, frames: int, inputs: Sequence[Stereo]) -> Stereo:
        return inputs[0] * self._gains


class SumRunner(Runner):
    def block(self, start: int, frames: int, inputs: Sequence[Stereo]) -> Stereo:
        out = np.zeros((2, frames))
        for line, x in zip(self._align, inputs, strict=True):
            out += line.process(x)
        return out


def make_runner(node: Node, rate_hz: int, read: Callable[[SourceNode], ReadSource]) -> Runner:
    if isinstance(node, SourceNode):
        return SourceRunner(node, read(node))
    if isinstance(node, DeviceNode):
        return DeviceRunner(node, rate_hz)
    if isinstance(node, StripNode):
        return StripRunner(node)
    assert isinstance(node, SumNode)
    return SumRunner(node)
