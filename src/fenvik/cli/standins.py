"""``fenvik standins``: the simulated devices alone, without database or web."""

import argparse
import asyncio
import sys
from pathlib import Path

from fenvik.standins.faults import AFTER_CALLS, KINDS, LASTS_S
from fenvik.standins.serve import Options, main


def parser() -> argparse.ArgumentParser:
    """Return the parser of the command."""
    kinds = "; ".join(f"{kind}: {what}" for kind, what in KINDS.items())
    made = argparse.ArgumentParser(
        prog="fenvik standins", description="Run the simulated meters, source and display on loopback."
    )
    made.add_argument("--port", type=int, default=0, help="port of the directory (default: any free one)")
    made.add_argument("--web-port", type=int, default=0, help="port of the stand-ins' pages (default: any free one)")
    made.add_argument("--haste", type=float, default=1.0, help="divide integration times by this; inf for none")
    made.add_argument("--pair-code", default="", help="the pairing code that displays show (default: a random one)")
    made.add_argument("--fault", default="", choices=["", *KINDS], metavar="KIND", help=f"let devices fail. {kinds}")
    made.add_argument(
        "--fault-after", type=int, default=AFTER_CALLS, help=f"calls that still work before (default {AFTER_CALLS})"
    )
    made.add_argument(
        "--fault-for", type=float, default=LASTS_S, help=f"seconds that it lasts, 0 for ever (default {LASTS_S:g})"
    )
    made.add_argument("--state", type=Path, default=None, help="folder in which displays keep their settings")
    made.add_argument("--seed", type=int, default=55, help="which samples of the models to be")
    return made


def run(arguments: list[str]) -> int:
    """Run the command."""
    given = parser().parse_args(arguments)
    if not given.haste > 0:
        print("fenvik standins: --haste must be above 0", file=sys.stderr)
        return 2
    try:
        asyncio.run(main(Options(**vars(given))))
    except OSError as error:
        print(f"fenvik standins: port {given.port} cannot be used: {error.strerror or error}", file=sys.stderr)
        return 2
    return 0
