"""Nonsense gets a sentence: every act and every address, with values that nobody types, never answers 500."""

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import get_resolver, reverse

from fenvik.web.devices.models import Device
from fenvik.web.stops.registry import acts

NASTY = ("²", "a\x00b", "-1", "99999999999999999999", "1e309", "' OR 1=1 --")
FILE_ACTS = ("import-sheet", "lists", "readings-file")
# Every name that an act or a page reads.
WORDS = """
pass index correction reference average method way number value seen basis one list controls hues hue work stop
view level handover sheet to from map which control other-value value-pic-1 budget minutes steps on_stop check
answer after because pattern screen o-level name address role moment chosen own grid edge drift_every meter
source window code group n said kind label id min max step shape menu mode curve named link q page a b tuning
across down w h width height client through display of points
"""
FIELDS = tuple(WORDS.split())
TURNS = range(0, len(NASTY), 2)  # each field has one of the values with each turn, and its neighbour another


def spoilt(turn):
    return {field: NASTY[(place + turn) % len(NASTY)] for place, field in enumerate(FIELDS)}


SKIPPED = {"directory", "hands-free", "pair", "pair-code"}  # they wait for devices at addresses that somebody typed


@pytest.fixture
def nervous(client, person):
    client.force_login(person, backend="django.contrib.auth.backends.ModelBackend")
    client.raise_request_exception = False
    return client


@pytest.mark.django_db(transaction=True)
@pytest.mark.parametrize("turn", TURNS)
def test_no_act_answers_500(nervous, tuning, turn):
    wrong, nasty = {}, NASTY[turn]
    for name in sorted(set(acts) - SKIPPED):
        data = spoilt(turn) | {"stop": "adjust"}
        answer = nervous.post(reverse("act", args=(tuning.pk, name)), data)
        if answer.status_code == 500:
            wrong[name] = nervous_reason(answer)
        if name not in FILE_ACTS:
            continue
        given = SimpleUploadedFile("f.csv", nasty.encode("utf-8", "replace"))
        answer = nervous.post(reverse("act", args=(tuning.pk, name)), {"stop": "found", "file": given, "name": nasty})
        if answer.status_code == 500:
            wrong[f"{name} with a file"] = nervous_reason(answer)
    assert wrong == {}


def nervous_reason(answer):
    return repr(getattr(answer, "exc_info", (None, None))[1])[:160]


@pytest.mark.django_db(transaction=True)
@pytest.mark.parametrize("turn", TURNS)
def test_no_address_answers_500(nervous, tuning, turn):
    wrong, nasty = {}, NASTY[turn]
    for pattern in get_resolver().url_patterns:
        keys = pattern.pattern.converters
        given = {key: (99999999999999999999 if "Int" in type(kind).__name__ else "x") for key, kind in keys.items()}
        tried = [{**given, "pk": pk} if "pk" in keys else given for pk in (tuning.pk, 99999999999999999999)]
        for values in tried:
            plain = reverse(pattern.name, kwargs=values)
            if "live" in pattern.name:
                continue  # a stream has no end
            for address in {f"{plain}?{'&'.join(f'{f}={quoted(v)}' for f, v in spoilt(turn).items())}", nasty_path(plain, nasty)}:
                answer = nervous.get(address)
                if answer.status_code == 500:
                    wrong[f"{pattern.name} {address[:40]}"] = nervous_reason(answer)
            answer = nervous.post(plain, spoilt(turn))
            if answer.status_code == 500:
                wrong[f"POST {pattern.name}"] = nervous_reason(answer)
    assert wrong == {}


def quoted(text):
    from urllib.parse import quote

    return quote(text.encode("utf-8", "replace"))


def nasty_path(plain, nasty):
    return plain.replace("/x/", f"/{quoted(nasty)}/") if "/x/" in plain and nasty.strip() and "/" not in nasty else plain


@pytest.mark.django_db(transaction=True)
def test_devices_refuse_acts_that_there_are_not(nervous, person, equipped):
    device = Device.objects.first()
    for name in ("nonsense", "try"):
        for nasty in NASTY[:4]:
            answer = nervous.post(reverse("device-act", args=(device.pk, name)), {"name": nasty})
            assert answer.status_code != 500, (name, nasty)


@pytest.mark.django_db
def test_an_address_that_takes_forms_leads_to_its_page(nervous, tuning):
    answer = nervous.get(reverse("act", args=(tuning.pk, "try")), follow=True)
    assert (answer.redirect_chain[0], answer.status_code) == ((reverse("tuning", args=(tuning.pk,)), 302), 200)
    assert nervous.get(reverse("act", args=(tuning.pk, "try")), headers={"Accept": "application/json"}).status_code == 405
