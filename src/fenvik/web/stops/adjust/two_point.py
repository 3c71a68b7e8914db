"""What Adjust shows of two-point: the levers, the nudge with what it should leave, the levels as they stand."""

from dataclasses import replace
from typing import Any

import numpy as np
from django.utils.html import format_html
from django.utils.safestring import SafeString, mark_safe

from fenvik.charts import balance as balance_chart
from fenvik.charts import levers
from fenvik.core.analysis.analysis import Analysis, analyse
from fenvik.web.adjusting.desk import Desk
from fenvik.web.adjusting.moves import move_of
from fenvik.web.results import pictures, words
from fenvik.web.results.assemble import core_readings
from fenvik.web.results.parts import Pair
from fenvik.web.stops.awaiting import awaited
from fenvik.web.stops.scenes import Scene

ENDS = ("white.gain.", "white.offset.")  # roles
FAR = 4.0  # of the mean error of greys as found, as CIEDE2000: from there on a run puts them to their defaults, too


def two_point(scene: Scene, desk: Desk, found: dict[float, Any]) -> None:
    """Say how far the level that is worked on is off, what to turn, and where all levels should stand now.

    ``found``: how far red, green and blue were off as found, in percent, by level in percent.
    """
    rows = desk.chart_levels(found, scene.tuning.target.tolerance)
    pair = Pair(
        scene.found, None, current=desk.percent, levels=rows or None, steps=_step_scale(desk),
        whole=bool(rows) and desk.surroundings is not None and desk.surroundings.tone,
        answers={"balance": _now_words(desk)} if rows else {},
    )  # fmt: skip
    if scene.options.view in ("colours", pictures.IN_XY):
        pair = replace(pair, left=_grey_now(desk), answers={"colours": words.colours(scene.found)})
    if pair.said is None and not rows:
        pair = replace(pair, awaited=awaited(scene.tuning))
    scene.picture = pictures.draw(scene.options.view, pair)
    scene.extra["turned_before"] = _turned_before(scene)
    live = desk.live
    if live is not None:
        deviation, std, error, error_std = live
        three = [float(v) - 100.0 for v in deviation]
        scene.extra |= {
            "error": error,
            "error_pm": 1.96 * error_std,
            "within": error <= scene.tuning.target.tolerance,
            "light_off": None if desk.light_off is None else 100.0 * desk.light_off,
            "levers": mark_safe(
                levers.draw(
                    (three[0], three[1], three[2]),
                    (float(std[0]), float(std[1]), float(std[2])),
                    title="Red, green and blue now",
                )
            ),
        }
    if desk.noticed is not None:
        change, as_proposed = desk.noticed
        lights = [(name, v) for name, v in zip(("red", "green", "blue"), change, strict=True) if abs(v) >= 0.004]
        told = ", ".join(f"{name} {'+' if v > 0 else '−'}{abs(100 * v):.1f} %" for name, v in lights)
        scene.extra |= {"noticed": told, "as_proposed": as_proposed}
    if desk.nudge is not None:
        at = desk.nudge.at(desk.percent / 100.0)
        scene.extra |= {
            "moves": [
                move_of(
                    m.control.id, m.control.label, m.control.value, float(m.turns), m.control.step_of_menu, m.control.channel
                )
                for m in desk.nudge.moves
            ],
            "expected": expected(
                float(desk.nudge.after[at]), 1.96 * float(desk.nudge.after_std[at]), float(desk.nudge.overall_after)
            ),
        }  # fmt: skip


def _turned_before(scene: Scene) -> dict[str, Any] | None:
    """Return how many gains and offsets somebody had turned, and how far greys were off so; None where they are not far off."""
    found = scene.found
    if found is None or not found.graded.any() or scene.values.changes:
        return None
    off, far = float(found.colour_only.value[found.graded].mean()), FAR * scene.tuning.target.metric.weight
    turned = [row for row in scene.values.rows if (row.get("role") or "").startswith(ENDS) and row["usual"] is not None]
    many = sum(row["now"] is not None and row["now"] != row["usual"] for row in turned)
    return {"off": off, "many": many} if many and off > far else None


def _grey_now(desk: Desk) -> Analysis | None:
    """Return the newest reading of the level that is worked on, so that white moves on the map as the levers do."""
    if desk.newest is None or desk.surroundings is None or desk.newest.row.too_dark:
        return None
    row, target = desk.newest.row, desk.tuning.target
    return analyse(core_readings(row.pass_of, [row]), target, white=target.white * desk.surroundings.white)


def expected(here: float, doubt: float, overall: float) -> SafeString:
    """Return in words what a nudge should leave. While steps are unknown a ± would be larger than what it goes with."""
    if doubt <= here:
        return format_html("<b>{} ± {}</b> here, <b>{}</b> over all levels.", f"{here:.1f}", f"{doubt:.1f}", f"{overall:.1f}")
    return format_html(
        "<b>{}</b> here, at worst {} while it is not known what a step does, <b>{}</b> over all levels.", f"{here:.1f}",
        f"{here + doubt:.1f}", f"{overall:.1f}",
    )  # fmt: skip


def _now_words(desk: Desk) -> Any:
    """Return what the levels as they should stand now say."""
    assert desk.surroundings is not None
    at = np.array([level.level for level in desk.levels])
    drives = np.array([level.drive for level in desk.levels])
    errors = desk.surroundings.errors(at, drives)
    worst = int(np.argmax(errors))
    if float(errors[worst]) <= desk.tuning.target.tolerance:
        return format_html(
            "No level is off by more than <b>{}</b> as the controls stand now.", f"{float(errors[worst]):.1f}"
        )
    apart = float(at[worst] - drives[worst].mean())
    neutral = drives - drives.mean(axis=1, keepdims=True)
    if desk.surroundings.says_tone(at)[worst] and abs(apart) > float(np.abs(neutral[worst]).max()):
        return format_html(
            "<b>Too {} at {} %</b>, error {}, as the controls stand now.", "dark" if apart > 0 else "bright",
            f"{at[worst] * 100:.0f}", f"{float(errors[worst]):.1f}",
        )  # fmt: skip
    channel = int(np.argmax(np.abs(neutral[worst])))
    name = ("Red", "Green", "Blue")[channel]
    side = "much" if neutral[worst, channel] > 0 else "little"
    return format_html(
        "<b>Too {} {} at {} %</b>, error {}, as the controls stand now.",
        side,
        name.lower(),
        f"{at[worst] * 100:.0f}",
        f"{float(errors[worst]):.1f}",
    )


def _step_scale(desk: Desk) -> balance_chart.StepScale | None:
    """Return the second scale of the balance: the control of the light that is farthest off at this end."""
    live = desk.live
    if desk.response is None or live is None or desk.surroundings is None:
        return None
    channel = int(np.argmax(np.abs(live[0] - 100.0)))
    control = next((c for c in desk.controls if c.kind == desk.end and c.channel == channel), None)
    if control is None or not desk.response.observed[desk.controls.index(control)]:
        return None
    level = desk.percent / 100.0
    effect = float(desk.response.jacobian(level)[channel, desk.controls.index(control)])
    step = 100.0 * effect / control.every * 2.3 / max(level, 0.05)
    # A control that does next to nothing has no scale worth reading: its whole range would not reach.
    if abs(step) * (control.high - control.low) / control.step_of_menu < abs(float(live[0][channel]) - 100.0):
        return None
    return balance_chart.StepScale(control.label, channel, step)
