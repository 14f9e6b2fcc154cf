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


def layer(name: str, job: str, kind: str, sound: dict[str, Any] | None = None, **more: Any) -> dict[str, Any]:
    return {
        "id": name.lower().replace(" ", "-"), "name": name, "job": job, "sound": {"kind": kind, **(sound or {})}, **more
    }  # fmt: skip


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
