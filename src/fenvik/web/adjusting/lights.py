"""Light, white level and black level by hand: what readings say, and what to turn."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np

from fenvik.core.analysis.levels import READ, Ends, ends_of
from fenvik.core.procedures.lights import next_light
from fenvik.core.signal.patches import grey
from fenvik.web.adjusting.moves import move_of
from fenvik.web.adjusting.speaking import grey_level, speaks
from fenvik.web.controls.values import Values
from fenvik.web.passes.models import Pass, PassPurpose, Reading
from fenvik.web.passes.services import start_pass
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.visits.models import Tuning

NEAR = 0.03  # of the luminance that is wanted
DIMMED = (
    "Most displays bring every grey down with it, and PQ says each by itself: for a dimmer picture type a reference white at "
    "Arrival, target, to which every light is wanted in proportion, and no luminance of white."
)
LIGHTS = ("red", "green", "blue")


@dataclass(frozen=True)
class Lights:
    """``says`` are sentences, each with whether it is good; ``moves`` what to turn."""

    says: list[tuple[str, bool]]
    moves: list[dict[str, Any]]
    is_stale: bool
    white: float | None
    basis: Reading | None
    read: list[Reading]  # greys with the controls as they stand now, oldest first


def _control(values: Values, role: str) -> dict[str, Any] | None:
    return next((c for c in values.controls if c.get("role") == role and c["kind"] == "range"), None)


def lights_of(tuning: Tuning, values: Values, rows: list[Reading]) -> Lights:
    """Return what is known of light and levels; ``rows`` are recent readings, oldest first."""
    history = values.history
    states = history.states
    greys = [
        (100.0 * level, history.epoch_of(row), row)
        for row in rows
        if (level := grey_level(row)) is not None and speaks(row) and not row.pass_of.repeat
    ]
    here = [(level, row) for level, epoch, row in greys if epoch == history.newest]
    whites = [(states[epoch], row.seen[1]) for level, epoch, row in greys if abs(level - 100.0) < 1e-6]
    fresh = [row for level, row in here if abs(level - 100.0) < 1e-6]
    says: list[tuple[str, bool]] = []
    moves: list[dict[str, Any]] = []
    stale = not fresh
    white = fresh[-1].seen[1] if fresh else (whites[-1][1] if whites else None)
    if white is not None and not stale and not (tuning.target.is_hdr and tuning.luminance is None):
        _light(tuning, values, whites, white, says, moves)
    if tuning.target.is_hdr:
        _peak(values, white, says, moves, stale=stale)
        return Lights(says, moves, stale, white, fresh[-1] if fresh else None, [row for _, row in here])
    near = [float(np.array(READ)[np.abs(np.array(READ) - level).argmin()]) for level, _ in here]
    kept = [(v, row) for v, (level, row) in zip(near, here, strict=True) if abs(v - level) < 0.3]
    if not stale and len({v for v, _ in kept}) == len(READ):
        _ends(tuning, values, kept, greys, states, says, moves)
    elif not stale:
        stale = True
    return Lights(says, moves, stale, white, fresh[-1] if fresh else None, [row for _, row in here])


def _light(
    tuning: Tuning, values: Values, whites: list[tuple[dict[str, Any], float]], white: float,
    says: list[tuple[str, bool]], moves: list[dict[str, Any]],
) -> None:  # fmt: skip
    wanted, control = tuning.luminance, _control(values, "light")
    if wanted is None:
        says.append((f"White is {white:.0f} cd/m²; this tuning wants no certain luminance.", True))
        return
    off = white / wanted - 1.0
    if abs(off) <= NEAR:
        says.append((f"White is {white:.0f} cd/m², as wanted.", True))
        return
    side = "above" if off > 0 else "below"
    says.append((f"White is {white:.0f} cd/m², {100 * abs(off):.0f} % {side} the {wanted:.0f} that are wanted.", False))
    if off > 0 and tuning.target.curve == "pq":
        says.append((DIMMED, False))
    if control is None or values.now.get(control["id"]) is None:
        says.append((_choices_of(values) or "This menu has no control for the light.", False))
        return
    now = float(values.now[control["id"]])
    # Only what differs from now in the light alone tells what the light does.
    rest = {k: v for k, v in whites[-1][0].items() if k != control["id"]}
    seen = [
        (float(state[control["id"]]), y) for state, y in whites
        if state.get(control["id"]) is not None and {k: v for k, v in state.items() if k != control["id"]} == rest
    ]  # fmt: skip
    after = next_light(seen, wanted, control)
    if after != now:
        moves.append(_move(control, now, after))
    else:
        says.append((f"{control['label']} at {now:g} is the nearest it gets.", False))


def _choices_of(values: Values) -> str:
    """Return in a sentence what a lamp can be set to, where a menu has that instead of steps; empty where it has not."""
    control = next((c for c in values.controls if c.get("role") == "light" and c["kind"] == "choice"), None)
    if control is None:
        return ""
    now = values.now.get(control["id"])
    others = ", ".join(str(option) for option in control["options"] if option != now)
    return f"{control['label']} is at {now}: choose another ({others}), note it, and read what it does."


def _peak(
    values: Values, white: float | None, says: list[tuple[str, bool]], moves: list[dict[str, Any]], *, stale: bool
) -> None:
    """Say what an HDR mode's peak is; its light belongs at the top. That it clips there is where it ends, and no fault."""
    if white is None or stale or says:
        return
    control = _control(values, "light")
    now = None if control is None else values.now.get(control["id"])
    if control is None or now is None or float(now) >= float(control["max"]):
        says.append((f"The peak is {white:.0f} cd/m², with the light at its top. What is brighter in the signal ends there.", True))
        return
    where = f"The peak is {white:.0f} cd/m² with {control['label']} at {float(now):g}"
    says.append((f"{where}; in HDR the light belongs at its top.", False))
    moves.append(_move(control, float(now), float(control["max"])))


def _move(control: dict[str, Any], now: float, after: float) -> dict[str, Any]:
    step = float(control["step"])
    return move_of(control["id"], control["label"], now, (after - now) / step, step)


def _ends(
    tuning: Tuning, values: Values, kept: list[tuple[float, Reading]], greys: list[tuple[float, int, Reading]],
    states: list[dict[str, Any]], says: list[tuple[str, bool]], moves: list[dict[str, Any]],
) -> None:  # fmt: skip
    black_level, white_level = _control(values, "black-level"), _control(values, "white-level")
    lower = []
    if black_level is not None and values.now.get(black_level["id"]) is not None:
        now = float(values.now[black_level["id"]])
        lower = [
            max(row.seen[1], 0.0) for level, epoch, row in greys
            if level < 0.2 and states[epoch].get(black_level["id"]) is not None and float(states[epoch][black_level["id"]]) < now
        ]  # fmt: skip
    level = np.array([v for v, _ in kept])
    floor = max(float(row.pass_of.meter_facts["floor"]) for _, row in kept)
    ends: Ends = ends_of(level, np.array([row.seen for _, row in kept]), tuning.sought, lower, floor)
    if ends.clips:
        names = " and ".join(LIGHTS[c] for c in ends.clips)
        says.append((f"{names.capitalize()} clips below white: the last steps bring no more light.", False))
        if white_level is not None and values.now.get(white_level["id"]) is not None:
            now = float(values.now[white_level["id"]])
            span = float(white_level["max"]) - float(white_level["min"])
            size = max(round(0.04 * span / float(white_level["step"])), 1) * float(white_level["step"])
            if now - size >= float(white_level["min"]):
                moves.append(_move(white_level, now, now - size))
    else:
        says.append(("Nothing clips: all three lights grow up to white.", True))
    turn = 0
    if ends.crushed is not None:
        says.append((f"Shadows are crushed up to {ends.crushed:.0f} %.", False))
        turn = 1
    elif ends.raised:
        says.append(("Black is raised: it was darker with the black level lower.", False))
        turn = -1
    else:
        told = "too dark to read" if ends.black <= 0 else f"{ends.black:.3f} cd/m²"
        says.append((f"Shadows stand apart from black, which is {told}.", True))
    if turn and black_level is not None and values.now.get(black_level["id"]) is not None:
        now = float(values.now[black_level["id"]])
        after = now + turn * float(black_level["step"])
        if float(black_level["min"]) <= after <= float(black_level["max"]):
            moves.append(_move(black_level, now, after))


@needs(Right.MEASURE)
def read_lights(*, tuning_id: int, actor: User, now: datetime) -> Pass:
    """Read both ends of the greyscale. Raises what ``start_pass`` raises."""
    tuning = Tuning.objects.of_firm(actor.firm_id).get(pk=tuning_id)
    return start_pass(
        tuning_id=tuning_id, actor=actor, now=now, purpose=PassPurpose.ADJUST,
        patches=[grey(level, tuning.bits, tuning.range) for level in (READ if not tuning.target.is_hdr else (100.0, 0.0))],
    )  # fmt: skip
