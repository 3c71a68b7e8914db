"""The invented firm that looks after the lakeside guest house; its finished job is measured, not made up."""

import asyncio
import threading
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import date, datetime, time, timedelta
from typing import Any

from django.db.models import F

from fenvik.core.proposals import Room as RoomLight
from fenvik.core.proposals import propose
from fenvik.standins.bench import Bench, make_bench
from fenvik.standins.display import Display as Shown
from fenvik.standins.menu import Menu
from fenvik.standins.models import lcd_menu, oled_menu, projector_menu
from fenvik.standins.serve import running
from fenvik.web.adjusting.desk import Desk, lay_out
from fenvik.web.adjusting.ends import ends_of, placed
from fenvik.web.adjusting.learned import keep
from fenvik.web.adjusting.services import read_level, work_at
from fenvik.web.clients.models import Client, Display, Feed, Room, Technology
from fenvik.web.controls.blocks import block, joined
from fenvik.web.controls.log import log_changes
from fenvik.web.controls.models import ControlChange, MenuMap, SettingsSheet
from fenvik.web.controls.services import note_found
from fenvik.web.controls.values import shown, values_of
from fenvik.web.devices.models import Device, DeviceRole
from fenvik.web.devices.services import take_up
from fenvik.web.groundwork.models import CheckAnswer
from fenvik.web.groundwork.services import answer_check
from fenvik.web.handovers.services import make_handover
from fenvik.web.passes import engine
from fenvik.web.passes.models import Pass, PassPurpose, Reading
from fenvik.web.passes.recent import recent_readings
from fenvik.web.passes.services import start_pass
from fenvik.web.people.models import Firm, Role, User
from fenvik.web.planning.services import usual_bits
from fenvik.web.visits.models import Purpose, Tuning, Visit, first_lists

FIRM, PERSON, PASSWORD = "Reedwater Picture", "demo", "lakeside"
MODE = "m2"  # the display's name for Film
MOST_MOVES = 8
SOURCE = "BP1-1180"  # of the two, the one that sends ten bits


def standin_menu_map(firm: Firm) -> MenuMap:
    """Return the menu map of the stand-in LCD, as it would be typed from its menu."""
    return menu_map_of(firm, "Orrefall", "55", lcd_menu(), MODE)


def menu_map_of(firm: Firm, maker: str, model: str, menu: Menu, mode: str) -> MenuMap:
    """Return the menu map of a stand-in, with what the mode stands at as its usual values."""
    values = menu.values[mode]
    controls = [
        {k: v for k, v in item.described(values[item.id], values[item.id]).items() if k != "value"}
        for item in menu.items.values()
    ]
    made, _ = MenuMap.objects.get_or_create(firm=firm, maker=maker, model=model, defaults={"controls": controls})
    return made


def typed_sheet(menu: Menu, mode: str) -> dict[str, str]:
    """Return a mode's factory values as a person would type them."""
    return {name: shown(value) for name, value in menu.values[mode].items()}


def offs(menu: Menu) -> dict[str, Any]:
    """Return what every processing control of a menu should be at while the display is measured."""
    return {item.id: item.off for item in menu.items.values() if (item.role or "").startswith("process.")}


def factory_sheet() -> dict[str, str]:
    """Return the film mode's factory values as a person would type them."""
    return typed_sheet(lcd_menu(), MODE)


@contextmanager
def served(bench: Bench) -> Iterator[str]:
    """Serve stand-ins in a thread of this process while the block runs; gives the directory's address."""
    ready, ends = threading.Event(), list[Callable[[], object]]()

    async def serve() -> None:
        done, loop = asyncio.Event(), asyncio.get_running_loop()
        ends.append(lambda: loop.call_soon_threadsafe(done.set))
        async with running(bench, 0):
            ready.set()
            await done.wait()

    thread = threading.Thread(target=lambda: asyncio.run(serve()), daemon=True)
    thread.start()
    ready.wait(10)
    try:
        yield f"127.0.0.1:{bench.directory.port}"
    finally:
        ends[0]()
        thread.join(5)


class Hand:
    """A person who does what the screen says, at a display that is not on the link."""

    def __init__(self, tuning: Tuning, actor: User, display: Shown, mode: str = MODE) -> None:
        self.tuning, self.actor, self.display, self.mode = tuning, actor, display, mode
        self.moves = {"high": 0, "low": 0}

    def desk(self) -> Desk:
        """Look at the screen."""
        self.tuning.refresh_from_db()
        tuning = placed(self.tuning, self.actor.pk)
        return lay_out(tuning, values_of(tuning), recent_readings(tuning))

    def measure(self, purpose: str, now: datetime) -> Pass:
        """Run a whole pass here."""
        started = start_pass(tuning_id=self.tuning.pk, actor=self.actor, now=now, purpose=purpose)
        engine.run(started.pk)
        return started

    def turn(self, values: dict[str, Any], now: datetime, basis: int | None = None) -> None:
        """Turn controls on the display, and say so."""
        for control, value in values.items():
            self.display.set_control(self.mode, control, value)
        log_changes(
            tuning_id=self.tuning.pk, actor=self.actor, typed={k: shown(v) for k, v in values.items()},
            seen=ControlChange.objects.filter(tuning=self.tuning).count(), now=now, group=uuid.uuid4(), basis_id=basis,
        )  # fmt: skip

    def read(self, now: datetime) -> None:
        """Read the level that is worked on."""
        engine.run(read_level(tuning_id=self.tuning.pk, actor=self.actor, now=now).pk)

    def follow(self, end: str, now: datetime) -> None:
        """Follow the nudges at one end until there are none."""
        self.tuning.refresh_from_db()
        high, low = ends_of(placed(self.tuning, self.actor.pk))
        work_at(tuning_id=self.tuning.pk, actor=self.actor, end=end, level=high if end == "high" else low)
        self.read(now)
        for _ in range(MOST_MOVES):
            desk = self.desk()
            if desk.nudge is None or not desk.nudge.moves:
                return
            assert desk.basis is not None
            self.turn(
                {m.control.id: round(m.value) for m in desk.nudge.moves}, datetime.now(now.tzinfo), desk.basis.row.pk
            )
            self.moves[end] += 1
            self.read(datetime.now(now.tzinfo))


def whole_job(tuning: Tuning, actor: User, bench: Bench, now: datetime) -> Hand:
    """Do the whole job on a tuning, from the settings as found to the pass as left."""
    bench.displays[0].choose_mode(MODE)
    note_found(tuning_id=tuning.pk, actor=actor, typed=factory_sheet(), now=now)
    hand = Hand(tuning, actor, bench.displays[0])
    hand.turn(offs(lcd_menu()) | {"pic-1": 28}, now)
    for check in ("mode", "inputs"):
        answer_check(tuning_id=tuning.pk, actor=actor, check_id=check, answer="right", now=now)
    answer_check(tuning_id=tuning.pk, actor=actor, check_id="signal", answer="right", after="sdr", now=now)
    hand.measure(PassPurpose.FOUND, now)
    for end in ("high", "low") * 2:
        hand.follow(end, now)
        desk = hand.desk()
        if end == "low" and (desk.other is None or not desk.other.moves):
            break
    if desk.taught is not None:
        keep(tuning=tuning, response=desk.taught, now=now)
    hand.measure(PassPurpose.LEFT, now)
    return hand


def _shift(tuning: Tuning, by: timedelta) -> None:
    """Move what was measured now to the day of its visit."""
    Reading.objects.filter(pass_of__tuning=tuning).update(at=F("at") - by, started_at=F("started_at") - by)
    Pass.objects.filter(tuning=tuning).update(
        created_at=F("created_at") - by, started_at=F("started_at") - by, finished_at=F("finished_at") - by
    )
    ControlChange.objects.filter(tuning=tuning).update(at=F("at") - by)
    SettingsSheet.objects.filter(tuning=tuning).update(at=F("at") - by)
    CheckAnswer.objects.filter(tuning=tuning).update(at=F("at") - by)


def _display(
    room: Room, maker: str, model: str, serial: str, technology: str, menu_map: MenuMap | None, **more: Any
) -> Display:
    feeds = more.pop("feeds", ())
    made = Display.objects.create(
        room=room, maker=maker, model=model, serial=serial, technology=technology, menu_map=menu_map, **more
    )
    Feed.objects.bulk_create(Feed(display=made, through=t, what=w, order=i) for i, (t, w) in enumerate(feeds))
    return made


def fill(directory: str, now: datetime) -> bool:
    """Fill the demo; return whether there was anything to fill. Addresses are refreshed each time."""
    firm, fresh = Firm.objects.get_or_create(name=FIRM)
    if not fresh:
        take_up(actor=User.objects.get(username=PERSON), address=directory, now=now)
        return False
    person = User(username=PERSON, first_name="Ina", last_name="Reed", firm=firm, role=Role.OWNER)
    person.set_password(PASSWORD)
    person.save()
    menu_map = standin_menu_map(firm)
    today = now.date()
    _finished_job(firm, person, menu_map, now)
    take_up(actor=person, address=directory, now=now)
    meter = Device.objects.of_firm(firm.pk).get(role=DeviceRole.METER, facts__kind="spectroradiometer")
    source = Device.objects.of_firm(firm.pk).get(serial=SOURCE)
    _guest_house(firm, person, now, {"meter": meter, "source": source})
    _birch_row(firm, person, today)
    return True


def _guest_house(firm: Firm, person: User, now: datetime, measured: dict[str, Any]) -> None:
    lake = Client.objects.create(
        firm=firm, name="Lakeside guest house", contact="Marit, at the desk", address="Shore path 1, by the boat shed",
        notes="Keys in the boat shed. Breakfast until ten: no noise in the lounge before that.",
    )  # fmt: skip
    lounge = Room.objects.create(
        client=lake, name="Lounge", lux_day=140, lux_night=6, seating_m=2.9, surround="white wall, lamp behind the sofa"
    )
    snug = Room.objects.create(
        client=lake, name="Snug", lux_day=60, lux_night=2, seating_m=2.2, surround="dark green wall"
    )
    attic = Room.objects.create(
        client=lake, name="Attic cinema", lux_day=4, lux_night=0.2, seating_m=3.6, surround="black cloth, grey carpet"
    )
    oled = _display(
        lounge,
        "Skerry",
        "W65",
        "SW65-0112",
        Technology.WRGB_OLED,
        menu_map_of(firm, "Skerry", "W65", oled_menu(), "p2"),
        size_in=65,
        hours=2100,
        feeds=[("HDMI 1", "set-top box"), ("HDMI 2", "games console"), ("App: films", "streaming, SDR and HDR10")],
    )
    lcd = _display(
        snug, "Orrefall", "55", "OF55-0417", Technology.LCD, standin_menu_map(firm), size_in=55, hours=5400,
        feeds=[("HDMI 1", "disc player"), ("Tuner", "day television")],
    )  # fmt: skip
    laser = _display(
        attic,
        "Loftlight",
        "L4",
        "LL4-0093",
        Technology.PROJECTOR,
        menu_map_of(firm, "Loftlight", "L4", projector_menu(), "c2"),
        size_in=108,
        hours=760,
        screen_gain=1.0,
        feeds=[("HDMI 1", "disc player"), ("HDMI 2", "laptop of the house")],
    )
    for display in (oled, lcd, laser):
        display.link = Device.objects.of_firm(firm.pk).filter(serial=display.serial).first()
        display.save(update_fields=["link"])
    visit = Visit.objects.create(
        firm=firm,
        client=lake,
        on=now.date(),
        starts=time(9, 30),
        calibrator=person,
        notes="All three rooms, film first.",
    )

    def tuning(display: Display, name: str, mode: str, purpose: str, signal: str = "sdr") -> Tuning:
        room = RoomLight(display.room.lux_day, display.room.lux_night)
        aim = propose(purpose, signal, technology=display.technology, room=room)
        return Tuning.objects.create(
            lists=first_lists(signal),
            visit=visit, display=display, name=name, picture_mode=mode, purpose=purpose, signal=signal, target_name=aim.target,
            luminance=aim.luminance, tolerance=aim.tolerance, bits=usual_bits(signal, measured["source"]), **measured,
        )  # fmt: skip

    night = tuning(lcd, "Snug, film night", "Film", "film")
    tuning(lcd, "Snug, day television", "Shop", "day")
    cinema = tuning(oled, "Lounge, film", "Cinema", "film")
    tuning(oled, "Lounge, film in HDR", "Cinema HDR", "film", "hdr10")
    attic_film = tuning(laser, "Attic, film", "Natural", "film")
    note_found(tuning_id=night.pk, actor=person, typed=factory_sheet(), now=now)
    note_found(tuning_id=cinema.pk, actor=person, typed=typed_sheet(oled_menu(), "p2"), now=now)
    note_found(tuning_id=attic_film.pk, actor=person, typed=typed_sheet(projector_menu(), "c2"), now=now)
    for check in ("mode", "screen", "lens", "geometry"):
        answer_check(tuning_id=attic_film.pk, actor=person, check_id=check, answer="right", now=now)
    answer_check(
        tuning_id=attic_film.pk,
        actor=person,
        check_id="light-source",
        answer="changed",
        before="eco",
        after="full",
        now=now,
    )


def _birch_row(firm: Firm, person: User, today: date) -> None:
    birch = Client.objects.create(firm=firm, name="Birch Row 4", contact="first visit, side door")
    front = Room.objects.create(client=birch, name="Front room", lux_day=220, seating_m=3.1)
    typed = MenuMap.objects.create(
        firm=firm,
        maker="Mirefield",
        model="M50",
        controls=joined(joined([], block("picture", {})), block("levels", {"levels": "20"})),
    )
    _display(front, "Mirefield", "M50", "", Technology.LCD, typed, size_in=50)
    Visit.objects.create(firm=firm, client=birch, on=today + timedelta(days=1), starts=time(15, 0), calibrator=person)


def _finished_job(firm: Firm, person: User, menu_map: MenuMap, now: datetime) -> None:
    bench = make_bench(haste=float("inf"), seed=71)
    days = timedelta(days=6)
    with served(bench) as address:
        take_up(actor=person, address=address, now=now)
        devices = Device.objects.of_firm(firm.pk)
        fern = Client.objects.create(firm=firm, name="Fern Cottage", contact="the Dalgaards")
        room = Room.objects.create(client=fern, name="Sitting room", lux_day=90, lux_night=8, seating_m=2.6)
        display = _display(room, "Orrefall", "55", "OF55-0233", Technology.LCD, menu_map, size_in=55)
        visit = Visit.objects.create(
            firm=firm, client=fern, on=(now - days).date(), starts=time(10, 0), calibrator=person
        )
        tuning = Tuning.objects.create(
            visit=visit, display=display, name="Sitting room, night", picture_mode="Film", purpose=Purpose.NIGHT, luminance=120,
            meter=devices.get(role=DeviceRole.METER, facts__kind="spectroradiometer"), source=devices.get(serial=SOURCE),
            settle_s=0,
        )  # fmt: skip
        whole_job(tuning, person, bench, now)
    _shift(tuning, days)
    make_handover(visit_id=visit.pk, actor=person, now=now - days)
    # The stand-ins that were used here took no time at all: how long the real ones take is to be seen.
    Device.objects.of_firm(firm.pk).update(pace={})
