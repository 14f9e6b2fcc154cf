"""Ladders of fixes: rungs that change a version, the smallest amount that does, and what each gains and costs as rendered.

A rung says how to make a version with an amount of it; ``work_out`` finds the smallest amount that reaches the aim, renders it, and
measures gain and cost. Nothing is promised that was not rendered.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace

from zygotone.advise.findings import Fix, reading_of
from zygotone.advise.hearing import Hearing
from zygotone.advise.schools import in_order
from zygotone.errors import LoopError, ParameterError
from zygotone.measure.quantities import find_quantity
from zygotone.session.models import Session, Track, walk

_EVALUATIONS = 5
_HEARD_LU = 0.05  # what is softer by less is as loud


@dataclass(frozen=True, slots=True, kw_only=True)
class Aim:
    """What a ladder works at: a quantity that is to come to ``target`` or past it.

    ``read`` gives it for any version, NaN where it cannot be read there. A change of less than ``least`` is none.
    """

    quantity: str
    read: Callable[[Hearing], float]
    target: float
    lower: bool = True  # which way is better
    least: float = 0.0

    def short_of(self, value: float) -> float:
        """By how much a value falls short of the target; 0 or below where it does not."""
        return (value - self.target) if self.lower else (self.target - value)

    def better_by(self, before: float, after: float) -> float:
        return before - after if self.lower else after - before


@dataclass(frozen=True, slots=True, kw_only=True)
class Rung:
    """One way out. ``make`` gives the version with an amount between 0 and ``deepest``; one without a choice of amount has
    ``deepest`` 1 and ``whole``. One that cannot be here says why, and has no ``make``."""

    label: str
    school: str
    make: Callable[[float], Session] | None = None
    deepest: float = 1.0
    whole: bool = False
    in_db: bool = False  # whether its amount is a level that goes down
    detail: Callable[[float], str] = lambda amount: ""
    digits: int = 1  # an amount is rounded to them
    why_not: str = ""

    @classmethod
    def refused(cls, label: str, school: str, why: str) -> Rung:
        return cls(label=label, school=school, why_not=why)


def work_out(hearing: Hearing, aim: Aim, rungs: Iterable[Rung], shown: Iterable[str]) -> Iterator[Fix]:
    """Each rung at the smallest amount that reaches the aim, or as far as it goes, with gain and cost; as they are asked for.

    shown: ids of strips whose loudness the readings show.

    Raises
    ------
    Cancelled : nobody waits for them any more.
    """
    shown = tuple(shown)
    for rung in in_order(hearing.session.schools, rungs, lambda rung: rung.school):
        yield _worked_out(hearing, aim, rung, shown)


def _worked_out(hearing: Hearing, aim: Aim, rung: Rung, shown: tuple[str, ...]) -> Fix:
    refused = Fix(label=rung.label, school=rung.school, applies=False, why_not=rung.why_not)
    make = rung.make
    if make is None:
        return refused
    before = aim.read(hearing)

    def read(amount: float) -> float:
        return aim.read(hearing.with_session(make(amount)))

    try:
        amount = rung.deepest if rung.whole else round(_smallest(aim, read, before, rung.deepest), rung.digits)
        session = make(amount)
        after = read(amount)
    except LoopError:
        return replace(refused, why_not="these tracks listen to each other already; they cannot do so both ways")
    except ParameterError as error:
        return replace(refused, why_not=str(error))
    gain = aim.better_by(before, after)
    if not math.isfinite(after):
        return replace(refused, why_not="after it there would be nothing left to judge")
    if not gain > aim.least:
        return replace(refused, why_not="measured, it does not help here")
    fix = measured(hearing, aim, rung.label, rung.detail(amount), rung.school, session, shown)
    return replace(fix, depth_db=min(0.0, amount)) if rung.in_db else fix


def _smallest(aim: Aim, read: Callable[[float], float], before: float, deepest: float) -> float:
    """The smallest amount with which the aim is reached, or the one that comes nearest to it. Mostly more does more; where all of
    it does not reach the aim, half and a quarter are tried, since one can also go too far."""
    most = {amount: aim.short_of(read(amount)) for amount in (deepest,)}
    if not most[deepest] <= 0.0:
        most |= {amount: aim.short_of(read(amount)) for amount in (0.5 * deepest, 0.25 * deepest)}
    known = {amount: short for amount, short in most.items() if math.isfinite(short)}
    if not known:
        return deepest
    high = min(known, key=lambda amount: (max(0.0, known[amount]), abs(amount)))
    high_short = known[high]
    if high_short > 0.0:
        return high
    low, low_short = 0.0, aim.short_of(before)
    tight = 0.04 * abs(low_short) + 1e-9
    for _ in range(_EVALUATIONS):
        share = low_short / max(low_short - high_short, 1e-12)
        amount = low + (high - low) * min(0.85, max(0.15, share))
        short = aim.short_of(read(amount))
        if -tight <= short <= 0.0:
            return amount
        if short > 0.0:
            low, low_short = amount, short
        else:
            high, high_short = amount, short
    return high


def measured(
    hearing: Hearing, aim: Aim, label: str, detail: str, school: str, session: Session, shown: tuple[str, ...]
) -> Fix:
    """A version as a fix: what it gains at the aim, and what it costs every track and the mix."""
    after = hearing.with_session(session)
    values = aim.read(hearing), aim.read(after)
    cost = costs(hearing, after)
    readings = [reading_of(aim.quantity, *values)]
    for strip_id in shown[:2]:
        if has_strip(session, strip_id) and has_strip(hearing.session, strip_id):
            reading = reading_of("loudness_lufs", hearing.lufs(strip_id), after.lufs(strip_id))
            readings.append(reading.replace(label=f"{hearing.session.strip(strip_id).name} loudness", of=strip_id))
    readings += [reading_of(name, 0.0, value) for name, value in cost.items() if abs(value) > _HEARD_LU]
    return Fix(
        label=label, detail=detail, school=school, gain={aim.quantity: values[1] - values[0]}, cost=cost,
        readings=tuple(readings), session=session,
    )  # fmt: skip


def costs(before: Hearing, after: Hearing) -> dict[str, float]:
    """What a version costs: the most that any track loses of its loudness, what the mix gains or loses, and how far a device
    that is new pumps."""
    lost = max(losses_lu(before, after).values(), default=0.0)
    mix = [h.lufs(h.session.mix.id) for h in (before, after)]
    pumping = 0.0
    for strip in after.session.strips():
        old = (
            {d.id for _, d in walk(before.session.strip(strip.id).chain)}
            if has_strip(before.session, strip.id)
            else set()
        )
        for path, device in walk(strip.chain):
            if device.id not in old and device.key is not None:
                pumping = max(pumping, after.pumping_db(strip.id, path))
    change = mix[1] - mix[0] if all(map(math.isfinite, mix)) else 0.0
    return {"lost_lu": lost, "mix_change_lu": change, "pumping_db": pumping}


def losses_lu(before: Hearing, after: Hearing) -> dict[str, float]:
    """How much softer a version makes each track that it does, by id."""
    lost = {track.id: _lost_lu(before, after, track) for track in before.session.tracks}
    return {track_id: lu for track_id, lu in lost.items() if lu > _HEARD_LU}


def with_costs(hearing: Hearing, fix: Fix) -> Fix:
    """A fix with what it costs every track and the mix, whatever its rule has measured of that."""
    if fix.session is None:
        return fix
    after = hearing.with_session(fix.session)
    return replace(fix, cost={**costs(hearing, after), **fix.cost}, losses_lu=losses_lu(hearing, after))


def _lost_lu(before: Hearing, after: Hearing, track: Track) -> float:
    """How much softer a track has become, by itself and by its group; all of it (60) where it is heard no more."""
    if track.mute or not before.plays(track.id):
        return 0.0
    if not has_strip(after.session, track.id) or after.session.strip(track.id).mute or not after.plays(track.id):
        return 60.0
    lost = _softer(before, after, track.id)
    # A group that gets the same and gives less takes it from all of its tracks.
    if track.bus is not None and before.graph.raw[track.bus].key == after.graph.raw[track.bus].key:
        lost += _softer(before, after, track.bus)
    return max(0.0, lost)


def _softer(before: Hearing, after: Hearing, strip_id: str) -> float:
    if before.graph.strip[strip_id].key == after.graph.strip[strip_id].key:
        return 0.0
    one, other = before.lufs(strip_id), after.lufs(strip_id)
    return one - other if math.isfinite(one) and math.isfinite(other) else 0.0


def worth(fix: Fix) -> float:
    """What a fix gains for what it costs, to rank fixes of one finding by: in the quantity's own unit for each LU or dB.

    A loss of 1 LU of the track that loses most, 2 LU of the mix and 2 dB of pumping weigh alike; what costs nothing is not
    endlessly good (0.3 is added).
    """
    if not fix.applies or not fix.gain:
        return 0.0
    lost = max(abs(fix.cost.get(name, 0.0)) for name in ("lost_lu", "bass_lost_lu"))
    cost = lost + sum(0.5 * abs(fix.cost.get(name, 0.0)) for name in ("mix_change_lu", "pumping_db"))
    name, change = next(iter(fix.gain.items()))
    good = -change if find_quantity(name).better == "lower" else abs(change)
    return good / (0.3 + cost)


def has_strip(session: Session, strip_id: str) -> bool:
    return any(strip.id == strip_id for strip in session.strips())
