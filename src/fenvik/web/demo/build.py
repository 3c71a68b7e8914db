"""The invented firm that looks after the lakeside guest house; its finished job is measured, not made up."""

import asyncio
import threading
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime, time, timedelta
from typing import Any

from django.db.models import F

from fenvik.standins.bench import Bench, make_bench
from fenvik.standins.models import lcd_menu
from fenvik.standins.serve import running
from fenvik.web.adjusting.desk import Desk, lay_out
from fenvik.web.adjusting.learned import keep
from fenvik.web.adjusting.models import ControlChange
from fenvik.web.adjusting.services import log_changes, read_level, work_at
from fenvik.web.clients.models import Client, Display, Room, Technology
from fenvik.web.devices.models import Device, DeviceRole
from fenvik.web.devices.services import take_up
from fenvik.web.handovers.services import make_handover
from fenvik.web.menus.models import MenuMap, SettingsSheet
from fenvik.web.menus.services import note_found
from fenvik.web.menus.values import values_of
from fenvik.web.passes import engine
from fenvik.web.passes.models import Pass, PassPurpose, Reading
from fenvik.web.passes.recent import recent_readings
from fenvik.web.passes.services import start_pass
from fenvik.web.people.models import Firm, Role, User
from fenvik.web.visits.models import Purpose, Tuning, Visit

FIRM, PERSON, PASSWORD = "Reedwater Picture", "demo", "lakeside"
MODE = "m2"  # the display's name for Film
MOST_MOVES = 8


def standin_menu_map(firm: Firm) -> MenuMap:
    """Return the menu map of the stand-in LCD, as it would be typed from its menu."""
    menu = lcd_menu()
    controls = [
        {k: v for k, v in item.described(menu.values[MODE][item.id], 0).items() if k not in ("value", "default")}
        for item in menu.items.values()
    ]
    made, _ = MenuMap.objects.get_or_create(firm=firm, maker="Orrefall", model="55", defaults={"controls": controls})
    return made


def factory_sheet() -> dict[str, str]:
    """Return the film mode's factory values as a person would type them."""
    return {name: str(value) for name, value in lcd_menu().values[MODE].items()}


@contextmanager
def served(bench: Bench) -> Iterator[str]:
    """Serve stand-ins in a thread of this process while the block runs; gives the directory's address."""
    ready, done = threading.Event(), asyncio.Event()
    loop = asyncio.new_event_loop()

    async def serve() -> None:
        async with running(bench, 0):
            ready.set()
            await done.wait()

    thread = threading.Thread(target=lambda: loop.run_until_complete(serve()), daemon=True)
    thread.start()
    ready.wait(10)
    try:
        yield f"127.0.0.1:{bench.directory.port}"
    finally:
        loop.call_soon_threadsafe(done.set)
        thread.join(5)
        loop.close()


class Hand:
    """A person who does what the screen says, at a display that is not on the link."""

    def __init__(self, tuning: Tuning, actor: User, bench: Bench) -> None:
        self.tuning, self.actor, self.display = tuning, actor, bench.displays[0]
        self.moves = {"high": 0, "low": 0}

    def desk(self) -> Desk:
        """Look at the screen."""
        self.tuning.refresh_from_db()
        return lay_out(self.tuning, values_of(self.tuning), recent_readings(self.tuning))

    def measure(self, purpose: str, now: datetime) -> Pass:
        """Run a whole pass here."""
        started = start_pass(tuning_id=self.tuning.pk, actor=self.actor, now=now, purpose=purpose)
        engine.run(started.pk)
        return started

    def turn(self, values: dict[str, Any], now: datetime, basis: int | None = None) -> None:
        """Turn controls on the display, and say so."""
        for control, value in values.items():
            self.display.set_control(MODE, control, value)
        log_changes(
            tuning_id=self.tuning.pk, actor=self.actor, typed={k: str(v) for k, v in values.items()},
            seen=ControlChange.objects.filter(tuning=self.tuning).count(), now=now, group=uuid.uuid4(), basis_id=basis,
        )  # fmt: skip

    def read(self, now: datetime) -> None:
        """Read the level that is worked on."""
        engine.run(read_level(tuning_id=self.tuning.pk, actor=self.actor, now=now).pk)

    def follow(self, end: str, now: datetime) -> None:
        """Follow the nudges at one end until there are none."""
        level = self.tuning.high_level if end == "high" else self.tuning.low_level
        work_at(tuning_id=self.tuning.pk, actor=self.actor, end=end, level=level)
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
    hand = Hand(tuning, actor, bench)
    hand.turn({"eco-1": "Off", "pic-1": 28}, now)
    hand.measure(PassPurpose.FOUND, now)
    for end in ("high", "low") * 2:
        hand.follow(end, now)
        desk = hand.desk()
        if end == "low" and (desk.other is None or not desk.other.moves):
            break
    if desk.response is not None:
        keep(tuning=tuning, response=desk.response, now=now)
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


def _display(client: Client, room: str, serial: str, menu_map: MenuMap) -> Display:
    where = Room.objects.create(client=client, name=room)
    return Display.objects.create(
        room=where, maker="Orrefall", model="55", serial=serial, technology=Technology.LCD, menu_map=menu_map
    )


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
    source = Device.objects.of_firm(firm.pk).get(role=DeviceRole.SOURCE)
    lake = Client.objects.create(
        firm=firm, name="Lakeside guest house", contact="Marit, at the desk", notes="Keys in the boat shed."
    )
    snug = _display(lake, "Snug", "OF55-0417", menu_map)
    visit = Visit.objects.create(firm=firm, client=lake, on=today, starts=time(9, 30), calibrator=person)
    measured = {"meter": meter, "source": source}
    night = Tuning.objects.create(
        visit=visit,
        display=snug,
        name="Snug, film night",
        picture_mode="Film",
        purpose=Purpose.FILM,
        luminance=120,
        **measured,
    )
    Tuning.objects.create(
        visit=visit, display=snug, name="Snug, day television", picture_mode="Shop", purpose=Purpose.DAY,
        target_name="bt709-2.2", luminance=200, **measured,
    )  # fmt: skip
    note_found(tuning_id=night.pk, actor=person, typed=factory_sheet(), now=now)
    birch = Client.objects.create(firm=firm, name="Birch Row 4", contact="first visit, side door")
    Visit.objects.create(firm=firm, client=birch, on=today + timedelta(days=1), starts=time(15, 0), calibrator=person)
    return True


def _finished_job(firm: Firm, person: User, menu_map: MenuMap, now: datetime) -> None:
    bench = make_bench(haste=float("inf"), seed=71)
    days = timedelta(days=6)
    with served(bench) as address:
        take_up(actor=person, address=address, now=now)
        devices = Device.objects.of_firm(firm.pk)
        fern = Client.objects.create(firm=firm, name="Fern Cottage", contact="the Dalgaards")
        display = _display(fern, "Sitting room", "OF55-0233", menu_map)
        visit = Visit.objects.create(
            firm=firm, client=fern, on=(now - days).date(), starts=time(10, 0), calibrator=person
        )
        tuning = Tuning.objects.create(
            visit=visit, display=display, name="Sitting room, night", picture_mode="Film", purpose=Purpose.NIGHT, luminance=120,
            meter=devices.get(role=DeviceRole.METER, facts__kind="spectroradiometer"), source=devices.get(role=DeviceRole.SOURCE),
            settle_s=0,
        )  # fmt: skip
        whole_job(tuning, person, bench, now)
        make_handover(visit_id=visit.pk, actor=person, now=now)
    _shift(tuning, days)
