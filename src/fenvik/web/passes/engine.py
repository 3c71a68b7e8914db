"""Taking a pass over and running it: whoever holds it stores, and whatever happens it can be gone on with."""

import uuid
from datetime import UTC, datetime

import psycopg
import structlog
from django.db import OperationalError, close_old_connections, transaction
from django.db.models import F

from fenvik.web.kit.notify import notify
from fenvik.web.passes.kinds import Runs, kinds
from fenvik.web.passes.models import Pass, PassState
from fenvik.web.passes.person import ParkedError
from fenvik.web.passes.runner import Runner, WorkerEnds, stopping
from fenvik.web.passes.sending import read_already
from fenvik.web.passes.store import LostPassError, Store
from fenvik.web.passes.turns import Plan

log = structlog.get_logger(__name__)
MOST_TRIES = 3  # to take a pass over
OWN_MISTAKE = "Fenvik itself made a mistake here and has logged it. What was read is kept."


def take(pass_id: int, token: uuid.UUID) -> Plan | None:
    """Take a pass over: whoever held it before can store nothing any more. None when there is nothing to do."""
    with transaction.atomic():
        pass_ = (
            Pass.objects.select_for_update(of=("self",))
            .select_related("meter__firm", "source__firm", "reference__firm", "correction")
            .get(pk=pass_id)
        )
        if not pass_.is_open or pass_.state == PassState.PAUSED:
            return None
        # A reason that an earlier worker left is no longer true: what is wrong now will be said anew.
        pass_.run_token, pass_.state, pass_.reason, pass_.tries = token, PassState.RUNNING, "", 0
        pass_.started_at = pass_.started_at or datetime.now(UTC)
        pass_.save(update_fields=["run_token", "state", "reason", "started_at", "tries"])
        # Pages say so before the first reading, and have loaded what it will need.
        notify(pass_.tuning_id, pass_id=pass_id)
        done = set() if pass_.repeat else read_already(pass_)
    return Plan(pass_, pass_.patches, done, pass_.readings.count())


def count_a_try(pass_id: int) -> None:
    """Count that a pass could not be taken over; after a few times it waits for its person, with the reason."""
    mine = Pass.objects.filter(pk=pass_id, finished_at__isnull=True)
    mine.update(tries=F("tries") + 1)
    for tuning_id in mine.filter(tries__gte=MOST_TRIES).values_list("tuning_id", flat=True):
        mine.update(state=PassState.PAUSED, reason=OWN_MISTAKE, run_token=None, tries=0)
        notify(tuning_id, pass_id=pass_id)


def run(pass_id: int) -> None:
    """Run a pass until it ends, pauses, or this worker ends."""
    token = uuid.uuid4()
    bound = log.bind(pass_id=pass_id)
    close_old_connections()
    try:
        plan = take(pass_id, token)
    except (psycopg.OperationalError, OperationalError):
        raise
    except Exception:
        bound.exception("pass could not be taken over")
        count_a_try(pass_id)
        raise
    if plan is None:
        return
    bound.info("pass taken", done=len(plan.done), patches=len(plan.rows))
    store = Store(pass_id, plan.pass_.tuning_id, token, ending=stopping.is_set)
    runner: Runs | None = None
    try:
        runner = runner_of(plan, store)
        runner.run()
        bound.info("pass let go")
    except LostPassError:
        bound.warning("pass lost to another worker")
    except WorkerEnds:
        bound.info("worker ends; the pass goes on with the next one")
    except ParkedError:
        bound.info("pass waits for a person")
    except (psycopg.OperationalError, OperationalError):
        raise  # the database is away: whoever looks after lost jobs starts this one again
    except Exception:
        bound.exception("pass failed inside Fenvik")
        store.pause(OWN_MISTAKE)
    finally:
        if runner is not None:
            runner.let_go()
        store.close()
        close_old_connections()


def runner_of(plan: Plan, store: Store) -> Runs:
    """Return what runs a pass."""
    return kinds.runners.get(plan.pass_.purpose, Runner)(plan, store)
