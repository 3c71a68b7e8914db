"""What a display was given beside its settings, and has still: a roll-off, curves, a cube."""

from datetime import datetime

from django.utils import timezone

from fenvik.web.adjusting.models import Run
from fenvik.web.adjusting.trial import given
from fenvik.web.visits.models import Tuning

WORDS = {
    "tone": "a roll-off in place of its own", "curves": "curves for its greys", "matrix": "a matrix for its colours",
    "cube": "a cube for its colours",
}  # fmt: skip
ALONE = "a cube"  # it may be for greys too


def _on(when: datetime) -> str:
    return f"{timezone.localtime(when):%-d %B %Y}"


def told_of(tuning: Tuning) -> list[str]:
    """Return in sentences what is in a tuning's mode beside its settings: what a run installed, what was given from the page."""
    said = []
    run = Run.objects.filter(pass_of__tuning=tuning).exclude(installed=[]).select_related("pass_of").order_by("-pass_of_id").first()
    if run is not None:
        whats = [ALONE if what == "cube" and "curves" not in run.installed else WORDS.get(what, what) for what in run.installed]
        listed = " and ".join([", ".join(whats[:-1]), whats[-1]] if len(whats) > 1 else whats)
        said.append(f"The display was given {listed} for this mode, on {_on(run.pass_of.created_at)}.")
    kept = given(tuning)
    if kept is not None and kept.done_at is not None and (run is None or kept.done_at > run.pass_of.created_at):
        said.append(f"It was given {kept.told} for this mode, on {_on(kept.done_at)}.")
    if said:
        said.append("That is no setting of its menu: a reset of the mode may take it away.")
    return said
