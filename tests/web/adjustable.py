"""A tuning of a stand-in with a network control, paired, with a reference meter: for tests that adjust it."""

from fenvik.web.clients.models import Client, Display, Room
from fenvik.web.controls.maps import read_over_link
from fenvik.web.devices.displays import answer_code, show_code
from fenvik.web.devices.services import take_up
from fenvik.web.visits.models import Tuning, Visit


def adjustable(person, bench, now, *, index=3, mode="Expert", luminance=None, pair=True):
    """Return a tuning of a mode of a stand-in, with its menu read over the link where it is paired."""
    shown = bench.displays[index]
    bench.world.front = shown.serial
    shown.optics.on_since = -86_400.0
    client = Client.objects.create(firm=person.firm, name="A client")
    room = Room.objects.create(client=client, name="Lounge")
    found = take_up(actor=person, address=bench.address, now=now)
    display = Display.objects.create(room=room, maker=shown.maker, model=shown.model, serial=shown.serial)
    visit = Visit.objects.create(firm=person.firm, client=client, on=now.date(), calibrator=person)
    tuning = Tuning.objects.create(
        visit=visit, display=display, name="Lounge, film", picture_mode=mode, settle_s=0, bits=10, luminance=luminance,
        meter=next(d for d in found.devices if d.facts.get("kind") == "spectroradiometer"),
        source=next(d for d in found.devices if d.serial == "BP1-1180"),
    )  # fmt: skip
    if pair:
        show_code(display)
        answer_code(display=display, code="4711", actor=person, now=now)
        read_over_link(tuning_id=tuning.pk, actor=person, now=now)
    return Tuning.objects.get(pk=tuning.pk)
