"""What can be done at Groundwork."""

from django.contrib import messages
from django.http import HttpResponse
from django.utils import timezone

from fenvik.core.errors import FenvikError
from fenvik.core.signal.patterns import PATTERNS
from fenvik.web.groundwork import panel, services, survey
from fenvik.web.groundwork.levels import STEPS, step_of
from fenvik.web.patterns import services as patterns
from fenvik.web.people.asking import Asking
from fenvik.web.planning import measuring
from fenvik.web.stops.acts import group_of, number_in, typed_values
from fenvik.web.stops.answers import back_to
from fenvik.web.stops.registry import can_be_done
from fenvik.web.visits.models import Tuning


def answer(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Keep an answer to a check; the next open one is shown after it."""
    sent = request.POST
    services.answer_check(
        tuning_id=tuning.pk, actor=request.user, check_id=sent.get("check", ""), answer=sent.get("answer", ""), now=timezone.now(),
        before=sent.get("before", ""), after=sent.get("after", ""), because=sent.get("because", ""),
    )  # fmt: skip
    return back_to(request, tuning, check="")


def open_screen(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Make the visit's pattern screen and give it a number."""
    patterns.new_number(visit_id=tuning.visit_id, actor=request.user, now=timezone.now())
    return None


def withdraw_screen(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Let the pattern screen's address open nothing any more."""
    patterns.withdraw_screen(visit_id=tuning.visit_id, actor=request.user, now=timezone.now())
    messages.info(request, "The pattern screen’s address opens nothing any more. Asked for again, it has a new one.")
    return None


def show(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Show a pattern with its options."""
    typed = {name[2:]: str(text)[:200] for name, text in request.POST.items() if name.startswith("o-")}
    places = patterns.show(
        tuning_id=tuning.pk,
        actor=request.user,
        pattern=request.POST.get("pattern", ""),
        typed=typed,
        now=timezone.now(),
    )
    messages.info(request, f"Shown on {' and '.join(places)}.")
    return None


def identify(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Let the pattern screen say for two seconds which visit it belongs to."""
    patterns.say_who(visit_id=tuning.visit_id, actor=request.user)
    return None


def driver_range(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Keep what the driver does to codes."""
    patterns.set_range(visit_id=tuning.visit_id, actor=request.user, driver_range=request.POST.get("range", ""))
    return None


def pattern_colours(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Choose whose colours patterns are drawn in."""
    patterns.set_colours(visit_id=tuning.visit_id, actor=request.user, colours=request.POST.get("colours", ""))
    return None


def note_seen(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Note what was seen on a pattern."""
    sent = request.POST
    patterns.note_seen(
        tuning_id=tuning.pk, actor=request.user, pattern=sent.get("pattern", "")[:40], note=sent.get("note", ""), now=timezone.now()
    )
    return None


def use_screen(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Let the pattern screen be the source of this tuning's passes."""
    measuring.use_screen(tuning_id=tuning.pk, actor=request.user)
    messages.info(request, "Passes of this tuning take their patches from the pattern screen now: 8 bits of SDR.")
    return None


def look_by(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Log what a control was set to by a pattern."""
    typed = typed_values(request)
    if request.POST.get("control"):
        typed = {request.POST["control"][:80]: request.POST.get("other-value", "")[:40]}
    services.go_through(
        tuning_id=tuning.pk, actor=request.user, step="", pattern=request.POST.get("pattern", "")[:40], typed=typed,
        seen=number_in(request, "seen"), now=timezone.now(), group=group_of(request),
    )  # fmt: skip
    return None


def _show_step(request: Asking, tuning: Tuning, step: str) -> None:
    """Show the pattern of a step; where it cannot be shown, say so and go on."""
    chosen = step_of(step, hdr=tuning.signal != "sdr")
    try:
        patterns.show(
            tuning_id=tuning.pk,
            actor=request.user,
            pattern=chosen.pattern,
            typed=dict(chosen.options),
            now=timezone.now(),
            step="",
        )
    except FenvikError as problem:
        messages.error(request, str(problem))


def step(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Log a step of the levels and go to another one, whose pattern is shown at once."""
    done, wanted = request.POST.get("done", ""), request.POST.get("to", "")
    if done in STEPS:
        services.go_through(
            tuning_id=tuning.pk, actor=request.user, step=done, typed=typed_values(request),
            pattern=step_of(done, hdr=tuning.signal != "sdr").pattern,
            seen=number_in(request, "seen"), now=timezone.now(), group=group_of(request),
        )  # fmt: skip
    if wanted in STEPS:
        _show_step(request, tuning, wanted)
        return back_to(request, tuning, step=wanted)
    return back_to(request, tuning, step="")


def show_other(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Show another pattern of the same step."""
    name = request.POST.get("pattern", "")
    if name in PATTERNS:
        patterns.show(tuning_id=tuning.pk, actor=request.user, pattern=name, typed={}, now=timezone.now())
    return None


def survey_modes(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Read the same few patches in every mode or preset of the display."""
    survey.survey(
        tuning_id=tuning.pk, actor=request.user, now=timezone.now(), what=request.POST.get("what", ""),
        named=request.POST.get("named", "")[:400],
    )  # fmt: skip
    return None


def start_from(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Let the tuning be for a mode of the survey."""
    kept = survey.start_from(
        tuning_id=tuning.pk, actor=request.user, label=request.POST.get("label", ""), mode=request.POST.get("mode", "")
    )
    messages.info(request, f"This tuning is for {kept.picture_mode} now.")
    return None


def read_panel(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Read what the panel gives."""
    panel.read_panel(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    return None


def send_panel(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Send what was read of the panel to the display, or take it away again."""
    if request.POST.get("away") == "1":
        panel.take_away(tuning_id=tuning.pk, actor=request.user)
        messages.info(request, "Its mapping believes what it did before.")
    else:
        panel.send(tuning_id=tuning.pk, actor=request.user)
        messages.info(request, "Sent. Read the panel once more: what it believed before had its part in the first reading.")
    return None


def panel_window(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Read the tuning's greys in the window that its display bears."""
    read = panel.panel_read(tuning)
    if read is None or read.ability is None:
        raise panel.NoPanelError("It has not been read yet what this display can do.")
    cleaned = {"window": read.ability.window}
    measuring.keep_measuring(tuning_id=tuning.pk, actor=request.user, cleaned=cleaned, now=timezone.now())
    return None


def panel_file(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Write what was read of the panel as a file."""
    answer = HttpResponse(panel.written(tuning), content_type="application/json")
    answer["Content-Disposition"] = 'attachment; filename="panel-facts.json"'
    return answer


def watch(request: Asking, tuning: Tuning) -> HttpResponse | None:
    """Watch the display warm up."""
    services.watch_warm_up(tuning_id=tuning.pk, actor=request.user, now=timezone.now())
    return None


can_be_done({
    "answer": answer,
    "open-screen": open_screen,
    "withdraw-screen": withdraw_screen,
    "show": show,
    "show-other": show_other,
    "identify": identify,
    "driver-range": driver_range,
    "use-screen": use_screen,
    "pattern-colours": pattern_colours,
    "note-seen": note_seen,
    "look-by": look_by,
    "step": step,
    "watch": watch,
    "panel-read": read_panel,
    "panel-send": send_panel,
    "panel-file": panel_file,
    "panel-window": panel_window,
    "survey": survey_modes,
    "start-from": start_from,
})
