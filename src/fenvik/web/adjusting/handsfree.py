"""Starting a hands-free run, and taking one back."""

import uuid
from datetime import datetime
from typing import Any

from django.db import transaction

from fenvik.core.errors import FenvikError
from fenvik.core.models.points import MAY_COST
from fenvik.core.procedures.job import STEPS, proof_of
from fenvik.web.adjusting import lists
from fenvik.web.adjusting.models import Run
from fenvik.web.adjusting.runner import LEAST_BUDGET
from fenvik.web.controls.installed import bring, rows_in, told_by
from fenvik.web.controls.maps import read_over_link
from fenvik.web.controls.models import Moment, Origin, SettingsSheet
from fenvik.web.controls.services import fitting
from fenvik.web.controls.values import values_of
from fenvik.web.devices.displays import link_of, paired
from fenvik.web.devices.leases import hold
from fenvik.web.devices.models import Device, DeviceRole
from fenvik.web.passes.models import Pass, PassPurpose, PassState
from fenvik.web.passes.services import How, resume, start_pass
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.visits.models import Tuning

BY = ("controls", "install", "both")
MOST_BUDGET, MOST_GOAL = 600, 10.0
USUAL_COST, MOST_COST = 100.0 * MAY_COST, 30.0  # percent of HLG's peak


class HandsFreeError(FenvikError):
    """A run that cannot be started, or taken back, as it was asked for."""

    code = "hands_free"


@needs(Right.MEASURE, "began hands-free")
def start(
    *, tuning_id: int, actor: User, now: datetime, steps: list[str], budget: int, on_stop: str = "restore",
    minutes: int = 0, by: str = "controls", goal: float = 0.0, reference_id: int = 0, by_hand: bool = False,
    may_cost: float = USUAL_COST,
) -> Pass:  # fmt: skip
    """Start a hands-free run: the display's menu and settings are read first, and noted as found where nothing was yet.

    ``by_hand``: it leads a person's hand, who enters what it wants with the display's own remote; nothing is read from the display.

    ``may_cost``: percent of HLG's peak, what a white without a tint may cost where curves are installed.

    ``reference_id``: a meter beside the tuning's own that it is corrected by first, and held against at the end; 0 for none.

    Raises HandsFreeError, and what ``read_over_link`` and ``start_pass`` raise.
    """
    if not steps or any(step not in STEPS for step in steps):
        raise HandsFreeError("Choose at least one of light, white, grey and colour.")
    if not LEAST_BUDGET <= budget <= MOST_BUDGET:
        raise HandsFreeError(
            f"A run takes {LEAST_BUDGET} to {MOST_BUDGET} readings: what is found and what is left are read in any case."
        )
    if not 0.0 <= goal <= MOST_GOAL:
        raise HandsFreeError(f"An error to be content with lies between 0 and {MOST_GOAL:g}; 0 is as good as it gets.")
    if not USUAL_COST <= may_cost <= MOST_COST:
        raise HandsFreeError(f"White may cost {USUAL_COST:g} to {MOST_COST:g} % of the peak.")
    tuning = loaded(tuning_id, actor)
    if tuning.signal == "dynamic":
        raise HandsFreeError("A mode for dynamic metadata follows its own mapping: it is measured, and adjusted in HDR10’s mode.")
    if any(device is not None and device.is_keyed for device in (tuning.meter, tuning.source)):
        raise HandsFreeError("That needs a meter and a pattern source on the link: they are read without anybody typing.")
    reference = _beside(tuning, reference_id) if reference_id else None
    if not by_hand:
        read_over_link(tuning_id=tuning_id, actor=actor, now=now)
        tuning = loaded(tuning_id, actor)
    values = values_of(tuning)
    controls = [{**control, "value": values.now[control["id"]]} for control in values.controls if control["id"] in values.now]
    if not controls:
        raise HandsFreeError("Nothing is known of where this mode’s controls stand: note them at Arrival first.")
    link = None if by_hand else link_of(tuning.display)
    takes = {} if link is None else dict(link.facts.get("installs") or {})
    if by_hand:
        by = "controls"
    if by not in BY or (by != "controls" and not takes):
        raise HandsFreeError("Nothing can be installed in this display: it is adjusted by its menu.")
    with transaction.atomic():
        started = start_pass(
            tuning_id=tuning_id, actor=actor, now=now, purpose=PassPurpose.HANDS_FREE,
            how=How(
                rows=[], reference=reference, reference_effort="" if reference is None else reference.slowest,
                beside_a_person=by_hand,
            ),
        )  # fmt: skip
        Run.objects.create(
            pass_of=started, display=link, mode=tuning.mode_id or tuning.picture_mode, steps=steps, budget=budget,
            minutes=max(minutes, 0), puts_back=on_stop != "keep", by=by, takes=takes, goal=goal, may_cost=may_cost,
            luminance=tuning.luminance if "light" in steps else None, controls=controls,
            proof=len(proof_of(steps)), matrix=None if started.correction is None else started.correction.matrix,
            taught=taught_by(tuning, controls),
            stood={} if link is None else rows_in(tuning.display_id, tuning.mode_id or tuning.picture_mode),
        )  # fmt: skip
    return started


def taught_by(tuning: Tuning, controls: list[dict[str, Any]]) -> dict[str, Any] | None:
    """Return what the newest run in the same mode of a display with the same menu has taught; None where there was none.

    Nor where a control goes in other steps by now, or over another range: what a step does is another then.
    """
    if tuning.display.menu_map_id is None:
        return None
    runs = Run.objects.filter(
        pass_of__tuning__display__menu_map=tuning.display.menu_map_id, mode=tuning.mode_id or tuning.picture_mode,
        teaches__isnull=False, pass_of__removed_at__isnull=True,
    )  # fmt: skip
    newest = runs.order_by("-pass_of").first()
    if newest is None or newest.teaches is None:
        return None
    then, now = ({c["id"]: [c.get(name) for name in ("min", "max", "step")] for c in each} for each in (newest.controls, controls))
    taught: dict[str, Any] = newest.teaches
    return taught if all(then.get(name) == now.get(name) for name in taught["effects"]) else None


def references_of(tuning: Tuning) -> list[Device]:
    """Return the meters on the link that a tuning's own can be corrected by while nobody is there, spectroradiometers first."""
    found = Device.objects.of_firm(tuning.visit.firm_id).filter(role=DeviceRole.METER, removed_at__isnull=True)
    linked = [meter for meter in found.order_by("pk") if meter.pk != tuning.meter_id and not meter.is_keyed]
    return sorted(linked, key=lambda meter: meter.facts.get("kind") != "spectroradiometer")


def _beside(tuning: Tuning, reference_id: int) -> Device:
    """Return a meter that the tuning's own is corrected by. Raises HandsFreeError."""
    found = next((meter for meter in references_of(tuning) if meter.pk == reference_id), None)
    if found is None:
        raise HandsFreeError("Choose a reference that is on the link and is not the field meter itself.")
    return found


def loaded(tuning_id: int, actor: User) -> Tuning:
    """Return a tuning of the person's firm with its display, menu, pairing, visit and instruments."""
    return (
        Tuning.objects.of_firm(actor.firm_id)
        .select_related("display__room__client", "display__menu_map", "display__link__pairing", "visit", "meter", "source")
        .get(pk=tuning_id)
    )


@needs(Right.MEASURE, "set a settings sheet over the link")
def set_sheet(*, sheet_id: int, tuning_id: int, actor: User, now: datetime) -> int:
    """Let a tuning's mode stand as a sheet says, over the link, as a list that is entered; return how many controls were set.

    Before it, how the mode stands is noted as a sheet of its own, so that the way back is kept. Raises what ``fitting``, ``paired``
    and ``set_controls`` raise; what was set before that stays on the display, logged, and off the list.
    """
    sheet = SettingsSheet.objects.of_firm(actor.firm_id).select_related("tuning__display__menu_map").get(pk=sheet_id)
    tuning = loaded(tuning_id, actor)
    wanted = dict(sheet.values)
    if sheet.tuning.display.menu_map_id != tuning.display.menu_map_id:
        wanted, _ = fitting(tuning, sheet.tuning.display.menu_map, sheet.values)
    values = values_of(tuning)
    rows = lists.rows_to(values, wanted)
    if not rows:
        return 0
    SettingsSheet.objects.create(
        tuning=tuning, moment=Moment.NOTED, values=values.now, origin=Origin.COPY, note="before a sheet was set", at=now, by=actor
    )
    listed = lists.begin_back(tuning_id=tuning.pk, actor=actor, rows=rows, now=now)
    return lists.enter_over_link(tuning_id=tuning.pk, actor=actor, list_id=listed.pk, now=now, group=uuid.uuid4())


@needs(Right.MEASURE, "let hands-free go on without its reference")
@transaction.atomic
def go_on_without(*, pass_id: int, actor: User) -> None:
    """Let a paused run go on without the reference beside its meter. Raises HandsFreeError and what ``resume`` raises."""
    pass_ = Pass.objects.of_firm(actor.firm_id).select_for_update(of=("self",)).get(pk=pass_id, purpose=PassPurpose.HANDS_FREE)
    if pass_.state != PassState.PAUSED or pass_.reference_id is None:
        raise HandsFreeError("It does not wait for a reference now.")
    Run.objects.filter(pass_of=pass_).update(without_reference=True)
    resume(pass_id=pass_id, actor=actor)


@needs(Right.MEASURE, "put back what hands-free had set")
def put_back(*, pass_id: int, actor: User, now: datetime) -> int:
    """Put every control back to where it stood before a run, over the link; return how many were set, 0 where a person enters it.

    They are a list that is entered: whoever looks sees how far it is, and where the line breaks or the page is gone, what is left
    stays on it, to be entered or set later. Raises HandsFreeError and what ``paired`` raises.
    """
    pass_ = Pass.objects.of_firm(actor.firm_id).get(pk=pass_id, purpose=PassPurpose.HANDS_FREE)
    if pass_.is_open:
        raise HandsFreeError("The run is still going on: stop it first.")
    tuning = loaded(pass_.tuning_id, actor)
    values = values_of(tuning)
    if pass_.run.installed or (pass_.run.stood and pass_.run.by != "controls"):
        _install_as_before(tuning, pass_.run, actor, now)
    rows = lists.rows_to(values, {c["id"]: c["value"] for c in pass_.run.controls})
    if not rows:
        return 0
    listed = lists.begin_back(tuning_id=tuning.pk, actor=actor, rows=rows, now=now)
    if pass_.run.display_id is None:
        return 0
    return lists.enter_over_link(tuning_id=tuning.pk, actor=actor, list_id=listed.pk, now=now, group=uuid.uuid4())


def _install_as_before(tuning: Tuning, run: Run, actor: User, now: datetime) -> None:
    """Take away what a run installed, and bring back what stood there before it."""
    with hold(tuning, actor) as held, paired(tuning.display) as line:
        # What it installed last may be there or not, where the line broke: it is sent whatever is known to stand there.
        bring(line, held, tuning.display_id, run.mode, told_by(list(run.stood.values())), now, also=run.installed)
    Run.objects.filter(pk=run.pk).update(installed=[])
