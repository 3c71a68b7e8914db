"""What can be done about whites."""

from typing import Any

from django.contrib import messages
from django.db import transaction
from django.http import HttpResponse
from django.utils import timezone

from fenvik.core.colour.space import xy_to_uv
from fenvik.formats.numbers import NumberError, numbers, whole
from fenvik.web.passes.models import Pass, PassPurpose
from fenvik.web.people.asking import Asking
from fenvik.web.people.policy import Right
from fenvik.web.planning.whites import WhiteError, add_part, between, drop_part
from fenvik.web.stops.groundwork.whites import offered
from fenvik.web.stops.registry import can_be_done
from fenvik.web.visits.models import Tuning
from fenvik.web.whites import choosing, driving, matching, shifting
from fenvik.web.whites.driving import WhitesError

MOST_PLACES = 100


def _place(request: Asking, name: str) -> int | None:
    return whole(request.POST.get(name, ""), 0, MOST_PLACES)


def drive(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Read how white is made."""
    driving.read_drive(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    return None


def begin(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Begin a choice between the ticked whites, and one that was typed."""
    ticked = request.POST.getlist("w")
    candidates: list[dict[str, Any]] = [
        {"name": row["name"], "why": row["why"], "uv": list(row["uv"])} for row in offered(tuning) if row["key"] in ticked
    ]
    typed = request.POST.get("typed", "").strip()
    if typed:
        try:
            told = numbers(typed)
        except NumberError as problem:
            raise WhiteError(str(problem)) from problem
        if len(told) != 2:
            raise WhiteError("A white is two numbers, x and y, such as 0.3127 0.3290.")
        uv = between(tuning.standard_white, (told[0], told[1]))
        candidates.append({"name": f"{told[0]:.4f} {told[1]:.4f}", "why": "typed", "uv": [round(v, 5) for v in uv]})
    sent = request.POST
    choosing.begin(
        tuning_id=tuning.pk, actor=request.user, candidates=candidates, way=sent.get("way", ""), blind=sent.get("blind") == "1",
        shows=sent.get("shows", ""), now=timezone.now(),
    )  # fmt: skip
    return None


def each(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Read each white as it is shown."""
    choosing.read_each(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    return None


def show(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Show a white of an open choice, or two."""
    left = _place(request, "left")
    if left is None:
        raise WhitesError("There is no such white.")
    choosing.show_open(tuning_id=tuning.pk, actor=request.user, left=left, right=_place(request, "right"), now=timezone.now())
    return None


def _seen(request: Asking) -> str:
    """Return where the choice stood when the page was drawn."""
    return request.POST.get("seen", "")[:20]


def go_on(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Go on with a blind round."""
    choosing.go_on(tuning_id=tuning.pk, actor=request.user, now=timezone.now(), seen=_seen(request))
    return None


def again(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Show one of a round's whites again."""
    place = _place(request, "place")
    choosing.look_again(tuning_id=tuning.pk, actor=request.user, place=-1 if place is None else place, now=timezone.now())
    return None


def pick(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Note what was picked in a round."""
    place = None if request.POST.get("place") == "none" else _place(request, "place")
    if place is None and request.POST.get("place") != "none":
        raise WhitesError("Which letter was picked, or none?")
    choosing.pick(tuning_id=tuning.pk, actor=request.user, place=place, now=timezone.now(), seen=_seen(request))
    return None


def end(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """End a choice."""
    choosing.end(tuning_id=tuning.pk, actor=request.user, chosen=_place(request, "chosen"), now=timezone.now())
    return None


def keep(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Keep the client's words, and let the tuning aim at what was chosen."""
    words = request.POST.get("words", "")
    with transaction.atomic():
        trial = choosing.keep_words(tuning_id=tuning.pk, actor=request.user, words=words)
        if trial.winner is None:
            return None
        du, dv = trial.winner["uv"]
        if max(abs(du), abs(dv)) < 1e-5:
            drop_part(tuning_id=tuning.pk, actor=request.user, kind="client")
        else:
            why = f"{trial.winner['name']}: “{trial.words}”" if trial.words else trial.winner["name"]
            add_part(tuning_id=tuning.pk, actor=request.user, kind="client", uv=(du, dv), why=why, now=timezone.now())
    messages.info(request, f"This tuning aims at {trial.winner['name']} now.")
    return None


def shifts(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Read what modes add to white."""
    shifting.read_shifts(
        tuning_id=tuning.pk, actor=request.user, now=timezone.now(), named=request.POST.get("named", "")[:400],
        preset=request.POST.get("preset", "")[:80],
    )  # fmt: skip
    return None


def _read(tuning: Tuning) -> list[shifting.ModeWhite]:
    found = tuning.passes.filter(purpose=PassPurpose.SHIFT).order_by("-id").first()
    if found is None:
        raise WhitesError("No shift has been read yet.")
    return shifting.modes_of(Pass.objects.select_related("correction", "tuning").get(pk=found.pk))


def take_out(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Let the tuning aim so that a mode ends at the wanted white, or halfway for the sake of all modes."""
    modes, label = _read(tuning), request.POST.get("mode", "")
    if request.POST.get("halfway") == "1":
        half = shifting.compromise(tuning, modes)
        if half is None:
            raise WhitesError("No mode adds anything that can be told.")
        uv, why = xy_to_uv(shifting.wanted_white(tuning)) - xy_to_uv(half.aim), "halfway between all modes"
    else:
        mode = next((m for m in modes if m.label == label and m.shift is not None), None)
        if mode is None or mode.shift is None:
            raise WhitesError("That mode has not been read yet.")
        uv, why = mode.shift.uv, f"what {label} adds by itself"
    add_part(tuning_id=tuning.pk, actor=request.user, kind="shift", uv=(float(uv[0]), float(uv[1])), why=why, now=timezone.now())
    return None


def leave_in(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Take a mode's shift out of the tuning's white no longer."""
    drop_part(tuning_id=tuning.pk, actor=request.user, kind="shift")
    return None


def match_begin(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Begin to bring two displays together."""
    reference = whole(request.POST.get("reference", ""), 1, 2**31 - 1)
    matching.begin(tuning_id=tuning.pk, actor=request.user, reference_id=reference or 0, now=timezone.now())
    return None


def match_step(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Step the white that is shown."""
    count = whole(request.POST.get("count", "1"), 1, 10)
    matching.step(tuning_id=tuning.pk, actor=request.user, way=request.POST.get("way", ""), count=count or 0, now=timezone.now())
    return None


def match_grey(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Look at white or a grey of the same white."""
    percent = whole(request.POST.get("share", ""), 1, 100)
    matching.look_at(tuning_id=tuning.pk, actor=request.user, share=(percent or 0) / 100.0, now=timezone.now())
    return None


def match_same(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Both look the same."""
    matching.same(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    return None


def match_give_up(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """End a match without a result."""
    matching.give_up(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    return None


def match_keep(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Let the tuning's white be what a match came to: of this display, or of a pair that was seen before."""
    wanted = whole(request.POST.get("match", ""), 1, 2**31 - 1)
    found = next((pair.match for pair in matching.pairs_of(tuning) if pair.match.pk == wanted), None)
    if found is None or found.du is None or found.dv is None:
        raise WhitesError("There is no such match.")
    reference = found.reference
    why = f"looks like {reference.room.name}: {reference.name}"
    add_part(tuning_id=tuning.pk, actor=request.user, kind="display", uv=(found.du, found.dv), why=why, now=timezone.now())
    return None


can_be_done({
    "white-drive": drive, "white-begin": begin, "white-each": each, "white-show": show, "white-next": go_on, "white-again": again,
    "white-pick": pick, "white-end": end, "white-shifts": shifts, "match-begin": match_begin, "match-step": match_step,
    "match-grey": match_grey, "match-same": match_same, "match-give-up": match_give_up,
})  # fmt: skip
can_be_done({"white-keep": keep, "white-take-out": take_out, "white-leave-in": leave_in, "match-keep": match_keep}, Right.PLAN)
