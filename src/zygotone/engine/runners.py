"""The working half of a node: what it remembers between blocks, and how it makes the next one."""

from __future__ import annotations

import functools
from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from zygotone.devices import Host, Processor, make_processor
from zygotone.devices.pan import pan_gains
from zygotone.dsp.delays import PAST_FRAMES, DelayLine
from zygotone.dsp.dynamics import is_finite, replace_not_finite
from zygotone.dsp.levels import db_to_gain, side_gains
from zygotone.dsp.sides import both_from
from zygotone.dsp.types import FloatArray, Single, Stereo
from zygotone.engine.motion import FADE_FRAMES, beats_of, by_path, fade_weights, moved, smoothed
from zygotone.engine.nodes import BlendNode, DeviceNode, Node, SourceNode, StripNode, SumNode
from zygotone.session.kinds import Device, continuous_params
from zygotone.session.params import Param, Values
from zygotone.session.paths import read_path, write_path

ReadSource = Callable[[int, int], Stereo]  # first frame of the song, frames
_TAIL_IS_OVER_S = 0.5
LOOP_FADE_FRAMES = 256
_SILENT = 10.0 ** (-120.0 / 20.0)


class Runner:
    """Makes consecutive blocks of one node from the blocks of its inputs."""

    light = False  # whether a block takes next to no time

    def __init__(self, node: Node) -> None:
        self.node = node
        self.loop: tuple[int, int] | None = None  # where playing goes back from its end to its start
        self.gain_db: FloatArray | None = None  # see Processor.gain_db
        self.bad_samples = 0  # how many NaN or infinite samples were replaced so far
        self._latest = max((i.latency for i in node.inputs), default=0)
        self._in_time = all(i.latency == self._latest for i in node.inputs)
        self._align = [DelayLine(self._latest - i.latency) for i in node.inputs]

    def block(self, start: int, frames: int, inputs: Sequence[Stereo]) -> Stereo:
        """Frames ``start`` to ``start + frames`` of the song, as late as the node's latency says."""
        raise NotImplementedError

    @property
    def needs(self) -> tuple[Node, ...]:
        """Whose blocks it makes its own from."""
        return self.node.inputs

    def _round_the_loop(self, at: Callable[[int, int], FloatArray], start: int, frames: int) -> FloatArray:
        """What ``at`` gives for frames of the song. Towards the end of the loop it fades over to what comes before its start:
        going round is no jump, and what begins there keeps its attack."""
        here = at(start, frames)
        if self.loop is None:
            return here
        first, end = self.loop
        begin, stop = max(start, end - LOOP_FADE_FRAMES), min(start + frames, end)
        if begin >= stop or end - first < 2 * LOOP_FADE_FRAMES:
            return here
        share = (np.arange(begin, stop) - end + LOOP_FADE_FRAMES + 1) / LOOP_FADE_FRAMES
        there = at(first - end + begin, stop - begin)
        faded, part = here.copy(), slice(begin - start, stop - start)
        faded[..., part] += (0.5 - 0.5 * np.cos(np.pi * share)) * (there - faded[..., part])
        return faded

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
        return self._round_the_loop(self._ready(), start, frames)


class GivenRunner(Runner):
    """What was worked out before, from frame ``first`` of the song on; (1, n) where both sides are alike."""

    light = True

    def __init__(self, node: Node, audio: Stereo | Single, first: int) -> None:
        super().__init__(node)
        self._audio, self._first = audio, first

    @property
    def needs(self) -> tuple[Node, ...]:
        return ()

    def block(self, start: int, frames: int, inputs: Sequence[Stereo]) -> Stereo:
        out = np.empty((2, frames))
        both_from(self._audio, start - self._first, out)
        return out


class DeviceRunner(Runner):
    """Signal and key aligned, the processor, dry aligned to wet, automation, and nothing but finite numbers.

    Where automation moves, two processors work side by side: one has the parameters of the last knot of ``FADE_FRAMES``, the
    other those of the next, and the sound fades over from one to the other. So whatever a parameter does, a step or a ramp,
    is a smooth change of the sound, for any device.
    """

    def __init__(self, node: DeviceNode, host: Host) -> None:
        super().__init__(node)
        assert node.device is not None
        self._device = node.device
        self._on = node.device.on
        self._ringing = False  # switched off while its tail still sounded
        self._quiet = 0
        self._motions = by_path(node.motions)
        self._rate = next((path for path in self._motions if _declared(node.device, path).is_rate), None)
        self._host = replace(host, bpm=node.bpm, automated=bool(self._motions))
        self._params = node.device.params
        self._mix = self._next_mix = node.device.mix
        self._span: int | None = None  # between which knots we are
        self.processor = make_processor(node.device, self._host)
        self._next: Processor | None = None  # what is faded to, with what parameters
        self._next_params = self._params
        self._dry = DelayLine(self.processor.latency)
        self._key_past = DelayLine(0) if len(node.inputs) > 1 else None
        self._history: tuple[Stereo, Stereo | None] | None = None  # to be heard before the first block

    def block(self, start: int, frames: int, inputs: Sequence[Stereo]) -> Stereo:
        aligned = self._aligned(inputs)
        for i, x in enumerate(aligned):
            if isinstance(self.node.inputs[i], SourceNode):  # what other nodes give has been looked at there
                aligned[i] = self._clean(x)
        x, key = aligned[0], aligned[1] if len(aligned) > 1 else None
        if not self._on:
            return self._ring_out(x)
        position = start - self._latest
        if self._history is not None:
            self.processor.settle(*self._history, position)
            self._history = None
        if not self._motions:
            return self._process(position, x, key)
        out = np.empty_like(x)
        gains: list[FloatArray] = []
        at = 0
        while at < frames:  # from knot to knot, wherever the block begins
            n = min(frames - at, FADE_FRAMES - (position + at) % FADE_FRAMES)
            span = (position + at) // FADE_FRAMES
            part = slice(at, at + n)
            cell = np.ascontiguousarray(x[:, part])
            heard = None if key is None else np.ascontiguousarray(key[:, part])
            if span != self._span:
                self._enter(span, position + at)
            out[:, part] = self._process(position + at, cell, heard)
            if self.gain_db is not None:
                gains.append(self.gain_db)
            at += n
        self.gain_db = np.concatenate(gains) if gains else None
        return out

    def _process(self, position: int, x: Stereo, key: Stereo | None) -> Stereo:
        with np.errstate(invalid="ignore", over="ignore"):  # what is not finite is dealt with below
            wet = self._wet(position, x, key)
        mix: float | FloatArray = self._mix
        if self._next_mix != self._mix:
            mix = self._mix + (self._next_mix - self._mix) * fade_weights(position, x.shape[1])
        if np.any(np.less(mix, 1.0)):
            dry = self._dry.process(x)
            # Written so that an idle device gives back its input to the last bit.
            blended = wet - dry
            blended *= mix
            blended += dry
            wet = blended
        else:
            self._dry.remember(x)
        if key is not None and self._key_past is not None:
            self._key_past.remember(key)
        wet, bad = _finite(wet)
        if bad:
            self.bad_samples += bad
            # A filter that has met a NaN keeps it; only fresh memory helps.
            self.processor = make_processor(self._device, self._host, self._params)
            self._next = None if self._next is None else make_processor(self._device, self._host, self._next_params)
        return wet

    def _wet(self, position: int, x: Stereo, key: Stereo | None) -> Stereo:
        self.processor.position = position
        wet = self.processor.process(x, key)
        self.gain_db = self.processor.gain_db
        if self._next is None:
            return wet
        self._next.position = position
        later = self._next.process(x, key)
        weights = fade_weights(position, x.shape[1])
        if self.gain_db is not None and self._next.gain_db is not None:
            self.gain_db = self.gain_db + weights * (self._next.gain_db - self.gain_db)
        return np.asarray(wet + weights * (later - wet))

    def _enter(self, span: int, position: int) -> None:
        """Go on between the next two knots: what was faded to is in force, and another is made to fade to."""
        mix, params = self._moved(span)
        if self._span is None or span != self._span + 1:  # the first, or one after a jump
            self._replace(params, position, self._turned(span))
        elif self._next is not None:
            self.processor, self._params, self._next = self._next, self._next_params, None
        self._span = span
        self._mix = mix
        self._next_mix, self._next_params = self._moved(span + 1)
        if self._next_params != self._params:
            turns = self.processor.turns
            if self._rate is not None:  # both are at one place in their cycle, and part from there
                rates = self._cycles(np.array([self._params[self._rate], self._next_params[self._rate]]))
                turns += span * FADE_FRAMES * float(rates[0] - rates[1])
            self._next = self._successor(self._next_params, position, turns)

    def _cycles(self, hz: FloatArray) -> FloatArray:
        """Cycles a frame."""
        return hz / self._host.rate_hz

    def _turned(self, span: int) -> float:
        """What the moves of a rate from the start of the song to a knot leave to be added to position·rate there."""
        if self._rate is None or span <= 0:
            return 0.0
        beats = beats_of(np.arange(span + 1.0) * FADE_FRAMES, rate_hz=self._host.rate_hz, bpm=self._host.bpm)
        rates = self._cycles(moved(self._motions[self._rate], self._set_to(self._rate), beats))
        # From each knot to the next the later rate is what goes on.
        return float(FADE_FRAMES * (np.sum(rates[1:]) - span * rates[-1]))

    def _set_to(self, path: str) -> float:
        """What is set where automation does not play: a note value as it is at this tempo."""
        value = read_path(self._device.params, path)
        return _declared(self._device, path).number_of(value, bpm=self._host.bpm)

    def _replace(self, params: Values, position: int, turns: float) -> None:
        if params != self._params:
            self.processor = self._successor(params, position, turns)
            self._params = params
        self.processor.turns = turns
        self._next = None

    def _successor(self, params: Values, position: int, turns: float) -> Processor:
        """One with other parameters that goes on where the present one is."""
        made, history = self._taken_over(params, self.processor)
        made.turns = turns
        if history is not None:
            made.settle(*history, position)
        return made

    def _taken_over(self, params: Values, older: Processor) -> tuple[Processor, tuple[Stereo, Stereo | None] | None]:
        """A processor with the memory of an older one, and what it has to hear again before it goes on: all there is where
        not all of that memory has a place, and then it begins anew."""
        made = make_processor(self._device, self._host, params)
        if not made.adopt(older):
            return make_processor(self._device, self._host, params), self._past()
        if made.settle_s > 0.0:
            return made, self._past(round(made.settle_s * self._host.rate_hz))
        return made, None

    def _past(self, frames: int | None = None) -> tuple[Stereo, Stereo | None]:
        x = self._dry.past()
        key = self._key_past.past() if self._key_past is not None else None
        n = min(x.shape[1], PAST_FRAMES, x.shape[1] if frames is None else frames)
        return (np.ascontiguousarray(x[:, -n:]), None if key is None else np.ascontiguousarray(key[:, -n:]))

    def _moved(self, span: int) -> tuple[float, Values]:
        """Wet/dry and parameters as automation has them at a knot."""
        frame = max(0, span * FADE_FRAMES)
        beats = beats_of(np.array([frame]), rate_hz=self._host.rate_hz, bpm=self._host.bpm)
        mix, params = self._device.mix, self._device.params
        for path, motions in self._motions.items():
            if path == "mix":
                mix = float(moved(motions, mix, beats)[0])
                continue
            params = write_path(params, path, float(moved(motions, self._set_to(path), beats)[0]))
        return mix, params

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
        if not isinstance(older, DeviceRunner):
            return
        self._dry.adopt(older._dry)
        if self._key_past is not None and older._key_past is not None:
            self._key_past.adopt(older._key_past)
        if type(self.processor) is not type(older.processor):
            self._history = self._past()
            return
        self._ringing = not self._on and (older._on or older._ringing)
        self.processor, self._history = self._taken_over(self._params, older.processor)


class StripRunner(Runner):
    """Level and pan, moving where automation says so."""

    def __init__(self, node: StripNode, rate_hz: int) -> None:
        super().__init__(node)
        self._node, self._rate_hz = node, rate_hz
        self._motions = by_path(node.motions)
        self._gains = strip_gains(node.level_db, node.pan_pct)
        self._passes = bool(np.all(self._gains == 1.0))
        self.light = not self._motions

    def block(self, start: int, frames: int, inputs: Sequence[Stereo]) -> Stereo:
        if not self._motions:
            return inputs[0] if self._passes else inputs[0] * self._gains
        return inputs[0] * self._round_the_loop(self._smooth_gains, start, frames)

    def _smooth_gains(self, start: int, frames: int) -> FloatArray:
        return smoothed(self._gains_at, start - self._latest, frames)

    def _gains_at(self, frames: FloatArray) -> FloatArray:
        """Gains of left and right, (2, n), at frames of the song."""
        beats = beats_of(frames, rate_hz=self._rate_hz, bpm=self._node.bpm)
        level, pan = np.full(len(frames), self._node.level_db), np.full(len(frames), self._node.pan_pct)
        for path, motions in self._motions.items():
            if path == "pan_pct":
                pan = moved(motions, self._node.pan_pct, beats)
            else:  # level_db, a send's level, or a branch's gain: what this fader is there for
                level = moved(motions, self._node.level_db, beats)
        return side_gains(level, pan)


def _declared(device: Device, path: str) -> Param:
    return continuous_params(device)[path]


def strip_gains(level_db: float, pan_pct: float) -> FloatArray:
    """Gains of left and right, shape (2, 1)."""
    left, right = pan_gains(pan_pct, -3.0)
    return np.array([[left], [right]]) * db_to_gain(level_db)


class SumRunner(Runner):
    def block(self, start: int, frames: int, inputs: Sequence[Stereo]) -> Stereo:
        if len(inputs) == 1:
            return self._clean(self._aligned(inputs)[0])
        out = np.zeros((2, frames))
        for line, x in zip(self._align, inputs, strict=True):
            if self._in_time:
                out += x
            else:
                line.add_to(x, out)
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
            mix = self._round_the_loop(self._smooth_mix, start, frames)[0]
        return self._clean(dry + mix * (wet - dry))

    def _smooth_mix(self, start: int, frames: int) -> FloatArray:
        return smoothed(self._mix_at, start - self._latest, frames)

    def _mix_at(self, frames: FloatArray) -> FloatArray:
        beats = beats_of(frames, rate_hz=self._rate_hz, bpm=self._node.bpm)
        return moved(self._node.motions, self._node.mix, beats)


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
