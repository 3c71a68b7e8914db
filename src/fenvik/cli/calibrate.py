"""``fenvik calibrate``: hands-free from a shell, over the device link, without a database."""

import argparse
import json
import signal
import sys
import time
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from fenvik.cli import ends
from fenvik.cli.files import plain
from fenvik.core.analysis.report import ReportError, Sheet, report
from fenvik.core.colour.target import TARGETS, Target
from fenvik.core.colour.unread import unread
from fenvik.core.errors import FenvikError
from fenvik.core.measure.correction import PROPOSED
from fenvik.core.measure.correction_patches import correction_list
from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.procedures.correcting import NAMED
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.job import STEPS, USUAL_BUDGET, Job, proof_of
from fenvik.core.procedures.steps import perform
from fenvik.core.procedures.taken import Taken
from fenvik.core.procedures.warming import WHITE, Warmth, watch
from fenvik.core.signal.patches import Patch
from fenvik.session.lines import Wanted, WrongSerialError
from fenvik.session.rig import LinkRig

TARGET_NAMES = tuple(TARGETS)
SIGNALS = {"pq": "hdr10", "hlg": "hlg"}  # what the source sends for a target's curve
ALL = ("correction", *STEPS)
LEAST_BUDGET = 2 * len(proof_of(STEPS)) + 10
WARM_UP_EVERY_S, MOST_WARM_UP = 30.0, 240.0  # between two readings of white, in seconds; in all, in minutes
DONE, REFUSED, GONE, STOPPED = 0, 2, 3, 130


def parser() -> argparse.ArgumentParser:
    """Return the parser of the command."""
    made = argparse.ArgumentParser(
        prog="fenvik calibrate", description="Adjust one picture mode of a display with a network control, hands-free."
    )
    made.add_argument("--directory", required=True, metavar="HOST:PORT")
    made.add_argument("--display", required=True, metavar="SERIAL")
    made.add_argument("--pair", required=True, metavar="CODE")
    made.add_argument("--mode", required=True, metavar="MODE")
    made.add_argument("--source", required=True, metavar="SERIAL")
    made.add_argument("--meter", required=True, metavar="SERIAL")
    made.add_argument("--reference", metavar="SERIAL", help="a reference meter, to correct the meter by")
    made.add_argument("--target", required=True, choices=TARGET_NAMES)
    ends.add_to(made)
    made.add_argument(
        "--by", choices=("controls", "install", "both"), default="controls", help="by the menu, by what can be installed, or both"
    )
    made.add_argument("--white", metavar="X,Y", help="aims at this white instead of the target's own")
    made.add_argument("--steps", default=",".join(ALL), help="of correction, light, white, grey, colour")
    made.add_argument(
        "--warm-up", type=float, default=0.0, metavar="MINUTES",
        help="first waits until the display has settled, at most so long; its readings are not of the budget",
    )  # fmt: skip
    made.add_argument("--budget", type=int, default=USUAL_BUDGET, metavar="READINGS", help="at most, the closing proof included")
    made.add_argument("--window", type=float, default=10.0, metavar="PERCENT")
    made.add_argument(
        "--luminance", type=float, metavar="CD_M2", help="of white, for the step light; without it the light stays as it is"
    )
    made.add_argument(
        "--settle", type=float, metavar="SECONDS", help="between a picture and its reading; without it that is learned first"
    )
    made.add_argument(
        "--on-stop", choices=("restore", "keep"), default="restore",
        help="what is done with the settings on Ctrl-C, or where a device is gone for good",
    )  # fmt: skip
    made.add_argument("--out", required=True, metavar="FILE.json")
    return made


def say(words: str) -> None:
    """Tell progress on standard error."""
    print(words, file=sys.stderr, flush=True)


def call(words: str) -> bool | None:
    """Say what only a person can set right, and wait for who sits at the terminal; return whether they did, None without one."""
    if not sys.stdin.isatty():
        return None
    say(f"{words}\nPress Enter when it is right; q and Enter puts every control back.")
    return sys.stdin.readline() == "\n"


def warmth_words(warmth: Warmth, minutes: float) -> str:
    """Return in a sentence how warm a display is that was watched for so long."""
    if warmth.is_settled:
        return f"The display had settled after {minutes:.0f} minutes."
    left = "" if warmth.fit is None else f": {100 * abs(warmth.fit.remaining_y):.1f} % of its light was still to come"
    return f"The display had not settled after {minutes:.0f} minutes{left}."


def refuse(words: str) -> int:
    """Say what is wrong with the arguments."""
    say(f"fenvik calibrate: {words}")
    return REFUSED


def run(arguments: list[str]) -> int:
    """Run the command."""
    try:
        given = parser().parse_args(arguments)
    except SystemExit as end:
        return int(end.code or 0)
    steps = tuple(part.strip() for part in given.steps.split(",") if part.strip())
    if not steps or any(step not in ALL for step in steps):
        return refuse(f"--steps takes any of {', '.join(ALL)}, with commas between")
    host, _, port = given.directory.rpartition(":")
    if not host or not port.isdigit() or not 0 < int(port) < 65536:
        return refuse("--directory takes HOST:PORT")
    if given.budget < LEAST_BUDGET:
        return refuse(
            f"--budget takes {LEAST_BUDGET} readings at least: what is found and what is left are read in any case"
        )
    if given.luminance is not None and not 1 <= given.luminance <= 10_000:
        return refuse("--luminance takes cd/m² from 1 to 10000")
    if not 0 <= given.warm_up <= MOST_WARM_UP:
        return refuse(f"--warm-up takes minutes up to {MOST_WARM_UP:g}")
    if not 0 < given.window <= 100:
        return refuse("--window takes a percentage of the screen's area")
    out = Path(given.out)
    if not out.parent.is_dir():
        return refuse(f"the folder of {out} is not there")
    try:
        target = ends.target_of(given.target, given)
        if given.white is not None:
            target = replace(target, white_xy=_white(given.white))
    except ValueError as problem:
        return refuse(str(problem))
    wanted = Wanted(
        (host, int(port)),
        given.display,
        given.pair,
        given.mode,
        given.source,
        given.meter,
        given.window,
        None if given.settle is None else max(given.settle, 0.0),
        given.reference or "" if "correction" in steps else "",
        SIGNALS.get(target.curve, "sdr"),
        {"max": target.mastered[0], "min": target.mastered[1], "max_cll": target.mastered[0], "max_fall": 400.0}
        if target.curve == "pq"
        else None,
    )
    return Calibration(given, steps, LinkRig(wanted), out, target).run()


def _white(text: str) -> tuple[float, float]:
    """Return x and y. Raises ValueError in words."""
    said = ValueError("--white takes x and y, such as 0.3127,0.3290")
    try:
        x, y = (float(part) for part in text.split(","))
    except ValueError:
        raise said from None
    if not (0.1 < x < 0.7 and 0.1 < y < 0.7 and x + y < 1.0):
        raise said
    return x, y


class Calibration:
    """One run, and the file that it writes."""

    def __init__(self, given: argparse.Namespace, steps: tuple[str, ...], rig: LinkRig, out: Path, target: Target) -> None:
        self.given, self.steps, self.rig, self.out, self.target = given, steps, rig, out, target
        self.job: Job | None = None
        self.notes: list[str] = []
        rig.calls = call

    def run(self) -> int:
        """Do it; whatever ends it, the file says what was reached."""
        # Also where whoever started this had SIGINT ignored, as shells do for what runs in the background.
        signal.signal(signal.SIGINT, signal.default_int_handler)
        signal.signal(signal.SIGTERM, lambda *_: (_ for _ in ()).throw(KeyboardInterrupt()))
        try:
            self.rig.begin()
            self.rig.learn_settling()
        except FenvikError as problem:
            self.rig.close()
            say(f"fenvik calibrate: {problem}")
            return REFUSED if isinstance(problem, WrongSerialError) else GONE
        facts = self.rig.facts
        dark = unread(facts[self.given.display]["technology"], float(facts[self.given.meter]["floor"]))
        status = DONE
        try:
            learning = self.rig.readings
            if self.given.warm_up:
                self._warm_up()
            listed = self._correction_patches()
            desk = Desk(self.rig.controls, budget=self.given.budget - learning - 2 * len(listed))
            self.job = Job(desk, replace(self.target, unread=dark), tuple(s for s in self.steps if s != "correction"))
            self.job.luminance, self.job.correction = self.given.luminance, listed
            self.job.by, self.job.takes = self.given.by, self.rig.facts.get(self.given.display, {}).get("installs") or {}
            if self.given.by != "controls" and not self.job.takes:
                self.notes.append("Nothing can be installed in this display: its controls are used.")
                self.job.by = "controls"
            perform(self.job.run(), self.rig, say)
        except KeyboardInterrupt:
            status = STOPPED
            self.notes.append("It was stopped by hand.")
            self._stop()
        except FenvikError as problem:
            status = GONE
            say(str(problem))
            self.notes.append(str(problem))
            self._stop()
            if self.job is None or not self.job.restored:
                self.notes.append("The settings stand as the list says.")
        finally:
            self._write()
            self.rig.close()
        return status

    def _warm_up(self) -> None:
        """Wait until the display has settled, and note whether it has."""
        meter = self.rig.facts[self.given.meter]
        average = self.rig.averages(self.given.meter, WHITE)
        begun = time.monotonic()
        warmth = perform(
            watch(
                Repeatability.of(meter["repeatability"]), every_s=WARM_UP_EVERY_S, average=average,
                longest_s=60.0 * self.given.warm_up,
            ),
            self.rig, say, lambda warmth: say(warmth_words(warmth, (time.monotonic() - begun) / 60.0)),
        )  # fmt: skip
        self.notes.append(warmth_words(warmth, (time.monotonic() - begun) / 60.0))

    def _stop(self) -> None:
        if self.job is None or self.given.on_stop == "keep":
            return
        try:
            perform(self.job.put_back(), self.rig)
            self.job.restored = True
            self.notes.append("Every control was put back.")
        except FenvikError as problem:
            self.notes.append(f"The settings could not be put back: {problem}")

    def _correction_patches(self) -> list[Patch]:
        """Return what both meters read for a correction, where there is a reference."""
        if "correction" not in self.steps or not self.given.reference:
            return []
        return [p for p in correction_list(PROPOSED, self.rig.bits, "limited") if p.label in NAMED]

    def _look(self, taken: list[Taken]) -> dict[str, Any] | None:
        if not taken:
            return None
        codes = [self.rig.codes(tuple(100.0 * t.fraction)) for t in taken]
        labels = ["grey" if len(set(c)) == 1 else None for c in codes]
        sheet = Sheet(
            labels, np.array(codes, dtype=np.float64), np.array([t.fraction for t in taken]), np.array([t.xyz for t in taken]),
            np.full(len(taken), self.given.window),
        )  # fmt: skip
        try:
            told = report(sheet, self.target)
        except ReportError as problem:
            self.notes.append(f"No summary: {problem}")
            return {
                "readings": [{"rgb": list(c), "xyz": list(t.xyz)} for c, t in zip(codes, taken, strict=True)],
                "summary": None,
            }
        return {
            "readings": told["readings"],
            "summary": {k: told[k] for k in ("white", "black", "contrast", "greyscale", "colours", "gamut")},
        } | self._with_usual_black(sheet, told)

    def _with_usual_black(self, sheet: Sheet, told: dict[str, Any]) -> dict[str, Any]:
        """Return what the same readings say with the black that was adjusted to; nothing where black was read."""
        assert self.job is not None
        target, peak, black = self.job.target, told["target"]["peak"], told["target"]["black"]
        counted = float(target.counted(peak, black))
        if told["black"] is None or counted <= black:
            return {}
        again = report(sheet, target)
        return {"usual_black": {"luminance": counted, "greyscale": again["greyscale"], "colours": again["colours"]}}

    def _correction(self) -> dict[str, Any] | None:
        made = None if self.job is None else self.job.corrected
        if made is None or made.matrix is None:
            return None
        return {"method": made.method, "matrix": made.matrix, "residuals": made.residuals}

    def _write(self) -> None:
        job, facts = self.job, self.rig.facts.get(self.given.display, {})
        settings = []
        if job is not None:
            for control in self.rig.controls:
                before = job.desk.found.get(control["id"])
                settings.append(
                    {"control": control["id"], "role": control.get("role"), "before": before, "after": control["value"]}
                )
        told = {
            "display": {k: facts.get(k) for k in ("maker", "model", "serial", "technology")},
            "mode": getattr(self.rig, "mode", self.given.mode),
            "target": self.given.target,
            "white_xy": self.target.white_xy,
            "correction": self._correction(),
            "as_found": None if job is None else self._look(job.first),
            "as_left": None if job is None else self._look(job.as_left),
            "settings": settings,
            "installed": None if job is None or job.installer is None else job.desk.given,
            "readings": self.rig.readings,
            "device_seconds": self.rig.device_seconds,
            "restored": False if job is None else job.restored,
            "notes": [*self.notes, *([] if job is None else job.desk.notes)],
        }
        self.out.write_text(json.dumps(plain(told), indent=1, ensure_ascii=False) + "\n", encoding="utf-8")
        say(f"written: {self.out}")
