"""``fenvik analyse``: what a file of readings says about a display, against a target."""

import argparse
from typing import Any

from fenvik.cli import ends
from fenvik.cli.files import RefusedError, load, plain, refuse, write_json
from fenvik.core.analysis.report import ReportError, Sheet, report
from fenvik.core.colour.target import TARGETS
from fenvik.formats.readings import printable


def parser() -> argparse.ArgumentParser:
    """Return the parser of the command."""
    made = argparse.ArgumentParser(prog="fenvik analyse", description="Analyse readings of a display against a target.")
    made.add_argument("file", metavar="FILE", help="readings as CSV or CGATS")
    made.add_argument("--target", choices=list(TARGETS), required=True)
    ends.add_to(made)
    made.add_argument("--json", action="store_true", help="write JSON instead of a table")
    return made


def run(arguments: list[str]) -> int:
    """Run the command."""
    made_parser = parser()
    given = made_parser.parse_args(arguments)
    try:
        target = ends.target_of(given.target, given)
    except ValueError as problem:
        made_parser.error(str(problem))
    try:
        file = load(given.file)
        sheet = Sheet(file.labels, file.codes, file.signal, file.xyz, file.window, file.parts)
        try:
            made = report(sheet, target)
        except ReportError as error:
            line = file.lines[error.index] if error.index is not None else file.lines[-1]
            raise RefusedError(f"{printable(given.file)}: line {line}, column Y: {error}") from error
    except RefusedError as error:
        return refuse(error)
    if given.json:
        write_json(made, rows="readings")
    else:
        print(table(plain(made)))
    return 0


def _text(value: float | None, places: int) -> str:
    return "-" if value is None else f"{value:,.{places}f}"


def table(made: dict[str, Any]) -> str:
    """Return the report as a person reads it."""
    white, grey, colours = made["white"], made["greyscale"], made["colours"]
    lines = [
        f"target      {made['target']['name']}",
        f"white       {_text(white['xyz'][1], 2)} cd/m²  x {_text(white['xy'][0], 4)}  y {_text(white['xy'][1], 4)}  "
        f"{_text(white['cct'], 0)} K  Duv {_text(white['duv'], 4)}",
        f"contrast    {_text(made['contrast'], 0)}",
        f"greyscale   CIEDE2000 {_text(grey['mean_de2000'], 2)} on average, {_text(grey['max_de2000'], 2)} at most; "
        f"gamma {_text(grey['mean_gamma'], 2)}",
        f"colours     CIEDE2000 {_text(colours['mean_de2000'], 2)} on average, {_text(colours['max_de2000'], 2)} at most",
        "gamut       "
        + ", ".join(f"{name} {'-' if v is None else f'{100 * v:.1f} %'}" for name, v in made["gamut"].items()),
        "",
        f"{'patch':<22}{'cd/m²':>10}{'of target':>11}{'dE2000':>9}{'colour':>9}{'dE ITP':>9}{'gamma':>8}   red, green, blue %",
    ]
    for row in made["readings"]:
        named = printable(row["label"] or " ".join(str(c) for c in row["rgb"]))[:21]
        error = row["luminance_error"]
        balance = "-" if row["balance"] is None else "  ".join(f"{v:6.1f}" for v in row["balance"])
        of_target = "-" if error is None else f"{100 * error:+.1f} %"
        figures = (("de2000", 9), ("de2000_chroma", 9), ("de_itp", 9), ("gamma", 8))
        told = "".join(f"{_text(row[key], 2):>{width}}" for key, width in figures)
        lines.append(f"{named:<22}{_text(row['xyz'][1], 3):>10}{of_target:>11}{told}   {balance}")
    return "\n".join(lines)
