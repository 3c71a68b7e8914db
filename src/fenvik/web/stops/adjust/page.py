"""What the stop Adjust shows: the work that is chosen, what is being entered, and what was turned."""

from typing import Any

import numpy as np

from fenvik.web.adjusting.desk import kept_lay_out
from fenvik.web.adjusting.lights import lights_of
from fenvik.web.adjusting.lists import left_of, open_list
from fenvik.web.adjusting.models import ListKind
from fenvik.web.controls.log import is_newest, last_to_undo
from fenvik.web.controls.models import ControlChange
from fenvik.web.controls.values import Values
from fenvik.web.devices.leases import is_being_set
from fenvik.web.results import pictures
from fenvik.web.results.parts import Pair
from fenvik.web.stops.adjust.colours import show_colours
from fenvik.web.stops.adjust.hands_free import show_run
from fenvik.web.stops.adjust.newest import analysed
from fenvik.web.stops.adjust.points import show_points
from fenvik.web.stops.adjust.two_point import two_point
from fenvik.web.stops.registry import Page, pages
from fenvik.web.stops.scenes import Scene


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
    scene.extra["log"] = _log(scene.values)
    changed = sum(row["changed"] for row in scene.values.rows)
    scene.extra |= {"changed": changed, "changed_words": f"{changed} controls" if changed != 1 else "it"}
    _list(scene)
    if scene.is_hands_free and scene.extra.get("list") is not None:
        scene.extra["is_led_list"] = scene.extra["list"].kind == ListKind.LED
        scene.extra["is_last_group"] = sum(not group["done"] for group in scene.extra["groups"]) == 1
    work = scene.options.work
    if work == "points":
        show_points(scene, found_balance)
    elif work == "colours":
        show_colours(scene)
    elif work == "hands-free" or scene.is_hands_free:
        show_run(scene)
    elif work == "light":
        lights = lights_of(scene.tuning, scene.values, scene.recent)
        two_point(scene, desk, found_balance)
        scene.extra |= {"lights": lights, "moves": lights.moves, "expected": ""}
        if scene.options.view == "balance":
            now = analysed(scene, lights.read[-1].pass_of, lights.read) if lights.read else scene.left
            scene.picture = pictures.draw("tone", Pair(scene.found, now))
    else:
        two_point(scene, desk, found_balance)


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


def _log(values: Values) -> list[dict[str, Any]]:
    undone = {c.undoes_id for c in values.changes if c.undoes_id}
    return [
        {"change": c, "undone": c.pk in undone, "can_go_back": c.undoes_id is None and is_newest(values.changes, c)}
        for c in reversed(values.changes)
    ][:40]


pages["adjust"] = Page(fill, "adjust/field.html", "adjust/hand.html")
