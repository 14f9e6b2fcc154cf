"""What sounds as nodes in dependency order, and what moves their parameters.

Each node has a *key*, a digest of everything its sound depends on; two nodes with one key sound the same, whatever session
they are from.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from zygotone.dsp.types import FloatArray
from zygotone.session.kinds import Device
from zygotone.session.params import Param

if TYPE_CHECKING:
    from zygotone.engine.lane_motion import LaneMotion
    from zygotone.session.models import Track


@dataclass(frozen=True, slots=True, eq=False)
class Motion:
    """What moves a parameter over the song, made ready. Of several, those of a lower ``rank`` come first."""

    param: Param
    path: str

    @property
    def digest(self) -> str:
        """Equal where it moves the same in the same way."""
        raise NotImplementedError

    @property
    def rank(self) -> int:
        raise NotImplementedError

    def onto(self, values: FloatArray, beats: FloatArray) -> FloatArray:
        """What the parameter is at ``beats`` of the song (n,), where without this it would be ``values`` (n,)."""
        raise NotImplementedError


@dataclass(frozen=True, slots=True, eq=False)
class Node:
    """One step of the graph. ``latency`` is that of its output, in frames behind the song."""

    key: str
    place: tuple[str, str]  # strip id and device path (or what it is): whose memory a changed node takes over
    latency: int
    inputs: tuple[Node, ...] = ()


@dataclass(frozen=True, slots=True, eq=False)
class SourceNode(Node):
    track: Track | None = None
    motions: tuple[LaneMotion, ...] = ()
    layers: tuple[str, ...] = ()  # of an instrument: which of its layers
    faded: bool = True  # whether their levels and pans are in it, or come later


@dataclass(frozen=True, slots=True, eq=False)
class DeviceNode(Node):
    """``inputs`` are the signal and, where one is connected, the key. One that is off only lets its tail ring out."""

    device: Device | None = None
    bpm: float = 120.0
    motions: tuple[Motion, ...] = ()


@dataclass(frozen=True, slots=True, eq=False)
class StripNode(Node):
    """Level and pan."""

    level_db: float = 0.0
    pan_pct: float = 0.0
    bpm: float = 120.0
    motions: tuple[Motion, ...] = ()


@dataclass(frozen=True, slots=True, eq=False)
class SumNode(Node):
    pass


@dataclass(frozen=True, slots=True, eq=False)
class BlendNode(Node):
    """``inputs`` are dry and wet; of a split, since those of other devices blend inside."""

    mix: float = 1.0
    bpm: float = 120.0
    motions: tuple[Motion, ...] = ()


def nodes_below(nodes: Iterable[Node], *, known: Callable[[Node], bool] = lambda node: False) -> list[Node]:
    """``nodes`` and all that they need, each once, inputs before outputs; without those that are ``known`` and what only
    they need."""
    found: dict[str, Node] = {}
    for root in nodes:
        if root.key in found or known(root):
            continue
        open_nodes = [(root, iter(root.inputs))]
        while open_nodes:
            node, rest = open_nodes[-1]
            below = next((each for each in rest if each.key not in found and not known(each)), None)
            if below is None:
                found.setdefault(node.key, node)
                open_nodes.pop()
            else:
                open_nodes.append((below, iter(below.inputs)))
    return list(found.values())
