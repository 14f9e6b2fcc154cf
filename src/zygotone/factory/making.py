"""Short words for writing sounds down."""

from __future__ import annotations

from typing import Any

from zygotone.session.saved_sounds import SavedSound


def env(attack: float, decay: float, sustain: float, release: float, **more: float) -> dict[str, float]:
    return {"attack_ms": attack, "decay_ms": decay, "sustain": sustain, "release_ms": release, **more}


def low(
    cutoff: float, resonance: float = 0.1, *, opens: float = 0.0, envelope: dict[str, float] | None = None, **more: Any
) -> dict[str, Any]:
    """A low-pass with its envelope."""
    shape = envelope if envelope is not None else env(2, 250, 0.2, 200)
    return {"cutoff_hz": cutoff, "resonance": resonance, "envelope_octaves": opens, "envelope": shape, **more}


def high(cutoff: float, **more: Any) -> dict[str, Any]:
    return {"mode": "highpass", "cutoff_hz": cutoff, **more}


def route(source: str, target: str, amount: float) -> dict[str, Any]:
    return {"source": source, "target": target, "amount": amount}


# At this velocity sounds are levelled; what a harder stroke adds is taken off before, so that a sound is there as it is written.
_USUAL = 0.8
_OPENS_OCTAVES, _EFFORT, _POSITION = 1.2, 0.3, 0.25
_CLICK_DB, _BEND_DB, _EDGE_OCTAVES, _METAL_OCTAVES = 10.0, 10.0, 1.0, 1.6


def layer(
    name: str, job: str, kind: str, sound: dict[str, Any] | None = None, *, touch: bool = True, **more: Any
) -> dict[str, Any]:
    """With ``touch`` a harder stroke is brighter, by what the source has for it, where nothing else is said of velocity."""
    made = {
        "id": name.lower().replace(" ", "-"),
        "name": name,
        "job": job,
        "sound": {"kind": kind, **(sound or {})},
        **more,
    }
    said = any(each["source"] == "velocity" for each in more.get("routes", ()))
    return _touched(made, kind) if touch and (job != "sub" or kind == "drum") and not said else made


def _touched(made: dict[str, Any], kind: str) -> dict[str, Any]:
    """A layer that answers to velocity in its timbre."""
    sound, routes = dict(made["sound"]), list(made.get("routes", ()))
    shape = made.get("filter")
    if shape and shape.get("mode", "lowpass") == "lowpass" and "velocity_octaves" not in shape:
        cutoff = min(20000.0, shape["cutoff_hz"] * 2.0 ** (_OPENS_OCTAVES * (1.0 - _USUAL)))
        made = {**made, "filter": {**shape, "velocity_octaves": _OPENS_OCTAVES, "cutoff_hz": round(cutoff, 1)}}
    elif kind == "formant":
        sound["effort"] = max(0.0, sound.get("effort", 0.5) - _EFFORT * _USUAL)
        routes.append(route("velocity", "sound.effort", _EFFORT))
    elif kind == "wavetable":
        sound["position"] = max(0.0, sound.get("position", 0.0) - _POSITION * _USUAL)
        routes.append(route("velocity", "sound.position", _POSITION))
    elif kind == "drum":
        if sound.get("click_db", -18.0) > -60.0:
            sound["click_db"] = max(-59.0, sound.get("click_db", -18.0) - _CLICK_DB * _USUAL)
            routes.append(route("velocity", "sound.click_db", _CLICK_DB))
        if sound["model"] in ("kick", "tom", "snare") and sound.get("tone_db", 0.0) > -60.0:
            sound["bend_db"] = max(0.0, sound.get("bend_db", 0.0) - _BEND_DB * _USUAL)
            routes.append(route("velocity", "sound.bend_db", _BEND_DB))
        if sound["model"] in ("hat", "cymbal", "rim") and not shape:
            made = {**made, "filter": {"cutoff_hz": 20000.0, "resonance": 0.3, "velocity_octaves": _METAL_OCTAVES}}
        if sound.get("noise_db", -60.0) > -60.0:
            edge = sound.get("noise_high_hz", 12000.0) * 2.0 ** (-_EDGE_OCTAVES * _USUAL)
            sound["noise_high_hz"] = round(max(edge, 1.1 * sound.get("noise_low_hz", 1000.0)), 1)
            routes.append(route("velocity", "sound.noise_high_hz", _EDGE_OCTAVES))
    elif kind == "noise":
        sound["high_hz"] = round(sound.get("high_hz", 20000.0) * 2.0 ** (-_EDGE_OCTAVES * _USUAL), 1)
        routes.append(route("velocity", "sound.high_hz", _EDGE_OCTAVES))
    return {**made, "sound": sound, **({"routes": routes} if routes else {})}


def op(
    ratio: float,
    index: float = 0.0,
    *,
    level: float = 1.0,
    decay: float = 600.0,
    sustain: float = 1.0,
    attack: float = 1.0,
    velocity: float = 0.3,
    **more: float,
) -> dict[str, float]:
    """An FM operator."""
    return {
        "ratio": ratio, "index": index, "level": level, "decay_ms": decay, "sustain": sustain, "attack_ms": attack,
        "velocity": velocity, **more,
    }  # fmt: skip


OFF = {"level": 0.0, "index": 0.0}


def sound(name: str, role: str, tags: str, how: str, *layers: dict[str, Any], **more: Any) -> SavedSound:
    return SavedSound.model_validate(
        {"name": name, "role": role, "tags": tuple(tags.split()), "notes": how, "layers": layers, **more}
    )
