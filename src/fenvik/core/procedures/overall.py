"""All colours at once: the gamut by reading, and saturation and tint where there is nothing for single colours."""

from typing import Any

import numpy as np

from fenvik.core.colour.space import xyz_to_xy
from fenvik.core.colour.target import Target
from fenvik.core.controls import Control, control_of
from fenvik.core.models import hues
from fenvik.core.models.foreseen import Foresight
from fenvik.core.models.hues import DEAD
from fenvik.core.models.palette import SDR, Palette
from fenvik.core.procedures import choices
from fenvik.core.procedures.desk import Desk
from fenvik.core.procedures.steps import ENDS, Procedure
from fenvik.core.procedures.unlocking import let_it_be_set
from fenvik.core.types import Floats

PROBE = 0.08  # of a range
UNSURE = 0.15  # of what a control was seen to do
# Of the saturation that colours should have: from where on it is no matter of single ones. What has less can mostly be given more
# by its own controls, and beside a white sub-pixel everything pale has less.
TOO_MUCH, FAR_TOO_LITTLE, LEAST_SCALE = 1.035, 0.6, 0.05
LEAST_CAME, WORTH_A_TURN = 0.2, 0.25  # of what was wanted, by its logarithm; of the first turn
PRIMARIES = ("red", "green", "blue")
PURE = ((50.0, 0.0, 0.0), (0.0, 50.0, 0.0), (0.0, 0.0, 50.0))  # percent of an HDR signal: the container's own, at 92 cd/m² of white


def gamut(desk: Desk, target: Target, palette: Palette = SDR) -> Procedure[dict[Any, float]]:
    """Choose the gamut whose primaries were read nearest to the target's; return how far each is from them."""
    control = choices.of_role(desk, "gamut")
    if control is None:
        return {}
    usual, wanted = control["value"], xyz_to_xy(target.matrix.T)

    def look() -> Procedure[float]:
        read = yield from desk.reads(PURE if target.is_hdr else palette.full[:3])
        return float(np.hypot(*(xyz_to_xy(np.array([t.xyz for t in read])) - wanted).T).mean())

    off = yield from choices.tried(desk, control, look)
    best = min(off, key=lambda o: off[o])
    yield from desk.set(control, best if off[best] < 0.9 * off[usual] else usual)
    if control["value"] != usual:
        yield from desk.adopt()
    stood = control["value"]
    yield from let_it_be_set(desk, off, "gamut", ("colour",), "colour management")
    if control["value"] == stood != usual:
        desk.notes.append(f"{control['label']}: {control['value']} lies nearest to the target's colours.")
    return off


def saturation(
    desk: Desk, target: Target, hold: tuple[float, float], palette: Palette, foresight: Foresight
) -> Procedure[Foresight | None]:
    """Turn the saturation of all colours where all have too much of it, or far too little: what has left a light is lost to single
    colours, and their own controls seldom reach that far. Return what is foreseen then, None where nothing is.

    It is turned by what most menus mean, a share of where it stands; two skin tones and a pale colour tell what it really did.
    """
    control = next((c for c in desk.by_role("saturation") if c["kind"] == "range" and c["role"] == "saturation"), None)
    turn = None if control is None else control_of(control, control["value"])
    patches = [percent for hue in palette.hues.values() for _, percent in hue]
    fraction = np.array(patches) / 100.0
    stands = _scale(fraction, foresight.xyz(fraction), target, hold)
    if control is None or turn is None or FAR_TOO_LITTLE < stands < TOO_MUCH or turn.value <= turn.low:
        return foresight
    pale = [*palette.skins.values(), palette.hues["cyan"][1][1]]
    at = np.array(pale) / 100.0
    before, usual = _scale(at, foresight.xyz(at), target, hold), control["value"]
    yield from desk.say("saturation")
    steps = _steps(turn, (1.0 / stands - 1.0) * (turn.value - turn.low) / turn.step)
    try:
        yield from desk.set(control, turn.moved(steps).value)
        now = _scale(at, np.array([t.xyz for t in (yield from desk.reads(pale))]), target, hold)
        came = float(np.log(now / before))
        if abs(came) < LEAST_CAME * abs(float(np.log(stands))):
            yield from desk.set(control, usual)
            return foresight
        more = _steps(turn, steps * -float(np.log(stands)) / came) - steps
        if more and abs(more) >= WORTH_A_TURN * abs(steps):
            yield from desk.set(control, turn.moved(steps + more).value)
        read = yield from desk.reads([*palette.full, *palette.skins.values()])
    except ENDS:
        yield from desk.set(control, usual)
        raise
    told = f"{100.0 * stands:.0f} % of the saturation that they should have"
    desk.notes.append(f"All colours had {told}, so {control['label']} was put to {control['value']:g}.")
    made = np.array([t.fraction for t in read]), np.array([t.xyz for t in read])
    try:
        return Foresight.of(*made, foresight.lights.black, (foresight.now, foresight.now), target.matrix[1])
    except np.linalg.LinAlgError:
        return None


def _steps(turn: Control, wanted: float) -> int:
    """Return whole steps within the room that there is."""
    down, up = turn.room
    return int(np.clip(round(wanted), down, up))


def _scale(fraction: Floats, xyz: Floats, target: Target, hold: tuple[float, float]) -> float:
    """Return how far colours XYZ (n, 3) in cd/m² are from grey in the three lights, in shares of how far they should be."""
    white, _ = hold
    seen, wanted = (v @ target.inverse_matrix.T / white for v in (xyz, target.xyz(fraction, *hold)))
    apart = wanted - (wanted @ target.matrix[1])[:, None]
    return max(float(((seen - (seen @ target.matrix[1])[:, None]) * apart).sum() / (apart**2).sum()), LEAST_SCALE)


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
