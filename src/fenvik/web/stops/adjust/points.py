"""What Adjust shows of the points, or of all levels: where they stand, the list that is proposed, what it cannot mend."""

from typing import Any

import numpy as np
from django.utils.html import format_html

from fenvik.charts import balance as balance_chart
from fenvik.core.analysis import greyscale
from fenvik.core.models import room
from fenvik.core.models.points import Plan
from fenvik.core.models.twopoint import light
from fenvik.core.signal.patches import grey
from fenvik.web.adjusting.lists import was_listed
from fenvik.web.adjusting.points import Points, goal_of, points_of
from fenvik.web.passes.models import Pass
from fenvik.web.results import pictures
from fenvik.web.results.parts import Pair
from fenvik.web.stops.progress import expected_s
from fenvik.web.stops.scenes import Scene

LEVEL_STD = 0.0008  # of drive: how well all readings together know a level
HALF_A_CODE = 0.25  # percent of signal, of eight bits


def show_points(scene: Scene, found: dict[float, Any]) -> None:
    """Say where the levels stand as all readings together tell it, what a list should bring, and what stays whatever it turns.

    ``found``: how far red, green and blue were off as found, in percent, by level in percent.
    """
    goal = goal_of(scene.options.get("content"))
    points = points_of(scene.tuning, scene.values, scene.recent, goal)
    scene.extra |= {"points": points, "goal": goal, "was_listed": was_listed(scene.tuning.pk)}
    content = goal or scene.tuning.target.tolerance
    rows = _model_rows(scene, points, found)
    what = "all points are" if points.has_points else "gains and offsets are"
    words = format_html("Read {} levels, and {} proposed at once.", len(points.levels), what)
    scene.extra["untouched"] = _untouched(scene)
    if points.plan is not None:
        worst = points.plan.worst()
        (mean, worst_now), (mean_then, worst_then) = points.plan.told(points.plan.now), points.plan.told(points.plan.then)
        words = format_html(
            "<b>{} on average</b>, {} at worst, at {} %, as the {} stand now{}{}.",
            f"{mean:.1f}", f"{worst_now:.1f}", f"{100 * points.plan.levels[worst]:.0f}",
            "points" if points.has_points else "controls",
            "" if (points.plan.counts >= 1.0).all() else ", where the display can follow",
            "" if scene.tuning.corrects_curve else ", luminance left out",
        )  # fmt: skip
        scene.extra |= {
            "proposed": points.rows(scene.values),
            "stays": None if goal else _stays(scene, points, points.plan),
            "within": worst_now <= content,
            "proposes": points.proposes(scene.tuning.target.tolerance, goal), "presses": points.plan.presses,
            "mean_now": mean, "mean_then": mean_then, "worst_then": worst_then,
            "ending": [knob.label for part in room.ending(points.knobs, points.moved + points.plan.steps) for knob in part],
            "at_end": [scene.values.control(points.knobs[i].id)["label"] for i in points.plan.at_end],  # type: ignore[index]
        }  # fmt: skip
    scene.extra["points_s"] = _seconds(scene, points.levels)
    pair = Pair(
        scene.found, None, current=0.0, levels=rows or None, answers={"balance": words}, whole=scene.tuning.corrects_curve
    )
    scene.picture = pictures.draw(scene.options.view, pair)


def _stays(scene: Scene, points: Points, plan: Plan) -> dict[str, Any] | None:
    """Say what light no list of this menu brings within the tolerance, and what else might; None where there is none of it."""
    stays = plan.stays(scene.tuning.target.tolerance)
    # What stays of colour is often only not known yet, and no other choice brings it.
    if stays is None or not stays.is_light or plan.told(plan.now)[1] <= scene.tuning.target.tolerance:
        return None
    link, rolls_off = scene.tuning.display.link, scene.tuning.target.curve == "pq" and scene.tuning.roll_off != "clip"
    takes = {} if link is None else link.facts.get("installs") or {}
    others = [(f"another choice of {c['label']}", "groundwork", "modes") for c in scene.values.controls
              if c.get("role") == "gamma" and c["kind"] == "choice"]  # fmt: skip
    if rolls_off and takes.get("tone"):
        others.append(("a roll-off that the display is given", "arrival", "target"))
    if rolls_off:
        others.append(("a target that is clipped at the peak", "arrival", "target"))
    installed = next((word for what, word in (("curves", "curves"), ("cube", "a cube")) if takes.get(what)), "")
    if installed:
        others.append((f"{installed}, installed by hands-free", "adjust", ""))
    return {
        "low": 100 * stays.low, "high": 100 * stays.high, "worst": stays.worst, "others": others,
        "has_points": points.has_points,
    }  # fmt: skip


def _untouched(scene: Scene) -> str:
    """Return in words what this menu has that nobody has turned yet, beside what is worked on; empty where there is nothing."""
    turned = {change.control for change in scene.values.changes}
    roles = {c.get("role") or "": c["id"] for c in scene.values.controls}
    work = scene.options.work
    left = []
    known = (("points", ("white.at.", "gamma.at."), "the points"), ("colours", ("colour.",), "the single colours"))
    for kind, prefixes, name in known:
        mine = [id_ for role, id_ in roles.items() if role.startswith(prefixes)]
        if mine and kind != work and not turned & set(mine):
            left.append(name)
    return " and ".join(left)


def _seconds(scene: Scene, levels: list[float]) -> float:
    """Return how long it takes to read greys at levels, by the meter's own account and pace."""
    tuning = scene.tuning
    if tuning.meter is None or not levels:
        return 0.0
    shell = Pass(
        patches=[grey(level, tuning.bits, tuning.range).as_json() for level in levels], meter=tuning.meter,
        meter_facts=tuning.meter.facts, bits=tuning.bits, range=tuning.range, average=tuning.average,
        settle_s=tuning.settle_s, effort=tuning.effort,
    )  # fmt: skip
    base = scene.left or scene.found
    return sum(expected_s(shell, float(base.white[1]) if base is not None else 100.0))


def _model_rows(scene: Scene, points: Points, found: dict[float, Any]) -> tuple[balance_chart.Level, ...]:
    """Return the rows of the balance chart as all readings together say that the levels stand now."""
    if points.plan is None:
        return ()
    plan, target = points.plan, scene.tuning.target
    drives = plan.model.at(plan.levels, points.moved)
    balance = greyscale.balance(light(drives, target, points.white, 0.0), target) - 100.0
    band = greyscale.tolerance_percent(plan.levels, target, points.white, 0.0, target.tolerance)
    std = 100.0 * 2.3 * LEVEL_STD / np.maximum(plan.levels, 0.05)
    rows = []
    for i, level in enumerate(plan.levels):
        percent = round(100.0 * float(level), 1)
        if abs(percent - round(percent)) < HALF_A_CODE:  # what was asked for, and not the code nearest to it
            percent = float(round(percent))
        was = found.get(float(round(percent)))
        rows.append(
            balance_chart.Level(
                percent=percent, deviation=tuple(float(v) for v in balance[i]), std=(float(std[i]),) * 3,  # type: ignore[arg-type]
                error=float(plan.now[i]), found=None if was is None else tuple(float(v) for v in was),  # type: ignore[arg-type]
                tolerance=float(band[i]), counts=bool(plan.counts[i] >= 1.0),
            )
        )  # fmt: skip
    return tuple(rows)
