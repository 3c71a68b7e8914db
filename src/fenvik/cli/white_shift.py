"""``fenvik white-shift``: what a picture mode adds to white by itself, over the device link."""

import argparse
import json
import sys
from pathlib import Path

from fenvik.cli.files import plain
from fenvik.core.colour.target import TARGETS
from fenvik.core.errors import FenvikError
from fenvik.core.measure.shift import base_for
from fenvik.session.lines import GoneError, Wanted, WrongSerialError
from fenvik.session.shifting import ShiftRig

DONE, REFUSED, GONE, STOPPED = 0, 2, 3, 130


def parser() -> argparse.ArgumentParser:
    """Return the parser of the command."""
    made = argparse.ArgumentParser(
        prog="fenvik white-shift", description="Read what a picture mode adds to white by itself, beside an ordinary mode."
    )
    made.add_argument("--directory", required=True, metavar="HOST:PORT")
    made.add_argument("--display", required=True, metavar="SERIAL")
    made.add_argument("--pair", required=True, metavar="CODE")
    made.add_argument("--source", required=True, metavar="SERIAL")
    made.add_argument("--meter", required=True, metavar="SERIAL")
    made.add_argument("--mode", required=True, metavar="MODE", help="the mode in question")
    made.add_argument("--beside", required=True, metavar="MODE", help="an ordinary mode")
    made.add_argument("--preset", default="", metavar="NAME", help="the white preset that both stand at; as they are without it")
    made.add_argument("--target", default="bt709-bt1886", choices=tuple(TARGETS), help="whose white the mode is to end at")
    made.add_argument("--window", type=float, default=10.0, metavar="PERCENT")
    made.add_argument("--settle", type=float, default=None, metavar="SECONDS", help="between a picture and its reading")
    made.add_argument("--out", required=True, metavar="FILE.json")
    return made


def say(words: str) -> None:
    """Tell what happens on standard error."""
    print(words, file=sys.stderr, flush=True)


def run(arguments: list[str]) -> int:
    """Run the command."""
    try:
        given = parser().parse_args(arguments)
    except SystemExit as end:
        return int(end.code or 0)
    host, _, port = given.directory.rpartition(":")
    if not host or not port.isdigit() or not 0 < int(port) < 65536:
        say("fenvik white-shift: --directory takes HOST:PORT")
        return REFUSED
    out = Path(given.out)
    if not out.parent.is_dir():
        say(f"fenvik white-shift: the folder of {out} is not there")
        return REFUSED
    rig = ShiftRig(
        Wanted(
            (host, int(port)), given.display, given.pair, given.mode, given.source, given.meter, given.window,
            None if given.settle is None else max(given.settle, 0.0),
        )
    )  # fmt: skip
    try:
        return _measure(rig, given, out)
    except KeyboardInterrupt:
        return STOPPED
    except (WrongSerialError, ValueError) as problem:
        say(f"fenvik white-shift: {problem}")
        return REFUSED
    except (GoneError, FenvikError) as problem:
        say(f"fenvik white-shift: {problem}")
        return GONE
    finally:
        rig.close()


def _measure(rig: ShiftRig, given: argparse.Namespace, out: Path) -> int:
    beside, mode = rig.find(given.beside, given.mode, given.preset)
    shift = rig.measure(beside, mode, given.preset)
    white = TARGETS[given.target].white_xy
    told = {
        "display": {k: rig.facts.get(given.display, {}).get(k) for k in ("maker", "model", "serial", "technology")},
        "mode": mode.mode.id, "beside": beside.mode.id, "preset": given.preset or None,
        "shift_uv": shift.uv, "std_uv": shift.std, "told": shift.is_told, "readings": rig.readings,
        "target_xy": white, "wanted_base_xy": base_for(white, shift), "device_seconds": rig.device_seconds,
    }  # fmt: skip
    out.write_text(json.dumps(plain(told), indent=1, ensure_ascii=False) + "\n", encoding="utf-8")
    say(f"{mode.mode.label} beside {beside.mode.label}: {shift.words}")
    say(f"written: {out}")
    return DONE
