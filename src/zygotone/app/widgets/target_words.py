"""What routes and lanes move on a layer and on devices, in words."""

from __future__ import annotations

from zygotone.session.kinds import Device
from zygotone.session.params import Param

_GROUPS = {"envelope": "level envelope ", "bend": "pitch envelope ", "filter": "filter ", "filter2": "second filter "}


def target_words(path: str, p: Param) -> str:
    """As within a sentence: ``filter envelope attack``, ``operator 2 index``."""
    groups, name = path.split(".")[:-1], p.label.lower()
    if groups[:1] == ["lfos"]:
        return f"LFO {int(groups[1]) + 1} {name}"
    if len(groups) > 2:  # an entry of a list of the source's
        return f"{groups[1].removesuffix('s')} {int(groups[2]) + 1} {name}"
    if groups[1:] == ["envelope"]:
        return f"{_GROUPS[groups[0]]}envelope {name}"
    return f"{_GROUPS.get(groups[0], '') if groups else ''}{name}"


def target_title(path: str, p: Param) -> str:
    """As a name of its own."""
    words = target_words(path, p)
    return words[0].upper() + words[1:]


def device_target_title(device: Device, path: str, p: Param) -> str:
    """``EQ: Frequency 2``, by the name that the device has in its chain."""
    what = "Wet / dry" if path == "mix" else p.label
    number = next((part for part in path.split(".") if part.isdigit()), None)
    return f"{device.title}: {what}{f' {int(number) + 1}' if number is not None else ''}"
