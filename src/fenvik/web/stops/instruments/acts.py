"""What can be done at Instruments, and what a person answers whom a pass asks."""

import time
from typing import Any

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import redirect
from django.urls import reverse
from django.utils import timezone

from fenvik.core.signal.patches import grey
from fenvik.formats.typed import parse_typed
from fenvik.web.corrections import choosing, making
from fenvik.web.corrections.spectra import read_spectra
from fenvik.web.devices.forms import KeyedMeterForm, KeyedSourceForm
from fenvik.web.devices.services import take_up
from fenvik.web.kit.models import of_firm_or_404
from fenvik.web.passes import services as passes
from fenvik.web.passes.models import Pass, PassPurpose
from fenvik.web.patterns import services as patterns
from fenvik.web.people.asking import Asking
from fenvik.web.planning import measuring
from fenvik.web.stops.acts import number_in
from fenvik.web.stops.answers import show_stop
from fenvik.web.stops.instruments.forms import MeasureForm
from fenvik.web.stops.registry import can_be_done
from fenvik.web.visits.models import Tuning

AIM_WINDOW, AIM_SURROUND = 2.0, 10.0  # percent of area and of signal: small, so that a meter beside it sees it fall
BACK = ("back", "b")  # typed instead of a value: hands that type stay on the keys
NEXT_S = 1.2  # how long an answer waits for what is asked next, so that the page that comes back asks it already


def _at(pk: int, part: str) -> HttpResponse:
    return redirect(f"{reverse('stop', args=(pk, 'instruments'))}?view={part}")


def measure(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Keep how the tuning is measured."""
    refused = _keep_form(request, tuning)
    return refused or redirect("stop", pk=tuning.pk, stop="instruments")


def _keep_typed(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Keep the form where an act came with it; return the page that says what is wrong with it."""
    return _keep_form(request, tuning) if "window" in request.POST else None


def _keep_form(request: Asking, tuning: Tuning) -> HttpResponse | None:
    form = MeasureForm(request.POST, instance=tuning)
    if not form.is_valid():
        return show_stop(request, tuning.pk, "instruments", measure_form=form, problems=True)
    measuring.keep_measuring(tuning_id=tuning.pk, actor=request.user, cleaned=form.cleaned_data, now=timezone.now())
    return None


def as_usual(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Measure as is usual for the display's technology; what else was typed in the form is kept."""
    refused = _keep_typed(request, tuning)
    if refused is not None:
        return refused
    measuring.measure_as_usual(tuning_id=tuning.pk, actor=request.user)
    return redirect("stop", pk=tuning.pk, stop="instruments")


def directory(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Take up what answers at an address; a single meter or source is chosen at once."""
    found = take_up(actor=request.user, address=request.POST.get("address", "")[:200], now=timezone.now())
    for problem in found.problems:
        messages.error(request, problem)
    if found.devices:
        messages.info(request, f"Found: {', '.join(device.name for device in found.devices)}.")
    measuring.choose_single(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    return redirect("stop", pk=tuning.pk, stop="instruments")


def keyed(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Make a meter or a source that is keyed in, and measure this tuning with it."""
    now, role = timezone.now(), request.POST.get("role", "")
    if role == "meter":
        form = KeyedMeterForm(request.POST, prefix="km")
        if not form.is_valid():
            return show_stop(request, tuning.pk, "instruments", keyed_meter_form=form, problems=True)
        measuring.use_keyed_meter(tuning_id=tuning.pk, actor=request.user, cleaned=form.cleaned_data, now=now)
    else:
        made = KeyedSourceForm(request.POST, prefix="ks")
        if not made.is_valid():
            return show_stop(request, tuning.pk, "instruments", keyed_source_form=made, problems=True)
        measuring.use_keyed_source(tuning_id=tuning.pk, actor=request.user, cleaned=made.cleaned_data, now=now)
    return redirect("stop", pk=tuning.pk, stop="instruments")


def try_them(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Show white, black and white again and read them, with the instruments as they stand in the form."""
    refused = _keep_typed(request, tuning)
    if refused is not None:
        return refused
    listed = [grey(level, tuning.bits, tuning.range) for level in (100.0, 0.0, 100.0)]
    passes.start_pass(
        tuning_id=tuning.pk, actor=request.user, now=timezone.now(), purpose=PassPurpose.TRY, patches=listed
    )
    return _at(tuning.pk, "devices")


DARK_READINGS = 8
CAP = "Put the cap on the meter, or lay it face down on something dark. Then go on."


def read_dark(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Read where there is no light: the meter's own floor and noise."""
    black = grey(0.0, tuning.bits, tuning.range)
    rows: list[dict[str, Any]] = [black.as_json() | {"label": "dark", "dark": True} for _ in range(DARK_READINGS)]
    rows[0]["hold"] = CAP
    how = passes.How(rows=rows, average=1)
    passes.start_pass(
        tuning_id=tuning.pk, actor=request.user, now=timezone.now(), purpose=PassPurpose.TRY, patches=[], how=how
    )
    return _at(tuning.pk, "devices")


def spectra(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Read the spectra of white and the three lights."""
    read_spectra(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    return _at(tuning.pk, "spectra")


def aim(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Read a small white window until told to stop, or stop."""
    now = timezone.now()
    running = tuning.passes.filter(finished_at__isnull=True, purpose=PassPurpose.AIM).first()
    if running is not None:
        passes.ask_to_stop(pass_id=running.pk, actor=request.user, now=now)
        return _at(tuning.pk, "aim")
    how = passes.How(window=AIM_WINDOW, surround=AIM_SURROUND, average=1, effort=_quickest(tuning))
    passes.start_pass(
        tuning_id=tuning.pk, actor=request.user, now=now, purpose=PassPurpose.AIM, repeat=True, how=how,
        patches=[grey(100.0, tuning.bits, tuning.range)],
    )  # fmt: skip
    return _at(tuning.pk, "aim")


def _quickest(tuning: Tuning) -> str:
    efforts = [] if tuning.meter is None else tuning.meter.facts.get("efforts", [])
    return efforts[0] if efforts and tuning.meter is not None and not tuning.meter.is_keyed else ""


def show_alignment(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Show the alignment picture."""
    places = patterns.show(
        tuning_id=tuning.pk, actor=request.user, pattern="alignment", typed={}, now=timezone.now()
    )
    messages.info(request, f"Shown on {' and '.join(places)}.")
    return _at(tuning.pk, "aim")


def make_correction(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Start reading for a correction."""
    making.start(
        tuning_id=tuning.pk, actor=request.user, reference_id=number_in(request, "reference"),
        at_once=request.POST.get("way") == "at-once", method=request.POST.get("method", "")[:20],
        average=number_in(request, "average"), now=timezone.now(),
    )  # fmt: skip
    return _at(tuning.pk, "correction")


def keep_correction(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Keep the correction that a pass gives."""
    pass_ = of_firm_or_404(Pass, request.user.firm_id, number_in(request, "pass"))
    made = making.keep(
        pass_id=pass_.pk, actor=request.user, method=request.POST.get("method", "")[:20],
        note=request.POST.get("note", ""), now=timezone.now(), all_the_same="all-the-same" in request.POST,
    )  # fmt: skip
    messages.info(request, f"Kept. {made.meter_name} is corrected by {made.reference_name} from now on.")
    return _at(tuning.pk, "correction")


def set_aside(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Make nothing of what a correction pass has read; its readings stay with the tuning."""
    pass_ = of_firm_or_404(Pass, request.user.firm_id, number_in(request, "pass"))
    making.set_aside(pass_id=pass_.pk, actor=request.user)
    return _at(tuning.pk, "correction")


def use_correction(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Measure through another correction, through none, or through whichever fits."""
    choosing.choose(
        tuning_id=tuning.pk, actor=request.user, wanted=request.POST.get("correction", "")[:20], now=timezone.now()
    )
    return _at(tuning.pk, "correction")


def look_through(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Look at a pass that was read already through another correction, or through none."""
    pass_ = of_firm_or_404(Pass, request.user.firm_id, number_in(request, "pass"))
    choosing.look_through(pass_id=pass_.pk, actor=request.user, wanted=request.POST.get("correction", "")[:20])
    return None


def _answer(request: Asking, said: dict[str, object]) -> None:
    """Hand the answer over, and wait a moment for what is asked next."""
    pass_ = of_firm_or_404(Pass, request.user.firm_id, number_in(request, "pass"))
    number = request.POST.get("asks", "")[:40]
    passes.answer(pass_id=pass_.pk, actor=request.user, number=number, said=said)
    end = time.monotonic() + NEXT_S
    while time.monotonic() < end:
        now = Pass.objects.values_list("asks", "finished_at", "state").get(pk=pass_.pk)
        if now[1] is not None or now[2] != "running" or (now[0] is not None and now[0].get("n") != number):
            return
        time.sleep(0.02)


def typed(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Take a typed reading."""
    pass_ = of_firm_or_404(Pass, request.user.firm_id, number_in(request, "pass"), "meter", "reference")
    if request.POST.get("value", "").strip().lower() in BACK:
        return take_back(request, tuning)
    by_reference = (pass_.asks or {}).get("by") == "reference" and pass_.reference is not None
    facts = (pass_.reference if by_reference else pass_.meter).facts
    xyz = parse_typed(request.POST.get("value", "")[:200], facts.get("order", "XYZ"))
    _answer(request, {"xyz": None if xyz is None else list(xyz)})
    return None


def shown(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Take the word that a patch is on the screen."""
    _answer(request, {"shown": True})
    return None


def take_back(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Ask for the patch before this one again."""
    _answer(request, {"back": True})
    return None


can_be_done({
    "measure": measure,
    "usual": as_usual,
    "read-dark": read_dark,
    "spectra": spectra,
    "directory": directory,
    "keyed": keyed,
    "try": try_them,
    "aim": aim,
    "show-alignment": show_alignment,
    "make-correction": make_correction,
    "keep-correction": keep_correction,
    "set-aside": set_aside,
    "use-correction": use_correction,
    "look-through": look_through,
    "typed": typed,
    "shown": shown,
    "take-back": take_back,
})
