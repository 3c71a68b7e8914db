"""What As found and As left show: the picture that was chosen, the verdict, what the next pass reads."""

from dataclasses import replace

from django.utils.html import format_html

from fenvik.web.adjusting.given import told_of
from fenvik.web.groundwork.state import rows_of
from fenvik.web.passes.models import Pass, PassPurpose
from fenvik.web.passes.sending import planned
from fenvik.web.results import pictures
from fenvik.web.results.parts import Pair
from fenvik.web.results.special import special_of
from fenvik.web.results.verdict import light_words, verdict_of
from fenvik.web.stops.awaiting import awaited
from fenvik.web.stops.measured import lists
from fenvik.web.stops.progress import FIRST_GUESS_CD_M2
from fenvik.web.stops.registry import Page, pages
from fenvik.web.stops.scenes import Scene


def _pair(scene: Scene, *, left: bool) -> Pair:
    """Return what is drawn; what ladders and grids say costs queries, so only the views that show it pay for it."""
    found, shown = scene.found, scene.left if left else None
    passes: list[Pass | None] = [scene.found_pass, scene.left_pass if left else None]
    if scene.shows_begun:
        found, shown = (scene.begun_analysis, None) if not left else (found, scene.begun_analysis)
        passes[int(left)] = scene.begun
    if scene.options.view not in ("light", "wrong"):
        return Pair(found, shown)
    luminance = scene.tuning.luminance
    control = next((c["label"] for c in scene.values.controls if c.get("role") == "light"), "")
    special = [special_of(p, a, luminance=luminance, light_label=control) for p, a in zip(passes, (found, shown), strict=True)]
    return Pair(
        found, shown, found_special=special[0], left_special=special[1], window=scene.tuning.window
    )


def _found(scene: Scene, *, left: bool = False) -> None:
    pair = _pair(scene, left=left)
    if pair.said is None:
        pair = replace(pair, awaited=awaited(scene.tuning))
    scene.picture = pictures.draw(scene.options.view, pair)
    if scene.found is not None:
        scene.extra["advice"] = light_words(scene.found, scene.tuning.luminance, scene.values)
        lights = any(c.get("role") == "light" for c in scene.values.controls)
        # Light comes first: everything else is read on it.
        scene.extra["first_work"] = "?work=light" if scene.extra["advice"] and lights else ""
        scene.extra["open_checks"] = _open_checks(scene)
    base = scene.left or scene.found
    white = float(base.white[1]) if base is not None else scene.tuning.luminance or FIRST_GUESS_CD_M2
    if scene.progress is None or scene.options.view == "lists":
        # While a pass is open nobody is told of the next one, and a picture after each reading is to be quick.
        following = planned(scene.tuning)
        scene.extra["expected_s"] = lists.seconds_of(scene.tuning, white, following)
        scene.extra["patch_count"] = len(following)
    if scene.options.view == "lists":
        lists.fill(scene)


def _open_checks(scene: Scene) -> str:
    """Return in words which checks are open beside what was measured; empty where none is."""
    rows = [row for row in rows_of(scene.tuning, scene.values, scene.tuning.ordered_answers) if not row.is_done]
    if not rows:
        return ""
    wrong = [row for row in rows if row.state == "wrong"]
    named = (wrong or rows)[0]
    count = f"{len(rows)} checks of Groundwork are" if len(rows) > 1 else "One check of Groundwork is"
    return f"{count} open, {named.words}: what that does is in these figures."


def _left(scene: Scene) -> None:
    _found(scene, left=True)
    drawn = scene.picture
    if scene.left is None and scene.found is not None and not scene.shows_begun and drawn is not None and not drawn.empty:
        scene.picture = replace(drawn, sentence=format_html("Not measured yet. As found: {}", drawn.sentence))
    scene.verdict = verdict_of(scene.found, scene.left, scene.values, scene.tuning.luminance)
    # Only a run installs, and a roll-off is HDR's.
    may_be_given = scene.tuning.signal != "sdr" or any(p.purpose == PassPurpose.HANDS_FREE for p in scene.tuning.main_passes)
    scene.extra["given"] = told_of(scene.tuning) if may_be_given else []


pages |= {
    "found": Page(_found, "measured/field.html", "measured/hand_found.html"),
    "left": Page(_left, "measured/field.html", "measured/hand_left.html"),
}
