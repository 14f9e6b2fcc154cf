"""Guesses what a stem is, from its name and, where that says nothing, from its sound."""

from __future__ import annotations

import math
import re

from zygotone.dsp.types import FloatArray
from zygotone.measure.dynamics import hits
from zygotone.measure.pitch import fundamental_hz
from zygotone.measure.spectrum import centroid_hz, spectrum
from zygotone.session.models import Role

# In this order, since "bass drum" is a kick and "snare top" is no lead.
_WORDS: tuple[tuple[str, Role], ...] = (
    (r"kick|bass ?drum|\bbd\d*\b|\bkik\b", "kick"),
    (r"snare|\bsn\d*\b|\bsd\d*\b|rim ?shot", "snare"),
    (r"hi ?hats?|\bhats?\d*\b|\bhh\d*\b|cymbals?|ride|crash|overheads?|\boh\b", "hats"),
    (r"perc|shaker|tamb|conga|bongo|\btoms?\d*\b|claps?|cowbell|drums?|beat|loop", "percussion"),
    (r"\bsub\d*\b|808", "sub"),
    (r"bass|\bbs\d*\b", "bass"),
    (r"gu?i?ta?r|\bgtr\b|\bgt\d*\b|strum", "guitar"),
    (r"vox|vocals?|voice|sing|choir|\bbv\d*\b", "voice"),
    (r"lead|solo|melody|hook", "lead"),
    (r"keys?|piano|rhodes|organ|clav|\bep\d*\b", "keys"),
    (r"pads?|strings?|atmos|drone|wash", "pad"),
    (r"\bfx\b|effects?|riser|sweep|impact|noise", "effect"),
)


def role_from_name(name: str) -> Role | None:
    text = re.sub(r"[_\-.]+", " ", name.lower())
    return next((role for pattern, role in _WORDS if re.search(pattern, text)), None)


def role_from_sound(audio: FloatArray, rate_hz: int) -> Role:
    """By where the energy lies, whether it comes in hits, and whether it has a pitch."""
    part = audio[:, : 20 * rate_hz]
    bright = centroid_hz(spectrum(part, rate_hz))
    if not math.isfinite(bright):
        return "other"
    struck = len(hits(part, rate_hz)) >= 2
    pitch = fundamental_hz(part, rate_hz)
    low = math.isfinite(pitch) and pitch < 130.0
    if low and bright < 250.0:
        if struck and pitch < 80.0 and _dies_away(part, rate_hz):
            return "kick"
        return "sub" if bright < 1.6 * pitch else "bass"
    if struck and bright > 5000.0:
        return "hats"
    if struck and not math.isfinite(pitch):
        return "snare" if bright < 5000.0 else "hats"
    return "other"


def _dies_away(audio: FloatArray, rate_hz: int) -> bool:
    """Whether most of the time between hits is quiet, as between drum hits."""
    magnitude = abs(audio).max(axis=0)
    hop = max(1, rate_hz // 100)
    n = len(magnitude) // hop
    levels = magnitude[: n * hop].reshape(n, hop).max(axis=1)
    return bool((levels < 0.1 * levels.max()).mean() > 0.3)


def guess_role(name: str, audio: FloatArray, rate_hz: int) -> Role:
    """By a track's name, and where that says nothing by its sound, (channels, frames)."""
    return role_from_name(name) or role_from_sound(audio, rate_hz)
