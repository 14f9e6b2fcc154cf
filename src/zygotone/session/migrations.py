"""From sessions as older versions of the format wrote them to the present one."""

from __future__ import annotations

from typing import Any


def upgraded(session: Any) -> Any:
    """A session of format 1 as JSON, in the shape of format 2. What is not of the old shape is left for the check."""
    if not isinstance(session, dict) or not isinstance(session.get("tracks"), (list, tuple)):
        return session
    return {**session, "tracks": [_parts_onto_track(track) for track in session["tracks"]]}


def _parts_onto_track(track: Any) -> Any:
    """Which phrase a section plays stood in the instrument; in which sections a clip is heard, in the clip."""
    source = track.get("source") if isinstance(track, dict) else None
    if not isinstance(source, dict):
        return track
    rest = {name: value for name, value in source.items() if name not in ("parts", "sections")}
    if source.get("type") == "instrument" and isinstance(source.get("parts"), list):
        known = {p.get("id") for p in source.get("phrases") or () if isinstance(p, dict)}
        # A part of a phrase that was not there played nothing.
        parts = [p for p in source["parts"] if not isinstance(p, dict) or p.get("phrase") in known]
        return {**track, "source": rest, "parts": parts}
    if source.get("type") == "clip" and isinstance(source.get("sections"), list):
        parts = [{"section": section, "loop": bool(source.get("loop"))} for section in source["sections"]]
        # Heard in no section it was silent; without parts it would play throughout.
        return {**track, "source": rest, "parts": parts, **({} if parts else {"mute": True})}
    return {**track, "source": rest} if source.get("type") in ("clip", "instrument") else track
