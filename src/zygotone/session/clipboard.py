"""What is cut, copied and pasted, as text: JSON with the clips that it needs, so that it also goes from one project to another.

The text is open: ``{"zygotone": 1, "what": {"type": "notes", ...}, "clips": [...]}``. Clips are FLAC in base64.
"""

from __future__ import annotations

import base64
from collections.abc import Iterable
from pathlib import Path
from typing import Annotated, Literal

from pydantic import Field

from zygotone.errors import BadFileError, ParameterError, ZygotoneError
from zygotone.session.audio_files import AudioData
from zygotone.session.audio_store import AudioStore, decode
from zygotone.session.automation import Lane
from zygotone.session.edits import add_asset
from zygotone.session.instruments import Layer, Note, Phrase, instrument_files
from zygotone.session.kinds import Device, file_names, walk
from zygotone.session.models import Asset, ClipSource, Session, Track
from zygotone.session.parsing import parse_json, parse_model
from zygotone.session.saved_sounds import SavedSound
from zygotone.session.value import Value

MOST_CLIP_BYTES = 32 << 20  # encoded; longer clips go only where the project holds them already
MOST_TEXT_BYTES = 64 << 20
_WHERE = "the clipboard"


class CopiedNotes(Value):
    type: Literal["notes"] = "notes"
    notes: Annotated[tuple[Note, ...], Field(min_length=1, max_length=20_000)]


class CopiedPhrase(Value):
    type: Literal["phrase"] = "phrase"
    phrase: Phrase


class CopiedDevices(Value):
    type: Literal["devices"] = "devices"
    devices: Annotated[tuple[Device, ...], Field(min_length=1, max_length=64)]


class CopiedLayers(Value):
    type: Literal["layers"] = "layers"
    layers: Annotated[tuple[Layer, ...], Field(min_length=1, max_length=32)]


class CopiedSound(Value):
    type: Literal["sound"] = "sound"
    sound: SavedSound


class CopiedTrack(Value):
    type: Literal["track"] = "track"
    track: Track
    lanes: Annotated[tuple[Lane, ...], Field(max_length=500)] = ()


class CopiedLane(Value):
    """With the unit and range of what it moved, so that it can move something else."""

    type: Literal["lane"] = "lane"
    lane: Lane
    unit: str = ""
    low: float = 0.0
    high: float = 1.0
    scale: Literal["linear", "log", "db"] = "linear"


What = CopiedNotes | CopiedPhrase | CopiedDevices | CopiedLayers | CopiedSound | CopiedTrack | CopiedLane

WORDS: dict[str, str] = {
    "notes": "notes", "phrase": "a phrase", "devices": "devices", "layers": "layers", "sound": "a sound", "track": "a track",
    "lane": "automation",
}  # fmt: skip


class CopiedClip(Value):
    asset: Asset
    rate_hz: int
    flac: Annotated[str, Field(max_length=MOST_TEXT_BYTES)]


class Copied(Value):
    zygotone: Literal[1] = 1
    what: Annotated[What, Field(discriminator="type")]
    clips: Annotated[tuple[CopiedClip, ...], Field(max_length=1000)] = ()


def clips_of(what: What) -> set[str]:
    """Ids of the clips that it needs."""
    if isinstance(what, CopiedDevices):
        return _of_chain(what.devices)
    if isinstance(what, CopiedLayers):
        return instrument_files(what.layers)
    if isinstance(what, CopiedSound):
        return instrument_files(what.sound.layers)
    if isinstance(what, CopiedTrack):
        track = what.track
        own = {track.source.asset} if isinstance(track.source, ClipSource) else instrument_files(track.source.layers)
        return own | {part.clip for part in track.parts if part.clip is not None} | _of_chain(track.chain)
    return set()


def _of_chain(devices: Iterable[Device]) -> set[str]:
    return {name for _, device in walk(devices) for name in file_names(device)}


def as_text(what: What, session: Session, store: AudioStore) -> str:
    """For the clipboard, with the clips as far as they are not too long for it."""
    needed, clips, left = clips_of(what), [], MOST_CLIP_BYTES
    for asset in session.assets:
        if asset.id in needed:
            data = store.blob(asset.id)
            left -= len(data)
            if left >= 0:
                clips.append(CopiedClip(asset=asset, rate_hz=session.rate_hz, flac=base64.b64encode(data).decode()))
    return Copied(what=what, clips=tuple(clips)).model_dump_json(exclude_none=True)


def from_text(text: str) -> Copied | None:
    """What was copied; None where the text is not from here.

    Raises
    ------
    ParameterError : it says that it is, and does not hold together.
    """
    if len(text) > MOST_TEXT_BYTES or not text.lstrip().startswith('{"zygotone"'):
        return None
    try:
        return parse_model(Copied, parse_json(text.encode(), Path(_WHERE), ""), Path(_WHERE), "")
    except BadFileError as error:
        raise ParameterError(f"what is in the clipboard cannot be pasted: {error.reason}") from None


def with_clips(session: Session, copied: Copied, store: AudioStore) -> tuple[Session, What]:
    """The session with the clips that what was copied needs, and that; clips that the project lacks go into the store, at its
    rate.

    Raises
    ------
    ParameterError : a clip is neither in the project nor in the clipboard, or is not what it says.
    """
    sent = {clip.asset.id: clip for clip in copied.clips}
    names: dict[str, str] = {}
    for asset_id in sorted(clips_of(copied.what) - {asset.id for asset in session.assets}):
        clip = sent.get(asset_id)
        if clip is None:
            raise ParameterError(
                f"clip {asset_id[:12]}… is too long for the clipboard; save the sound and import it here"
            )
        try:
            data = base64.b64decode(clip.flac, validate=True)
            audio = decode(data, clip.asset, clip.rate_hz, file=_WHERE)
        except (ValueError, ZygotoneError) as error:
            raise ParameterError(f"a clip in the clipboard cannot be read: {error}") from None
        if clip.rate_hz == session.rate_hz:
            asset = store.add_encoded(clip.asset, data)
        else:
            heard = AudioData(audio[: clip.asset.channels], clip.rate_hz, "FLOAT", "WAV")
            asset = store.add(heard, clip.asset.name, session.rate_hz)
            names[asset_id] = asset.id
        session = add_asset(session, asset)
    return session, _renamed(copied.what, names)


def _renamed(what: What, names: dict[str, str]) -> What:
    """With other clips in the places of some; a hash is like no other text, wherever it stands."""
    if not names:
        return what
    text = Copied(what=what).model_dump_json(exclude_none=True)
    for old, new in names.items():
        text = text.replace(old, new)
    return Copied.model_validate_json(text).what
