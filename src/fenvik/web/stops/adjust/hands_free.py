"""What Adjust shows of a hands-free run: how it stands, what it has brought, what was read last of each patch."""

from django.utils.html import format_html
from django.utils.safestring import SafeString

from fenvik.core.analysis import findings
from fenvik.core.procedures.job import USUAL_BUDGET
from fenvik.web.adjusting.handsfree import references_of
from fenvik.web.passes.models import PassPurpose
from fenvik.web.results import pictures
from fenvik.web.results.parts import Pair
from fenvik.web.stops.adjust.newest import analysed
from fenvik.web.stops.scenes import Scene

INSTALLS = {"tone": "a roll-off", "curves": "curves", "cube": "a cube", "matrix": "a matrix"}
STEP_WORDS = (
    ("light", "light and white level"),
    ("white", "gamma, preset, two-point"),
    ("grey", "points"),
    ("colour", "colours"),
)


def show_run(scene: Scene) -> None:
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
        waits_for_it = run.reference is not None and (run.reference.name in run.reason or "reference" in run.reason)
        scene.extra["may_leave_out"] = waits_for_it and not job.without_reference
        rows = list(run.readings.select_related("pass_of__correction").order_by("id"))
        compared = sum(row.part == "comparison" for row in rows)
        taken = len(rows) - compared
        scene.extra |= {"job": job, "taken": taken, "compared": compared, "used": round(100 * taken / max(job.budget, 1))}
        found, now = (analysed(scene, run, part) for part in (rows[: job.proof], rows[job.proof :]))
        stands = scene.values.now
        scene.extra["taken_back"] = not run.is_open and all(stands.get(c["id"]) == c["value"] for c in job.controls)
        if job.left_from is not None:
            now = analysed(scene, run, rows[job.left_from :])
        if job.restored or scene.extra["taken_back"]:
            now = None
        if found is not None and now is not None:
            before, after = (one.whole.value[findings.within_end(one)] for one in (found, now))
            # A few levels say nothing beside all of them.
            if len(after) >= len(before):
                words = format_html(
                    "Greys from {} to <b>{}</b> on average, with luminance: the newest reading of every patch.",
                    f"{before.mean():.1f}", f"{after.mean():.1f}",
                )  # fmt: skip
    scene.extra["plan"] = run is None
    pair = Pair(found or scene.found, now, answers={"balance": words})
    scene.picture = pictures.draw(scene.options.view, pair)
