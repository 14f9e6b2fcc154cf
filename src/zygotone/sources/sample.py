"""Audio of one's own, played at the pitch of the note."""

from __future__ import annotations

from typing import Any

import numpy as np

from zygotone.dsp.oscillators import read_resampled
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Param, Values, at_start, choice, number, share, switch
from zygotone.sources.base import NoteRequest, ReadClip, source


def _two_choices(given: dict[str, Any]) -> dict[str, Any]:
    """Backwards was a way to play beside once and loop."""
    return {**given, "play": "once", "backwards": True} if given.get("play") == "backwards" else given


KIND = Kind(
    kind="sample",
    upgrade=_two_choices,
    title="Sample",
    summary="A recording at the pitch of the note: once, looped or backwards; several take turns.",
    params=(
        Param(
            name="files", label="Files", type="list", entries="plain", max_items=8, default=(),
            items=(Param(name="file", label="File", type="file", default="", help="A clip of the project."),),
            help="The recordings; where there are several, repeated notes take them in turn.",
        ),
        number("root_hz", "Root", "Hz", 8.0, 12000.0, 261.6255653005986, "The pitch of the recording; found when it is brought in.", scale="log", fixed=True),
        switch("follows", "Follows the note", True, "Off, it sounds at its own pitch whatever the note."),
        choice("play", "Play", ("once", "loop"), "once", "Once to its end, or round a loop while the note is held."),
        switch("backwards", "Backwards", False, "From its end to its beginning, once or round the loop."),
        switch("gated", "Ends with the note", False, "On, it lasts no longer than the note and follows the level envelope, as a loop does; off, it is played to its end."),
        at_start(share("start", "Start", 0.0, "Where it begins, as a share of its length.")),
        at_start(share("loop_from", "Loop from", 0.2, "Where the loop begins.")),
        at_start(share("loop_to", "Loop to", 0.9, "Where the loop ends.")),
        at_start(number("fade_ms", "Loop fade", "ms", 0.0, 2000.0, 30.0, "How long the loop's end blends into its beginning.")),
        number("cents", "Tune", "cents", -1200.0, 1200.0, 0.0, "Fine tuning of the recording."),
    ),
)  # fmt: skip

_MOST_S = 60.0


def _file(params: Values, number_: int) -> str:
    files = [name for name in params["files"] if name]
    return str(files[number_ % len(files)]) if files else ""


def ring_s(params: Values, pitch_hz: float, clip: ReadClip, rate_hz: int) -> float:
    """How long it sounds by itself; 0 where it is looped, so that the note decides."""
    names = [name for name in params["files"] if name]
    if params["play"] == "loop" or params["gated"] or not names:
        return 0.0
    speed = (pitch_hz / params["root_hz"] if params["follows"] else 1.0) * 2.0 ** (params["cents"] / 1200.0)
    longest = max(clip(name).shape[1] for name in names)
    return float(min(_MOST_S, (1.0 - params["start"]) * longest / rate_hz / max(speed, 1e-3)))


@source(KIND, ring_s=ring_s, varies=lambda params: len([name for name in params["files"] if name]) > 1)
def render(params: Values, note: NoteRequest) -> Stereo:
    out = np.zeros((2, note.frames))
    name = _file(params, note.number)
    if not name:
        return out
    audio = note.clip(name)
    size = audio.shape[1]
    if params["backwards"]:
        audio = np.ascontiguousarray(audio[:, ::-1])
    places = _places(params, note, size)
    if params["play"] == "loop":
        audio, places = _looped(params, audio, places, note.rate_hz)
    for c in range(2):
        read_resampled(np.ascontiguousarray(audio[c]), places, out[c])
    return out


def _places(params: Values, note: NoteRequest, size: int) -> FloatArray:
    """Where each frame of the note is read, as if the recording went on for ever; shape (frames,)."""
    hz = note.hz if params["follows"] else np.full(note.cells + 1, params["root_hz"])
    speeds = hz / params["root_hz"] * 2.0 ** (note.grid("cents", params["cents"]) / 1200.0)
    speed = note.by_frame(speeds)
    return np.asarray(params["start"] * size + np.concatenate([[0.0], np.cumsum(speed)[:-1]]))


def _looped(params: Values, audio: Stereo, places: FloatArray, rate_hz: int) -> tuple[Stereo, FloatArray]:
    """The recording with its loop's end blended into what comes before its beginning, and the places brought back into it.

    Equal power: what meets there is as a rule not the same."""
    size = audio.shape[1]
    ends = (params["loop_from"], params["loop_to"])
    if params["backwards"]:  # the loop's ends are places in the recording, which is turned round
        ends = (1.0 - ends[0], 1.0 - ends[1])
    first, last = sorted(round(end * size) for end in ends)
    last = max(last, first + 8)
    fade = min(round(params["fade_ms"] * 1e-3 * rate_hz), first, (last - first) // 2)
    if last > size:
        return audio, places
    audio = audio.copy()
    if fade > 0:
        along = np.arange(fade) / fade
        audio[:, last - fade : last] = (
            np.cos(0.5 * np.pi * along) * audio[:, last - fade : last]
            + np.sin(0.5 * np.pi * along) * audio[:, first - fade : first]
        )
    # Unrolled as far as the note needs, so that reading across the seam sees the right neighbours.
    length = last - first
    turns = max(1, int(np.ceil((places[-1] - last) / length)) + 1) if places[-1] > last else 1
    if turns * length > 20 * rate_hz + length:  # long notes go round in a table of a few seconds
        turns = max(2, int(20 * rate_hz / length))
    rolled = np.concatenate([audio[:, :last], *[audio[:, first:last]] * turns], axis=1)
    inside = np.where(places < last, places, first + np.mod(places - first, length) + np.minimum(turns - 1, 1) * length)
    wrapped = np.where(places < last + (turns - 1) * length, places, inside)
    return rolled, np.asarray(wrapped)
