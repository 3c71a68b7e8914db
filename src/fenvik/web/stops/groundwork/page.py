"""The stop Groundwork: checks, guided levels, the library of patterns, the warm-up."""

from typing import Any

from django.conf import settings
from django.urls import reverse
from django.utils import timezone
from django.utils.html import format_html
from django.utils.safestring import mark_safe

from fenvik.charts import ability
from fenvik.charts import warmup as chart
from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.measure.warmup import REMAINING_Y
from fenvik.core.signal.patterns import COLOURS, PATTERNS, Pattern, Signal
from fenvik.web.devices.standing import is_paired
from fenvik.web.groundwork.levels import STEPS, levels_of
from fenvik.web.groundwork.panel import panel_read, takes_panel
from fenvik.web.groundwork.state import rows_of
from fenvik.web.groundwork.survey import CHOICES as SURVEYED
from fenvik.web.groundwork.survey import Line, lines_of
from fenvik.web.groundwork.warm import fit_of, readings_of
from fenvik.web.groundwork.words import clock, minutes_words
from fenvik.web.passes.models import Pass, PassPurpose
from fenvik.web.patterns.menu import grouped
from fenvik.web.patterns.models import Screen
from fenvik.web.results.parts import Picture, Table
from fenvik.web.stops.groundwork import whites
from fenvik.web.stops.registry import Page, pages
from fenvik.web.stops.scenes import Scene

# The pattern by which a check that only an eye can answer is looked at.
BY_EYE = {
    "focus": "focus", "refocus": "focus", "convergence": "convergence", "geometry": "alignment", "lens": "alignment",
    "overscan": "overscan", "sharpness": "sharpness", "dimming": "corner-windows", "motion": "motion-lines",
}  # fmt: skip
HINTS = {"lens.focus": "focus", "convergence.red": "convergence", "convergence.blue": "convergence"}


def fill(scene: Scene) -> None:
    """Add what the asked part of Groundwork shows."""
    part = scene.options.part("groundwork")
    scene.extra["part"] = part
    _FILL[part](scene)


def _checks(scene: Scene) -> None:
    rows = rows_of(scene.tuning, scene.values, scene.tuning.ordered_answers)
    asked = scene.options.get("check")
    chosen = next((r for r in rows if r.check.id == asked), None) or next((r for r in rows if not r.is_done), None)
    # Enter never asserts what nobody looked at: it goes on to the next open one, unless something can be set over the link.
    after = rows[rows.index(chosen) + 1 :] + rows[: rows.index(chosen)] if chosen is not None else []
    sets = chosen is not None and scene.is_linked and bool(chosen.control and chosen.off) and chosen.state in ("wrong", "open")
    scene.extra |= {
        "rows": rows, "chosen": chosen, "open": sum(not r.is_done for r in rows), "sets": sets,
        "by_eye": PATTERNS.get(BY_EYE.get(chosen.check.id, "")) if chosen is not None else None,
        "seen": _seen(scene, chosen.check.id) if chosen is not None else [],
        "following": next((r for r in after if not r.is_done), None),
    }  # fmt: skip


def _seen(scene: Scene, check: str) -> list[Any]:
    """Return what was noted on the pattern of a check, newest first."""
    pattern = BY_EYE.get(check)
    return list(scene.tuning.looked.filter(pattern=pattern).exclude(note="").order_by("-id")[:3]) if pattern else []


def _screen(scene: Scene) -> Screen | None:
    screen: Screen | None = Screen.objects.open_at(timezone.now()).filter(visit_id=scene.tuning.visit_id).first()
    scene.extra["screen"] = screen
    scene.extra["screen_address"] = f"{settings.PUBLIC_ADDRESS}{reverse('screen-number')}"
    source = scene.tuning.source
    linked = source is not None and "screen" not in source.facts
    scene.extra["places"] = [
        *(["the pattern screen"] if screen is not None and screen.is_open else []), *([source.name] if linked else []),
    ]  # fmt: skip
    return screen


def _examples(pattern: Pattern) -> list[tuple[str, str, str]]:
    return [
        ("low", pattern.ends[0], pattern.low.words),
        ("right", "right", pattern.right),
        ("high", pattern.ends[1], pattern.high.words),
    ]


def _by_name(pattern: Pattern, rows: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Return the controls without a role that a pattern for a lens is for, found by their names: the link has no roles for them."""
    words = {HINTS[role] for role in pattern.roles if role in HINTS}
    return [
        r for r in rows if not r.get("role") and any(word in f"{r['label']} {r['group']}".lower() for word in words)
    ]


def _rate_words(screen: Screen | None, pattern: Pattern, typed: dict[str, str]) -> str:
    """Return whether a moving pattern's rate fits the screen that draws it, as far as that is known."""
    if pattern.moving is None or screen is None or not screen.is_open or screen.refresh_hz is None:
        return ""
    rate = float(typed.get("rate") or {o.id: o.default for o in pattern.options}["rate"])
    times = screen.refresh_hz / rate
    fits = abs(times - round(times)) < 0.03 * times and round(times) >= 1
    verdict = "fit evenly" if fits else "do not fit evenly: uneven jumps are the driver’s"
    return f"The pattern screen draws {screen.refresh_hz:.0f} times a second; {rate:g} pictures a second {verdict}."


def _codes_words(tuning: Any, pattern: Pattern, typed: dict[str, str]) -> str:
    """Return the code values of a free patch as this tuning's source sends them."""
    if pattern.id != "patch":
        return ""
    given = {o.id: typed.get(o.id) or o.default for o in pattern.options}
    try:
        signal = Signal(tuning.bits, "full" if tuning.range == "full" else "limited")
        inside = [int(signal.code(float(given[name]))) for name in ("red", "green", "blue")]
        outside = int(signal.code(float(given["surround"])))
    except ValueError:
        return ""
    return f"Sent as {inside[0]}, {inside[1]}, {inside[2]} on {outside}: {tuning.bits} bit, {tuning.range} range."


def _sends(tuning: Any) -> str:
    """Return what the tuning's source on the link sends, and how many of the patterns it draws itself."""
    source = tuning.source
    if source is None or "screen" in source.facts:
        return ""
    mine = len({*source.facts.get("charts", []), "patch"} & set(PATTERNS))
    able = tuning.signal in source.facts.get("formats", []) and tuning.bits in source.facts.get("bits", [])
    sends = "sends" if able else "does not send"
    return (
        f"{source.name} {sends} {tuning.get_signal_display()} with {tuning.bits} bit in the {tuning.range} range, and draws "
        f"{mine} of the {len(PATTERNS)} patterns itself. The pattern screen draws all of them, with 8 bit in SDR."
    )


def _patterns(scene: Scene) -> None:
    screen = _screen(scene)
    pattern = PATTERNS.get(scene.options.get("pattern")) or next(iter(PATTERNS.values()))
    shown = screen.picture if screen is not None else {}
    kept = shown.get("options", {}) if shown.get("pattern") == pattern.id else {}
    typed = scene.extra.get("typed_options") or kept
    rows = [row for row in scene.values.rows if row.get("role") in pattern.roles] or _by_name(
        pattern, scene.values.rows
    )
    scene.extra |= {
        "groups": grouped(),
        "colours": [(name, words, name == (screen.colours if screen else "")) for name, words in COLOURS.items()],
        "sends": _sends(scene.tuning),
        "seen": list(scene.tuning.looked.filter(pattern=pattern.id).exclude(note="").order_by("-id")[:4]),
        "pattern": pattern,
        "options": [(option, typed.get(option.id, option.default)) for option in pattern.options],
        "controls": rows,
        "rate_words": _rate_words(screen, pattern, typed),
        "codes_words": _codes_words(scene.tuning, pattern, typed),
        "looked": list(scene.tuning.looked.filter(pattern=pattern.id, control__gt="").order_by("-id")[:4]),
        "examples": _examples(pattern),
    }  # fmt: skip


def _levels(scene: Scene) -> None:
    _screen(scene)
    levels = levels_of(scene.values, list(scene.tuning.looked.exclude(step="").order_by("id")), hdr=scene.tuning.signal != "sdr")
    asked = scene.options.get("step")
    chosen = next((level for level in levels if level.step.id == asked), None)
    first = chosen or next((level for level in levels if not level.done), None)
    pattern = None if first is None else PATTERNS[first.step.pattern]
    scene.extra |= {"levels": levels, "level": first, "asked": asked in STEPS, "pattern": pattern}
    if pattern is not None:
        scene.extra["examples"] = _examples(pattern)


def _warm_up(scene: Scene) -> None:
    newest = next((p for p in scene.tuning.main_passes if p.purpose == PassPurpose.WARM_UP), None)
    scene.extra |= {
        "warm": newest,
        "watching": newest is not None and newest.is_open,
        "interval": settings.WARM_UP_INTERVAL_S,
    }
    if newest is None:
        return
    rows = readings_of(newest)
    fit = fit_of(newest, rows)
    meter = Repeatability.of(newest.meter_facts["repeatability"])
    stds: Any = meter.covariance([r.seen for r in rows], [float(newest.average)] * len(rows))[:, 1, 1] ** 0.5 if rows else []
    minutes = [(row.started_at - rows[0].started_at).total_seconds() / 60.0 for row in rows]
    points = [
        chart.Point(minutes[i], row.seen[1], float(stds[i]), None if fit is None else float(fit.curve[i]))
        for i, row in enumerate(rows)
    ]
    told = newest.summary or {}
    if told.get("settled_at"):
        answer = format_html(
            "It settled at <b>{}</b>: what is still to come is below {} % of luminance and 0.0005 in u′v′.",
            clock(told["settled_at"]),
            f"{REMAINING_Y * 100:g}",
        )
    elif fit is None:
        answer = format_html(
            "{} reading{} so far; a fit wants five over two minutes.", len(rows), "" if len(rows) == 1 else "s"
        )
    else:
        answer = format_html(
            "White is still to change by <b>{} ± {} %</b>: {}.",
            f"{abs(fit.remaining_y) * 100:.1f}",
            f"{196 * fit.remaining_y_std:.1f}",
            minutes_words(fit.minutes_left),
        )
    svg = chart.draw(
        points, final=None if fit is None else fit.final_y, share=REMAINING_Y, title="White over the warm-up"
    )
    table = Table(
        ("minutes", "cd/m²", "±", "fit"),
        [
            (
                f"{p.minutes:.1f}",
                f"{p.luminance:.2f}",
                f"{1.96 * p.std:.2f}",
                "–" if p.fitted is None else f"{p.fitted:.2f}",
            )
            for p in points
        ],
    )
    scene.picture = Picture("warm-up", "Has it settled?", answer, mark_safe(svg), table)
    scene.extra |= {"fit": fit, "told": told, "now": timezone.now()}


def _modes(scene: Scene) -> None:
    """Add the newest survey: what each mode or preset was read to be, and the best of them to start from."""
    tuning = scene.tuning
    newest = next((p for p in tuning.main_passes if p.purpose == PassPurpose.SURVEY), None)
    pass_ = None if newest is None else Pass.objects.select_related("correction", "tuning").get(pk=newest.pk)
    lines = [] if pass_ is None else lines_of(pass_)
    of = next((line.at.get("of", "presets") for line in lines if "preset" in line.at), "")
    read = panel_read(tuning) if tuning.target.is_hdr else None
    if read is not None and read.ability is not None:
        able = read.ability
        scene.extra["ability_svg"] = mark_safe(ability.draw(able.peaks, able.held, able.window, title="Light by area and time"))
    scene.extra |= {
        "survey": newest, "lines": lines, "presets": of, "running": newest is not None and newest.is_open,
        "whole": sum(line.standing is not None for line in lines),
        "choices": [
            (key, what, words) for key, what, words in CHOICES
            if any(r.get("role") == SURVEYED[what][0] and r["kind"] == "choice" for r in scene.values.rows)
        ],
        "kind": {"presets": "colour temperature", "gamma": "gamma"}.get(of, "mode"),
        "stands": _stands_at(scene, lines),
        "linked_display": is_paired(tuning.display), "hdr": tuning.target.is_hdr,
        "best": next((line for line in lines if line.best), None),
        "panel": read, "takes_panel": takes_panel(tuning),
        "alike": _alike([line.standing.far for line in lines if line.standing is not None]),
    }  # fmt: skip


CHOICES = (("p", "presets", "Read every colour temperature"), ("y", "gamma", "Read every gamma"))


def _stands_at(scene: Scene, lines: list[Line]) -> bool:
    """Whether the control of a survey stands at the best of its options already."""
    best = next((line for line in lines if line.best and "preset" in line.at), None)
    return best is not None and scene.values.now.get(best.at["preset"]) == best.at["label"]


ALIKE = 0.3  # of greys and colours together: no start is better than another by less


def _alike(far: list[float]) -> bool:
    """Whether all that was read is about as far from the target."""
    return len(far) > 1 and max(far) - min(far) < ALIKE


_FILL = {"checks": _checks, "levels": _levels, "patterns": _patterns, "warm-up": _warm_up, "modes": _modes, "whites": whites.fill}


pages["groundwork"] = Page(fill, "groundwork/field.html", "groundwork/hand.html")
