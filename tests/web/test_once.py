"""Twenty sends of one form at once do it once; a refused form may be sent again; other content is another form."""

import datetime as dt
import re
from concurrent.futures import ThreadPoolExecutor

import pytest
from django.conf import settings
from django.urls import reverse

from fenvik.web.clients.models import Client, Display, Room
from fenvik.web.devices.models import Device
from fenvik.web.handovers.models import Handover
from fenvik.web.kit import once
from fenvik.web.kit.models import Sent
from fenvik.web.passes import engine
from fenvik.web.passes.models import Pass, PassPurpose
from fenvik.web.passes.services import start_pass
from fenvik.web.visits.models import Tuning, Visit
from tests.web.served import post, served

pytestmark = pytest.mark.django_db(transaction=True)
TIMES = 20


@pytest.fixture
def cookie(signed_in):
    return f"{settings.SESSION_COOKIE_NAME}={signed_in.cookies[settings.SESSION_COOKIE_NAME].value}"


def hidden(page, action=""):
    """The hidden fields of the form with an action, but for the token, as a browser would send them."""
    forms = re.findall(r"<form.*?</form>", page, re.S)
    form = next(f for f in forms if f'action="{action}"' in f or (not action and 'method="post"' in f and "sign-out" not in f))
    fields = dict(re.findall(r'type="hidden" name="([^"]+)" value="([^"]*)"', form))
    fields.pop("csrfmiddlewaretoken", None)
    assert re.fullmatch("[0-9a-f]{32}", fields["once"])
    return fields


def at_once(port, cookie, address, fields):
    """Send the same form many times in the same moment; return the first lines of the answers and where they led."""

    def send(_):
        line = post(port, address, cookie, **fields)
        head = line.until(b"\r\n\r\n").decode()
        line.end()
        place = re.search(r"(?i)^location: (.*?)\r$", head, re.M)
        return int(head.split()[1]), place and place.group(1)

    with ThreadPoolExecutor(TIMES) as pool:
        return set(pool.map(send, range(TIMES)))


@pytest.fixture
def forms(signed_in, ready, person, now, impatient):
    """What each kind of form is sent with: its page, its address, what is typed, and what it makes."""
    visit = ready.visit
    return {
        "client": (reverse("new-client"), "", {"name": "A new client"}, Client),
        "visit": (reverse("new-visit"), "", {"client": ready.display.room.client_id, "on": "2026-12-01"}, Visit),
        "room": (reverse("new-room", args=(visit.client_id,)), "", {"name": "Attic"}, Room),
        "display": (
            reverse("new-display", args=(ready.display.room_id,)), "", {"maker": "M", "model": "X1", "technology": "lcd"}, Display,
        ),
        "device": (
            reverse("instruments"), "", {"role": "source", "ks-name": "A disc", "ks-range": "limited"}, Device,
        ),
        "handover": (reverse("stop", args=(ready.pk, "handover")), reverse("act", args=(ready.pk, "hand-over")), {}, Handover),
        "pass": (reverse("stop", args=(ready.pk, "found")), reverse("act", args=(ready.pk, "measure-found")), {}, Pass),
    }  # fmt: skip


@pytest.mark.parametrize("kind", ["client", "visit", "room", "display", "device", "handover", "pass"])
def test_twenty_sends_at_once_make_one(kind, forms, signed_in, cookie, ready, person, now):
    page, address, typed, model = forms[kind]
    if kind == "handover":
        for purpose in (PassPurpose.FOUND, PassPurpose.LEFT):
            engine.run(start_pass(tuning_id=ready.pk, actor=person, now=now, purpose=purpose).pk)
    before = model.objects.count()
    fields = hidden(signed_in.get(page).content.decode(), address) | typed
    with served() as port:
        answers = at_once(port, cookie, address or page, fields)
    assert model.objects.count() == before + 1
    assert len(answers) == 1, "all are led to the same place"
    assert answers.pop()[0] == 302


def test_a_tuning_is_made_once_and_another_one_is_another(signed_in, tuning, cookie):
    page = reverse("visit", args=(tuning.visit_id,))
    html = signed_in.get(page).content.decode()
    fields = hidden(html, "") | {
        "display": tuning.display_id, "picture_mode": "Film", "purpose": "day", "technology": "lcd", "menu": "own",
        "target_name": "bt709-2.2",
        "signal": "sdr", "luminance": "120", "tolerance": "1",
    }  # fmt: skip
    answer = signed_in.post(page, fields | {"picture_mode": ""})
    assert answer.status_code == 422
    assert not Sent.objects.exists(), "what was refused may be sent again"
    before = Tuning.objects.count()
    with served() as port:
        assert {code for code, _ in at_once(port, cookie, page, fields)} == {302}
        assert {code for code, _ in at_once(port, cookie, page, fields | {"picture_mode": "Cinema"})} == {302}
    assert Tuning.objects.count() == before + 2


@pytest.mark.parametrize("by", ["this machine", "another"])
def test_what_a_killed_process_had_begun_may_be_sent_again(signed_in, person, now, by):
    """Its row says that it is being done, and nobody does it."""
    import socket
    import subprocess

    gone = subprocess.Popen(["true"])
    gone.wait()
    page = reverse("new-client")
    fields = hidden(signed_in.get(page).content.decode()) | {"name": "Once more"}
    signed_in.post(page, fields)
    Client.objects.all().delete()
    machine = socket.gethostname() if by == "this machine" else "elsewhere"
    at = now if by == "this machine" else now - once.FORGOTTEN - dt.timedelta(seconds=1)
    Sent.objects.update(to="", by=f"{machine}:{gone.pid}", at=at)
    assert signed_in.post(page, fields).status_code == 302
    assert Client.objects.filter(name="Once more").count() == 1


def test_every_form_has_a_key(signed_in, tuning):
    from fenvik.web.trail.facts import STOPS

    pages = [reverse("stop", args=(tuning.pk, stop)) for stop in STOPS] + [reverse("visits"), reverse("instruments")]
    for page in pages:
        for form in re.findall(r'<form[^>]*method="post".*?</form>', signed_in.get(page).content.decode(), re.S):
            assert re.search(r'name="once" value="[0-9a-f]{32}"', form), (page, form[:200])
