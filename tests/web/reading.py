"""Choosing lists and running passes in place."""

from fenvik.web.passes import engine, services
from fenvik.web.passes.models import Pass
from fenvik.web.visits.models import Tuning


def choose(tuning, *chosen, **more):
    tuning.lists = {"chosen": list(chosen), **more}
    tuning.save()


def run(tuning, person, now, **more):
    started = services.start_pass(tuning_id=tuning.pk, actor=person, now=now, **more)
    engine.run(started.pk)
    started.refresh_from_db()
    return started


def run_and_stop(tuning, person, now, after, **more):
    """Run a pass that is stopped after so many readings."""
    started = services.start_pass(tuning_id=tuning.pk, actor=person, now=now, **more)
    rows = started.patches
    Pass.objects.filter(pk=started.pk).update(patches=rows[:after])
    engine.run(started.pk)
    Pass.objects.filter(pk=started.pk).update(patches=rows, complete=False, state="stopped")
    started.refresh_from_db()
    return started


def fresh(tuning):
    return Tuning.objects.select_related("display__menu_map", "meter", "source", "visit", "correction").get(pk=tuning.pk)
