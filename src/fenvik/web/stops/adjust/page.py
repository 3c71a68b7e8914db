"""What the stop Adjust shows: the desk of two-point, the points, and what is being entered."""

from dataclasses import replace
from typing import Any

import numpy as np
from django.conf import settings
from django.utils.html import format_html
from django.utils.safestring import SafeString, mark_safe

from fenvik.charts import balance as balance_chart
from fenvik.charts import levers
from fenvik.core.analysis import greyscale
from fenvik.core.analysis.analysis import Analysis, analyse
from fenvik.core.errors import NoWhiteError
from fenvik.core.models import room
from fenvik.core.models.twopoint import light
from fenvik.core.procedures.job import USUAL_BUDGET
from fenvik.core.signal.patches import grey
from fenvik.web.adjusting.colours import Hue, analysis_now, chosen, hues_of, patches
from fenvik.web.adjusting.desk import Desk, kept_lay_out
from fenvik.web.adjusting.handsfree import references_of
from fenvik.web.adjusting.lights import lights_of
from fenvik.web.adjusting.lists import left_of, open_list, was_listed
from fenvik.web.adjusting.models import ListKind
from fenvik.web.adjusting.moves import move_of
from fenvik.web.adjusting.points import Points, goal_of, points_of
from fenvik.web.controls.log import is_newest, last_to_undo
from fenvik.web.controls.models import ControlChange
from fenvik.web.controls.values import Values
from fenvik.web.devices.leases import is_being_set
from fenvik.web.passes.models import Pass, PassPurpose, Reading
from fenvik.web.results import pictures, words
from fenvik.web.results.assemble import core_readings
from fenvik.web.results.parts import Pair
from fenvik.web.stops.progress import expected_s
from fenvik.web.stops.registry import Page, pages
from fenvik.web.stops.scenes import Scene

INSTALLS = {"tone": "a roll-off", "curves": "curves", "cube": "a cube", "matrix": "a matrix"}
STEP_WORDS = (
    ("light", "light and white level"),
    ("white", "gamma, preset, two-point"),
    ("grey", "points"),
    ("colour", "colours"),
)
LEVEL_STD = 0.0008  # of drive: how well all readings together know a level

def fill(scene: Scene) -> None:
    """Fill the scene with what is worked on."""
    desk = kept_lay_out(scene.tuning, scene.values, scene.recent)
    scene.desk = desk
    found_balance: dict[float, Any] = {}
    if scene.found is not None:
        percent = np.round(scene.found.readings.fraction[:, 0] * 100.0)
        found_balance = {
            float(percent[i]): scene.found.balance[i] - 100.0 for i in np.flatnonzero(scene.found.lit_grey)
        }
    scene.extra["undo"] = _asked_back(scene) if scene.options.ask == "undo" else []
    scene.extra["can_undo"] = bool(last_to_undo(scene.values.changes))
    scene.extra["pages"] = settings.STANDIN_PAGES
    scene.extra["log"] = _log(scene.values)
    changed = sum(row["changed"] for row in scene.values.rows)
    scene.extra |= {"changed": changed, "changed_words": f"{changed} controls" if changed != 1 else "it"}
    _list(scene)
    if scene.is_hands_free and scene.extra.get("list") is not None:
        scene.extra["is_led_list"] = scene.extra["list"].kind == ListKind.LED
        scene.extra["is_last_group"] = sum(not group["done"] for group in scene.extra["groups"]) == 1
    work = scene.options.work
    if work == "points":
        _points(scene, found_balance)
    elif work == "colours":
        _colours(scene)
    elif work == "hands-free" or scene.is_hands_free:
        _hands_free(scene)
    elif work == "light":
        lights = lights_of(scene.tuning, scene.values, scene.recent)
        _two(scene, desk, found_balance)
        scene.extra |= {"lights": lights, "moves": lights.moves, "expected": ""}
        if scene.options.view == "balance":
            now = _analysed(scene, lights.read[-1].pass_of, lights.read) if lights.read else scene.left
            scene.picture = pictures.draw("tone", Pair(scene.found, now))
    else:
        _two(scene, desk, found_balance)


def _asked_back(scene: Scene) -> list[ControlChange]:
    """Return what is asked to be turned back: one change of the log, or the newest group."""
    one = scene.options.number("one")
    if one is None:
        return last_to_undo(scene.values.changes)
    return [c for c in scene.values.changes if c.pk == one and c.before is not None and is_newest(scene.values.changes, c)]


def _list(scene: Scene) -> None:
    """Say what is being entered on the display, level by level."""
    listed = open_list(scene.tuning.pk)
    if listed is None:
        return
    left = {row["control"] for row in left_of(listed, scene.values)}
    groups: dict[str, list[dict[str, Any]]] = {}
    for row in listed.rows:
        groups.setdefault(row["group"], []).append({**row, "done": row["control"] not in left})
    told = [
        {"name": name, "rows": rows, "done": all(row["done"] for row in rows), "controls": " ".join(r["control"] for r in rows)}
        for name, rows in groups.items()
    ]
    following = next((group for group in told if not group["done"]), None)
    scene.extra |= {
        "list": listed, "list_here": scene.options.work == "points" or listed.kind in (ListKind.BACK, ListKind.LED),
        "groups": told, "next_group": following, "entered": len(listed.rows) - len(left),
        "sets_itself": is_being_set(scene.tuning.display_id),
        "of": len(listed.rows), "percent": round(100 * (len(listed.rows) - len(left)) / max(len(listed.rows), 1)),
    }  # fmt: skip


def _points(scene: Scene, found: dict[float, Any]) -> None:
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


def _hands_free(scene: Scene) -> None:
    """Say how a hands-free run stands: what it does, what it has brought, and what was read last of each patch."""
    run = next((p for p in scene.tuning.main_passes if p.purpose == PassPurpose.HANDS_FREE), None)
    job = None if run is None else run.run
    keeps = job is not None and not job.puts_back
    is_led = job is not None and job.display_id is None
    stops = "Stop, and list what puts it back" if is_led else "Stop and put everything back"
    scene.extra["stop_words"] = "Stop and keep what was set" if keeps else stops
    scene.extra["is_led"] = is_led or not scene.is_linked
    scene.extra |= {"run": run, "usual_budget": USUAL_BUDGET, "steps": STEP_WORDS}
    link = scene.tuning.display.link
    takes = {} if link is None else link.facts.get("installs") or {}
    scene.extra["references"] = references_of(scene.tuning)
    scene.extra["takes"] = [words for name, words in INSTALLS.items() if takes.get(name)]
    found = now = None
    how = "read by itself, turned by you" if scene.extra["is_led"] else "set and read over the links"
    words = SafeString(f"Light, white balance, points and colours, {how}.")
    if run is not None and job is not None:
        rows = list(run.readings.select_related("pass_of__correction").order_by("id"))
        compared = sum(row.part == "comparison" for row in rows)
        taken = len(rows) - compared
        scene.extra |= {"job": job, "taken": taken, "compared": compared, "used": round(100 * taken / max(job.budget, 1))}
        found, now = (_analysed(scene, run, part) for part in (rows[: job.proof], rows[job.proof :]))
        stands = scene.values.now
        scene.extra["taken_back"] = not run.is_open and all(stands.get(c["id"]) == c["value"] for c in job.controls)
        if job.left_from is not None:
            now = _analysed(scene, run, rows[job.left_from :])
        if job.restored or scene.extra["taken_back"]:
            now = None
        if found is not None and now is not None:
            before, after = found.whole.value[found.lit_grey], now.whole.value[now.lit_grey]
            # A few levels say nothing beside all of them.
            if len(after) >= len(before):
                words = format_html(
                    "Greys from {} to <b>{}</b> on average, with luminance: the newest reading of every patch.",
                    f"{before.mean():.1f}", f"{after.mean():.1f}",
                )  # fmt: skip
    scene.extra["plan"] = run is None
    pair = Pair(found or scene.found, now, answers={"balance": words})
    scene.picture = pictures.draw(scene.options.view, pair)


def _analysed(scene: Scene, run: Pass, rows: list[Reading]) -> Analysis | None:
    """Return the analysis of the newest reading of each patch."""
    newest = {(row.r, row.g, row.b): row for row in rows if not row.too_dark and row.part != "comparison"}
    if not newest:
        return None
    try:
        return analyse(core_readings(run, list(newest.values())), scene.tuning.target)
    except NoWhiteError:
        return None


def _grey_now(desk: Desk) -> Analysis | None:
    """Return the newest reading of the level that is worked on, so that white moves on the map as the levers do."""
    if desk.newest is None or desk.surroundings is None or desk.newest.row.too_dark:
        return None
    row, target = desk.newest.row, desk.tuning.target
    return analyse(core_readings(row.pass_of, [row]), target, white=target.white * desk.surroundings.white)


def _colours(scene: Scene) -> None:
    """Say where each colour stands, and what to turn at the one that is worked on."""
    every = hues_of(scene.tuning, scene.values, scene.recent)
    hue = chosen(every, scene.options.get("hue"))
    others = [h for h in every if hue is not None and h.name != hue.name and not h.is_done]
    scene.extra |= {
        "hues": every, "hue": hue, "unread": [h.name for h in every if h.parts is None],
        "next_hue": max(others, key=lambda h: h.error or 0.0).name if others else "",
        "taken_along": _taken_along(every),
    }  # fmt: skip
    named = [] if hue is None else patches(scene.tuning, hue.name)
    if hue is not None and hue.parts is not None and hue.errors is not None:
        scene.extra["hue_rows"] = [
            {
                "label": p.label, "parts": [float(v) * hue.weight for v in hue.parts[3 * i : 3 * i + 3]],
                "error": float(hue.errors[i]),
            }
            for i, p in enumerate(named)
        ]  # fmt: skip
    if hue is not None and hue.nudge is not None:
        scene.extra["moves"] = [
            move_of(turn.id, turn.label, turn.value, float(steps), turn.step, turn.light)
            for turn, steps in zip(hue.turns, hue.nudge.steps, strict=True)
            if steps
        ]
        if not hue.nudge.learns:
            scene.extra["expected"] = format_html("<b>{}</b> over its patches.", f"{hue.expected:.1f}")
    known = [h for h in every if h.error is not None]
    words = SafeString("Read the six colours once; the worst comes first.")
    if known:
        worst = max(known, key=lambda h: h.error or 0.0)
        mean = float(np.mean([h.error for h in known]))
        words = format_html(
            "<b>{} on average</b> over {} colours, full and half as saturated; the worst is {}, {}.",
            f"{mean:.1f}", len(known), worst.name, f"{worst.error:.1f}",
        )  # fmt: skip
    scene.extra["within"] = bool(known) and all((h.error or 0.0) <= scene.tuning.target.tolerance for h in known)
    now = analysis_now(scene.tuning, scene.recent, scene.left or scene.found)
    view = "colours" if scene.options.view == "balance" else scene.options.view
    pair = Pair(scene.found, now, answers={"colours": words})
    scene.picture = pictures.draw(view, pair)


def _taken_along(every: list[Hue]) -> bool:
    """Return whether any colour was read before the last move of another one."""
    read = [h.basis.pk for h in every if h.basis is not None]
    return bool(read) and max(read) - min(read) > 2 * len(every) + 4


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
        was = found.get(float(round(percent)))
        rows.append(
            balance_chart.Level(
                percent=percent, deviation=tuple(float(v) for v in balance[i]), std=(float(std[i]),) * 3,  # type: ignore[arg-type]
                error=float(plan.now[i]), found=None if was is None else tuple(float(v) for v in was),  # type: ignore[arg-type]
                tolerance=float(band[i]), counts=bool(plan.counts[i] >= 1.0),
            )
        )  # fmt: skip
    return tuple(rows)


def _two(scene: Scene, desk: Desk, found: dict[float, Any]) -> None:
    rows = desk.chart_levels(found, scene.tuning.target.tolerance)
    pair = Pair(
        scene.found, None, current=desk.percent, levels=rows or None, steps=_step_scale(desk),
        whole=bool(rows) and desk.surroundings is not None and desk.surroundings.tone,
        answers={"balance": _now_words(desk)} if rows else {},
    )  # fmt: skip
    if scene.options.view in ("colours", pictures.IN_XY):
        pair = replace(pair, left=_grey_now(desk), answers={"colours": words.colours(scene.found)})
    scene.picture = pictures.draw(scene.options.view, pair)
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
                    m.control.id, m.control.label, m.control.value, float(m.steps), m.control.step, m.control.channel
                )
                for m in desk.nudge.moves
            ],
            "expected": _expected(
                float(desk.nudge.after[at]), 1.96 * float(desk.nudge.after_std[at]), float(desk.nudge.overall_after)
            ),
        }  # fmt: skip


def _expected(here: float, doubt: float, overall: float) -> SafeString:
    """Return in words what a nudge should leave. While steps are unknown a ± would be larger than what it goes with."""
    if doubt <= here:
        return format_html("<b>{} ± {}</b> here, <b>{}</b> over all levels.", f"{here:.1f}", f"{doubt:.1f}", f"{overall:.1f}")
    return format_html(
        "<b>{}</b> here, at worst {} while it is not known what a step does, <b>{}</b> over all levels.", f"{here:.1f}",
        f"{here + doubt:.1f}", f"{overall:.1f}",
    )  # fmt: skip


def _log(values: Values) -> list[dict[str, Any]]:
    undone = {c.undoes_id for c in values.changes if c.undoes_id}
    return [
        {"change": c, "undone": c.pk in undone, "can_go_back": c.undoes_id is None and is_newest(values.changes, c)}
        for c in reversed(values.changes)
    ][:40]


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
    step = 100.0 * effect * 2.3 / max(level, 0.05)
    # A control that does next to nothing has no scale worth reading: its whole range would not reach.
    if abs(step) * (control.high - control.low) / control.step < abs(float(live[0][channel]) - 100.0):
        return None
    return balance_chart.StepScale(control.label, channel, step)


pages["adjust"] = Page(fill, "adjust/field.html", "adjust/hand.html")
