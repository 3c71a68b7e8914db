"""What can be done at Arrival."""

from urllib.parse import urlencode

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import redirect
from django.urls import reverse
from django.utils import timezone

from fenvik.formats.numbers import NumberError, numbers
from fenvik.formats.sheet import MOST_BYTES, SheetFileError
from fenvik.web.adjusting import handsfree
from fenvik.web.clients.forms import DisplayForm, RoomForm
from fenvik.web.clients.models import Display
from fenvik.web.clients.services import keep_display, keep_room
from fenvik.web.controls import exchange, maps, sharing
from fenvik.web.controls.models import Moment
from fenvik.web.controls.resetting import reset_mode
from fenvik.web.controls.services import call_sheet, copy_sheet, note_found
from fenvik.web.devices import displays
from fenvik.web.kit.models import of_firm_or_404
from fenvik.web.people.asking import Asking
from fenvik.web.people.policy import Right
from fenvik.web.planning.services import keep_target
from fenvik.web.planning.whites import WhiteError, add_part, between, drop_candidate, drop_part, keep_candidate
from fenvik.web.stops.acts import number_in, typed_values
from fenvik.web.stops.answers import back_to, show_stop
from fenvik.web.stops.arrival.page import KEPT_OF_A_BLOCK
from fenvik.web.stops.registry import can_be_done
from fenvik.web.visits.forms import TargetForm
from fenvik.web.visits.models import Tuning, WhiteCandidate


def _whole(tuning: Tuning) -> Tuning:
    return Tuning.objects.select_related("display__room__client", "display__link__pairing", "display__menu_map").get(
        pk=tuning.pk
    )


def _part(tuning: Tuning, part: str) -> HttpResponse:
    return redirect(f"{reverse('stop', args=(tuning.pk, 'arrival'))}?view={part}")


def note(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Note the settings as found."""
    seen = number_in(request, "seen")
    note_found(
        tuning_id=tuning.pk,
        actor=request.user,
        typed=typed_values(request),
        now=timezone.now(),
        seen=None if seen < 0 else seen,
    )
    return redirect("stop", pk=tuning.pk, stop="groundwork")


def show_code(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Let the display show its pairing code."""
    displays.show_code(_whole(tuning).display)
    messages.info(request, "The display shows a code now: type it here.")
    return back_to(request, tuning, about="code")


def pair(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Answer the code."""
    whole = _whole(tuning)
    displays.answer_code(
        display=whole.display, code=request.POST.get("code", "")[:40], actor=request.user, now=timezone.now()
    )
    displays.look(tuning=_whole(tuning), now=timezone.now())
    messages.info(request, f"{whole.display.name} is paired: its menu and settings can be read.")
    return None


def read_menu(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Read menu and settings over the link."""
    controls, different = maps.read_over_link(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    if different:
        messages.info(
            request,
            f"{controls} controls were read; {different} stood otherwise than noted and "
            f"{'was' if different == 1 else 'were'} logged.",
        )
    else:
        messages.info(request, f"{controls} controls were read from the display.")
    return None


def look(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Ask the display what it shows."""
    displays.look(tuning=_whole(tuning), now=timezone.now())
    return None


def look_quietly(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Let the display be asked what it shows, for a page that does so by itself: it hears of what is new, and waits for nothing."""
    displays.look_later(tuning)
    return HttpResponse(status=204)


def add_block(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Add a block of controls to the menu map."""
    maps.add_block(
        display_id=tuning.display_id, actor=request.user, kind=request.POST.get("block", ""), typed=request.POST
    )
    began = "~".join(request.POST.get(name, "").strip().replace("~", " ")[:16] for name in KEPT_OF_A_BLOCK)
    return redirect(f"{reverse('stop', args=(tuning.pk, 'arrival'))}?{urlencode({'view': 'menu', 'began': began})}")


def type_menu(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Take the menu as it was typed in words."""
    menu = maps.type_menu(
        display_id=tuning.display_id,
        actor=request.user,
        text=request.POST.get("words", ""),
        seen=request.POST.get("seen", ""),
    )
    guessed = sum(1 for c in menu.controls if c.get("guessed"))
    told = f" What {guessed} of them do was told by their names alone: look them over." if guessed else ""
    messages.info(request, f"{len(menu.controls)} controls are known now.{told}")
    return _part(tuning, "menu")


def keep_menu(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Keep the menu map as it was changed."""
    maps.change_map(
        display_id=tuning.display_id, actor=request.user, typed=request.POST, seen=request.POST.get("seen", "")
    )
    messages.info(request, "The menu map is kept.")
    return _part(tuning, "menu")


def use_map(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Use the menu map of an earlier visit."""
    maps.use_map(display_id=tuning.display_id, actor=request.user, map_id=number_in(request, "map"))
    return _part(tuning, "menu")


def copy(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Copy a sheet to another tuning, or one from elsewhere to this one."""
    to = number_in(request, "to")
    made, left_out = copy_sheet(
        sheet_id=number_in(request, "sheet"), to_tuning_id=to, actor=request.user, now=timezone.now()
    )
    messages.info(
        request,
        f"{len(made.values)} values were copied to {made.tuning.name}. Nothing has been turned yet: "
        f"the list beside says what to turn.{_left_out(left_out)}",
    )
    return redirect(f"{reverse('stop', args=(to, 'arrival'))}?view=sheets&sheet={made.pk}")


def name_sheet(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Let a sheet be called something."""
    sheet = call_sheet(sheet_id=number_in(request, "sheet"), actor=request.user, name=request.POST.get("name", ""))
    return redirect(f"{reverse('stop', args=(tuning.pk, 'arrival'))}?view=sheets&sheet={sheet.pk}")


def find_shared_controls(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Find out which modes share settings with the tuning's."""
    found = sharing.find_shared(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    shared = sum(bool(modes) for modes in found.values())
    turned = f"{len(found)} controls were turned by a step and back"
    messages.success(request, f"{turned}: {shared} of them are shared with other modes.")
    return _part(tuning, "menu")


def look_at_input(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Read the settings at the input that is watched."""
    watched = sharing.look_at_input(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    messages.success(request, f"Read at {watched}.")
    return _part(tuning, "menu")


def set_whole_sheet(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Let the display stand as a sheet says, in one act; the page that follows shows how far it is."""
    count = handsfree.set_sheet(
        sheet_id=number_in(request, "sheet"), tuning_id=tuning.pk, actor=request.user, now=timezone.now()
    )
    messages.success(request, f"{count} controls were set over the link. How it stood before is kept as a sheet.")
    return None


def reset(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Reset the tuning's mode over the link, or say that it was reset in the menu."""
    linked = request.POST.get("linked") == "1"
    turned, unknown = reset_mode(tuning_id=tuning.pk, actor=request.user, now=timezone.now(), linked=linked)
    rest = f" Where {unknown} more stand now is not known: look at them." if unknown else ""
    messages.info(
        request, f"{turned} controls stand otherwise after the reset. How they stood is kept as a sheet.{rest}"
    )
    return None


def import_sheet(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Take a sheet in from a file."""
    sent = request.FILES.get("file")
    if sent is None:
        messages.error(request, "Choose a file first: a settings sheet as JSON or CSV.")
        return None
    if (sent.size or 0) > MOST_BYTES:
        raise SheetFileError(f"The file has {sent.size or 0:,} bytes; a settings sheet has at most {MOST_BYTES:,}.")
    data = sent.read()
    moment = Moment.FOUND if request.POST.get("moment") == Moment.FOUND else Moment.NOTED
    made = exchange.import_sheet(
        tuning_id=tuning.pk, actor=request.user, data=data, now=timezone.now(), moment=moment,
        by_role=request.POST.get("by_role") == "1",
    )  # fmt: skip
    said = _left_out(made.unknown) + _left_out(made.other_range, "has another range here")
    messages.info(request, f"{len(made.sheet.values)} values were taken from the file.{said}")
    return redirect(f"{reverse('stop', args=(tuning.pk, 'arrival'))}?view=sheets&sheet={made.sheet.pk}")


def _left_out(labels: list[str], why: str = "this menu has no such control, or another range") -> str:
    more = f" and {len(labels) - 5} more" if len(labels) > 5 else ""
    return f" Left out, since {why}: {', '.join(labels[:5])}{more}." if labels else ""


def keep_place(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Keep display and room."""
    display = Display.objects.select_related("room__client").get(pk=tuning.display_id)
    form = DisplayForm(request.POST, instance=display, firm_id=request.user.firm_id)
    room_form = RoomForm(request.POST, instance=display.room, prefix="room")
    if not (form.is_valid() & room_form.is_valid()):
        return _refused(request, tuning, display_form=form, room_form=room_form)
    keep_room(room=room_form.save(commit=False), actor=request.user)
    keep_display(display=form.save(commit=False), actor=request.user, feeds=form.cleaned_data["feeds"])
    messages.info(request, "Kept.")
    return None


def keep_aim(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Keep the target."""
    form = TargetForm(request.POST, tuning=tuning)
    if not form.is_valid():
        return _refused(request, tuning, target_form=form)
    typed = dict(form.cleaned_data)
    kept = keep_target(tuning_id=tuning.pk, actor=request.user, cleaned=form.cleaned_data)
    if (kept.luminance, kept.tolerance) != (typed["luminance"], typed["tolerance"]):
        white = "no certain luminance of white" if kept.luminance is None else f"{kept.luminance:g} cd/m² of white"
        usual = f"{white}, tolerance {kept.tolerance:g}"
        messages.info(request, f"As usual for {kept.get_signal_display()}: {usual}. Others can be typed.")
    return None


def _refused(request: Asking, tuning: Tuning, **forms: object) -> HttpResponse:
    return show_stop(request, tuning.pk, "arrival", problems=True, **forms)


can_be_done(
    {
        "note": note,
        "show-code": show_code,
        "pair": pair,
        "read-menu": read_menu,
        "look": look,
        "look-quietly": look_quietly,
        "add-block": add_block,
        "type-menu": type_menu,
        "keep-menu": keep_menu,
        "use-map": use_map,
        "copy-sheet": copy,
        "name-sheet": name_sheet,
        "set-sheet": set_whole_sheet,
        "reset-mode": reset,
        "find-shared": find_shared_controls,
        "look-at-input": look_at_input,
        "import-sheet": import_sheet,
    }
)


def _uv(request: Asking) -> tuple[float, float]:
    """Return an offset: two numbers of u′v′, or what lies between two whites, whichever was typed."""
    typed = request.POST.get("offset", "").strip()
    both = [request.POST.get(name, "").strip() for name in ("from", "to")]
    if typed and any(both):
        raise WhiteError("An offset is typed, and two whites as well: which of them counts? Empty the other.")
    try:
        told = numbers(typed) if typed else []
        ends = [numbers(text) for text in both if text]
    except NumberError as problem:
        raise WhiteError(str(problem)) from problem
    if typed:
        if len(told) != 2:
            raise WhiteError("An offset is two numbers of u′v′, such as +0.0012 −0.0031.")
        return told[0], told[1]
    if len(ends) != 2 or any(len(end) != 2 for end in ends):
        raise WhiteError("Type an offset, or two whites x y: where it is, and where it should be.")
    (a, b), (c, d) = ends
    return between((a, b), (c, d))


def white_part(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Add a part to the tuning's white, typed or one that the firm offers; keep it to offer it again where that is wanted."""
    kind = request.POST.get("kind", "")
    chosen = number_in(request, "candidate")
    if chosen > 0:
        offered = of_firm_or_404(WhiteCandidate, request.user.firm_id, chosen)
        uv, why = (offered.du, offered.dv), offered.name
    else:
        uv, why = _uv(request), request.POST.get("why", "")
    add_part(tuning_id=tuning.pk, actor=request.user, kind=kind, uv=uv, why=why, now=timezone.now())
    if request.POST.get("offer") == "1":
        keep_candidate(actor=request.user, name=why, uv=uv, why="", technology=tuning.display.technology)
    return _part(tuning, "target")


def drop_white_part(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Take a part out of the tuning's white."""
    drop_part(tuning_id=tuning.pk, actor=request.user, kind=request.POST.get("kind", ""))
    return _part(tuning, "target")


def drop_white(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Offer a white no longer."""
    drop_candidate(actor=request.user, candidate_id=number_in(request, "candidate"))
    return _part(tuning, "target")


can_be_done({"white-part": white_part, "drop-white-part": drop_white_part, "drop-white": drop_white}, Right.PLAN)
can_be_done({"keep-place": keep_place, "keep-target": keep_aim}, Right.PLAN)
