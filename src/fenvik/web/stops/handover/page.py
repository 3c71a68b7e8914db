"""What the stop Handover shows."""

from fenvik.web.results import pictures
from fenvik.web.results.parts import Pair
from fenvik.web.stops.registry import Page, pages
from fenvik.web.stops.scenes import Scene


def _handover(scene: Scene) -> None:
    scene.extra["handovers"] = list(scene.tuning.visit.standing_handovers)
    # The newest that this tuning is in: another's is nothing to go on with here.
    scene.extra["mine"] = next((h for h in scene.extra["handovers"] if scene.tuning.pk in h.tuning_ids), None)
    scene.extra["ready"] = scene.left is not None and scene.found is not None
    scene.picture = pictures.draw("errors", Pair(scene.found, scene.left))


pages["handover"] = Page(_handover, "handover/field.html", "handover/hand.html")
