"""What many clients, silent devices and frozen workers must not do to everybody else."""

import pytest
from django.conf import settings
from django.urls import reverse

from fenvik.web.kit.notify import notify
from fenvik.web.live.hub import hub
from fenvik.web.patterns.services import screen_of
from tests.web.served import Line, served, status

pytestmark = pytest.mark.django_db(transaction=True)
MANY = 3 * settings.POOL_SIZE


@pytest.fixture
def port(transactional_db):
    with served() as made:
        yield made


@pytest.fixture
def cookie(signed_in):
    return f"sessionid={signed_in.cookies['sessionid'].value}"


def live(port, tuning, cookie, stop="found"):
    line = Line(port, reverse("live", args=(tuning.pk, stop)), cookie)
    line.until(b"event: fragments")
    return line


def screen_line(port, token):
    line = Line(port, reverse("screen-live", args=(token,)))
    line.until(b"event: picture")
    return line


@pytest.mark.parametrize("kind", ["live", "screen"])
def test_many_open_pages_leave_the_others_their_connections(port, cookie, tuning, person, kind):
    token = screen_of(visit_id=tuning.visit_id, firm_id=person.firm_id).token
    lines = [live(port, tuning, cookie) if kind == "live" else screen_line(port, token) for _ in range(MANY)]
    assert {status(port, "/visits/", cookie) for _ in range(4)} == {200}
    before = [len(line.heard) for line in lines]
    person.firm.name = "told again"
    notify(tuning.pk)
    for line in lines:
        line.end()
    assert {status(port, "/visits/", cookie) for _ in range(MANY)} == {200}, before


def test_clients_that_go_away_while_a_page_is_made_keep_no_connection(port, cookie, tuning):
    for _ in range(MANY):
        Line(port, reverse("stop", args=(tuning.pk, "found")), cookie).end()
    assert {status(port, "/visits/", cookie) for _ in range(MANY)} == {200}


@pytest.mark.parametrize("way", ["signs out", "is deactivated", "screen is withdrawn"])
def test_a_live_page_ends_at_once_with_what_allowed_it(port, cookie, tuning, person, signed_in, now, way):
    if way == "screen is withdrawn":
        from fenvik.web.patterns.services import withdraw_screen

        line = screen_line(port, screen_of(visit_id=tuning.visit_id, firm_id=person.firm_id).token)
        withdraw_screen(visit_id=tuning.visit_id, actor=person, now=now)
        line.until(b"event: withdrawn")
        return
    line = live(port, tuning, cookie)
    if way == "signs out":
        signed_in.post(reverse("sign-out"))
    else:
        person.is_active = False
        person.save()
    line.until(b"event: ended")
    while line.socket.recv(1 << 16):
        pass
    assert hub.pages == 0
