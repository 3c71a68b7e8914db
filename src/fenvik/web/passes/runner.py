"""What runs one pass: show, settle, read, commit, tell; pause, stop, and wait for a device that is away."""

import threading
import time
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

import numpy as np
import structlog
from django.conf import settings

from fenvik.core.errors import FenvikError
from fenvik.core.measure.alive import Shown, far_from, is_suspicious, should_be_read
from fenvik.core.measure.averaging import LowLight
from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.signal.decoding import encode
from fenvik.core.signal.patches import Patch, grey
from fenvik.link.devices import Meter, Source
from fenvik.session.patience import Patience, passes_by_itself
from fenvik.session.reading import expected_s, read_once, until_two_agree
from fenvik.web.devices.displays import paired
from fenvik.web.devices.models import Device
from fenvik.web.devices.reaching import Line
from fenvik.web.devices.services import locate
from fenvik.web.devices.standing import WrongStateError, is_paired, see
from fenvik.web.kit.database import let_go
from fenvik.web.passes.kinds import kinds
from fenvik.web.passes.models import Circumstance, Pass, PassPurpose, PassState
from fenvik.web.passes.pace import note_pace
from fenvik.web.passes.person import KeyedMeter, KeyedSource, Person, TakenBackError
from fenvik.web.passes.script import Heard, Script, place_of
from fenvik.web.passes.services import is_held
from fenvik.web.passes.store import Asked, Store, Taken
from fenvik.web.visits.models import Tuning

log = structlog.get_logger(__name__)
RETRY_S = 1.0
NETWORKS_S = 1.0  # how often it is seen that the networks of open lines are still allowed
LOOK_S = 0.2  # how often a waiting pass looks whether it is asked to stop
OVERDUE_S, LATE = 10.0, 2.0  # an answer is late after so long, or after so many times what the longest took that came
# Passes whose readings are held against a mode: how the display stands is seen before they begin.
SEEN_FIRST = (
    PassPurpose.FOUND, PassPurpose.CHECK, PassPurpose.LEFT, PassPurpose.ADJUST, PassPurpose.CORRECTION, PassPurpose.WHITES,
    PassPurpose.PANEL,
)  # fmt: skip
DIM_WHITE = 30.0  # cd/m²: what a white is taken to have before any has been read
stopping = threading.Event()  # the worker is being ended: every pass lets go after the reading in flight


class StuckError(FenvikError):
    """The picture on the screen no longer follows the source."""

    code = "stuck"

    def __init__(self, source: str, reference: str = "") -> None:
        super().__init__(
            f"{reference} reads the same of two patches that differ, and the meter beside it did not. See that it is aimed at the "
            "screen and has no cap on; nothing of it was stored."
            if reference
            else "The picture does not change any more: two patches that differ read the same. Look at the screen, at the input "
            f"and at {source}; nothing of it was stored."
        )


class BlindError(FenvikError):
    """A meter that calls a bright patch too dark to read."""

    code = "blind"

    def __init__(self, meter: str, label: str) -> None:
        super().__init__(
            f"{meter} says that {label} is too dark to read, and it should not be. Take its cap off, aim it, see that the display "
            "is on; nothing of it was stored."
        )


class WorkerEnds(Exception):
    """The worker is ending: the pass stays as it is and goes on with the next worker."""


class Ended(Exception):
    """The pass has been paused or stopped by a person."""


@dataclass(frozen=True)
class Plan:
    """What the engine needs to know of a pass."""

    pass_: Pass
    rows: list[dict[str, Any]]  # the patches as they are stored, with which meter reads each
    done: set[int]  # indices that need no reading
    taken: int  # readings that are stored already


def patch_of(row: dict[str, object]) -> Patch:
    """Return a patch as it was stored."""
    red, green, blue = row["rgb"]  # type: ignore[misc]
    return Patch(str(row["label"]), (int(red), int(green), int(blue)), tuple(row["percent"]))  # type: ignore[arg-type,has-type]


class Runner:
    """Runs one pass."""

    def __init__(self, plan: Plan, store: Store) -> None:
        self.plan, self.store = plan, store
        self.meters: dict[str, Meter | KeyedMeter] = {}  # "meter" and, where a correction is made, "reference"
        self.source: Any = None
        self.taken, self.done, self.rows = plan.taken, plan.done, plan.rows
        self.next = -1
        self.next = self._following()
        # To the nearest code: the foot of limited range is black.
        range_ = "full" if plan.pass_.range == "full" else "limited"
        self.surround = [int(code) for code in encode([plan.pass_.surround] * 3, plan.pass_.bits, range_)]  # type: ignore[arg-type]
        self.low_light = LowLight(**plan.pass_.low_light) if plan.pass_.low_light else None
        self.person = Person(store, self._heed)
        self.repeatability = Repeatability.of(plan.pass_.meter_facts["repeatability"])
        self.brightest = 0.0  # cd/m² that was read at most
        self.last_shown: dict[str, Shown] = {}  # by meter: what it read last, to see whether the picture still follows
        self.last_read: float | None = None  # when the reading before was begun
        self.networks_seen = time.monotonic()
        self.patience = Patience(settings.DEVICE_PATIENCE_S)
        self.longest_s: float | None = None  # that a reading of this meter took
        self.is_overdue = False  # whether it has been said that an answer is late
        scripted = kinds.procedures.get(plan.pass_.purpose)
        self.script = None if scripted is None else Script(plan.pass_, scripted)

    def _following(self) -> int:
        """Return the index of the first patch that is still to be read."""
        after = next((i for i in range(self.next + 1, len(self.rows)) if i not in self.done), None)
        if after is not None:
            return after
        return next((i for i in range(len(self.rows)) if i not in self.done), len(self.rows))

    def let_go(self) -> None:
        """Close the connections."""
        for device in (*self.meters.values(), self.source):
            if device is not None:
                device.close()
        self.meters, self.source = {}, None

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
        except Ended:
            return

    def _heed(self, asked: Asked) -> None:
        if asked.patches is not None:
            self.rows = asked.patches
        if asked.stop:
            self._finish(PassState.STOPPED)
            raise Ended
        if asked.pause:
            self._pause(as_asked=True)
        if stopping.is_set():
            raise WorkerEnds

    def _pause(self, reason: str = "", *, as_asked: bool = False) -> None:
        """Pause, and end with it; where a person has asked for something else meanwhile, heed that instead."""
        if self.store.pause(reason, as_asked=as_asked):
            raise Ended
        self._heed(self.store.asked())

    def _finish(self, state: PassState) -> None:
        self.let_go()
        note_pace(self.plan.pass_.pk)
        # The summary first: whoever hears that the pass has ended finds it there.
        kinds.ended(self.plan.pass_.pk)
        self.store.set_state(state)

    @property
    def row(self) -> dict[str, Any]:
        """The patch that is read now, as it is stored."""
        return self.rows[self.next]

    @property
    def by(self) -> str:
        """Which meter reads it."""
        return str(self.row.get("by", "meter"))

    @property
    def _part(self) -> str:
        """Which part of its pass it belongs to."""
        return str(self.row.get("part", "main"))

    @property
    def _look(self) -> tuple[Any, ...]:
        """What the screen shows for it: two patches that look alike are shown once."""
        return tuple(self.row["rgb"]), self.row.get("window"), repr(self.row.get("chart"))

    def _ask(self, kind: str) -> dict[str, Any]:
        return self.person.asked(kind, patch_of(self.row), index=self.next, taken=self.taken, by=self.by)

    def _meter(self, device: Device) -> Meter | KeyedMeter:
        if device.is_keyed:
            return KeyedMeter(self._ask, device.name)
        line = locate(device, for_page=False)
        line.heed = lambda seconds: self._still_waits(device.name, seconds)
        return Meter(line)

    def _still_waits(self, name: str, seconds: float) -> None:
        """Hear while an answer is waited for whether a person stops the pass, and say it where the answer is late."""
        usual = self.longest_s or expected_s(self.plan.pass_.meter_facts["typical"], self.plan.pass_.average)
        asked, late = self.store.asked(), seconds > max(OVERDUE_S, LATE * usual)
        if asked.stop or late:
            self._heed(asked)
        if late and not self.is_overdue:
            self.is_overdue = True
            self.store.set_state(PassState.WAITING, f"{name} was asked {seconds:.0f} seconds ago and has not answered yet.")

    def _source(self, device: Device) -> Any:
        pass_ = self.plan.pass_
        if device.is_keyed:
            return KeyedSource(self._ask, says_by_value=lambda: isinstance(self.meters[self.by], KeyedMeter))
        for fact, made in kinds.sources.items():
            if device.facts.get(fact) is not None:
                return made(device)
        source = Source(locate(device, for_page=False))
        rate = pass_.frame_rate or (device.facts.get("frame_rates") or [60])[-1]
        source.signal(
            format_=pass_.signal_format, colorimetry=pass_.colorimetry, bits=pass_.bits, range_=pass_.range, frame_rate=rate,
            mastering=pass_.mastering,
        )  # fmt: skip
        return source

    def _lines(self) -> list[Any]:
        """The lines to devices that are open."""
        devices = [device for device in (*self.meters.values(), self.source) if device is not None]
        return [line for device in devices if isinstance(line := getattr(device, "connection", None), Line)]

    def _see_networks(self) -> None:
        """Raise AddressError where a network has been withdrawn while a line into it is open."""
        if time.monotonic() < self.networks_seen + NETWORKS_S:
            return
        self.networks_seen = time.monotonic()
        for line in self._lines():
            line.see_that_it_may()
        let_go()

    def _connect(self) -> None:
        pass_ = self.plan.pass_
        self._see_networks()
        if self.source is None:
            self.source = self._source(pass_.source)
            self._see_the_display()
        if self.next < len(self.rows) and self.by not in self.meters:
            # Only the meter that reads next: while the two change places the other may be in its case.
            device = pass_.reference if self.by == "reference" and pass_.reference is not None else pass_.meter
            self.meters[self.by] = self._meter(device)

    def _see_the_display(self) -> None:
        """See that a paired display stands as the tuning wants it, once the signal is out; else pause with what does not fit."""
        pass_ = self.plan.pass_
        if pass_.purpose not in SEEN_FIRST:
            return
        tuning = Tuning.objects.select_related("display__room__client", "display__link__pairing").get(pk=pass_.tuning_id)
        if not is_paired(tuning.display):
            return
        try:
            with paired(tuning.display, for_page=False) as line:
                meant = Circumstance.objects.filter(pass_of=pass_, any_input=True).exists()
                self.store.note_state(see(tuning, line, any_input=meant))
        except WrongStateError as clash:
            self.store.note_state({}, clash.mend)
            self._pause(f"{clash} Nothing was read in it. Set that right, then go on.")
        except FenvikError as problem:
            # Its control is away: the meter still sees the screen.
            log.warning("display not asked", pass_id=pass_.pk, problem=str(problem))

    def _patches(self) -> None:
        pass_ = self.plan.pass_
        shown: Any = None
        if self.script is not None and self._is_over(self.script):
            return
        while self.next < len(self.rows):
            self._turn()
            self._connect()
            patch = patch_of(self.row)
            if self.row.get("wait_s") and self.last_read is not None:
                self._wait_until(self.last_read + float(self.row["wait_s"]))
            try:
                taken = self._read(patch, show=self._look != shown)
                self._see_that_it_lives(patch, taken, shown)
            except TakenBackError:
                self.next, shown = max(self.next - 1, 0), None
                self.done.discard(self.next)
                self.store.take_back(self.next)
                continue
            shown, self.last_read = self._look, taken.started_at.timestamp()
            asked = self.store.add(taken)
            self._tell_the_script(taken)
            self.taken += 1
            # Only a reading shows that the device is back: until then the person sees the reason.
            if self._came_through():
                self.store.set_state(PassState.RUNNING)
            if not pass_.repeat:
                self.done.add(self.next)
                self.next = self._following()
            if self.script is not None and self._is_over(self.script):
                return
            self._heed(asked)
            wait_s = self.script.wait_s if self.script is not None else pass_.interval_s if pass_.repeat else 0.0
            if wait_s:
                self._wait_until(taken.started_at.timestamp() + wait_s)

    def _turn(self) -> None:
        """Do what comes before a patch: let its procedure come to it, and a person do what is asked."""
        if self.script is not None:
            self._be_led(self.script)
        if self.row.get("hold") and not is_held(self.plan.pass_.pk, self.next):
            self._pause(str(self.row["hold"]))

    def _be_led(self, script: Script) -> None:
        """Lead the procedure to the patch that is next, and let a person do what it asks. Raises OtherwiseError."""
        self._is_over(script)
        script.see_that_it_wants(self.rows)
        if script.ask and not is_held(self.plan.pass_.pk, self.next):
            self._pause(script.ask)

    def _is_over(self, script: Script) -> bool:
        """Lead the procedure as far as has been read; return whether it wants nothing more. Raises OtherwiseError."""
        script.lead(place_of(self.plan.pass_, self.taken, self.next), self.rows)
        return script.is_over

    def _tell_the_script(self, taken: Taken) -> None:
        """Let the procedure hear of a reading that is stored."""
        if self.script is None:
            return
        matrix = self.plan.pass_.matrix
        xyz = np.array(taken.xyz) if matrix is None else matrix @ np.array(taken.xyz)
        self.script.heard[place_of(self.plan.pass_, self.taken, taken.index)] = Heard(xyz, taken.started_at)

    def _wait_until(self, moment: float) -> None:
        """Wait by this machine's own clock, hearing meanwhile what is asked."""
        while time.time() < moment:
            time.sleep(max(min(LOOK_S, moment - time.time()), 0.0))
            self._heed(self.store.asked())

    def _read(self, patch: Patch, *, show: bool) -> Taken:
        assert self.source is not None
        pass_ = self.plan.pass_
        if show and not self._was_typed():
            chart = self.row.get("chart")
            if chart is not None and not isinstance(self.source, KeyedSource):
                self.source.chart(chart["name"], chart.get("options"))
            else:
                self.source.patch(patch.rgb, window=float(self.row.get("window") or pass_.window), surround=self.surround)
            if pass_.settle_s and not isinstance(self.source, KeyedSource):
                time.sleep(pass_.settle_s)
        effort = pass_.reference_effort if self.by == "reference" else pass_.effort
        settling = show and pass_.settling
        taken = self._settled(patch, effort) if settling else self._once(patch, self.average_for(patch), effort)
        rule = self.low_light
        keyed = isinstance(self.meters[self.by], KeyedMeter)
        if rule is None or keyed or not rule.wants(None if taken.too_dark else taken.xyz[1], pass_.average, effort):
            return taken
        return self._once(patch, max(rule.average, pass_.average), rule.effort or effort)

    def _was_typed(self) -> bool:
        """Whether the value that is wanted was typed while nobody held the pass: its patch was shown before it was asked."""
        told = (self.plan.pass_.answer or {}).get("n")
        return isinstance(self.meters[self.by], KeyedMeter) and told == f"value-{self.next}-{self.taken}"

    def average_for(self, patch: Patch) -> int:
        """Return how many averages a patch is read with."""
        return self.plan.pass_.average

    def _see_that_it_lives(self, patch: Patch, taken: Taken, shown: Any) -> None:
        """Refuse a reading that is that of the patch before. Raises StuckError where another picture changes nothing either."""
        pass_, before = self.plan.pass_, self.last_shown.get(self.by)
        range_ = "full" if pass_.range == "full" else "limited"
        now = Shown(patch.fraction(pass_.bits, range_), np.array(taken.xyz))  # type: ignore[arg-type]
        by_person = isinstance(self.source, KeyedSource) or isinstance(self.meters[self.by], KeyedMeter)
        # Trying out is about this very question, and answers it in its own words.
        trying = pass_.purpose == PassPurpose.TRY
        plain = not (taken.too_dark or pass_.repeat or trying) and self.row.get("chart") is None
        if taken.too_dark and not (pass_.repeat or trying or by_person) and self.row.get("chart") is None:
            device = pass_.reference if self.by == "reference" and pass_.reference is not None else pass_.meter
            if should_be_read(now.fraction, self.brightest or DIM_WHITE, float(device.facts["floor"])):
                raise BlindError(device.name, patch.label)
        self.brightest = max(self.brightest, taken.xyz[1])
        if before is not None and plain and not by_person and is_suspicious(before, now, self.repeatability):
            assert self.source is not None
            proof = grey(far_from(now.fraction), pass_.bits, range_)  # type: ignore[arg-type]
            self.source.patch(proof.rgb, window=pass_.window, surround=self.surround)
            time.sleep(pass_.settle_s)
            other = self._once(proof, 1, taken.effort)
            seen = Shown(proof.fraction(pass_.bits, range_), np.array(other.xyz))  # type: ignore[arg-type]
            if not other.too_dark and is_suspicious(now, seen, self.repeatability):
                # Where the field meter has seen the picture follow, it is the reference that does not look at it.
                astray = self.by == "reference" and "meter" in self.last_shown
                raise StuckError(pass_.source.name, str(pass_.reference) if astray else "")
            # It lives, and clips or crushes: the reading stands, and the next patch is shown anew.
        if plain:
            self.last_shown[self.by] = now

    def _settled(self, patch: Patch, effort: str) -> Taken:
        """Read until two readings in a row agree within the meter's noise, as a display needs that settles at its own pace."""
        average = self.plan.pass_.average

        def light(taken: Taken) -> float | None:
            return None if taken.too_dark or isinstance(self.meters[self.by], KeyedMeter) else taken.xyz[1]

        return until_two_agree(lambda: self._once(patch, average, effort), light, self.repeatability, average)

    def _once(self, patch: Patch, average: int, effort: str) -> Taken:
        pass_, knew, started = self.plan.pass_, self.store.knows(), datetime.now(UTC)
        facts = pass_.reference.facts if self.by == "reference" and pass_.reference is not None else pass_.meter_facts
        began = time.monotonic()
        # A black below the floor is a result: the contrast becomes a lower bound.
        seen = read_once(
            self.meters[self.by], typical=facts["typical"], average=average, effort=effort, slack_s=settings.LINK_SLACK_S
        )
        self.longest_s = max(self.longest_s or 0.0, time.monotonic() - began)
        return Taken(
            self.next, patch, seen.xyz, seen.too_dark, seen.seconds, seen.clock, started, average, effort, self._part, knew
        )

    def _came_through(self) -> bool:
        """Note that something has come through; return whether that is to be told."""
        late, self.is_overdue = self.is_overdue, False
        return self.patience.came_through() or late

    def _wait_for_device(self, problem: FenvikError) -> None:
        """Wait until the device may be tried again; when patience ends, pause with the reason."""
        if not passes_by_itself(problem, StuckError, BlindError):
            self._pause(str(problem))
        self.store.set_state(PassState.WAITING, str(problem))
        self.patience.failed()
        while not self.patience.is_over:
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
        self._pause(str(problem))
