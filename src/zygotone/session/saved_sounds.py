"""A sound by itself: an instrument without notes, with what people write about it, and its file.

A sound file is JSON. Clips that its layers use lie beside it, by the file names that it gives.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any

from pydantic import Field, model_validator

from zygotone.errors import BadFileError
from zygotone.plain_files import replace_file
from zygotone.session.audio_files import AudioData, read_audio, write_audio
from zygotone.session.edits import map_branches
from zygotone.session.instruments import InstrumentSource, Layer, Lfo, Voices, instrument_files
from zygotone.session.models import ROLES, Device, Role
from zygotone.session.params import Param
from zygotone.session.parsing import parse_json, parse_model
from zygotone.session.value import Name, Value

MAX_SOUND_BYTES = 8 << 20

__all__ = ["MAX_SOUND_BYTES", "ROLES", "SavedSound", "load_sound", "save_sound", "with_clip_names"]


class SavedSound(Value):
    name: Name = "Sound"
    role: Role = "other"
    tags: Annotated[tuple[Annotated[str, Field(min_length=1, max_length=40)], ...], Field(max_length=32)] = ()
    notes: Annotated[str, Field(max_length=2000)] = ""  # how it works, or what it is for
    layers: Annotated[tuple[Layer, ...], Field(min_length=1, max_length=32)]
    voices: Voices = Voices()
    lfos: tuple[Lfo, Lfo] = (Lfo(mode="free"), Lfo(mode="free"))
    macros: tuple[str, str, str, str] = ("", "", "", "")

    @model_validator(mode="before")
    @classmethod
    def _name_the_layers(cls, data: Any) -> Any:
        """A layer needs no id and no name in a file that a person writes."""
        if not isinstance(data, dict) or not isinstance(data.get("layers"), (list, tuple)):
            return data
        named = []
        for n, layer in enumerate(data["layers"]):
            if isinstance(layer, dict):
                kind = layer["sound"].get("kind", "layer") if isinstance(layer.get("sound"), dict) else "layer"
                layer = {"id": f"layer-{n + 1}", "name": str(kind).capitalize(), **layer}
                chain = layer.get("chain")
                if isinstance(chain, list):
                    layer["chain"] = [{"id": f"d{i}", **d} if isinstance(d, dict) else d for i, d in enumerate(chain)]
            named.append(layer)
        return {**data, "layers": named}

    def instrument(self, **more: Any) -> InstrumentSource:
        return InstrumentSource(layers=self.layers, voices=self.voices, lfos=self.lfos, macros=self.macros, **more)

    @classmethod
    def of(cls, source: InstrumentSource, **more: Any) -> SavedSound:
        """The sound of an instrument, without its phrases; no device in it listens to a track, which is not there elsewhere."""

        def deaf(devices: tuple[Device, ...]) -> tuple[Device, ...]:
            return tuple(map_branches(d.replace(key=None), deaf) for d in devices)

        layers = tuple(layer.replace(chain=deaf(layer.chain)) for layer in source.layers)
        return cls(layers=layers, voices=source.voices, lfos=source.lfos, macros=source.macros, **more)


def with_clip_names(layers: tuple[Layer, ...], names: dict[str, str]) -> tuple[Layer, ...]:
    """Layers whose clips are called otherwise: file names for asset ids, or the other way round."""

    def renamed(params: Any, declared: tuple[Param, ...]) -> Any:
        changes: dict[str, Any] = {}
        for p in declared:
            if p.type == "file" and params[p.name] in names:
                changes[p.name] = names[params[p.name]]
            elif p.type == "list" and p.entries == "plain" and p.items[0].type == "file":
                changes[p.name] = tuple(names.get(name, name) for name in params[p.name])
        return params.replace(**changes) if changes else params

    made = []
    for layer in layers:
        sound = layer.sound.replace(params=renamed(layer.sound.params, layer.sound.spec.params))
        chain = tuple(d.replace(params=renamed(d.params, d.spec.params)) for d in layer.chain)
        made.append(layer.replace(sound=sound, chain=chain))
    return tuple(made)


def load_sound(path: Path) -> tuple[SavedSound, dict[str, AudioData]]:
    """A sound and the clips beside its file, by file name.

    Raises
    ------
    BadFileError : the file is no sound, a parameter is unknown or out of range, or a clip is missing.
    """
    try:
        if path.stat().st_size > MAX_SOUND_BYTES:
            raise BadFileError(path, "", "is too large for a sound")
        data = parse_json(path.read_bytes(), path, "")
    except OSError as error:
        raise BadFileError(path, "", (error.strerror or str(error)).lower()) from None
    if not isinstance(data, dict) or not isinstance(data.get("layers"), list):
        raise BadFileError(path, "", 'is not of the form {"layers": [{"sound": {"kind": ...}}]}')
    sound = parse_model(SavedSound, data, path, "")
    clips = {name: read_audio(path.parent / name) for name in sorted(instrument_files(sound.layers))}
    return sound, clips


def save_sound(path: Path, sound: SavedSound, clips: dict[str, AudioData]) -> None:
    """The sound as JSON, and beside it its clips as FLAC; ``clips`` by the names that the layers use.

    Raises
    ------
    BadFileError : a place cannot be written.
    """
    names = {name: f"{path.stem}-{n + 1}.flac" for n, name in enumerate(sorted(clips))}
    for name, clip in clips.items():
        write_audio(path.parent / names[name], clip.data, clip.rate_hz, subtype="PCM_24")
    named = sound.replace(layers=with_clip_names(sound.layers, names))
    text = json.dumps(named.model_dump(mode="json"), indent=1, ensure_ascii=False)
    replace_file(path, lambda f: f.write(text.encode()))
