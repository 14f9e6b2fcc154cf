"""Movements to begin from: ramps, steps, pushes on beats. Functions from a lane to a lane.

Conventions
-----------
Beats are counted from the start of the lane's section or, where it names none, of the song; ``length`` is how many there are.
``rest`` and ``peak`` are values of the lane: where it is while nothing happens, and where it goes.
"""

from __future__ import annotations

from collections.abc import Sequence

from zygotone.session.automation import Lane, Point
from zygotone.session.params import Param

_GONE_BEATS = 1 / 64  # as good as at once, where a value must be there on a beat and elsewhere just before it


def as_points(lane: Lane, points: Sequence[Point]) -> Lane:
    return lane.replace(shape="points", points=tuple(sorted(points, key=lambda p: p.beat)))


def ramp(lane: Lane, length: float, first: float, last: float, *, curve: float = 0.0) -> Lane:
    """From one value to another over the whole length."""
    return as_points(lane, [Point(beat=0.0, value=first, curve=curve), Point(beat=length, value=last)])


def steps(lane: Lane, length: float, every: float, values: Sequence[float]) -> Lane:
    """A value that holds for ``every`` beats, then the next, from the first again after the last."""
    count = max(1, round(length / every))
    points = [Point(beat=n * every, value=values[n % len(values)]) for n in range(count)]
    return lane.replace(shape="steps", points=tuple(points))


def pushes(
    lane: Lane, length: float, beats: Sequence[float], rest: float, peak: float, *, last: float = 0.5
) -> Lane:  # fmt: skip
    """At ``peak`` on each of the beats, and back at ``rest`` within ``last`` beats, quickly at first."""
    points = [Point(beat=0.0, value=rest)] if not beats or beats[0] > _GONE_BEATS else []
    for n, beat in enumerate(beats):
        until = beats[n + 1] - _GONE_BEATS if n + 1 < len(beats) else length
        if beat - _GONE_BEATS > 0.0:
            points.append(Point(beat=beat - _GONE_BEATS, value=rest))
        points.append(Point(beat=beat, value=peak, curve=-0.5))
        points.append(Point(beat=min(until, beat + last), value=rest))
    return as_points(lane, _without_doubles(points))


def _without_doubles(points: Sequence[Point]) -> list[Point]:
    """Of points on one beat the last."""
    return list({round(p.beat, 6): p for p in points}.values())


def beginnings(
    lane: Lane, param: Param, rest: float, *, length: float, bar_beats: float
) -> tuple[tuple[str, str, Lane], ...]:
    """Movements that a lane may begin with, each with a name for machines and one for people: between ``rest`` and a fifth of
    the ruler above it, or below it where there is no room."""
    share = param.position_of(rest)
    peak = param.value_at(share + 0.2 if share < 0.8 else share - 0.2)
    beats = [float(n) for n in range(int(length + 1e-6))]
    weak = [b for b in beats if round(b % bar_beats) % 2 == 1]
    bars = [n * bar_beats for n in range(int(length / bar_beats + 1e-6))]
    return (
        ("ramp_up", "A ramp up", ramp(lane, length, rest, peak)),
        ("ramp_down", "A ramp down", ramp(lane, length, peak, rest)),
        ("push_beats", "A push on each beat", pushes(lane, length, beats, rest, peak)),
        ("push_weak", "A push on the weak beats", pushes(lane, length, weak, rest, peak)),
        ("push_bars", "A push on each bar", pushes(lane, length, bars, rest, peak, last=2.0)),
        ("steps", "Two steps, a bar each", steps(lane, length, bar_beats, (rest, peak))),
    )


# --- points --------------------------------------------------------------------------------------------------------


def room_of(lane: Lane, at: int, length: float) -> tuple[float, float]:
    """From which beat to which the point at place ``at`` can go: points do not pass each other."""
    before = lane.points[at - 1].beat if at > 0 else 0.0
    return before, lane.points[at + 1].beat if at + 1 < len(lane.points) else max(length, lane.points[at].beat)


def point_moved(lane: Lane, at: int, length: float, **changes: float) -> Lane:
    """The point at place ``at`` with another ``beat`` (as far as it can go), ``value`` or ``curve``; the rest of it stays."""
    if "beat" in changes:
        low, high = room_of(lane, at, length)
        changes["beat"] = min(high, max(low, changes["beat"]))
    points = tuple(p.replace(**changes) if n == at else p for n, p in enumerate(lane.points))
    return lane.replace(points=points)


def point_added(lane: Lane, beat: float, value: float) -> tuple[Lane, int]:
    """One more point, after those on its beat; and its place."""
    at = sum(p.beat <= beat for p in lane.points)
    return lane.replace(points=(*lane.points[:at], Point(beat=beat, value=value), *lane.points[at:])), at


def written(lane: Lane, beat: float, value: float, *, since: float | None) -> Lane:
    """What the hand says as the song plays: ``value`` at ``beat``, in the place of all that was there since the beat before
    (``since``; None as it begins)."""
    start = beat if since is None else min(since, beat)
    kept = [p for p in lane.points if not start < p.beat <= beat]
    if since is None:  # what was there holds up to where the hand begins
        before = [p for p in lane.points if p.beat <= beat]
        if before and beat - _GONE_BEATS > before[-1].beat:
            kept.append(Point(beat=beat - _GONE_BEATS, value=before[-1].value))
    return as_points(lane, _without_doubles([*kept, Point(beat=beat, value=value)]))


def thinned(lane: Lane, param: Param, *, within: float = 0.004) -> Lane:
    """Without points that lie on the way between their neighbours, up to ``within`` of the ruler: what a hand wrote becomes a
    few points that can be moved."""
    points = list(lane.points)
    if len(points) < 3:
        return lane
    keep = {0, len(points) - 1}

    def split(first: int, last: int) -> None:
        # Ramer 1972: the point that is farthest from the line stays, and both halves are asked again.
        stack = [(first, last)]
        while stack:
            a, b = stack.pop()
            worst, farthest = 0.0, None
            for i in range(a + 1, b):
                t = (points[i].beat - points[a].beat) / max(1e-9, points[b].beat - points[a].beat)
                line = (1 - t) * param.position_of(points[a].value) + t * param.position_of(points[b].value)
                off = abs(param.position_of(points[i].value) - line)
                if off > worst:
                    worst, farthest = off, i
            if farthest is not None and worst > within:
                keep.add(farthest)
                stack += [(a, farthest), (farthest, b)]

    split(0, len(points) - 1)
    return lane.replace(points=tuple(points[i] for i in sorted(keep)))
