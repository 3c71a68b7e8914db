"""Pages: who may see them, what they cost, and what a stranger gets."""

import re
from pathlib import Path

import pytest
from django.db import connection
from django.urls import get_resolver, reverse
from django.utils import timezone

from fenvik import web
from fenvik.web.controls.models import ControlChange, SettingsSheet
from fenvik.web.controls.values import values_of
from fenvik.web.handovers.models import Handover
from fenvik.web.handovers.services import make_handover
from fenvik.web.passes.models import Pass
from fenvik.web.trail.facts import STOPS
from fenvik.web.trail.kept import versions
from fenvik.web.visits.models import Tuning

BACKEND = "django.contrib.auth.backends.ModelBackend"
ONLY_POST = ("act", "device-act", "correction-withdraw", "visit-act", "take-back")


def post(client, tuning, act, **data):
    return client.post(reverse("act", args=(tuning.pk, act)), {"stop": "adjust", **data})


def addresses_of(tuning):
    """Every address of the application that names an object, for the objects of a tuning."""
    found = []
    for pattern in get_resolver().url_patterns:
        name, keys = pattern.name, list(pattern.pattern.converters)
        given = {"pk": tuning.pk, "stop": "found", "name": "read", "token": "none", "kind": "csv", "view": "balance"}
        if name in ("put-away", "take-back"):
            given["kind"] = "tuning"
        if name in ("visit", "visit-act"):
            given["pk"] = tuning.visit_id
        if name in ("client", "new-room"):
            given["pk"] = tuning.visit.client_id
        if name in ("room", "new-display"):
            given["pk"] = tuning.display.room_id
        if name == "display":
            given["pk"] = tuning.display_id
        if name == "proposals":
            given |= {"pk": tuning.visit_id, "display_pk": tuning.display_id}
        if name in ("sheet", "sheet-json", "sheet-csv"):
            sheet = tuning.sheets.first()
            if sheet is None:
                continue
            given["pk"] = sheet.pk
        if "pk" in keys:
            found.append((name, reverse(name, kwargs={key: given[key] for key in keys})))
    return found


@pytest.mark.django_db
def test_whoever_is_not_signed_in_is_asked_to(client, tuning):
    for name, address in addresses_of(tuning):
        answer = client.post(address) if name in ONLY_POST else client.get(address)
        assert answer.status_code == 302, address
        assert answer["Location"].startswith("/sign-in/")
    for name in ("visits", "clients", "instruments", "find", "new-visit", "new-client"):
        assert client.get(reverse(name)).status_code == 302


@pytest.mark.django_db
def test_every_stop_opens_at_any_time(signed_in, tuning):
    for stop in STOPS:
        answer = signed_in.get(reverse("stop", args=(tuning.pk, stop)))
        assert answer.status_code == 200, stop
        assert "How was it found?" in answer.content.decode() or stop != "arrival"
    assert signed_in.get(reverse("stop", args=(tuning.pk, "nowhere"))).status_code == 404
    assert signed_in.get(reverse("tuning", args=(tuning.pk,)))["Location"].endswith("/arrival/")


def test_no_target_of_a_form_is_lost_at_the_end_of_a_line():
    """They are told apart by spaces alone: one that ends a line is not found, and a form that is refused leaves it as it was."""
    for path in Path(web.__file__).parent.rglob("*.html"):
        assert not re.search(r"x-target[.\w]*=\"[^\"]*\n", path.read_text()), path


def test_a_finished_tuning_shows_its_pictures_tables_and_handover(signed_in, finished, person, now):
    for stop in ("found", "adjust", "left"):
        for view in ("balance", "tone", "colours", "errors"):
            body = signed_in.get(reverse("stop", args=(finished.pk, stop)) + f"?view={view}&table=1").content.decode()
            assert "<svg" in body
            assert body.count('<table class="figures">') == 1
    handover = make_handover(visit_id=finished.visit_id, actor=person, now=now)
    trail = signed_in.get(reverse("visits")).content.decode()
    assert "Handed over" in trail
    signed_in.logout()
    page = signed_in.get(reverse("handover", args=(handover.token,)))
    assert page.status_code == 200
    body = page.content.decode()
    assert "To enter again after a reset" in body
    assert "R-Gain" in body
    assert page["Referrer-Policy"] == "no-referrer"
    handover.refresh_from_db()
    assert handover.opened == 1


def test_a_handover_is_a_frozen_copy_and_can_be_withdrawn(signed_in, finished, person, now):
    handover = make_handover(visit_id=finished.visit_id, actor=person, now=now)
    sheet = SettingsSheet.objects.get(tuning=finished, moment="left")
    assert sheet.values == {name: value for name, value in values_of(finished).now.items() if value is not None}
    address = reverse("handover", args=(handover.token,))
    before = signed_in.get(address).content
    tuning = Tuning.objects.get(pk=finished.pk)
    tuning.picture_mode = "Another"
    tuning.save()
    ControlChange.objects.create(
        tuning=tuning, group="11111111-1111-4111-8111-111111111111", control="wb-gr", label="R-Gain", before=0, after=9,
        at=now,
    )
    assert signed_in.get(address).content == before
    post(signed_in, tuning, "withdraw", handover=handover.pk)
    assert signed_in.get(address).status_code == 404
    Handover.objects.update(withdrawn_at=None, expires_at=timezone.now())
    assert signed_in.get(address).status_code == 404


@pytest.mark.django_db
def test_a_wrong_sheet_keeps_what_was_typed_and_says_what_is_wrong(signed_in, tuning):
    answer = post(signed_in, tuning, "note", **{"value-pic-1": "300", "value-wb-gr": "7"})
    assert answer.status_code == 422
    body = answer.content.decode()
    assert "Contrast goes from 0 to 100" in body
    assert 'value="300"' in body
    assert 'value="7"' in body
    answer = post(signed_in, tuning, "note", **{"value-pic-1": "30", "value-wb-gr": "7"})
    assert answer.status_code == 302


@pytest.mark.django_db
def test_a_wrong_value_at_adjust_says_so_where_it_was_typed(signed_in, equipped):
    answer = post(signed_in, equipped, "turned", seen=0, **{"value-wb-gr": "77"})
    assert answer.status_code == 422
    assert "R-Gain goes from -50 to 50; 77 is outside" in answer.content.decode()
    assert not ControlChange.objects.exists()


@pytest.mark.django_db
def test_a_device_that_is_not_there_has_one_sentence(signed_in, tuning):
    answer = signed_in.post(reverse("instruments"), {"address": "127.0.0.1:9"})
    assert "The directory or device cannot be reached at 127.0.0.1:9" in answer.content.decode()
    for address, words in (
        ("10.1.2.3:7700", "outside the networks"),
        ("nonsense", "a host and a port"),
        ("127.0.0.1:99999", "a host and a port"),
    ):
        assert words in signed_in.post(reverse("instruments"), {"address": address}).content.decode()


@pytest.mark.django_db
def test_a_pass_started_twice_says_so_and_starts_none(signed_in, equipped):
    assert post(signed_in, equipped, "measure-found").status_code == 302
    answer = signed_in.post(reverse("act", args=(equipped.pk, "measure-found")), {"stop": "found"}, follow=True)
    assert "no second one was started" in answer.content.decode()
    assert Pass.objects.count() == 1


@pytest.mark.django_db
def test_a_tuning_is_planned_with_a_new_client_and_display(signed_in, person):
    answer = signed_in.post(reverse("new-visit"), {"new_client": "Mill House", "on": "2026-11-25", "starts": "10:00"})
    assert answer.status_code == 302
    form = {
        "room": "Loft", "model": "7", "maker": "Orrefall", "technology": "lcd", "menu": "shape-two-10", "picture_mode": "Film",
        "purpose": "night", "target_name": "bt709-2.2", "luminance": "110", "tolerance": "1.5",
    }  # fmt: skip
    assert signed_in.post(answer["Location"], form | {"luminance": "2"}).status_code == 422
    assert not Tuning.objects.exists()
    assert signed_in.post(answer["Location"], form).status_code == 302
    made = Tuning.objects.get()
    assert made.target_label == "BT.709, gamma 2.2, D65, 110 cd/m²"
    assert made.target.tolerance == 1.5
    gain = next(c for c in made.display.menu_map.controls if c["role"] == "white.gain.red")
    assert (gain["min"], gain["max"]) == (-10, 10)
    assert "Loft" in signed_in.get(reverse("find") + "?q=loft").content.decode()
    made.delete()
    page = signed_in.get(reverse("display", args=(made.display_id,))).content.decode()
    assert reverse("proposals", args=(made.visit_id, made.display_id)) in page
    assert "first." not in page  # the visit is planned already


@pytest.mark.django_db
def test_wrong_tries_to_sign_in_are_slowed_down(client, person):
    for _ in range(8):
        answer = client.post(reverse("sign-in"), {"username": "ina", "password": "wrong"})
    assert answer.status_code == 429
    assert "Too many wrong tries" in answer.content.decode()
    assert client.post(reverse("sign-in"), {"username": "ina", "password": "quiet water"}).status_code == 429


@pytest.mark.django_db
def test_every_page_has_a_strict_policy_and_nothing_inline(signed_in, tuning):
    for address in (reverse("visits"), reverse("stop", args=(tuning.pk, "found")), reverse("sign-in")):
        answer = signed_in.get(address, follow=True)
        policy = answer["Content-Security-Policy"]
        assert "unsafe" not in policy
        assert "script-src 'self'" in policy
        body = answer.content.decode()
        assert not re.search(r"<script(?![^>]*\bsrc=)|\son\w+=|\sstyle=", body)
        assert not re.search(r"(src|href)=\"(https?:)?//", body)


def test_no_page_asks_the_database_more_when_there_is_more(
    signed_in, finished, person, django_assert_max_num_queries, now
):
    addresses = [reverse("visits"), *(reverse("stop", args=(finished.pk, stop)) for stop in STOPS)]
    make_handover(visit_id=finished.visit_id, actor=person, now=now)
    copy = Tuning.objects.get(pk=finished.pk)
    for number in range(6):
        copy.pk = copy.aim_id = copy.measuring_id = None
        copy.name = f"copy {number}"
        copy.save()
    for address in addresses:
        with django_assert_max_num_queries(18):
            assert signed_in.get(address).status_code == 200


def test_the_server_keeps_the_plan_of_what_tells_whether_anything_has_changed(tuning):
    for _ in range(2):
        assert versions(tuning.visit.firm_id, [tuning.pk])
    with connection.cursor() as cursor:
        cursor.execute("SELECT count(*) FROM pg_prepared_statements WHERE statement LIKE '%string_agg(concat_ws%'")
        assert cursor.fetchone() == (1,)
