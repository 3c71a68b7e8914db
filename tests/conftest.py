"""What tests share: stand-ins on real sockets, a firm with a tuning, and a worker's engine run in place."""

import datetime as dt
import os

import django.contrib.auth.hashers as hashers
import hypothesis  # its plugin would import it as the last thing of a run, deep in pytest, where Python 3.11 may refuse
import pytest

from fenvik.standins.bench import make_bench

# They give way to tests that wait for something: how long a draw takes says nothing of them.
hypothesis.settings.register_profile("gives way", deadline=None, suppress_health_check=[hypothesis.HealthCheck.too_slow])
hypothesis.settings.load_profile("gives way")
# Playwright's loop runs in the tests' thread; the ORM is used between its calls, never inside them.
os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "true"
TRIES = 5
# A password takes half a second of a processor by design, tried or stored: a test is no place to wait for.
hashers.PBKDF2PasswordHasher.iterations = ROUNDS = 500
LONGEST = [f"test_{name}" for name in ("instruments", "live", "axe", "pattern_screen", "arrival", "whole_job")]
# Beside those that Playwright turns off, for the last such list counts: that each page of a window gets a surface of its own to be
# drawn on, which is a quarter of what a page costs.
OFF = (
    "AvoidUnnecessaryBeforeUnloadCheckSync", "DestroyProfileOnBrowserClose", "HttpsUpgrades", "HttpsFirstBalancedModeAutoEnable",
    "LensOverlay", "MediaRouter", "PaintHolding", "ThirdPartyStoragePartitioning", "OptimizationHints",
    "NetworkTimeServiceQuerying", "RenderDocument",
)  # fmt: skip
CHROMIUM = [
    "--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-component-update", "--disable-sync",
    "--no-first-run", f"--disable-features={','.join(OFF)}",
]  # fmt: skip


def pytest_collection_modifyitems(items):
    """Put the files that open a browser last: from then on its loop counts as running, and Django's connections are others then.

    Among them those that take long go first, so that none is left to one process at the end.
    """
    browsing = {item.path for item in items if "chromium" in getattr(item, "fixturenames", ())}
    items.sort(key=lambda item: 1 + [*LONGEST, item.path.stem].index(item.path.stem) if item.path in browsing else 0)


@pytest.fixture(scope="session")
def django_db_modify_db_settings(django_db_modify_db_settings):
    """Where `./fenvik test` has migrated a database already, the tests' own is a copy of it."""
    from django.conf import settings

    template = os.environ.get("TEST_DATABASE_TEMPLATE")
    if template:
        settings.DATABASES["default"]["TEST"]["TEMPLATE"] = template.rpartition("/")[2]


# Emptying sixty tables by TRUNCATE, and making the content types anew, takes twenty times as long as a test's few rows do.
EMPTY = """
DO $$ DECLARE name text; BEGIN
    SET LOCAL session_replication_role = replica;
    FOR name IN SELECT quote_ident(tablename) FROM pg_tables WHERE schemaname = 'public'
        AND tablename NOT IN ('django_migrations', 'django_content_type', 'auth_permission')
    LOOP EXECUTE 'DELETE FROM ' || name; END LOOP;
END $$
"""


@pytest.fixture(scope="session", autouse=True)
def tables_are_emptied_quickly():
    """After each test that commits. It waits for a query of the web or the worker that is still under way, and is done again.

    They are processes of their own and stay from test to test: each may hold rows and wait for others just then.
    """
    from django.db import OperationalError, connection, transaction
    from django.test import TransactionTestCase

    def empty(self):
        for left in reversed(range(TRIES)):
            try:
                with transaction.atomic(), connection.cursor() as cursor:
                    cursor.execute(EMPTY)
                return
            except OperationalError as problem:
                if "deadlock" not in str(problem) or not left:
                    raise

    once, TransactionTestCase._fixture_teardown = TransactionTestCase._fixture_teardown, empty
    yield
    TransactionTestCase._fixture_teardown = once


@pytest.fixture(scope="session")
def chromium():
    from playwright.sync_api import sync_playwright

    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium-headless-shell", args=CHROMIUM)
        yield browser
        browser.close()


@pytest.fixture
def bench():
    """Stand-ins without waiting, served on loopback; ``bench.address`` is the directory's."""
    from fenvik.web.demo.build import served

    made = make_bench(haste=float("inf"), pair_code="4711", seed=55)
    with served(made) as address:
        made.address = address
        yield made


@pytest.fixture(autouse=True)
def nothing_kept():
    """A test's database begins anew, and with it the numbers of its rows."""
    from fenvik.web.people import zones
    from fenvik.web.stops import scenes
    from fenvik.web.trail import kept

    kept.clear()
    scenes.forget()
    zones.forget()


@pytest.fixture
def now():
    return dt.datetime.now(dt.UTC)


@pytest.fixture
def person(db, request):
    """An owner of a firm; where a test has a finished job, the one who did it."""
    if "finished" in request.fixturenames:
        return request.getfixturevalue("finished").visit.calibrator
    return _person()


def _person():
    from fenvik.web.people.models import Firm, Role, User

    firm = Firm.objects.create(name="A firm")
    user = User(username="ina", firm=firm, role=Role.OWNER, first_name="Ina", last_name="Reed")
    user.password = hashers.PBKDF2PasswordHasher().encode("quiet water", "salt", iterations=ROUNDS)
    user.save()
    return user


@pytest.fixture
def finished(transactional_db, bench, now):
    """The tuning of a job that was done by hand, whole, from the settings as found to the pass as left."""
    from tests.kept import finished_job

    return finished_job(lambda: _equipped(_tuning(_person(), now), bench, now), bench, now)


@pytest.fixture
def stranger(db):
    from fenvik.web.people.models import Firm, User

    firm = Firm.objects.create(name="Another firm")
    return User.objects.create_user(username="olof", firm=firm)


@pytest.fixture
def tuning(person, now):
    """A tuning of the stand-in display's film mode, without instruments."""
    return _tuning(person, now)


def _tuning(person, now):
    from fenvik.web.clients.models import Client, Display, Room
    from fenvik.web.demo.build import standin_menu_map
    from fenvik.web.visits.models import Tuning, Visit

    client = Client.objects.create(firm=person.firm, name="A client")
    room = Room.objects.create(client=client, name="Snug")
    display = Display.objects.create(room=room, maker="Orrefall", model="55", menu_map=standin_menu_map(person.firm))
    visit = Visit.objects.create(firm=person.firm, client=client, on=now.date(), calibrator=person)
    return Tuning.objects.create(visit=visit, display=display, name="Snug, night", picture_mode="Film", settle_s=0)


@pytest.fixture
def equipped(tuning, bench, now):
    """The tuning with the stand-ins' spectroradiometer and source, its settings noted."""
    return _equipped(tuning, bench, now)


def _equipped(tuning, bench, now):
    from fenvik.web.controls.services import note_found
    from fenvik.web.demo.build import factory_sheet
    from fenvik.web.devices.services import take_up

    person = tuning.visit.calibrator
    found = take_up(actor=person, address=bench.address, now=now)
    assert found.problems == []
    tuning.meter = next(d for d in found.devices if d.facts.get("kind") == "spectroradiometer")
    tuning.source = next(d for d in found.devices if d.role == "source")
    tuning.save()
    note_found(tuning_id=tuning.pk, actor=person, typed=factory_sheet(), now=now)
    bench.displays[0].set_control("m2", "eco-1", "Off")
    return tuning


@pytest.fixture
def client():
    """What a form without a file sends as a form does: told apart as parts of a message it takes three times as long to read."""
    from urllib.parse import urlencode

    from django.test import Client
    from django.test.client import MULTIPART_CONTENT

    class Browser(Client):
        def post(self, path, data=None, content_type=MULTIPART_CONTENT, **more):
            if content_type == MULTIPART_CONTENT and not any(hasattr(value, "read") for value in (data or {}).values()):
                content_type, data = "application/x-www-form-urlencoded", urlencode(data or {}, doseq=True)
            return super().post(path, data, content_type, **more)

    return Browser()


@pytest.fixture
def signed_in(client, person):
    """A signed-in client that sees pages as a browser does: where a line of a template ends is a space like any other."""
    client.force_login(person, backend="django.contrib.auth.backends.ModelBackend")
    whole = client.request

    def request(**more):
        answer = whole(**more)
        if answer.get("Content-Type", "").startswith("text/html") and not answer.streaming:
            answer.content = b" ".join(answer.content.split())
        return answer

    client.request = request
    return client
