"""What Adjust shows of the colours: where each stands, and what to turn at the one that is worked on."""


import numpy as np
from django.utils.html import format_html
from django.utils.safestring import SafeString

from fenvik.web.adjusting.colours import Hue, analysis_now, chosen, hues_of, patches
from fenvik.web.adjusting.moves import move_of
from fenvik.web.results import pictures
from fenvik.web.results.parts import Pair
from fenvik.web.stops.scenes import Scene


def show_colours(scene: Scene) -> None:
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
