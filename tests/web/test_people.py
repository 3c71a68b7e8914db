"""Roles, links, sessions, passwords, the second factor, wrong tries, and the log that nobody can change."""

import importlib
import inspect
import pkgutil
import re

import pytest
from django.db import DatabaseError, transaction
from django.test import Client as Browser
from django.urls import reverse
from django_otp.oath import TOTP
from django_otp.plugins.otp_totp.models import TOTPDevice

import fenvik.web
from fenvik.web.clients.models import Client
from fenvik.web.people import services
from fenvik.web.people.models import Link, LogEntry, Role, SignedIn, User
from fenvik.web.people.policy import MAY, NotAllowedError, Right
from fenvik.web.stops.registry import rights

pytestmark = pytest.mark.django_db
GOOD = "seven grey herons"
WITHOUT = {"record_changes", "log_one", "set_controls"}  # what services themselves use, inside of what has been asked


@pytest.fixture(autouse=True)
def quick(settings):
    """Hundreds of tries are no place to wait for a slow hash."""
    settings.PASSWORD_HASHERS = [f"django.contrib.auth.hashers.{name}PasswordHasher" for name in ("MD5", "PBKDF2")]


def as_role(person, role):
    person.role = role
    person.save()
    return person


def sign_in(browser, name="ina", password="quiet water", **more):
    return browser.post(reverse("sign-in"), {"username": name, "password": password}, **more)


def test_every_service_asks_whether_its_actor_may():
    lacking = []
    for found in pkgutil.walk_packages(fenvik.web.__path__, "fenvik.web."):
        if ".migrations" in found.name or ".demo" in found.name or found.name.endswith((".asgi", ".policy")):
            continue
        module = importlib.import_module(found.name)
        for name, service in inspect.getmembers(module, inspect.isfunction):
            own = service.__module__ == found.name and not name.startswith("_") and name not in WITHOUT
            wanted = own and "actor" in {n for n, p in inspect.signature(service).parameters.items() if p.kind == p.KEYWORD_ONLY}
            if wanted and not hasattr(service, "right"):
                lacking.append(f"{found.name}.{name}")
    assert lacking == []


def test_the_office_touches_no_device(signed_in, person, tuning, now):
    as_role(person, Role.OFFICE)
    for name in (name for name, right in rights.items() if right == Right.MEASURE):
        answer = signed_in.post(reverse("act", args=(tuning.pk, name)), {"stop": "adjust"}, follow=True)
        assert "Only an owner or a calibrator of the firm may measure" in answer.content.decode(), name
    signed_in.post(reverse("new-client"), {"name": "By the office"})
    assert Client.objects.filter(name="By the office").exists()
    from fenvik.web.passes.services import start_pass

    with pytest.raises(NotAllowedError):
        start_pass(tuning_id=tuning.pk, actor=person, now=now)
    for name in ("people", "log", "networks"):
        assert signed_in.get(reverse(name)).status_code == 403
    assert "People</a>" not in signed_in.get(reverse("visits")).content.decode()


@pytest.mark.parametrize("role", list(Role))
def test_only_an_owner_runs_the_firm(person, stranger, role):
    other = User.objects.create_user(username="bo", firm=person.firm)
    as_role(person, role)
    acts = (
        lambda: services.invite(actor=person, name="x", role="office"),
        lambda: services.change_role(actor=person, person_id=other.pk, role="owner"),
        lambda: services.set_active(actor=person, person_id=other.pk, active=False),
        lambda: services.let_set_password(actor=person, person_id=other.pk),
    )
    for act in acts:
        if role in MAY[Right.RUN_FIRM]:
            act()
        else:
            with pytest.raises(NotAllowedError):
                act()
    if role == Role.OWNER:
        for act in (services.end_all, services.let_set_password):
            with pytest.raises(User.DoesNotExist):
                act(actor=person, person_id=stranger.pk)


def test_somebody_is_invited_joins_and_is_let_in_no_longer(signed_in, person, client):
    signed_in.post(reverse("people-act", args=("invite",)), {"name": "Bo", "role": "calibrator"})
    link = Link.objects.get()
    page = signed_in.get(reverse("people")).content.decode()
    assert reverse("link", args=(link.token,)) in page
    guest = Browser()
    address = reverse("link", args=(link.token,))
    form = {"first_name": "Bo", "last_name": "", "username": "bo", "password": "1234567890", "again": "1234567890"}
    refused = ((form, "entirely numeric"), (form | {"username": "Ina"}, "already"), (form | {"again": "x"}, "The two differ"))
    for wrong, says in refused:
        answer = guest.post(address, wrong)
        assert (answer.status_code, says in answer.content.decode()) == (422, True)
    assert guest.post(address, form | {"password": GOOD, "again": GOOD}).status_code == 302
    assert guest.post(address, form | {"username": "bo2", "password": GOOD, "again": GOOD}).status_code == 410
    bo = User.objects.get(username="bo")
    assert (bo.firm, bo.role) == (person.firm, Role.CALIBRATOR)
    assert sign_in(guest, "bo", GOOD).status_code == 302
    assert guest.get(reverse("visits")).status_code == 200
    signed_in.post(reverse("people-act", args=("deactivate",)), {"id": bo.pk})
    assert guest.get(reverse("visits")).status_code == 302
    assert not SignedIn.objects.filter(person=bo).exists()
    assert sign_in(guest, "bo", GOOD).status_code == 200


def test_the_last_owner_stays(person):
    for act in (
        lambda: services.change_role(actor=person, person_id=person.pk, role="office"),
        lambda: services.set_active(actor=person, person_id=person.pk, active=False),
    ):
        with pytest.raises(services.LastOwnerError):
            act()


def test_a_password_is_set_by_a_link_and_changed_by_oneself(signed_in, person):
    link = services.let_set_password(actor=person, person_id=person.pk)
    assert Browser().post(reverse("link", args=(link.token,)), {"password": GOOD, "again": GOOD}).status_code == 302
    assert signed_in.get(reverse("visits")).status_code == 302, "sessions end with the password"
    here, elsewhere = Browser(), Browser()
    for browser in (here, elsewhere):
        assert sign_in(browser, "ina", GOOD).status_code == 302
    new = "eight grey herons"
    assert here.post(reverse("own"), {"old": "wrong", "password": new, "again": new}).status_code == 422
    assert here.post(reverse("own"), {"old": GOOD, "password": new, "again": new}).status_code == 302
    assert here.get(reverse("own")).status_code == 200
    assert elsewhere.get(reverse("own")).status_code == 302


def test_a_second_factor(signed_in, person):
    page = signed_in.post(reverse("own-act", args=("second-begin",))).content.decode()
    assert "<svg" in page
    device = TOTPDevice.objects.get(user=person)

    def code(ahead=0):
        totp = TOTP(device.bin_key)
        totp.time = totp.time + 30 * ahead
        return f"{totp.token():06d}"

    assert signed_in.post(reverse("own-act", args=("second-on",)), {"code": "000000"}).status_code == 422
    TOTPDevice.objects.update(throttling_failure_count=0)
    page = signed_in.post(reverse("own-act", args=("second-on",)), {"code": code()}).content.decode()
    kept = re.findall(r"<li>([a-z0-9]{10})</li>", page)
    assert len(kept) == 10
    other = Browser()
    answer = sign_in(other)
    assert answer["Location"] == reverse("second-factor")
    assert other.get(reverse("visits")).status_code == 302, "the password alone lets nobody in"
    assert other.post(reverse("second-factor"), {"code": "000000"}).status_code == 422
    TOTPDevice.objects.update(throttling_failure_count=0)
    assert other.post(reverse("second-factor"), {"code": code(1)}).status_code == 302
    assert other.get(reverse("visits")).status_code == 200
    for again, status in ((1, 302), (2, 422)):
        third = Browser()
        sign_in(third)
        assert third.post(reverse("second-factor"), {"code": kept[0]}).status_code == status, f"a kept code works once, try {again}"
    other.post(reverse("people-act", args=("second-off",)), {"id": person.pk})
    assert sign_in(Browser())["Location"] == reverse("visits")
    assert Browser().post(reverse("second-factor"), {"code": code(2)})["Location"] == reverse("sign-in")


def test_wrong_tries_close_a_pair_an_address_and_a_name_for_a_while(person, settings):
    User.objects.create_user(username="bo", firm=person.firm, password=GOOD)
    assert sign_in(Browser(), REMOTE_ADDR="10.0.0.1").status_code == 302
    for _ in range(8):
        sign_in(Browser(), password="wrong", REMOTE_ADDR="10.0.0.2")
    assert sign_in(Browser(), REMOTE_ADDR="10.0.0.2").status_code == 429
    assert sign_in(Browser(), "bo", GOOD, REMOTE_ADDR="10.0.0.2").status_code == 302, "another person at that address is let in"
    assert sign_in(Browser(), REMOTE_ADDR="10.0.0.3").status_code == 302, "and this one from another"
    for i in range(40):
        sign_in(Browser(), f"nobody{i}", "wrong", REMOTE_ADDR="10.0.0.4")
    assert sign_in(Browser(), "bo", GOOD, REMOTE_ADDR="10.0.0.4").status_code == 429, "an address that tries many names"
    for i in range(80):
        sign_in(Browser(), password="wrong", REMOTE_ADDR=f"10.0.1.{i}")
    assert sign_in(Browser(), REMOTE_ADDR="10.0.2.1").status_code == 429, "a name that many addresses try"
    assert sign_in(Browser(), REMOTE_ADDR="10.0.0.1").status_code == 302, "but not where the person has signed in before"
    # What a client says of itself is not believed: only the server's own word, which hears named proxies.
    assert sign_in(Browser(), REMOTE_ADDR="10.0.0.2", HTTP_X_FORWARDED_FOR="10.9.9.9").status_code == 429


@pytest.mark.parametrize(("name", "password"), [("i" * 5000, "x"), ("ina", "x" * 100_000), ("ina\x00", "x"), ("\ud83d" * 3, "x")])
def test_names_and_passwords_that_nobody_types_get_a_sentence(person, name, password):
    answer = sign_in(Browser(), name.encode("utf-8", "replace").decode(), password)
    assert answer.status_code in (200, 400)


def test_the_log_says_who_did_what_and_is_not_changed(signed_in, person, tuning, now):
    from fenvik.web.planning.services import plan_visit

    plan_visit(actor=person, cleaned={"client": tuning.visit.client, "on": now.date(), "starts": None, "notes": ""})
    assert LogEntry.objects.filter(firm=person.firm, did="planned a visit", about__startswith="A client").exists()
    page = signed_in.get(reverse("log")).content.decode()
    assert "planned a visit" in page
    assert "signed in" in page
    for change in (lambda: LogEntry.objects.update(did="nothing"), lambda: LogEntry.objects.all().delete()):
        with pytest.raises(DatabaseError, match="is not changed"), transaction.atomic():
            change()
