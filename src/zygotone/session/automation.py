"""Automation: how one parameter moves over the song or over a section.

Conventions
-----------
Positions are in beats (quarter notes) from the start of the lane's section, or of the song where it has none. Between
two points the value moves along the parameter's own scale, so that a frequency glides by equal ratios.
"""

from __future__ import annotations

import dataclasses
import functools
import math
from itertools import pairwise
from typing import Annotated, Literal

import numpy as np
from pydantic import Field, field_validator

from zygotone.dsp.types import FloatArray
from zygotone.errors import ParameterError
from zygotone.music.tempo import note_value_to_beats
from zygotone.session.params import Param
from zygotone.session.value import Id, Value

Shape = Literal["points", "steps", "triangle", "ramp_up", "ramp_down", "sine", "drawn"]
SHAPES: tuple[Shape, ...] = ("points", "steps", "triangle", "ramp_up", "ramp_down", "sine", "drawn")


class Point(Value):
    """``curve`` bends the way to the next point: 0 straight, above 0 late, below 0 early."""

    by_the_thousand = True

    beat: Annotated[float, Field(ge=0, le=1_000_000)]
    value: float
    curve: Annotated[float, Field(ge=-1, le=1)] = 0.0


class DrawnPoint(Value):
    """A point of one cycle: ``at`` 0 to 1 of its length, ``height`` 0 (low) to 1 (high)."""

    by_the_thousand = True

    at: Annotated[float, Field(ge=0, le=1)]
    height: Annotated[float, Field(ge=0, le=1)]


class Lane(Value):
    """What moves what. ``points`` and ``steps`` read ``points``; the other shapes repeat every ``period`` between
    ``low`` and ``high``, and ``drawn`` reads ``cycle``. The values of a ``relative`` lane are added to what the parameter else
    has, as ``offset_param`` declares."""

    id: Id
    strip: Id
    device: Annotated[str, Field(max_length=400)] | None = (
        None  # its path in the strip's chain, or in that of the layer
    )
    layer: Id | None = None  # of the strip's instrument
    param: Annotated[str, Field(min_length=1, max_length=200)]
    section: Id | None = None  # None: the whole song
    on: bool = True
    relative: bool = False
    shape: Shape = "points"
    points: Annotated[tuple[Point, ...], Field(max_length=10_000)] = ()
    period: Annotated[str, Field(max_length=12)] = "1/4"
    low: float = 0.0
    high: float = 1.0
    cycle: Annotated[tuple[DrawnPoint, ...], Field(max_length=256)] = ()

    @field_validator("period")
    @classmethod
    def _a_note_value(cls, text: str) -> str:
        note_value_to_beats(text)
        return text

    @field_validator("points")
    @classmethod
    def _in_order(cls, points: tuple[Point, ...]) -> tuple[Point, ...]:
        if any(b.beat < a.beat for a, b in pairwise(points)):
            raise ParameterError("automation points must be in the order of their beats")
        return points

    @property
    def repeats(self) -> bool:
        return self.shape not in ("points", "steps")

    @property
    def moves(self) -> bool:
        """Whether it has anything to say."""
        return self.on and (self.repeats or bool(self.points))

    def values(self) -> tuple[float, ...]:
        return (self.low, self.high) if self.repeats else tuple(p.value for p in self.points)


@functools.lru_cache(maxsize=1024)
def offset_param(param: Param) -> Param:
    """The declaration of what a relative lane adds: octaves where ``param`` lies on a ratio scale, else its own unit."""
    span = math.log2(param.high / param.low) if param.scale == "log" else param.high - param.low
    unit = "octaves" if param.scale == "log" else param.unit
    return dataclasses.replace(
        param, label=f"{param.label} ±", type="float", unit=unit, low=-span, high=span, default=0.0, scale="linear",
        help=f"Added to it. {param.help}",
    )  # fmt: skip


def shifted(param: Param, values: FloatArray, offsets: FloatArray) -> FloatArray:
    """Values of a parameter with offsets added, within its range."""
    moved = values * np.exp2(offsets) if param.scale == "log" else values + offsets
    return np.asarray(np.clip(moved, param.low, param.high))


@functools.lru_cache(maxsize=512)
def _knots(lane: Lane, param: Param) -> tuple[FloatArray, FloatArray, FloatArray]:
    beats = np.array([p.beat for p in lane.points])
    return beats, np.array([param.position_of(p.value) for p in lane.points]), np.array([p.curve for p in lane.points])


def lane_values(lane: Lane, param: Param, beats: FloatArray) -> FloatArray:
    """Values at ``beats`` (n,), counted from the start of the lane; before the first point it is the first's."""
    if lane.repeats:
        positions = _cycle(lane, (beats / float(note_value_to_beats(lane.period))) % 1.0)
        low, high = param.position_of(lane.low), param.position_of(lane.high)
        positions = low + (high - low) * positions
    else:
        knots, heights, curves = _knots(lane, param)
        at = np.clip(np.searchsorted(knots, beats, side="right") - 1, 0, len(knots) - 1)
        positions = heights[at]
        if lane.shape == "points" and len(knots) > 1:
            after = np.minimum(at + 1, len(knots) - 1)
            span = np.maximum(knots[after] - knots[at], 1e-9)
            t = np.clip((beats - knots[at]) / span, 0.0, 1.0)
            t = t ** (2.0 ** (3.0 * curves[at]))  # curve 1: the eighth power; −1: the eighth root
            positions = positions + (heights[after] - positions) * t
    return values_at(param, positions)


def lane_range(lane: Lane, param: Param, beats: float) -> tuple[float, float]:
    """Lowest and highest value in the first ``beats`` of a lane."""
    steps = np.linspace(0.0, beats, 512, endpoint=False)
    knots = [p.beat for p in lane.points if p.beat < beats] if not lane.repeats else []
    values = lane_values(lane, param, np.concatenate([steps, knots]))
    return float(values.min()), float(values.max())


def values_at(param: Param, positions: FloatArray) -> FloatArray:
    """``Param.value_at`` for an array."""
    p = np.clip(positions, 0.0, 1.0)
    if param.scale == "log":
        return np.asarray(param.low * (param.high / param.low) ** p)
    return np.asarray(param.low + (param.high - param.low) * p)


def _cycle(lane: Lane, t: FloatArray) -> FloatArray:
    """Height 0 to 1 at ``t`` 0 to 1 of a cycle."""
    if lane.shape == "triangle":
        return np.asarray(1.0 - np.abs(2.0 * t - 1.0))
    if lane.shape == "ramp_up":
        return t
    if lane.shape == "ramp_down":
        return np.asarray(1.0 - t)
    if lane.shape == "sine":
        return np.asarray(0.5 - 0.5 * np.cos(2.0 * np.pi * t))
    if not lane.cycle:
        return np.zeros_like(t)
    cycle = sorted(lane.cycle, key=lambda p: p.at)
    return np.asarray(np.interp(t, [p.at for p in cycle], [p.height for p in cycle]))
