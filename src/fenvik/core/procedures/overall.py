"""All colours at once: the gamut by reading, and saturation and tint where there is nothing for single colours."""

from typing import Any

import numpy as np

from fenvik.core.colour.space import xyz_to_xy
from fenvik.core.colour.target import Target
from fenvik.core.controls import control_of
from fenvik.core.models import hues
from fenvik.core.models.hues import DEAD
from fenvik.core.models.palette import SDR, Palette
from fenvik.core.procedures import choices
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.steps import ENDS, Procedure
from fenvik.core.procedures.unlocking import let_it_be_set
from fenvik.core.types import Floats

PROBE = 0.08  # of a range
UNSURE = 0.15  # of what a control was seen to do
PRIMARIES = ("red", "green", "blue")
PURE = ((50.0, 0.0, 0.0), (0.0, 50.0, 0.0), (0.0, 0.0, 50.0))  # percent of an HDR signal: the container's own, at 92 cd/m² of white


def gamut(desk: Desk, target: Target, palette: Palette = SDR) -> Procedure[dict[Any, float]]:
    """Choose the gamut whose primaries were read nearest to the target's; return how far each is from them."""
    control = choices.of_role(desk, "gamut")
    if control is None:
        return {}
    usual, wanted = control["value"], xyz_to_xy(target.matrix.T)

    def look(_: float) -> Procedure[tuple[float, Floats]]:
        read = yield from desk.reads(PURE if target.is_hdr else palette.full[:3])
        away = xyz_to_xy(np.array([t.xyz for t in read])) - wanted
        return float(np.hypot(*away.T).mean()), away.ravel()

    off = yield from choices.tried(desk, control, look)
    best = min(off, key=lambda o: off[o])
    yield from desk.set(control, best if off[best] < 0.9 * off.get(usual, np.inf) else usual)
    if control["value"] != usual:
        yield from desk.adopt()
    stood = control["value"]
    yield from let_it_be_set(desk, off, "gamut", ("colour",), "colour management")
    if control["value"] == stood != usual:
        desk.notes.append(f"{control['label']}: {control['value']} lies nearest to the target's colours.")
    return off


def saturation_and_tint(desk: Desk, target: Target, hold: tuple[float, float], palette: Palette = SDR) -> Procedure[None]:
    """Set saturation and tint of all colours at once, where there is nothing for single ones; what makes it worse goes back."""
    controls = [
        c for role in ("saturation", "tint") for c in desk.by_role(role) if c["kind"] == "range" and c["role"] == role
    ]
    if not controls:
        desk.notes.append("This mode has no colour management that can be set.")
        return
    yield from desk.say("saturation and tint")
    patches = [percent for name in PRIMARIES for _, percent in palette.hues[name][:2]]

    def look() -> Procedure[Floats]:
        read = yield from desk.reads(patches)
        return hues.parts_of(
            np.array([t.fraction for t in read]), np.array([t.xyz for t in read]), target, *hold
        )  # fmt: skip

    turns = [turn for c in controls if (turn := control_of(c, c["value"])) is not None]
    now = yield from look()
    slope = np.zeros((len(now), len(controls)))
    for i, (control, turn) in enumerate(zip(controls, turns, strict=True)):
        low, high = turn.room
        size = max(round(PROBE * (turn.high - turn.low) / turn.step), 1)
        steps = min(size, high) if high >= -0.5 * low else -min(size, -low)
        try:
            yield from desk.set(control, turn.moved(steps).value)
            slope[:, i] = ((yield from look()) - now) / steps if steps else 0.0
        except ENDS:
            yield from desk.set(control, turn.value)
            raise
        yield from desk.set(control, turn.value)
        if float(np.abs(slope[:, i] * steps).max()) < DEAD:
            slope[:, i] = 0.0
    weight = np.tile(np.repeat(hues.WEIGHTS[:2], 3), len(PRIMARIES))
    live = [i for i in range(len(turns)) if slope[:, i].any()]
    wanted = hues.least(turns, slope, UNSURE * np.abs(slope), now, weight, live)
    if not wanted.any():
        return
    for control, turn, steps in zip(controls, turns, wanted, strict=True):
        yield from desk.set(control, turn.moved(steps).value)
    if float(((yield from look()) ** 2).sum()) > float((now**2).sum()):
        for control, turn in zip(controls, turns, strict=True):
            yield from desk.set(control, turn.value)
        return
    told = ", ".join(f"{control['label']} {control['value']}" for control in controls)
    desk.notes.append(f"All colours at once: {told}.")
