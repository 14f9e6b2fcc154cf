"""What is usual for a role: where it sits against the lead, how peaky it is, how much it varies.

All of it is common practice, from the levels that mixes of popular music mostly have; a school may differ, and so may a song: a
finding that rests on these can be accepted as meant.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Usual:
    """``place_lu``: loudness over that of the lead, from and to. ``crest_db``: from and to. ``spread_lu``: at most."""

    place_lu: tuple[float, float]
    crest_db: tuple[float, float]
    spread_lu: float


USUAL: dict[str, Usual] = {
    "kick": Usual((-9.0, 4.0), (7.0, 24.0), 6.0),
    "snare": Usual((-10.0, 4.0), (8.0, 28.0), 8.0),
    "hats": Usual((-22.0, -4.0), (7.0, 30.0), 9.0),
    "percussion": Usual((-20.0, -2.0), (8.0, 30.0), 12.0),
    "sub": Usual((-16.0, 4.0), (2.5, 18.0), 8.0),
    "bass": Usual((-8.0, 5.0), (4.0, 18.0), 8.0),
    "guitar": Usual((-13.0, 1.0), (6.0, 22.0), 10.0),
    "lead": Usual((-4.0, 4.0), (5.0, 20.0), 12.0),
    "keys": Usual((-15.0, 0.0), (6.0, 24.0), 12.0),
    "pad": Usual((-18.0, -1.0), (5.0, 18.0), 10.0),
    "voice": Usual((-6.0, 6.0), (6.0, 22.0), 12.0),
}
DRUMS = ("kick", "snare", "hats", "percussion")
CHORDS = ("guitar", "keys", "pad")
LEADS = ("lead", "voice")
