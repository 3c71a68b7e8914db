"""One pass: show, settle, read, commit, tell; pause, stop, and go on after whatever happened."""

import threading
import time
import uuid
from dataclasses import dataclass
from datetime import UTC, datetime

import psycopg
import structlog
from django.conf import settings
from django.db import OperationalError, close_old_connections, transaction

from fenvik.core.errors import FenvikError
from fenvik.core.patches import Patch
from fenvik.link.devices import Meter, Source
from fenvik.link.faults import DeviceError, LinkFault
from fenvik.web.devices.services import locate
from fenvik.web.passes.models import Pass, PassPurpose, PassState
from fenvik.web.passes.store import Asked, LostPassError, Store, Taken
from fenvik.web.passes.warm import judge_warm_up
from fenvik.web.patterns.source import ScreenSource

log = structlog.get_logger(__name__)
RETRY_S = 1.0
LOOK_S = 0.2  # how often a waiting pass looks whether it is asked to stop
stopping = threading.Event()  # the worker is being ended: every pass lets go after the reading in flight


class _WorkerEnds(Exception):
    """The worker is ending: the pass stays as it is and goes on with the next worker."""


class _Ended(Exception):
    """The pass has been paused or stopped by a person."""


@dataclass(frozen=True)
class Plan:
    """What the engine needs to know of a pass."""

    pass_: Pass
    patches: list[Patch]
    first: int  # index of the first patch without a reading


def patch_of(row: dict[str, object]) -> Patch:
    """Return a patch as it was stored."""
    red, green, blue = row["rgb"]  # type: ignore[misc]
    return Patch(str(row["label"]), (int(red), int(green), int(blue)), tuple(row["percent"]))  # type: ignore[arg-type]


def take(pass_id: int, token: uuid.UUID) -> Plan | None:
    """Take a pass over: whoever held it before can store nothing any more. None when there is nothing to do."""
    with transaction.atomic():
        pass_ = (
            Pass.objects.select_for_update(of=("self",)).select_related("meter__firm", "source__firm").get(pk=pass_id)
        )
        if not pass_.is_open or pass_.state == PassState.PAUSED:
            return None
        pass_.run_token, pass_.state = token, PassState.RUNNING
        pass_.started_at = pass_.started_at or datetime.now(UTC)
        pass_.save(update_fields=["run_token", "state", "started_at"])
        done = set() if pass_.repeat else set(pass_.readings.values_list("index", flat=True))
    patches = [patch_of(row) for row in pass_.patches]
    first = next((i for i in range(len(patches)) if i not in done), len(patches))
    return Plan(pass_, patches, first)


def run(pass_id: int) -> None:
    """Run a pass until it ends, pauses, or this worker ends."""
    token = uuid.uuid4()
    bound = log.bind(pass_id=pass_id)
    close_old_connections()
    plan = take(pass_id, token)
    if plan is None:
        return
    bound.info("pass taken", first=plan.first, patches=len(plan.patches))
    store = Store(pass_id, plan.pass_.tuning_id, token)
    runner = Runner(plan, store)
    try:
        runner.run()
        bound.info("pass let go")
    except LostPassError:
        bound.warning("pass lost to another worker")
    except _WorkerEnds:
        bound.info("worker ends; the pass goes on with the next one")
    except (psycopg.OperationalError, OperationalError):
        raise  # the database is away: whoever looks after lost jobs starts this one again
    except Exception:
        bound.exception("pass failed inside Fenvik")
        store.set_state(PassState.PAUSED, "Fenvik itself made a mistake here and has logged it. What was read is kept.")
    finally:
        runner.let_go()
        store.close()
        close_old_connections()


class Runner:
    """Runs one pass."""

    def __init__(self, plan: Plan, store: Store) -> None:
        self.plan, self.store = plan, store
        self.meter: Meter | None = None
        self.source: Source | ScreenSource | None = None
        self.next = plan.first
        self.patches = plan.patches
        self.failing_since: float | None = None  # since when no reading has come through

    def let_go(self) -> None:
        """Close the connections."""
        for device in (self.meter, self.source):
            if device is not None:
                device.close()
        self.meter = self.source = None

    def run(self) -> None:
        """Go through the patches; a failing device is waited for."""
        try:
            self._heed(self.store.asked())
            while True:
                try:
                    self._connect()
                    self._patches()
                    break
                except FenvikError as problem:
                    self.let_go()
                    log.warning("device failed", pass_id=self.plan.pass_.pk, problem=str(problem))
                    self._wait_for_device(problem)
            self._finish(PassState.DONE)
        except _Ended:
            return

    def _heed(self, asked: Asked) -> None:
        if asked.patches is not None:
            self.patches = [patch_of(row) for row in asked.patches]
        if asked.stop:
            self._finish(PassState.STOPPED)
            raise _Ended
        if asked.pause:
            self.store.set_state(PassState.PAUSED)
            raise _Ended
        if stopping.is_set():
            raise _WorkerEnds

    def _finish(self, state: PassState) -> None:
        from fenvik.web.results.summary import summarise

        self.let_go()
        # The summary first: whoever hears that the pass has ended finds it there.
        summarise(self.plan.pass_.pk)
        self.store.set_state(state)

    def _connect(self) -> None:
        if self.meter is not None and self.source is not None:
            return
        pass_ = self.plan.pass_
        screen = pass_.source.facts.get("screen")
        source = Source(locate(pass_.source)) if screen is None else ScreenSource(int(screen), pass_.source.name)
        self.source = source
        self.meter = Meter(locate(pass_.meter))
        rates = pass_.source.facts.get("frame_rates") or [60]
        source.signal(format_="sdr", colorimetry="bt709", bits=pass_.bits, range_=pass_.range, frame_rate=rates[-1])

    def _patches(self) -> None:
        expected = max(seconds for _, seconds in self.plan.pass_.meter_facts["typical"]) * self.plan.pass_.average
        shown: Patch | None = None
        while self.next < len(self.patches):
            patch = self.patches[self.next]
            taken = self._read(patch, expected, show=patch != shown)
            shown = patch
            asked = self.store.add(taken)
            if self.failing_since is not None:
                # Only a reading shows that the device is back: until then the person sees the reason.
                self.failing_since = None
                self.store.set_state(PassState.RUNNING)
            if not self.plan.pass_.repeat:
                self.next += 1
            elif self.plan.pass_.purpose == PassPurpose.WARM_UP and judge_warm_up(self.plan.pass_.pk):
                return
            self._heed(asked)
            if self.plan.pass_.repeat and self.plan.pass_.interval_s:
                self._wait_until(taken.started_at.timestamp() + self.plan.pass_.interval_s)

    def _wait_until(self, moment: float) -> None:
        """Wait by this machine's own clock, hearing meanwhile what is asked."""
        while time.time() < moment:
            time.sleep(max(min(LOOK_S, moment - time.time()), 0.0))
            self._heed(self.store.asked())

    def _read(self, patch: Patch, expected_s: float, *, show: bool) -> Taken:
        assert self.meter is not None
        assert self.source is not None
        pass_ = self.plan.pass_
        if show:
            self.source.patch(patch.rgb, window=pass_.window)
            if pass_.settle_s:
                time.sleep(pass_.settle_s)
        started = datetime.now(UTC)
        try:
            reading = self.meter.read(average=pass_.average, expected_s=expected_s, slack_s=settings.LINK_SLACK_S)
        except DeviceError as refusal:
            if refusal.number != DeviceError.TOO_DARK:
                raise
            # A black below the floor is a result: the contrast becomes a lower bound.
            return Taken(self.next, patch, (0.0, 0.0, 0.0), True, 0.0, 0.0, started)
        return Taken(self.next, patch, reading.xyz, False, reading.seconds, reading.clock, started)

    def _wait_for_device(self, problem: FenvikError) -> None:
        """Wait until the device may be tried again; when patience ends, pause with the reason."""
        passing = isinstance(problem, LinkFault) or (
            isinstance(problem, DeviceError) and problem.number in DeviceError.PASSING
        )
        if not passing:
            self.store.set_state(PassState.PAUSED, str(problem))
            raise _Ended
        self.store.set_state(PassState.WAITING, str(problem))
        # Patience is counted from the last reading: a device that can be reached but does not read is not back.
        self.failing_since = self.failing_since or time.monotonic()
        end = self.failing_since + settings.DEVICE_PATIENCE_S
        while time.monotonic() < end:
            again = time.monotonic() + RETRY_S
            while time.monotonic() < again:
                self._heed(self.store.asked())
                time.sleep(LOOK_S)
            try:
                self._connect()
            except FenvikError as still:
                self.let_go()
                problem = still
                continue
            return
        self.store.set_state(PassState.PAUSED, str(problem))
        raise _Ended
