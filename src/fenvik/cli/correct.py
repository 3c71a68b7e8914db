"""``fenvik correct``: the matrix that makes a field meter agree with a reference, from two files of readings."""

import argparse

import numpy as np

from fenvik.cli.files import RefusedError, load, plain, refuse, write_json
from fenvik.core.measure.correction import CorrectionError
from fenvik.core.measure.pairing import correct, match
from fenvik.formats.readings import printable, side_of

METHODS = ("primaries", "four-colour", "least-squares")


def parser() -> argparse.ArgumentParser:
    """Return the parser of the command."""
    made = argparse.ArgumentParser(
        prog="fenvik correct", description="Make the correction of a field meter by a reference meter."
    )
    made.add_argument("reference", metavar="REFERENCE.csv", help="readings of the reference meter, CSV or CGATS")
    made.add_argument("meter", metavar="METER.csv", help="readings of the field meter on the same patches")
    made.add_argument("--method", choices=METHODS, required=True)
    made.add_argument("--json", action="store_true", help="write JSON instead of a table")
    return made


def run(arguments: list[str]) -> int:
    """Run the command."""
    given = parser().parse_args(arguments)
    try:
        reference, meter = load(given.reference), load(given.meter)
        try:
            matched = match(side_of(reference), side_of(meter))
            with np.errstate(all="ignore"):
                made = correct(matched, given.method)
        except (CorrectionError, np.linalg.LinAlgError) as error:
            why = (
                str(error).rstrip(".")
                if isinstance(error, CorrectionError)
                else "no matrix can be made of these readings"
            )
            raise RefusedError(f"{printable(given.meter)}: line 1, column -: {why}") from error
    except RefusedError as error:
        return refuse(error)
    rows = [
        {
            "label": label,
            "dx": float(made.dxy[i, 0]),
            "dy": float(made.dxy[i, 1]),
            "dY_percent": float(made.dy_percent[i]),
        }
        for i, label in enumerate(matched.labels)
    ]
    if given.json:
        write_json({"matrix": made.matrix, "residuals": rows})
        return 0
    print("corrected XYZ = matrix · XYZ\n")
    for row in made.matrix:
        print("  ".join(f"{value: .7f}" for value in row))
    print(f"\n{'patch':<24}{'dx':>10}{'dy':>10}{'dY %':>10}")
    for number, row in enumerate(plain(rows), 1):
        figures = ((row["dx"], 4), (row["dy"], 4), (row["dY_percent"], 2))
        values = "".join(f"{'-' if v is None else f'{v:.{places}f}':>10}" for v, places in figures)
        print(f"{printable(row['label'] or str(number))[:23]:<24}{values}")
    return 0
