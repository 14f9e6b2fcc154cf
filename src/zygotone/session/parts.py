"""What a track plays where: phrases and clips, placed in sections or anywhere in the song."""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import Annotated, Self

from pydantic import Field, model_validator

from zygotone.errors import ParameterError
from zygotone.session.value import Id, Value

MOST_SHIFT = 24.0  # semitones
AssetId = Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]


class Part(Value):
    """A phrase or an audio clip from ``start_beat`` of its section, or of the song where it names none.

    ``length_beats`` None is to the end of that section, or of the song. A phrase begins with the part. A clip begins at
    ``clip_start_s`` of itself; where that is None it runs along with the song, as the track's clip does, and the part only
    says where it is heard. Places in a clip are those of the stretched one. What loops repeats while the part lasts. A fade of a phrase is one of its notes' levels.
    """

    section: Id | None = None
    start_beat: Annotated[float, Field(ge=0, le=100_000)] = 0.0
    length_beats: Annotated[float, Field(ge=1 / 64, le=100_000)] | None = None
    phrase: Id | None = None
    clip: AssetId | None = None  # None, on a track that plays a clip: that one
    clip_start_s: Annotated[float, Field(ge=0, le=36000)] | None = None
    gain_db: Annotated[float, Field(ge=-60, le=24)] = 0.0
    fade_in_ms: Annotated[float, Field(ge=0, le=60_000)] = 0.0
    fade_out_ms: Annotated[float, Field(ge=0, le=60_000)] = 0.0
    reverse: bool = False
    loop: bool = True
    transpose_semitones: Annotated[int, Field(ge=-24, le=24)] = 0
    stretch: Annotated[float, Field(ge=0.25, le=4.0)] = 1.0  # of a clip: how many times as long, at its own pitch

    @model_validator(mode="after")
    def _one_of_both(self) -> Self:
        if self.phrase is not None and (self.clip is not None or self.clip_start_s is not None):
            raise ParameterError("a part plays a phrase or a clip, not both")
        if self.phrase is not None and self.stretch != 1.0:
            raise ParameterError("a part that plays a phrase is not stretched; stretch its notes")
        if abs(self.pitch_shift) > MOST_SHIFT:
            raise ParameterError(
                f"transposed by {self.transpose_semitones} semitones and stretched {self.stretch:g} times is more than can be done at once"
            )
        if self.reverse and self.phrase is None and self.clip_start_s is None:
            raise ParameterError(
                "a clip that runs along with the song cannot run backwards; say where in it the part begins"
            )
        return self

    @property
    def pitch_shift(self) -> float:
        """Semitones by which a clip that was resampled to its length is to be moved."""
        return self.transpose_semitones + 12.0 * math.log2(self.stretch)

    def span_beats(self, section_beats: tuple[float, float]) -> tuple[float, float]:
        """First beat and the one after the last, within the beats of its section or of the song."""
        first, end = section_beats
        start = first + self.start_beat
        return start, end if self.length_beats is None else min(end, start + self.length_beats)


def played_in(parts: Iterable[Part], section_id: str) -> tuple[str, ...]:
    """The phrases that a section plays, each once, in the order of the parts."""
    return tuple(dict.fromkeys(p.phrase for p in parts if p.section == section_id and p.phrase is not None))
