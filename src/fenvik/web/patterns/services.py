"""Showing patterns: on the pattern screen of a visit, on a source of the link, on both."""

import secrets
from collections.abc import Mapping
from datetime import datetime, timedelta
from typing import Any

from django.core.cache import cache
from django.db import transaction
from django.utils import timezone

from fenvik.core.errors import FenvikError
from fenvik.core.signal.patterns import COLOURS, PATTERNS, Board, Signal, pattern_of, settle
from fenvik.link.devices import Source
from fenvik.link.faults import DeviceError
from fenvik.web.devices.models import Device, DeviceRole
from fenvik.web.devices.services import locate
from fenvik.web.kit.notify import notify, notify_screen
from fenvik.web.passes.models import Pass
from fenvik.web.patterns.models import DriverRange, LookedAt, Screen, new_token, some_days
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs
from fenvik.web.visits.models import Tuning

NUMBER_LASTS = timedelta(minutes=15)
TRIES_A_MINUTE = 10
LARGEST, MOST_PIXELS = 8192, 7680 * 4320


class NowhereError(FenvikError):
    """There is nothing that could show a pattern."""

    code = "nowhere"


class ScreenNumberError(FenvikError):
    """A number that belongs to no screen, or too many tries."""

    code = "screen_number"


def screen_facts(screen_id: int, driver_range: str) -> dict[str, Any]:
    """Return what a pattern screen says of itself as a source."""
    return {
        "formats": ["sdr"], "bits": [8], "frame_rates": [60], "charts": list(PATTERNS), "screen": screen_id, "range": driver_range,
    }  # fmt: skip


@transaction.atomic
def screen_of(*, visit_id: int, firm_id: int) -> Screen:
    """Return the pattern screen of a visit, made when it is first asked for; one that was withdrawn gets a new address."""
    screen = Screen.objects.of_firm(firm_id).select_for_update(of=("self",)).filter(visit_id=visit_id).first()
    if screen is None:
        device = Device.objects.create(
            firm_id=firm_id,
            role=DeviceRole.SOURCE,
            name="Pattern screen",
            serial=f"screen of visit {visit_id}",
            host="",
            port=1,
        )
        screen = Screen.objects.create(visit_id=visit_id, device=device, picture={"kind": "blank"})
        device.facts = screen_facts(screen.pk, screen.driver_range)
        device.save(update_fields=["facts"])
    elif screen.withdrawn_at is not None or screen.until <= timezone.now():
        screen.token, screen.withdrawn_at, screen.until, screen.size = new_token(), None, some_days(), ""
        screen.save(update_fields=["token", "withdrawn_at", "until", "size"])
    return screen


@needs(Right.MEASURE, "closed the pattern screen")
@transaction.atomic
def withdraw_screen(*, visit_id: int, actor: User, now: datetime) -> None:
    """Let the address of a visit's screen open nothing any more: its page goes dark at once. Asked for again, it has another."""
    for screen in Screen.objects.of_firm(actor.firm_id).select_for_update(of=("self",)).filter(visit_id=visit_id):
        if _busy(screen.device) is not None:
            raise NowhereError("A pass is using the pattern screen. Let it end or stop it first; the screen is still open.")
        screen.withdrawn_at, screen.number, screen.seen_at = now, "", None
        screen.save(update_fields=["withdrawn_at", "number", "seen_at"])
        notify_screen(screen.pk)


@needs(Right.MEASURE)
@transaction.atomic
def new_number(*, visit_id: int, actor: User, now: datetime) -> Screen:
    """Give a visit's screen a number by which its page is found, once, for a few minutes."""
    screen = screen_of(visit_id=visit_id, firm_id=actor.firm_id)
    screen.number = f"{secrets.randbelow(10**8):08d}"
    screen.number_until = now + NUMBER_LASTS
    screen.save(update_fields=["number", "number_until"])
    return screen


@transaction.atomic
def find_by_number(*, number: str, where: str, now: datetime) -> Screen:
    """Return the screen of a number and use the number up. Raises ScreenNumberError; ``where`` it was typed limits the tries."""
    key = f"screen-number-{where}"
    cache.add(key, 0, 60)
    if cache.incr(key) > TRIES_A_MINUTE:
        raise ScreenNumberError("Too many numbers were tried from here. Wait a minute.")
    plain = "".join(c for c in number if c in "0123456789")
    screen = (
        Screen.objects.open_at(now).select_for_update().filter(number=plain, number_until__gt=now).first()
        if plain
        else None
    )
    if screen is None:
        raise ScreenNumberError(
            "No pattern screen waits for this number. Fenvik shows the right one under Groundwork, Patterns."
        )
    screen.number = ""
    screen.save(update_fields=["number"])
    return screen


def _tried(pattern: str, typed: Mapping[str, str]) -> dict[str, str]:
    """Return a pattern's options as they were typed. A drawing that fails does so here, before anything is shown.

    Raises PatternError.
    """
    chosen = pattern_of(pattern)
    options = {o.id: str(typed.get(o.id, "")).strip() or o.default for o in chosen.options}
    settle(chosen.options, options)
    chosen.drawn(64, 36, Signal(), options)
    return options


def _busy(device: Device) -> Pass | None:
    return Pass.objects.filter(source=device, finished_at__isnull=True).select_related("tuning").first()


@needs(Right.MEASURE)
def show(
    *, tuning_id: int, actor: User, pattern: str, typed: Mapping[str, str], now: datetime, step: str = ""
) -> list[str]:
    """Show a pattern wherever the tuning's patterns are shown; return the names of those places.

    The visit's pattern screen takes it always, the tuning's source of the link where it has a chart of that name.
    Raises PatternError for options that the pattern does not take, NowhereError, LinkFault, DeviceError.
    """
    options = _tried(pattern, typed)
    tuning = Tuning.objects.of_firm(actor.firm_id).select_related("source", "source__firm", "visit").get(pk=tuning_id)
    places = []
    screen = Screen.objects.of_firm(actor.firm_id).open_at(now).filter(visit_id=tuning.visit_id).first()
    source = tuning.source
    for device in (source, screen.device if screen is not None else None):
        holding = None if device is None else _busy(device)
        if holding is not None:
            raise NowhereError(
                f"A pass of {holding.tuning.name} is using {device}. Let it end or pause it; the picture was not changed."
            )
    if screen is not None:
        put(screen, {"kind": "pattern", "pattern": pattern, "options": options})
        if screen.is_open:
            places.append("the pattern screen")
    if source is not None and "screen" not in source.facts:
        _show_on_link(source, pattern, options, tuning, "" if screen is None else screen.colours)
        places.append(source.name)
    if not places:
        raise NowhereError(
            "There is nothing open yet that could show it. Open the pattern screen "
            "on whatever drives the display, or choose a pattern source under Instruments."
        )
    with transaction.atomic():
        LookedAt.objects.create(tuning=tuning, pattern=pattern, step=step, at=now, by=actor)
        notify(tuning.pk)
    return places


def _show_on_link(source: Device, pattern: str, options: dict[str, str], tuning: Tuning, colours: str = "") -> None:
    if pattern not in source.facts.get("charts", []) and pattern != "patch":
        raise NowhereError(f"{source.name} has no chart called {pattern}. The pattern screen can show it.")
    rates = source.facts.get("frame_rates") or [60]
    with locate(source) as connection:
        line = Source(connection)
        try:
            line.signal(
                format_=tuning.signal,
                colorimetry="bt709" if tuning.signal == "sdr" else "bt2020",
                bits=tuning.bits,
                range_=tuning.range,
                frame_rate=rates[-1],
            )
        except DeviceError as refusal:
            if refusal.number != DeviceError.SIGNAL:
                raise
            raise NowhereError(
                f"{source.name} does not send {tuning.get_signal_display()} with {tuning.bits} bit. "
                "Choose another source or other bits."
            ) from refusal
        if pattern in source.facts.get("charts", []):
            line.chart(pattern, dict(options))
        else:
            signal = Signal(tuning.bits, "full" if tuning.range == "full" else "limited", colours)
            inside = [int(c) for c in signal.code([float(options[name]) for name in ("red", "green", "blue")])]
            outside = [int(signal.code(float(options["surround"])))] * 3
            line.patch(
                inside,
                window=float(options["size"]),
                surround=outside,
                at=(float(options["x"]) / 100, float(options["y"]) / 100),
            )


@transaction.atomic
def put(screen: Screen, picture: dict[str, Any]) -> Screen:
    """Put a picture on a screen: its page draws it at once."""
    locked = Screen.objects.select_for_update(of=("self",)).get(pk=screen.pk)
    locked.picture, locked.revision = picture, locked.revision + 1
    locked.save(update_fields=["picture", "revision"])
    notify_screen(locked.pk, revision=locked.revision)
    return locked


def choose_here(*, token: str, pattern: str, typed: Mapping[str, str], now: datetime) -> Screen | None:
    """Show a pattern that was chosen on the screen itself; None where its address opens nothing.

    Raises PatternError, and NowhereError while a pass uses the screen.
    """
    screen = Screen.objects.open_at(now).filter(token=token).select_related("device").first()
    if screen is None:
        return None
    options = _tried(pattern, typed)
    if _busy(screen.device) is not None:
        raise NowhereError("A pass is reading on this screen: nothing else is shown until it ends.")
    return put(screen, {"kind": "pattern", "pattern": pattern, "options": options})


@needs(Right.MEASURE)
@transaction.atomic
def set_colours(*, visit_id: int, actor: User, colours: str) -> Screen:
    """Choose whose colours patterns are drawn in, for all of them; the picture is drawn anew."""
    if colours not in COLOURS:
        raise NowhereError("Patterns are drawn in one of the colours of the list.")
    screen = screen_of(visit_id=visit_id, firm_id=actor.firm_id)
    if _busy(screen.device) is not None:
        raise NowhereError("A pass is using the pattern screen. Let it end or pause it; nothing was changed.")
    screen.colours = colours
    screen.save(update_fields=["colours"])
    return put(screen, screen.picture)


@needs(Right.MEASURE)
@transaction.atomic
def note_seen(*, tuning_id: int, actor: User, pattern: str, note: str, now: datetime) -> LookedAt:
    """Note what was seen on a pattern, in words. Raises PatternError for one that there is not, NowhereError for no words."""
    tuning = Tuning.objects.of_firm(actor.firm_id).get(pk=tuning_id)
    if not note.strip():
        raise NowhereError("Say what was seen; nothing was noted.")
    made = LookedAt.objects.create(
        tuning=tuning, pattern=pattern_of(pattern).id, note=note.strip()[:200], at=now, by=actor
    )
    notify(tuning.pk)
    return made


@transaction.atomic
def drawn(
    *, token: str, revision: int, size: tuple[int, int], exact: bool, awake: bool, now: datetime, refresh_hz: float | None = None
) -> Screen | None:
    """Take what the page says: which picture it has drawn, and how."""
    screen = Screen.objects.open_at(now).select_for_update(of=("self",)).filter(token=token).first()
    if screen is None:
        return None
    before = (screen.is_open, screen.size, screen.exact, screen.awake, screen.refresh_hz)
    hertz = round(refresh_hz, 1) if refresh_hz is not None and 1 < refresh_hz < 1000 else screen.refresh_hz
    if hertz is not None and screen.refresh_hz is not None and abs(hertz - screen.refresh_hz) < 0.02 * hertz:
        hertz = screen.refresh_hz  # browsers' clocks are coarse: a wavering last digit is no news
    screen.shown = max(screen.shown, min(revision, screen.revision))
    screen.size, screen.exact, screen.awake, screen.refresh_hz, screen.seen_at = size_words(*size), exact, awake, hertz, now
    screen.save(update_fields=["shown", "size", "exact", "awake", "refresh_hz", "seen_at"])
    notify_screen(screen.pk, shown=screen.shown)
    if before != (True, screen.size, exact, awake, hertz):
        for tuning_id in Tuning.objects.filter(visit_id=screen.visit_id).values_list("pk", flat=True):
            notify(tuning_id)
    return screen


def size_words(width: int, height: int) -> str:
    """Return a size in pixels as it is told and kept."""
    return f"{width} × {height}"


@needs(Right.MEASURE)
@transaction.atomic
def say_who(*, visit_id: int, actor: User) -> Screen:
    """Let the page say for two seconds which visit it belongs to."""
    screen = screen_of(visit_id=visit_id, firm_id=actor.firm_id)
    screen.identity += 1
    screen.save(update_fields=["identity"])
    notify_screen(screen.pk)
    return screen


@needs(Right.MEASURE)
@transaction.atomic
def set_range(*, visit_id: int, actor: User, driver_range: str) -> Screen:
    """Keep what the driver of the display does to codes; the picture is drawn anew for it."""
    if driver_range not in DriverRange.values:
        raise NowhereError("A driver’s range is full or limited.")
    screen = screen_of(visit_id=visit_id, firm_id=actor.firm_id)
    screen.driver_range, screen.range_known = driver_range, True
    screen.save(update_fields=["driver_range", "range_known"])
    Device.objects.filter(pk=screen.device_id).update(facts=screen_facts(screen.pk, driver_range))
    return put(screen, screen.picture)


def signal_of(screen: Screen) -> Signal:
    """Return the codes that a screen's page draws: eight bits in its driver's range."""
    return Signal(8, "full" if screen.driver_range == DriverRange.FULL else "limited", screen.colours)


def picture_board(screen: Screen, width: int, height: int) -> Board:
    """Return the code values of a screen's picture at a size. Raises PatternError."""
    signal, picture = signal_of(screen), screen.picture
    if picture.get("kind") == "pattern":
        return pattern_of(str(picture["pattern"])).drawn(width, height, signal, picture.get("options", {}))
    return Board(width, height, signal)
