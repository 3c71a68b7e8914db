"""What one firm has is nothing to another: every address and every act, with another firm's things in path, query and body.

A new address, or a new act, without a row here fails the test.
"""

import pytest
from django.apps import apps
from django.urls import get_resolver, reverse
from django.utils import timezone

from fenvik.web.adjusting.models import ChangeList
from fenvik.web.clients.models import Client, Display, Room
from fenvik.web.controls.models import SettingsSheet
from fenvik.web.corrections.models import Correction
from fenvik.web.groundwork.services import answer_check
from fenvik.web.handovers.services import make_handover
from fenvik.web.kit.models import FirmModel
from fenvik.web.passes.models import PatchList, Reading, ReadingsImport
from fenvik.web.patterns.services import show
from fenvik.web.people.models import Link, LogEntry, Role, User
from fenvik.web.people.services import invite
from fenvik.web.stops.registry import acts
from fenvik.web.visits.models import Tuning, Visit, WhiteCandidate

BACKEND = "django.contrib.auth.backends.ModelBackend"
SECRET = "Heronsgate"  # in every text of the first firm that a page could show
DEVICE_ACTS = ("try", "refresh", "show-code", "pair", "rename", "remove")
PEOPLE_ACTS = ("role", "deactivate", "activate", "end-sessions", "second-off", "password-link", "end-link", "zone")
# Addresses that name no object: they show or make what is of the firm that asks.
OF_THE_FIRM = {
    "home", "sign-in", "second-factor", "sign-out", "people", "log", "people-act", "own", "own-act", "visits", "new-visit",
    "clients", "new-client", "instruments", "networks", "corrections", "correction-import", "find", "screen-number", "example",
    "patch-list-new", "away", "help", "words",
}  # fmt: skip
# Addresses whose token is the right to see what is there, without any firm.
BY_TOKEN = {"link", "screen", "screen-live", "screen-picture", "screen-drawn", "screen-choose", "handover"}
ONLY_POST = {"act", "device-act", "correction-withdraw", "visit-act", "take-back"}


class Things:
    """One of everything that a firm can have."""

    def __init__(self, tuning, person, now):
        self.tuning, self.person = tuning, person
        self.sheet, self.change = tuning.sheets.first(), tuning.changes.first()
        self.found = tuning.passes.filter(purpose="found").first()
        self.reading = Reading.objects.filter(pass_of=self.found).first()
        self.handover = make_handover(visit_id=tuning.visit_id, actor=person, now=now)
        self.correction = Correction.objects.create(
            firm=person.firm, meter=tuning.meter, meter_name=SECRET, meter_serial="1", reference_name=SECRET,
            display=tuning.display, technology="lcd", method="primaries", matrix=[[1, 0, 0], [0, 1, 0], [0, 0, 1]], made_at=now,
            made_by=person,
            rows=[{"label": "white", "rgb": [235] * 3, "reference": [95, 100, 109], "meter": [95, 100, 109]}],
        )  # fmt: skip
        rows = [{"label": SECRET, "percent": [50, 50, 50]}]
        self.patch_list = PatchList.objects.create(firm=person.firm, name=SECRET, patches=rows)
        self.change_list = ChangeList.objects.create(tuning=tuning, kind="back", rows=[], at=now, by=person)
        self.file = ReadingsImport.objects.create(
            tuning=tuning, purpose="left", name=SECRET, data=b"", state="refused", created_at=now, created_by=person, seen_at=now
        )
        self.away = SettingsSheet.objects.create(tuning=tuning, moment="noted", note=SECRET, at=now, put_away_at=timezone.now())
        answer_check(tuning_id=tuning.pk, actor=person, check_id="cables", answer="right", now=now)
        show(tuning_id=tuning.pk, actor=person, pattern="alignment", typed={}, now=now)
        invite(actor=person, name=SECRET, role=Role.OFFICE)
        self.white = WhiteCandidate.objects.create(firm=person.firm, name=SECRET, du=0.001, dv=0.002)
        self.link = Link.objects.get(firm=person.firm)

    @property
    def addresses(self):
        """What an address takes to name one of these, by the address's name."""
        tuning, device = self.tuning, {"pk": self.tuning.meter_id}
        of_tuning = {name: {"pk": tuning.pk} for name in ("tuning", "compare", "ending")}
        return of_tuning | {
            "visit": {"pk": tuning.visit_id}, "client": {"pk": tuning.visit.client_id}, "new-room": {"pk": tuning.visit.client_id},
            "room": {"pk": tuning.display.room_id}, "new-display": {"pk": tuning.display.room_id},
            "display": {"pk": tuning.display_id},
            "beside": {"pk": tuning.display_id},
            "proposals": {"pk": tuning.visit_id, "display_pk": tuning.display_id}, "device": device,
            "device-act": device | {"name": "rename"}, "act": {"pk": tuning.pk, "name": "look-quietly"},
            "stop": {"pk": tuning.pk, "stop": "found"}, "live": {"pk": tuning.pk, "stop": "found"},
            **{name: {"pk": self.sheet.pk} for name in ("sheet", "sheet-json", "sheet-csv")},
            **{name: {"pk": self.correction.pk} for name in ("correction", "correction-file")},
            "readings-file": {"pk": self.found.pk, "kind": "csv"},
            "picture-file": {"pk": tuning.pk, "stop": "found", "view": "balance", "kind": "csv"},
            "patch-list": {"pk": self.patch_list.pk}, "patch-list-file": {"pk": self.patch_list.pk, "kind": "csv"},
            "correction-withdraw": {"pk": self.correction.pk}, "visit-act": {"pk": tuning.visit_id, "name": "hold"},
            "put-away": {"kind": "pass", "pk": self.found.pk}, "take-back": {"kind": "sheet", "pk": self.away.pk},
        }  # fmt: skip

    @property
    def body(self):
        """Every field of a form that names a thing, naming one of these."""
        tuning = self.tuning
        return {
            "pass": self.found.pk, "correction": self.correction.pk, "reference": tuning.meter_id, "meter": tuning.meter_id,
            "source": tuning.source_id, "sheet": self.sheet.pk, "to": tuning.pk, "map": tuning.display.menu_map_id,
            "handover": self.handover.pk, "basis": self.reading.pk, "one": self.change.pk, "own": self.patch_list.pk,
            "group": self.change.group, "candidate": self.white.pk, "kind": "client",
            "link": tuning.meter_id, "tuning": tuning.pk, "display": tuning.display_id,
            "client": tuning.visit.client_id, "menu": f"map-{tuning.display.menu_map_id}", "a": self.found.pk, "b": self.found.pk,
            "person": self.person.pk, "id": self.person.pk, "number": self.person.pk, "pk": self.person.pk,
        }  # fmt: skip


@pytest.fixture
def theirs(finished, person, now):
    """A firm that has one of everything, all of it called so that it would be seen."""
    display = finished.display
    for thing, fields in (
        (finished, ("name",)), (finished.visit.client, ("name", "contact")), (display.room, ("name",)), (display, ("maker",)),
        (finished.meter, ("name",)), (finished.source, ("name",)), (display.menu_map, ("maker",)), (person, ("first_name",)),
    ):  # fmt: skip
        for field in fields:
            setattr(thing, field, SECRET)
        thing.save()
    return Things(Tuning.objects.get(pk=finished.pk), person, now)


@pytest.fixture
def ours(theirs, stranger, now):
    """A tuning of another firm, whose owner is signed in as the stranger."""
    stranger.role = Role.OWNER
    stranger.save()
    client = Client.objects.create(firm=stranger.firm, name="Ours")
    room = Room.objects.create(client=client, name="Ours")
    display = Display.objects.create(room=room, maker="Ours", model="1")
    visit = Visit.objects.create(firm=stranger.firm, client=client, on=now.date(), calibrator=stranger)
    return Tuning.objects.create(visit=visit, display=display, name="Ours", picture_mode="Film")


def firm_models():
    return [model for model in apps.get_models() if issubclass(model, FirmModel)]


def rows_of(firm_id):
    """Every row of a firm, as it stands."""
    every = {model: getattr(model, "everything", model.objects) for model in firm_models()}
    kept = {model: list(rows.of_firm(firm_id).order_by("pk").values()) for model, rows in every.items()}
    return kept | {User: list(User.objects.filter(firm_id=firm_id).order_by("pk").values())}


def crossings():
    """Rows of one firm that point to a row of another."""
    found = []
    for model in firm_models():
        for field in model._meta.concrete_fields:
            to = field.related_model
            if to is None or not issubclass(to, FirmModel):
                continue
            pairs = model.objects.filter(**{f"{field.name}__isnull": False})
            for pk, mine, others in pairs.values_list("pk", model.firm_path, f"{field.name}__{to.firm_path}"):
                if mine != others:
                    found.append((model.__name__, pk, field.name))
    return found


def patterns():
    return {pattern.name: pattern for pattern in get_resolver().url_patterns}


def test_every_address_is_in_the_walk(theirs):
    named = set(theirs.addresses) | OF_THE_FIRM | BY_TOKEN
    assert set(patterns()) == named
    with_objects = {name for name, pattern in patterns().items() if "pk" in pattern.pattern.converters}
    assert with_objects == set(theirs.addresses)


def test_the_owner_is_answered_and_another_firm_gets_404_at_every_address(theirs, stranger, client):
    for name, given in theirs.addresses.items():
        address = reverse(name, kwargs=given)
        ask = client.post if name in ONLY_POST else client.get
        client.force_login(theirs.person, backend=BACKEND)
        answer = ask(address, {"name": SECRET, "stop": "found"}) if name in ONLY_POST else ask(address)
        assert answer.status_code in (200, 204, 302), name
        client.force_login(stranger, backend=BACKEND)
        assert ask(address).status_code == 404, name


def test_no_act_is_done_at_another_firms_tuning_or_device(theirs, stranger, client):
    client.force_login(stranger, backend=BACKEND)
    before = rows_of(theirs.person.firm_id)
    walked = [reverse("act", args=(theirs.tuning.pk, name)) for name in acts]
    walked += [reverse("device-act", args=(theirs.tuning.meter_id, name)) for name in DEVICE_ACTS]
    assert len(walked) > 70
    for address in walked:
        assert client.post(address, theirs.body | {"stop": "adjust"}).status_code == 404, address
    assert rows_of(theirs.person.firm_id) == before


@pytest.mark.parametrize(("listed", "stop"), [("patch_list", "found"), ("change_list", "adjust")])
def test_no_act_at_ones_own_tuning_reaches_what_another_firm_has(listed, stop, theirs, ours, stranger, client):
    client.force_login(stranger, backend=BACKEND)
    before, firm_id = rows_of(theirs.person.firm_id), theirs.person.firm_id
    body = theirs.body | {"list": getattr(theirs, listed).pk, "role": "owner"}
    walked = [reverse("act", args=(ours.pk, name)) for name in acts if name != "directory"]
    walked += [reverse("people-act", args=(name,)) for name in PEOPLE_ACTS]
    walked += [reverse("new-visit"), reverse("visit", args=(ours.visit_id,)), reverse("correction-import")]
    for address in walked:
        answer = client.post(address, body | {"stop": stop}, follow=True)
        assert SECRET not in answer.content.decode(), address
    assert rows_of(firm_id) == before
    assert crossings() == []


def test_no_address_of_ones_own_shows_what_another_firm_has(theirs, ours, stranger, client):
    client.force_login(stranger, backend=BACKEND)
    query = {name: str(value) for name, value in theirs.body.items()} | {"q": SECRET[:4], "list": theirs.patch_list.pk}
    for name in OF_THE_FIRM - {"people-act", "own-act", "example", "sign-out", "help"}:
        assert SECRET not in client.get(reverse(name), query).content.decode(), name
    for stop in ("arrival", "groundwork", "instruments", "found", "adjust", "left", "handover"):
        for view in ("sheets", "menu", "correction", "lists", "wrong", "balance"):
            page = client.get(reverse("stop", args=(ours.pk, stop)), query | {"view": view, "work": "points"})
            assert SECRET not in page.content.decode(), (stop, view)
    assert SECRET not in client.get(reverse("compare", args=(ours.pk,)), query).content.decode()
    assert not LogEntry.objects.filter(firm=stranger.firm, about__contains=SECRET).exists()


def test_a_token_that_was_never_given_opens_nothing(client, db):
    for name in BY_TOKEN:
        address = reverse(name, args=("x" * 43,))
        answers = {client.get(address).status_code, client.post(address).status_code}
        assert answers <= {400, 404, 405, 410}, name
        assert name in ("screen-drawn", "screen-choose") or answers & {404, 410}, name
