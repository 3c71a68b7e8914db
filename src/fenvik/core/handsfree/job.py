"""The order of a hands-free job: what is found, processing off, curve and white, two-point, points, colours, what is left."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from fenvik.core.colourspace import xyz_to_uv
from fenvik.core.errors import FenvikError
from fenvik.core.handsfree import colours, lights
from fenvik.core.handsfree.greymodel import Fit, Knob, Seen, doubt_of, drives_of, fit, knobs_of, metric, solve
from fenvik.core.handsfree.rig import BudgetError, Desk, Taken
from fenvik.core.science import cct_and_duv
from fenvik.core.target import Target
from fenvik.core.types import Floats

FOUND = (100.0, 90.0, 80.0, 70.0, 60.0, 50.0, 40.0, 30.0, 20.0, 10.0, 5.0, 0.0)
FULL = (
    (100.0, 0.0, 0.0),
    (0.0, 100.0, 0.0),
    (0.0, 0.0, 100.0),
    (0.0, 100.0, 100.0),
    (100.0, 0.0, 100.0),
    (100.0, 100.0, 0.0),
)
STEPS = ("light", "white", "grey", "colour")
KEPT_ON = ("process.tone-mapping",)  # what belongs to the picture of an HDR mode
MOST_OPTIONS = 8
LOOKED_AGAIN, FEW_LEVELS = (6, 10), 12


@dataclass
class Job:
    """What a job knows while it runs: the desk, the target, the white and black that everything is held against."""

    desk: Desk
    target: Target
    steps: Sequence[str] = STEPS
    white: float = 0.0
    black: float = 0.0
    as_found: list[Taken] = field(default_factory=list)
    as_left: list[Taken] = field(default_factory=list)
    model: Fit | None = None
    restored: bool = False
    luminance: float | None = None  # cd/m² of white that is wanted; None leaves the light as it is

    def run(self) -> None:
        """Do the whole job. What a budget or a device ends early is kept as it stands, and noted by whoever catches it."""
        self.look_found()
        self.desk.budget -= len(FOUND) + len(FULL)  # the proof is never saved on
        try:
            self.process_off()
            if "light" in self.steps:
                self.light()
            if "white" in self.steps:
                self.curve()
                self.preset()
            if "white" in self.steps or "grey" in self.steps:
                self.greys()
            if "colour" in self.steps:
                colours.adjust(self.desk, self.target, self.hold())
        except BudgetError as spent:
            self.desk.notes.append(f"{spent} What was reached by then is kept.")
        self.look_left()

    def look_found(self) -> None:
        """Read what is found, before anything is touched."""
        self.desk.say("as found")
        self.as_found = [*self.desk.greys(FOUND), *(self.desk.read(p) for p in FULL)]
        self.settle(self.as_found)

    def settle(self, taken: Sequence[Taken]) -> None:
        """Take white and black from what was read: white as bright as the weakest light allows without raising any."""
        by = {round(100 * float(t.fraction[0])): t.xyz for t in taken if np.ptp(t.fraction) == 0}
        if 100 not in by or by[100][1] <= 0:
            raise FenvikError("White has no light: nothing can be adjusted.")
        self.white = float((by[100] @ self.target.inverse_matrix.T).min())
        self.black = max(float(by[0][1]) if 0 in by else 0.0, 0.0)

    def hold(self) -> tuple[float, float]:
        """Return the white and black of now, for whatever comes after the greys."""
        return self.white, self.black

    def process_off(self) -> None:
        """Turn off the processing that works on the picture, by the value that the display itself says means off."""
        turned = []
        for control in self.desk.by_role("process"):
            if control["role"] in KEPT_ON or control.get("off") is None or control["value"] == control["off"]:
                continue
            self.desk.set(control, control["off"])
            turned.append(control["label"])
        if turned:
            self.desk.notes.append(f"Turned off before measuring: {', '.join(turned)}.")
            self.settle(self.desk.greys((100.0, 0.0)))

    def light(self) -> None:
        """Bring white to the luminance that is wanted, and let nothing clip below it."""
        top = [
            t.xyz
            for t in self.as_found
            if round(100 * float(t.fraction.min())) in (100, 90, 80) and np.ptp(t.fraction) == 0
        ]
        clips = len(top) != 3 or lights.may_clip(np.array(top), self.target)
        turned = clips and lights.lower_white_level(self.desk, self.target)
        if self.luminance is not None:
            turned = lights.turn_light(self.desk, self.luminance) or turned
        if turned:
            self.settle(self.desk.greys((100.0, 0.0)))

    def _choices(self, role: str) -> dict[str, Any] | None:
        found = [
            c
            for c in self.desk.by_role(role)
            if c["kind"] == "choice" and 1 < len(c.get("options", [])) <= MOST_OPTIONS
        ]
        return found[0] if found else None

    def curve(self) -> None:
        """Choose the gamma whose readings lie nearest the target's curve: labels are not believed."""
        control = self._choices("gamma")
        if control is None:
            return
        self.desk.say("curve")
        usual, errors = control["value"], {}
        white = next(t.xyz[1] for t in reversed(self.desk.taken) if (t.fraction == 1.0).all())
        for option in [usual, *(o for o in control["options"] if o != usual)]:
            self.desk.set(control, option)
            read = self.desk.greys((60.0, 30.0))
            y = np.array([t.xyz[1] for t in read])
            wanted = self.target.xyz(np.array([t.fraction for t in read]), float(white), self.black)[:, 1]
            errors[option] = float(np.abs(np.log(np.maximum(y, 1e-6) / wanted)) @ [0.6, 0.4])
        best = min(errors, key=lambda o: errors[o])
        # Another curve must be clearly nearer: each brings a wait and a doubt with it.
        chosen = best if errors[best] < 0.9 * errors[usual] else usual
        self.desk.set(control, chosen)
        if chosen != usual:
            self.desk.notes.append(f"{control['label']}: {chosen} lies nearest to the target's curve.")
            self.settle(self.desk.greys((100.0, 0.0)))

    def preset(self) -> None:
        """Choose the white preset that lies nearest the target's white."""
        control = self._choices("white-preset")
        if control is None:
            return
        self.desk.say("white preset")
        aim = xyz_to_uv(self.target.white)
        usual, off = control["value"], {}
        for option in control["options"]:
            self.desk.set(control, option)
            off[option] = float(np.hypot(*(xyz_to_uv(self.desk.read((75.0,) * 3).xyz) - aim)))
        best = min(off, key=lambda o: off[o])
        self.desk.set(control, best)
        if best != usual:
            self.desk.notes.append(f"{control['label']}: {best} lies nearest to the target's white.")
        self.settle(self.desk.greys((100.0,)) + [t for t in self.desk.taken if not t.fraction.any()][-1:])

    def knobs(self, *kinds: str) -> list[Knob]:
        """Return the controls of the greys, in their order, as they stand."""
        return knobs_of(self.desk.rig.controls, {c["id"]: c["value"] for c in self.desk.rig.controls}, kinds)

    def greys(self) -> None:
        """Two-point first, then points: model, solve, set, read, and again while it is worth its readings."""
        kinds = (["gain", "offset"] if "white" in self.steps else []) + (
            ["point", "tone"] if "grey" in self.steps else []
        )
        knobs = self.knobs(*kinds)
        if not knobs:
            self.desk.notes.append("This mode has no white balance that can be set.")
            return
        start = len(self.desk.taken)
        since = self._last_state(start)
        two = [k.kind in ("gain", "offset") for k in knobs]
        points = sorted({k.at for k in knobs if k.kind in ("point", "tone")})
        coarse = np.array([0.1, 0.2, 0.3, 0.5, 0.7, 0.9, 1.0])
        if any(two):
            self.desk.say("two-point white balance")
            for levels in ((90.0, 30.0, 60.0),) if points else ((90.0, 30.0, 60.0), (80.0, 20.0, 50.0)):
                self._move(knobs, since, two, coarse)
                self.desk.greys(levels)
        if points:
            self._points(knobs, since, points)
        elif any(two):
            self._move(knobs, since, two, coarse)
            self.desk.greys((100.0, 40.0, 10.0))
            self._move(knobs, since, two, np.array([0.1, 0.2, 0.3, 0.4, 0.5, 0.7, 0.9, 1.0]), last=True)

    def _points(self, knobs: Sequence[Knob], since: int, points: Sequence[float]) -> None:
        """Move all points at once and read every level; then again those that are expected to be worst, until few are left."""
        self.desk.say("points of the white balance")
        at = sorted({round(100 * p, 3) for p in points} | {100.0}, reverse=True)
        if len(at) < FEW_LEVELS:
            at = sorted({*at, *(round(v, 3) for v in (5.0, 10.0, 15.0, 35.0, 55.0, 75.0, 95.0))}, reverse=True)
        # What lies between the points is looked at too: the model knows how their pulls meet there.
        levels = np.array(sorted(p / 100.0 for p in {*at, 3.0, *range(5, 100, 5)} if p >= 3.0))
        every = [True] * len(knobs)
        self._move(knobs, since, every, levels)
        self.desk.greys(at)
        for count in LOOKED_AGAIN:
            self._move(knobs, since, every, levels)
            self.desk.greys(self._worst(at, knobs, since, count))
        self._move(knobs, since, every, levels, last=True)

    def _worst(self, at: Sequence[float], knobs: Sequence[Knob], since: int, count: int) -> list[float]:
        """Return the levels that the model expects to be farthest off, or knows least of: brightest first."""
        assert self.model is not None
        levels = np.array(at) / 100.0
        controls = {c["id"]: c for c in self.desk.rig.controls}
        moved = np.array([(float(controls[k.id]["value"]) - k.value) / k.step for k in knobs])
        seen = self._seen(knobs, since)
        doubts = doubt_of(self.model, levels, moved, seen)
        weigh = metric(levels, self.target, self.white, self.black)
        off = self.model.at(levels, moved) - levels[:, None]
        size = np.sqrt(((weigh @ off[:, :, None]) ** 2).sum(axis=(1, 2)))
        unsure = np.sqrt(((weigh * doubts[:, None, :]) ** 2).sum(axis=(1, 2)))
        order = np.argsort(-np.hypot(size, unsure) * np.clip(levels / 0.1, 0.4, 1.0))
        return sorted((float(at[i]) for i in order[:count]), reverse=True)

    def _last_state(self, start: int) -> int:
        """Return from which reading on nothing but the knobs was turned: what was read before tells another display."""
        mine = {k.id for k in self.knobs("gain", "offset", "point", "tone")}
        now = {k: v for k, v in self.desk.settings.items() if k not in mine}
        at = start
        while at > 0 and {k: v for k, v in self.desk.taken[at - 1].settings.items() if k not in mine} == now:
            at -= 1
        return at

    def _seen(self, knobs: Sequence[Knob], since: int) -> list[Seen]:
        made = []
        for when, t in enumerate(self.desk.taken[since:], start=since):
            if np.ptp(t.fraction) > 0 or t.fraction[0] < 0.025 or t.xyz[1] <= 0:
                continue
            moved = np.array([(float(t.settings[k.id]) - k.value) / k.step for k in knobs])
            drives = drives_of(t.xyz[None], self.target, self.white, self.black)[0]
            made.append(Seen(float(t.fraction[0]), drives, moved, float(when)))
        return made

    def _move(
        self, knobs: Sequence[Knob], since: int, allowed: Sequence[bool], levels: Floats, *, last: bool = False
    ) -> None:
        """Fit to everything seen, solve, and set."""
        seen = self._seen(knobs, since)
        if len({round(s.level, 4) for s in seen}) < 4:
            self.desk.greys((100.0, 70.0, 40.0, 20.0, 10.0))
            seen = self._seen(knobs, since)
        self.model = fit(knobs, seen)
        controls = {c["id"]: c for c in self.desk.rig.controls}
        moved = np.array([(float(controls[k.id]["value"]) - k.value) / k.step for k in knobs])
        wanted = solve(
            self.model, moved, self.target, self.white, self.black, allowed=allowed, levels=levels, last=last
        )
        for knob, now, then in zip(knobs, moved, wanted, strict=True):
            if now != then:
                self.desk.set(controls[knob.id], knob.value + then * knob.step)

    def look_left(self) -> None:
        """Read what is left; where it is no better than what was found, put everything back."""
        self.desk.say("as left")
        self.desk.budget += len(FOUND) + len(FULL)  # kept back for it
        self.as_left = [*self.desk.greys(FOUND), *(self.desk.read(p) for p in FULL)]
        if score(self.as_left, self.target) > score(self.as_found, self.target):
            self.desk.notes.append("What was left was no better than what was found, so every control was put back.")
            self.desk.put(self.desk.found)
            self.restored = True
            self.as_left = list(self.as_found)  # the display stands as it was read then


def score(taken: Sequence[Taken], target: Target) -> float:
    """Return the mean error of readings, greys twice as important as colours, each held against their own white and black."""
    from fenvik.core import difference

    fraction, xyz = np.array([t.fraction for t in taken]), np.array([t.xyz for t in taken])
    grey = np.ptp(fraction, axis=1) == 0
    white = float(xyz[grey & (fraction[:, 0] == 1.0), 1].mean())
    dark = xyz[grey & (fraction[:, 0] == 0.0), 1]
    wanted = target.xyz(np.clip(fraction, 0, 1), white, float(dark.mean()) if dark.size else 0.0)
    error = difference.whole(wanted, xyz, target.white * white).total
    return float(2.0 * error[grey].mean() + (error[~grey].mean() if (~grey).any() else 0.0))


def white_words(xyz: Floats) -> str:
    """Return a white in words, for progress."""
    cct, duv = cct_and_duv(xyz)
    return f"{float(cct):.0f} K, Duv {float(duv):+.4f}" if np.isfinite(cct) else "no daylight"
