"""Writes the JSON Schema part of docs/format.md from the models, and docs/devices.md from the declarations."""

from __future__ import annotations

import json
from pathlib import Path

from device_pictures import CAPTIONS, REVERB_PICTURES, draw, draw_reverb

from zygotone.advise.findings import RULES
from zygotone.measure.quantities import all_quantities, find_quantity
from zygotone.session.catalogue import DEVICES, SOURCES
from zygotone.session.models import Session

DOCS = Path(__file__).parent


def table(params) -> list[str]:
    lines = ["| parameter | range | default | |", "|---|---|---|---|"]
    for p in params:
        if p.choices:
            span = ", ".join(str(c) for c in p.choices)
        elif p.has_range:
            span = f"{p.low:g} to {p.high:g} {p.unit}".strip() + (", logarithmic" if p.scale == "log" else "")
            span += ", or a note value such as `1/8d`" if p.type == "note_time" else ""
        else:
            span = {
                "bool": "true, false",
                "list": "a list",
                "file": "a clip of the project; in a chain file, a file beside it",
            }.get(p.type, p.type)
        default = "" if p.type in ("list", "file") else f"{p.default:g}" if p.is_number else str(p.default).lower()
        lines.append(f"| `{p.name}` | {span} | {default} | {p.help} |")
    return lines


def picture(kind) -> list[str]:
    """The picture that ``device_pictures.py`` draws, where it draws one."""
    caption = CAPTIONS.get(kind.kind)
    if caption is None:
        return []
    lines = [f"![{kind.title}](devices/{kind.kind}.svg)", "", f"*{caption}*", ""]
    if kind.kind == "reverb":
        for name, told in REVERB_PICTURES.items():
            lines += [f"![{told}](devices/{name}.svg)", "", f"*{told}*", ""]
    return lines


def catalogue(kinds) -> list[str]:
    lines = []
    for kind in kinds:
        lines += [
            f"## {kind.title} (`{kind.kind}`)",
            "",
            kind.summary + (" It takes a key." if kind.takes_key else ""),
            "",
            *table(kind.params),
            "",
            *picture(kind),
        ]
        for p in kind.params:
            if p.items and p.entries == "values":
                lines += [f"Each of `{p.name}` (at most {p.max_items}):", "", *table(p.items), ""]
    return lines


def rules() -> list[str]:
    """What is looked for, and the quantities that are measured."""
    lines = [
        "# Rules and quantities", "",
        "Written by `python docs/make_format.py` from the declarations in `src/zygotone/advise/rules` and",
        "`src/zygotone/measure/quantities.py`. A rule is asked about each subject of its kind in each section; a finding gives",
        "its evidence by these quantities. Shares are 0 to 1 in JSON and shown in %.", "",
        "| rule | over | stage | a problem from | where that comes from | reads |", "|---|---|---|---|---|---|",
    ]  # fmt: skip
    for rule in RULES:
        first = find_quantity(rule.reads[0])
        reads = ", ".join(f"`{name}`" for name in rule.reads)
        lines.append(
            f"| {rule.title} (`{rule.name}`) | {rule.over} | {rule.stage} | {first.label} {first.text(rule.threshold)} | {rule.source} | {reads} |"
        )
    lines += ["", "| quantity | unit | better | |", "|---|---|---|---|"]
    for q in all_quantities():
        lines.append(f"| {q.label} (`{q.name}`) | {q.unit} | {q.better} | {q.help} |")
    return [*lines, ""]


def main() -> None:
    head = [
        "# Devices and sound sources", "",
        "Written by `python docs/make_format.py` from the declarations in `src/zygotone/devices` and `src/zygotone/sources`.",
        "", "Every device also has `on`, `mix` (0 to 1, dry aligned to wet), `label` and, where it takes one, `key`:",
        '`{"track": id, "tap": "after"}`, another track or bus taken before or after its chain. The pictures are measured on',
        "the devices themselves.", "",
    ]  # fmt: skip
    (DOCS / "devices").mkdir(exist_ok=True)
    for kind in CAPTIONS:
        draw(kind, DOCS / "devices")
    draw_reverb(DOCS / "devices")
    lines = [*head, *catalogue(DEVICES), "# Sources", "", *catalogue(SOURCES)]
    (DOCS / "devices.md").write_text("\n".join(lines))
    (DOCS / "rules.md").write_text("\n".join(rules()))
    path = DOCS / "format.md"
    prose = path.read_text().split("## JSON Schema")[0].rstrip()
    schema = json.dumps(Session.model_json_schema(), indent=1, ensure_ascii=False)
    path.write_text(
        f"{prose}\n\n## JSON Schema\n\nOf a session with all its parts in their places, written by `python docs/make_format.py`.\n\n```json\n{schema}\n```\n"
    )


if __name__ == "__main__":
    main()
