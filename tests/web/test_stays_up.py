"""What many clients, silent devices and frozen workers must not do to everybody else."""

import asyncio
import contextlib
import html
import itertools
import re
import socket
import threading
import time
import uuid
from dataclasses import replace

import pytest
from django.conf import settings
from django.db import connection
from django.urls import reverse
from psycopg.pq import TransactionStatus

from fenvik.link.connection import DEADLINE_S
from fenvik.link.faults import LinkFault
from fenvik.web.devices import displays
from fenvik.web.devices.models import Device, Pairing
from fenvik.web.devices.reaching import AddressError, see_entry
from fenvik.web.devices.services import take_up
from fenvik.web.kit.hub import hub
from fenvik.web.kit.notify import notify
from fenvik.web.live import views
from fenvik.web.passes import engine
from fenvik.web.passes.models import Pass, PassPurpose, PassState
from fenvik.web.passes.services import ask_to_pause, ask_to_stop, start_pass
from fenvik.web.passes.store import Store
from fenvik.web.patterns.services import screen_of
from fenvik.web.people.models import Firm
from fenvik.web.planning.away import put_away
from fenvik.web.trail.facts import STOPS
from fenvik.web.worker import lines_of_the_queue
from tests.web.served import Line, post, served, status, talking, until

pytestmark = pytest.mark.django_db(transaction=True)
MANY = 3 * settings.POOL_SIZE
DIRECTORY = {
    "link": 1, "role": "directory", "maker": "Nobody", "model": "D", "serial": "D1", "firmware": "1", "features": [],
}  # fmt: skip


@pytest.fixture
def port(transactional_db):
    with served() as made:
        yield made


@pytest.fixture
def cookie(signed_in):
    return f"{settings.SESSION_COOKIE_NAME}={signed_in.cookies[settings.SESSION_COOKIE_NAME].value}"


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


@pytest.mark.parametrize("way", ["signs out", "is deactivated", "screen is withdrawn", "tuning", "client"])
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
    elif way in ("tuning", "client"):
        put_away(kind=way, pk=tuning.pk if way == "tuning" else tuning.visit.client_id, actor=person, now=now)
    else:
        person.is_active = False
        person.save()
    line.until(b"event: ended")
    while line.socket.recv(1 << 16):
        pass
    assert hub.pages == 0


def test_a_page_is_drawn_again_only_where_something_was_heard_since_it_was_made(port, cookie, tuning, signed_in, monkeypatch):
    drawn, heard = [], []
    render, tell = views.render_fragments, hub.tell
    monkeypatch.setattr(views, "render_fragments", lambda *key: drawn.append(key) or render(*key))
    monkeypatch.setattr(hub, "tell", lambda key: heard.append(key) or tell(key))
    for number in itertools.count(10**6):  # what is told before it listens is not heard
        notify(number)
        with contextlib.suppress(AssertionError):
            until(lambda number=number: ("tuning", number) in heard, 2)
            break
    page = signed_in.get(reverse("stop", args=(tuning.pk, "found"))).content.decode()
    address = html.unescape(re.search(r'data-live="([^"]+)"', page).group(1))
    line = Line(port, address, cookie)
    line.until(b"retry: 700")
    until(lambda: hub.pages == 1)
    notify(tuning.pk)
    line.until(b"event: fragments")
    assert len(drawn) == 1
    Line(port, address, cookie).until(b"event: fragments")
    assert len(drawn) == 2


@pytest.fixture
def silent():
    """A device that takes connections and never says a word."""
    with socket.create_server(("127.0.0.1", 0), backlog=200) as server:
        yield server.getsockname()[1]


def test_looks_at_a_silent_display_cost_the_others_nothing(port, cookie, tuning, person, now, silent):
    device = Device.objects.create(
        firm=person.firm, role="display", name="Mute", serial="M1", host="127.0.0.1", port=silent, facts={"technology": "lcd"}
    )
    Pairing.objects.create(device=device, token="t", at=now, by=person)
    tuning.display.link = device
    tuning.display.save()
    looks = [post(port, reverse("act", args=(tuning.pk, "look-quietly")), cookie) for _ in range(40)]
    took = []
    for _ in range(20):
        began = time.monotonic()
        assert status(port, "/visits/", cookie) == 200
        took.append(time.monotonic() - began)
    assert sorted(took)[10] < DEADLINE_S, "no page has waited for the display, however slow this machine is today"
    for look in looks:
        assert b" 204 " in look.until(b"\r\n\r\n"), "and whoever looks by itself has not either"
        look.end()
    assert displays._asked <= {tuning.display_id}
    until(lambda: not displays._asked)


def test_a_directory_is_asked_side_by_side_and_bounded(person, now, silent):
    """Of 30 entries none answers: in turns that is minutes. The server's own database is not looked at; 200 are the most."""
    database = int(settings.DATABASES["default"]["PORT"])
    entries = [{"role": "meter", "name": f"M{i}", "serial": f"S{i}", "host": "127.0.0.1", "port": silent} for i in range(30)]
    entries[0]["port"] = database
    with talking({"describe": DIRECTORY, "list": entries}) as address:
        began = time.monotonic()
        found = take_up(actor=person, address=address, now=now)
        assert time.monotonic() - began < 30 * DEADLINE_S / 4
    assert found.devices == []
    assert "Fenvik’s own machine" in found.problems[0]
    assert all("did not answer within" in words for words in found.problems[1:])
    with talking({"describe": DIRECTORY, "list": entries * 7}) as address, pytest.raises(LinkFault, match="more than 200"):
        take_up(actor=person, address=address, now=now)


def test_a_directory_elsewhere_does_not_make_this_machine_talk_to_itself(person, monkeypatch):
    person.firm.networks = ["127.0.0.0/8", "192.168.7.0/24"]
    with pytest.raises(AddressError, match="own machine"):
        see_entry(person.firm, "192.168.7.20", "127.0.0.1", 7700)
    assert see_entry(person.firm, "127.0.0.1", "127.0.0.1", 7700) == "127.0.0.1"
    assert see_entry(person.firm, "192.168.7.20", "192.168.7.21", 7700) == "192.168.7.21"


def test_a_withdrawn_network_cuts_a_pass_that_runs(ready, person, now, impatient):
    pass_ = start_pass(tuning_id=ready.pk, actor=person, now=now, purpose=PassPurpose.WARM_UP, repeat=True)
    thread = threading.Thread(target=engine.run, args=(pass_.pk,))
    thread.start()
    until(lambda: pass_.readings.count() > 2)
    Firm.objects.update(networks=["192.168.7.0/24"])
    thread.join(90)
    pass_.refresh_from_db()
    assert (pass_.state, "outside the networks" in pass_.reason) == (PassState.PAUSED, True)


@pytest.mark.parametrize("read", [0, 1, 3])
def test_a_pass_that_is_paused_and_stopped_leaves_pages_that_open(ready, person, now, impatient, signed_in, read):
    pass_ = start_pass(tuning_id=ready.pk, actor=person, now=now)
    plan = engine.take(pass_.pk, uuid.uuid4())
    store = Store(pass_.pk, ready.pk, plan.pass_.run_token)
    runner = engine.runner_of(plan, store)
    real = runner.store.add

    def add(taken):
        asked = real(taken)
        if taken.index + 1 != read:
            return asked
        ask_to_pause(pass_id=pass_.pk, actor=person, now=now)
        return replace(asked, pause=True)

    runner.store.add = add
    if read:
        runner.run()
    else:
        store.pause()
    store.close()
    ask_to_stop(pass_id=pass_.pk, actor=person, now=now)
    pass_.refresh_from_db()
    assert (pass_.state, pass_.readings.count()) == (PassState.STOPPED, read)
    assert (pass_.summary is not None) == (read > 0)
    # Whatever ends a pass without making its summary, no page fails for want of one.
    for summary in (pass_.summary, None):
        Pass.objects.update(summary=summary)
        for stop in STOPS:
            assert signed_in.get(reverse("stop", args=(ready.pk, stop))).status_code == 200, stop
        for address in ("visits", "clients"):
            assert signed_in.get(reverse(address)).status_code == 200
        assert signed_in.get(reverse("compare", args=(ready.pk,))).status_code == 200


FULL = """
CREATE FUNCTION no_room() RETURNS trigger AS $$ BEGIN
RAISE EXCEPTION 'no space left' USING ERRCODE = '53100'; END $$ LANGUAGE plpgsql;
CREATE TRIGGER no_room BEFORE INSERT ON {} FOR EACH ROW EXECUTE FUNCTION no_room();
"""


@contextlib.contextmanager
def full_disk(table):
    with connection.cursor() as cursor:
        cursor.execute(FULL.format(table))
        try:
            yield
        finally:
            cursor.execute(f"DROP TRIGGER no_room ON {table}; DROP FUNCTION no_room()")


def test_a_full_disk_is_said_while_it_lasts_and_costs_no_reading(ready, person, now, impatient, port, cookie):
    line = live(port, ready, cookie)
    pass_ = start_pass(tuning_id=ready.pk, actor=person, now=now)
    with full_disk("passes_reading"):
        thread = threading.Thread(target=engine.run, args=(pass_.pk,))
        thread.start()
        line.until(b"event: trouble\ndata: \"The disk of Fenvik")
        assert pass_.readings.count() == 0
    thread.join(60)
    line.until(b"event: trouble\ndata: \"\"")
    pass_.refresh_from_db()
    assert pass_.state == PassState.DONE
    assert list(pass_.readings.order_by("id").values_list("index", flat=True)) == list(range(len(pass_.patches)))


def test_a_frozen_worker_holds_no_row():
    """Whatever it is stopped at, the statement before has been committed; and the server ends what stays in the middle."""

    async def looked():
        lines = lines_of_the_queue()
        await lines.open_async()
        async with lines.pool.connection() as line:
            told = await (await line.execute("SHOW idle_in_transaction_session_timeout")).fetchone()
            status = line.info.transaction_status
        await lines.close_async()
        return told, status

    assert asyncio.run(looked()) == (("30s",), TransactionStatus.IDLE)


def test_a_page_says_that_there_is_no_room(signed_in):
    with full_disk("clients_client"):
        answer = signed_in.post(reverse("new-client"), {"name": "Nobody"})
    assert (answer.status_code, "There is no room" in answer.content.decode()) == (507, True)


def test_bodies_are_bounded_before_anything_reads_them(port, cookie):
    line = Line(port, "/clients/new/", cookie, body="")
    line.end()
    with socket.create_connection(("127.0.0.1", port), 20) as told:
        told.sendall(b"POST /clients/new/ HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 99999999999\r\n\r\n")
        assert b"413" in told.recv(4096)
    with socket.create_connection(("127.0.0.1", port), 20) as untold:
        untold.sendall(b"POST /clients/new/ HTTP/1.1\r\nHost: 127.0.0.1\r\nTransfer-Encoding: chunked\r\n\r\n")
        piece = b"%x\r\n%s\r\n" % (1 << 20, b"x" * (1 << 20))
        with contextlib.suppress(OSError):
            for _ in range(40):
                untold.sendall(piece)
        assert b"413" in untold.recv(4096)


def test_what_signed_in_people_see_is_not_kept_and_a_head_is_answered(signed_in, client, tuning):
    from django.test import Client as Browser

    for address in ("visits", "clients", "instruments"):
        answer = signed_in.get(reverse(address))
        assert answer["Cache-Control"] == "no-store"
        assert len(answer["X-Request-Id"]) == 16
        head = signed_in.head(reverse(address))
        assert (head.status_code, head.content) == (200, b"")
    assert signed_in.head(reverse("stop", args=(tuning.pk, "found"))).status_code == 200
    assert Browser().head(reverse("sign-in")).status_code == 200


@pytest.mark.parametrize(
    ("text", "kept"),
    [
        ("+1+cmd|' /C calc'!A0", False), ("-2+3+cmd|x", False), ("=1", False), ("@SUM(1)", False), ("+0.3", True), ("−0.12", True),
        ("12.5 ± 0.4", True), ("> 3802 : 1", True), ("50 %", True), ("-1 HYPERLINK(1)", False),
    ],
)  # fmt: skip
def test_a_cell_that_begins_with_a_sign_and_a_figure_is_no_formula(text, kept):
    from fenvik.formats.sheet import harmless
    from fenvik.web.stops.files import _cell

    assert (_cell(text) == text.replace("−", "-")) == kept
    if not kept:
        assert _cell(text).startswith("'")
        assert harmless(text).startswith("'")
