"""What is done with passes at As found and As left: what they read, which is the proof, files."""

from django.contrib import messages
from django.http import HttpResponse, JsonResponse
from django.shortcuts import redirect
from django.utils import timezone

from fenvik.formats.patches import PatchesError, read_patches
from fenvik.formats.readings import ReadingsError
from fenvik.web.adjusting.desk import lay_out
from fenvik.web.adjusting.ends import placed
from fenvik.web.adjusting.learned import keep
from fenvik.web.controls.values import values_of
from fenvik.web.devices import standing
from fenvik.web.kit.models import of_firm_or_404
from fenvik.web.passes import amending, patch_lists
from fenvik.web.passes import services as passes
from fenvik.web.passes.models import Pass, PassPurpose, PassState, PatchList
from fenvik.web.passes.playing import play_signal
from fenvik.web.passes.recent import recent_readings
from fenvik.web.people.asking import Asking
from fenvik.web.results import files, imports
from fenvik.web.results.proof import call_pass, name_proof, remove_file
from fenvik.web.stops.acts import Act, number_in
from fenvik.web.stops.answers import show_stop
from fenvik.web.stops.measured.lists import count_words, taken, white_of
from fenvik.web.stops.registry import can_be_done
from fenvik.web.stops.scenes import load_tuning
from fenvik.web.visits.models import Tuning

MOST_LIST_BYTES = 1 << 20
MOST_READINGS_BYTES = 16 << 20


def choose_lists(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Keep which lists the next pass reads; a file becomes a list of the firm's own."""
    given = request.FILES.get("file")
    if given is not None:
        typed = request.POST.get("name", "")
        try:
            if (given.size or 0) > MOST_LIST_BYTES:
                raise PatchesError(1, "-", "the file is larger than 1 MiB")
            name = (typed or given.name or "").strip()
            if not name:
                raise PatchesError(1, "-", "the list needs a name")
            made = patch_lists.keep_list(actor=request.user, name=name, rows=read_patches(given.read()), replaces=True)
        except PatchesError as problem:
            refused = {"list_problem": str(problem), "list_name": typed, "problems": True}
            return show_stop(request, tuning.pk, _stop_of(request), **refused)
        messages.info(request, f"{made.name} is kept, {len(made.patches)} patches.")
        patch_lists.choose_too(tuning_id=tuning.pk, actor=request.user, list_id=made.pk)
    else:
        chosen = taken(request.POST, request.user.firm_id)
        patch_lists.choose_lists(tuning_id=tuning.pk, actor=request.user, lists=chosen)
    return None


def tick_lists(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Keep lists as they are ticked, and say how many patches they have."""
    patch_lists.choose_lists(tuning_id=tuning.pk, actor=request.user, lists=taken(request.POST, request.user.firm_id))
    whole = load_tuning(request.user.firm_id, tuning.pk)
    return JsonResponse({"words": count_words(whole, white_of(whole))})


def _stop_of(request: Asking) -> str:
    stop = request.POST.get("stop", "found")
    return stop if stop in ("found", "left") else "found"


def readings_file(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Make a pass of readings that come from a file."""
    given, stop = request.FILES.get("file"), _stop_of(request)
    try:
        if given is None or (given.size or 0) > MOST_READINGS_BYTES:
            raise ReadingsError(1, "-", "choose a file of at most 16 MiB")
        told = {
            "tuning_id": tuning.pk, "actor": request.user, "data": given.read(), "name": given.name or "a file",
            "now": timezone.now(), "purpose": PassPurpose.LEFT if stop == "left" else PassPurpose.FOUND,
        }  # fmt: skip
        if (given.size or 0) > imports.AT_ONCE_BYTES:
            imports.begin(**told)
            return redirect("stop", pk=tuning.pk, stop=stop)
        made = files.take_up(**told)
    except ReadingsError as problem:
        return show_stop(request, tuning.pk, stop, readings_problem=str(problem), problems=True)
    what = "as left" if stop == "left" else "as found"
    count = made.readings.count()
    messages.info(request, f"{count} readings of {given.name} are kept. They count as “{what}” only if you let them.")
    return redirect("stop", pk=tuning.pk, stop=stop)


def stop_import(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Stop a file that is being taken up, or put away what was said of one."""
    imports.stop(tuning_id=tuning.pk, actor=request.user)
    return None


def read_again(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Read one patch of a pass once more."""
    pass_ = _pass(request)
    amending.read_again(pass_id=pass_.pk, actor=request.user, index=number_in(request, "index"))
    return None


def extend(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Let a pass read what the lists have beyond it."""
    pass_ = _pass(request)
    count = amending.extend(pass_id=pass_.pk, actor=request.user)
    messages.info(request, f"{count} more patch{'es' if count > 1 else ''} are read.")
    return None


def keep_drift(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Take drift out of a pass, or leave it in."""
    pass_ = _pass(request)
    amending.keep_drift(pass_id=pass_.pk, actor=request.user, kept=not pass_.drift_kept)
    return None


def drop_list(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Take a list of the firm's own away; passes that were read by it keep their patches."""
    kept = of_firm_or_404(PatchList, request.user.firm_id, number_in(request, "list"))
    patch_lists.drop_list(actor=request.user, list_id=kept.pk, tuning_id=tuning.pk)
    return None


def read_rest(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Let a pass that was stopped read what is left of its list."""
    amending.read_rest(pass_id=_pass(request).pk, actor=request.user)
    return None


def name_as_proof(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Let a pass stand for what was found or left, or let the newest complete one do so again."""
    named = request.POST.get("named", "1") != "0"
    name_proof(pass_id=_pass(request).pk, actor=request.user, now=timezone.now(), named=named)
    return None


def remove(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Put away readings that were taken up from a file."""
    remove_file(pass_id=_pass(request).pk, actor=request.user, now=timezone.now())
    messages.info(request, "The file's readings are put away.")
    return None


def _pass(request: Asking) -> Pass:
    found: Pass = of_firm_or_404(Pass, request.user.firm_id, number_in(request, "pass"))
    return found


def name_pass(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Let a pass be called something."""
    call_pass(pass_id=_pass(request).pk, actor=request.user, name=request.POST.get("name", ""))
    return None


def play(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Let the source send the signal that the tuning is for."""
    messages.info(request, play_signal(tuning_id=tuning.pk, actor=request.user, now=timezone.now()))
    return None


def choose_mode(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Let the display show the tuning's mode; a pass that waited for it goes on."""
    standing.choose_mode(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    waiting = tuning.passes.filter(finished_at__isnull=True, state=PassState.PAUSED).first()
    if waiting is not None:
        passes.resume(pass_id=waiting.pk, actor=request.user)
    return None


def _start(purpose: PassPurpose) -> Act:
    def start(request: Asking, tuning: Tuning) -> HttpResponse | None:
        if purpose == PassPurpose.LEFT:
            _keep_learned(request, tuning.pk)
        passes.start_pass(tuning_id=tuning.pk, actor=request.user, now=timezone.now(), purpose=purpose)
        return redirect("stop", pk=tuning.pk, stop="found" if purpose == PassPurpose.FOUND else "left")

    return start


def _keep_learned(request: Asking, pk: int) -> None:
    tuning = placed(load_tuning(request.user.firm_id, pk), request.user.pk)
    desk = lay_out(tuning, values_of(tuning), recent_readings(tuning))
    if desk.taught is not None:
        keep(tuning=tuning, response=desk.taught, now=timezone.now())


def _open_pass(request: Asking, tuning: Tuning) -> int:
    wanted = number_in(request, "pass")
    return int(of_firm_or_404(Pass, request.user.firm_id, wanted).pk)


def _pause(request: Asking, tuning: Tuning) -> HttpResponse | None:
    passes.ask_to_pause(pass_id=_open_pass(request, tuning), actor=request.user, now=timezone.now())
    return None


def _resume(request: Asking, tuning: Tuning) -> HttpResponse | None:
    passes.resume(pass_id=_open_pass(request, tuning), actor=request.user)
    return None


def _stop(request: Asking, tuning: Tuning) -> HttpResponse | None:
    passes.ask_to_stop(pass_id=_open_pass(request, tuning), actor=request.user, now=timezone.now())
    return None


can_be_done({
    "lists": choose_lists,
    "tick-lists": tick_lists,
    "drop-list": drop_list,
    "read-again": read_again,
    "extend": extend,
    "read-rest": read_rest,
    "drift": keep_drift,
    "readings-file": readings_file,
    "stop-import": stop_import,
    "name-proof": name_as_proof,
    "name-pass": name_pass,
    "choose-mode": choose_mode,
    "play-signal": play,
    "remove-file": remove,
    "measure-found": _start(PassPurpose.FOUND),
    "measure-left": _start(PassPurpose.LEFT),
    "pause": _pause,
    "resume": _resume,
    "stop-pass": _stop,
})
