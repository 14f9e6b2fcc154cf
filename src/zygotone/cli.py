"""The command line. A command parses, calls the library, prints; the rest is library.

Exit codes: 0 done, 2 bad usage, 3 bad input (one line on standard error, and nothing written).
"""

from __future__ import annotations

import gc
import json
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer
from pydantic import ValidationError

from zygotone.dsp.types import OFFLINE_BLOCK_FRAMES
from zygotone.errors import ZygotoneError, one_line

if TYPE_CHECKING:
    from rich.console import Console
    from rich.table import Table

# Loading makes some hundred thousand objects that stay; to look through them for what could go, again and again, would be a tenth
# of a short command's work.
_STAYING_OBJECTS = 500_000

app = typer.Typer(
    add_completion=False, no_args_is_help=True, pretty_exceptions_enable=False, rich_markup_mode=None,
    help="Zygotone makes tracks sit together. Without a command it opens the application: zygotone [PROJECT] [--demo]",
)  # fmt: skip

ProjectFile = Annotated[Path, typer.Argument(metavar="PROJECT", help="A .zygotone file.")]
AsJson = Annotated[bool, typer.Option("--json", help="Print JSON.")]
Output = Annotated[Path, typer.Option("-o", "--output", help="Where to write.")]
Subtype = Annotated[str | None, typer.Option("--subtype", help="Sample format, such as PCM_16, PCM_24 or FLOAT.")]
Block = Annotated[int, typer.Option("--block", min=1, max=1 << 20, help="Frames a block; the result is the same.")]


def _console() -> Console:
    """Where tables are printed. Names come from outside: a bracket in them is a bracket."""
    from rich.console import Console

    return Console(markup=False)


def _table(title: str, **more: Any) -> Table:
    from rich.table import Table

    return Table(title=title, title_justify="left", **more)


def _print_json(data: Any) -> None:
    print(json.dumps(data, ensure_ascii=False))


def _pairs(given: list[str], option: str) -> dict[str, str]:
    pairs = {}
    for text in given:
        name, sign, value = text.rpartition("=")
        if not sign or not name:
            raise typer.BadParameter(f"{text!r} is not NAME=VALUE", param_hint=option)
        pairs[name] = value
    return pairs


@app.command()
def demo(out: Annotated[Path, typer.Argument(metavar="OUT.zygotone")]) -> None:
    """Write the demo project."""
    from zygotone.demo import build_demo
    from zygotone.session.project_file import save_project

    save_project(out, build_demo())


@app.command()
def new(
    out: Annotated[Path, typer.Argument(metavar="OUT.zygotone")],
    stems: Annotated[list[Path], typer.Argument(metavar="STEM...")],
    role: Annotated[list[str], typer.Option("--role", metavar="NAME=ROLE", help="What a stem is.")] = [],  # noqa: B006
    seat: Annotated[list[str], typer.Option("--seat", metavar="NAME=N", help="A stem's priority, 1 first.")] = [],  # noqa: B006
    tempo: Annotated[float, typer.Option("--tempo", min=20, max=400, help="BPM.")] = 120.0,
    key: Annotated[str, typer.Option("--key", help="Such as F#m; without it nothing is judged against a key.")] = "",
) -> None:
    """Make a project from stems."""
    from zygotone.advise.new_project import project_from_stems
    from zygotone.session.project_file import save_project

    seats = {}
    for name, text in _pairs(seat, "--seat").items():
        if not text.isdigit() or not 1 <= int(text) <= 16:
            raise typer.BadParameter(f"{text!r} is not a number from 1 to 16", param_hint="--seat")
        seats[name] = int(text)
    roles: Any = _pairs(role, "--role")
    project = project_from_stems(stems, roles=roles, seats=seats, tempo_bpm=tempo, key=key, title=out.stem)
    save_project(out, project)


@app.command()
def render(
    project: ProjectFile,
    output: Annotated[Path | None, typer.Option("-o", "--output", help="The mix, .wav or .flac.")] = None,
    stems: Annotated[Path | None, typer.Option("--stems", help="A folder; one file a track.")] = None,
    track: Annotated[str | None, typer.Option("--track", help="This track instead of the mix.")] = None,
    section: Annotated[str | None, typer.Option("--section", help="Only this section.")] = None,
    block: Block = OFFLINE_BLOCK_FRAMES,
    subtype: Subtype = None,
) -> None:
    """Render the mix, a track, or all tracks."""
    from zygotone.reports.rendering import render_files
    from zygotone.session.project_file import load_project

    if output is None and stems is None:
        raise typer.BadParameter("give -o, --stems or both", param_hint="-o")
    clipped = render_files(
        load_project(project), mix=output, stems=stems, track=track, section=section, block_frames=block,
        subtype=subtype or "PCM_24",
    )  # fmt: skip
    for path, count in clipped.items():
        print(f"{path}: {count} samples were over full scale and were held there", file=sys.stderr)


@app.command()
def measure(files: Annotated[list[Path], typer.Argument(metavar="FILE...")], as_json: AsJson = False) -> None:
    """Measure audio files; with --json one object a file, each on its line."""
    from zygotone.measure.report import measure_audio
    from zygotone.session.audio_files import read_audio

    measured = []
    for path in files:
        audio = read_audio(path)
        measured.append({"file": str(path), **measure_audio(audio.data, audio.rate_hz)})
    if as_json:
        for one in measured:
            _print_json(one)
        return
    for one in measured:
        table = _table(one["file"], show_header=False)
        for name, value in one.items():
            if name not in ("file", "third_octaves_db"):
                table.add_row(name, "–" if value is None else str(value))
        _console().print(table)


@app.command()
def process(
    source: Annotated[Path, typer.Argument(metavar="IN")],
    out: Annotated[Path, typer.Argument(metavar="OUT")],
    chain: Annotated[Path, typer.Option("--chain", help='A file with {"devices": [...]}.')],
    key: Annotated[Path | None, typer.Option("--key", help="What every device that takes a key hears.")] = None,
    tempo: Annotated[float, typer.Option("--tempo", min=20, max=400, help="BPM, for note values.")] = 120.0,
    block: Block = OFFLINE_BLOCK_FRAMES,
    subtype: Subtype = None,
) -> None:
    """Run a chain of devices on an audio file."""
    from zygotone.reports.processing import process_file

    process_file(source, out, chain, key=key, block_frames=block, subtype=subtype, tempo_bpm=tempo)


@app.command()
def bounce(
    instrument: Annotated[Path, typer.Argument(metavar="INSTRUMENT.json", help='A file with {"layers": [...]}.')],
    notes: Annotated[Path, typer.Argument(metavar="NOTES.mid", help="A Standard MIDI File.")],
    out: Annotated[Path, typer.Argument(metavar="OUT")],
    tempo: Annotated[
        float | None, typer.Option("--tempo", min=20, max=400, help="BPM, instead of the file's tempo.")
    ] = None,
    rate: Annotated[int, typer.Option("--rate", help="Sample rate in Hz.")] = 48000,
    subtype: Subtype = None,
) -> None:
    """Play a MIDI file with an instrument."""
    from zygotone.reports.bouncing import bounce_file

    over = bounce_file(instrument, notes, out, tempo_bpm=tempo, rate_hz=rate, subtype=subtype)
    if over and subtype not in ("FLOAT", "DOUBLE"):
        print(f"{out}: {over} samples were over full scale and were held there", file=sys.stderr)


@app.command()
def findings(
    project: ProjectFile,
    section: Annotated[str | None, typer.Option("--section", help="Only this section.")] = None,
    as_json: AsJson = False,
) -> None:
    """What the project's tracks do to each other, with fixes worked out and measured."""
    from functools import partial

    from zygotone.advise.advisor import find_all, with_fixes
    from zygotone.engine.pipeline import at_once
    from zygotone.engine.renderer import Renderer
    from zygotone.session.project_file import load_project

    loaded = load_project(project)
    session, renderer = loaded.session, Renderer.to_judge(loaded.store)
    sections = [session.song.section(section)] if section else None
    listed = find_all(session, renderer, sections)
    found = at_once([partial(with_fixes, session, renderer, f) for f in listed])
    if as_json:
        _print_json([f.to_json(session) for f in found])
        return
    console = _console()
    for f in found:
        console.print(f.sentence, style="bold", end="")
        console.print(f"  ({f.strength}, {f.section.name})\n  {f.advice}\n  id: {f.id}")
        for n, fix in enumerate(f.fixes, 1):
            gains = ", ".join(f"{k} {v:+.2f}" for k, v in (fix.gain | fix.cost).items())
            console.print(
                f"  {n}. {fix.label}: {fix.detail + '; ' + gains if fix.applies else 'no, ' + str(fix.why_not)}"
            )


@app.command()
def masking(
    project: ProjectFile,
    section: Annotated[str | None, typer.Option("--section", help="Only this section.")] = None,
    as_json: AsJson = False,
) -> None:
    """Who hides whom: of each track and return, the share that each other one masks."""
    from zygotone.advise.hearing import Hearing
    from zygotone.advise.masking import masking_map, song_json
    from zygotone.engine.renderer import Renderer
    from zygotone.session.project_file import load_project

    loaded = load_project(project)
    session, renderer = loaded.session, Renderer.to_judge(loaded.store)
    sections = [session.song.section(section)] if section else list(session.song.sections)
    maps = [(s, masking_map(Hearing(session, s, renderer))) for s in sections]
    if as_json:
        one = len(maps) == 1
        _print_json(
            {"section": maps[0][0].name, **maps[0][1].to_json(session)}
            if one
            else song_json(session, ((s.name, m) for s, m in maps))
        )
        return
    console = _console()
    for each, found in maps:
        table = _table(f"{each.name}: hidden, % of the column by the row")
        table.add_column("")
        for strip_id in found.strips:
            table.add_column(session.strip(strip_id).name, justify="right")
        for i, strip_id in enumerate(found.strips):
            row = ["" if i == j else f"{100 * x:.0f}" for j, x in enumerate(found.shares[i])]
            table.add_row(session.strip(strip_id).name, *row)
        table.add_row("all others", *(f"{100 * x:.0f}" for x in found.against_all))
        console.print(table)


@app.command()
def settle(
    project: ProjectFile,
    output: Output,
    section: Annotated[
        str | None, typer.Option("--section", help="Which section; the first one if none is named.")
    ] = None,
    whole: Annotated[bool, typer.Option("--song", help="All sections, one after the other, instead of one.")] = False,
    untouched: Annotated[
        list[str] | None, typer.Option("--untouched", help="A track to leave as it is; as often as needed.")
    ] = None,
    ducking: Annotated[
        bool, typer.Option("--ducking/--no-ducking", help="Whether tracks may duck under others.")
    ] = True,
    deepest: Annotated[float, typer.Option("--deepest", max=0.0, help="Deepest cut, in dB.")] = -9.0,
    most_devices: Annotated[int, typer.Option("--most-devices", min=0, help="At most so many new devices.")] = 16,
    as_json: AsJson = False,
) -> None:
    """Search for the fixes of a section's findings, or the song's; the best trial is kept in the output."""
    from zygotone.advise.settling import Limits
    from zygotone.reports.settling import settle_and_keep
    from zygotone.session.project_file import load_project, save_project

    loaded = load_project(project)
    names = tuple(loaded.session.track_named(name).id for name in untouched or ())
    limits = Limits(deepest_db=deepest, untouched=names, ducking=ducking, most_devices=most_devices)
    quiet = as_json or not sys.stderr.isatty()

    def progress(share: float, words: str) -> None:
        if not quiet:
            print(f"\r{100 * share:3.0f} %  {words[:70]:70}", end="", file=sys.stderr, flush=True)

    kept, report = settle_and_keep(loaded, section, limits, whole=whole, progress=progress)
    save_project(output, kept)
    report["output"] = str(output)
    if as_json:
        _print_json(report)
        return
    if not quiet:
        print(file=sys.stderr)
    for trial in report["trials"]:
        print(f"{trial['title']}: severity {trial['severity_before']:.2f} → {trial['severity_after']:.2f}")
        for step in trial["steps"]:
            print(f"  {step['sentence']}\n    {step['label']}: {step['detail']}")
    print(f"kept: {report['kept']}" if report["kept"] else "nothing to mend")


@app.command(name="try")
def try_fix(
    project: ProjectFile,
    finding: Annotated[str, typer.Option("--finding", help="A finding's id.")],
    fix: Annotated[int, typer.Option("--fix", min=1, help="Which of its fixes, from 1.")],
    output: Output,
    as_json: AsJson = False,
) -> None:
    """Apply one fix, keep it, and compare what was promised with what is measured."""
    from zygotone.reports.trying import try_and_keep
    from zygotone.session.project_file import load_project, save_project

    loaded = load_project(project)
    kept, report = try_and_keep(loaded, finding, fix)
    save_project(output, kept)
    report["output"] = str(output)
    if as_json:
        _print_json(report)
        return
    print(f"{report['label']}: {report['detail']}")
    for name, promised in report["promised"].items():
        print(f"  {name}: promised {promised:+.2f}, measured {report['measured'][name]['change']}")


@app.command()
def devices(as_json: AsJson = False) -> None:
    """Every device with its parameters."""
    from zygotone.session.catalogue import DEVICES

    _catalogue("devices", list(DEVICES), as_json)


@app.command()
def sources(as_json: AsJson = False) -> None:
    """Every sound source with its parameters."""
    from zygotone.session.catalogue import SOURCES

    _catalogue("sources", list(SOURCES), as_json)


@app.command()
def rules(as_json: AsJson = False) -> None:
    """What is looked for in a session, from where on it is a problem, and the quantities that this is read from."""
    from zygotone.advise.findings import RULES
    from zygotone.measure.quantities import all_quantities, find_quantity

    if as_json:
        _print_json(
            {"rules": [rule.to_json() for rule in RULES], "quantities": [q.to_json() for q in all_quantities()]}
        )
        return
    table = _table("Rules")
    for column in ("rule", "over", "stage", "from", "source"):
        table.add_column(column)
    for rule in RULES:
        first = find_quantity(rule.reads[0])
        table.add_row(rule.title, rule.over, rule.stage, f"{first.label} {first.text(rule.threshold)}", rule.source)
    _console().print(table)


def _catalogue(name: str, kinds: list[Any], as_json: bool) -> None:
    if as_json:
        _print_json({name: [kind.to_json() for kind in kinds]})
        return
    console = _console()
    for kind in kinds:
        table = _table(f"{kind.kind}: {kind.summary}")
        for column in ("parameter", "range", "default", "what it does"):
            table.add_column(column)
        for p in kind.params:
            span = (
                ", ".join(map(str, p.choices))
                if p.choices
                else f"{p.low:g} to {p.high:g} {p.unit}"
                if p.is_number
                else p.type
            )
            default = "" if p.type == "list" else str(p.default)
            table.add_row(p.name, span, default, p.help)
        console.print(table)


def _open_application(arguments: list[str]) -> int:
    import argparse

    parser = argparse.ArgumentParser(prog="zygotone", description="Open the application.")
    parser.add_argument("project", nargs="?", type=Path, help="a .zygotone file")
    parser.add_argument("--demo", action="store_true", help="open the demo song")
    given = parser.parse_args(arguments)
    from zygotone.app.main import run

    return run(given.project, demo=given.demo)


def main(arguments: list[str] | None = None) -> int:
    """Entry point; returns the exit code."""
    arguments = sys.argv[1:] if arguments is None else arguments
    commands = {c.name or c.callback.__name__ for c in app.registered_commands if c.callback}
    if not arguments or (arguments[0] not in commands and arguments[0] not in ("--help", "-h")):
        return _open_application(arguments)
    looked_through_at = gc.get_threshold()
    gc.set_threshold(_STAYING_OBJECTS)
    try:
        app(arguments, standalone_mode=True)
    except SystemExit as stop:
        return int(stop.code or 0)
    except (ZygotoneError, ValidationError) as error:
        print(f"zygotone: {one_line(error)}", file=sys.stderr)
        return 3
    except BrokenPipeError:
        return 0
    finally:
        gc.set_threshold(*looked_through_at)
    return 0


if __name__ == "__main__":
    sys.exit(main())
