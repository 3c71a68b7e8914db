"""Visits that come otherwise, and what is put away, taken back, and after thirty days gone."""

from datetime import timedelta

import pytest
from django.apps import apps
from django.urls import reverse
from django.utils import timezone

from fenvik.web.clients.models import Client, Display
from fenvik.web.controls.models import SettingsSheet
from fenvik.web.handovers.services import make_handover
from fenvik.web.kit.models import FirmModel
from fenvik.web.passes.models import Pass, PassState
from fenvik.web.planning.away import KEPT_FOR, put_away, sweep_away
from fenvik.web.visits.models import Tuning, Visit


def keys(kind, tuning):
    return {
        "client": tuning.visit.client_id, "display": tuning.display_id, "visit": tuning.visit_id, "tuning": tuning.pk,
        "sheet": tuning.sheets.first().pk, "pass": tuning.passes.filter(purpose="left").first().pk,
    }[kind]  # fmt: skip


def do(client, visit, name, **typed):
    return client.post(reverse("visit-act", args=(visit.pk, name)), typed, follow=True).content.decode()


def counts():
    models = [m for m in apps.get_models() if issubclass(m, FirmModel)]
    return {m: getattr(m, "everything", m.objects).count() for m in models}


@pytest.mark.parametrize("kind", ["client", "display", "visit", "tuning", "sheet", "pass"])
def test_what_is_put_away_says_what_goes_with_it_is_nowhere_and_comes_back_whole(kind, finished, signed_in, person, now):
    make_handover(visit_id=finished.visit_id, actor=person, now=now)
    pk, before = keys(kind, finished), counts()
    address = reverse("put-away", args=(kind, pk))
    asked = signed_in.get(address).content.decode()
    if kind not in ("sheet", "pass"):
        assert "settings sheet" in asked
        assert "passes" in asked
    if kind in ("client", "visit"):
        assert "1 handover, whose link no longer opens" in asked
    shown = signed_in.post(address, follow=True).content.decode()
    assert "is put away" in shown
    pages = [reverse("tuning", args=(finished.pk,)), reverse("stop", args=(finished.pk, "found"))]
    gone = [] if kind in ("sheet", "pass") else pages
    assert {signed_in.get(page).status_code for page in gone} <= {404}
    link = reverse("handover", args=(finished.visit.handovers.first().token,))
    assert signed_in.get(link).status_code == (404 if kind in ("client", "visit") else 200)
    if kind == "pass":
        assert 'class="headline"' not in signed_in.get(reverse("stop", args=(finished.pk, "left"))).content.decode()
    listed = signed_in.get(reverse("away")).content.decode()
    assert listed.count("Take it back") == 1  # what went with it is not told apart
    assert "is back" in signed_in.post(reverse("take-back", args=(kind, pk)), follow=True).content.decode()
    assert counts() == before
    assert {signed_in.get(page).status_code for page in gone} <= {200, 302}
    assert not Tuning.everything.filter(put_away_at__isnull=False).exists()


def test_nothing_is_put_away_under_a_pass_that_is_being_read(finished, signed_in):
    Pass.objects.filter(tuning=finished, purpose="left").update(finished_at=None, state=PassState.PAUSED)
    answer = signed_in.post(reverse("put-away", args=("client", finished.visit.client_id)))
    assert answer.status_code == 409
    assert f"A pass is being read in {finished.name}" in answer.content.decode()
    assert Client.objects.filter(pk=finished.visit.client_id).exists()


def test_a_name_that_was_taken_meanwhile_and_a_whole_that_is_away_are_said(finished, person, now, signed_in):
    visit, client = finished.visit, finished.visit.client
    put_away(kind="tuning", pk=finished.pk, actor=person, now=now)
    put_away(kind="visit", pk=visit.pk, actor=person, now=timezone.now())
    back = signed_in.post(reverse("take-back", args=("tuning", finished.pk)), follow=True).content.decode()
    assert "which is put away itself. Take that back first." in back
    put_away(kind="client", pk=client.pk, actor=person, now=timezone.now())
    Client.objects.create(firm=person.firm, name=client.name)
    back = signed_in.post(reverse("take-back", args=("client", client.pk)), follow=True).content.decode()
    assert f"There is another client called {client.name} now" in back


def test_after_thirty_days_it_is_gone_with_all_that_hung_on_it_and_nothing_else(finished, person, now, signed_in):
    make_handover(visit_id=finished.visit_id, actor=person, now=now)
    other = Client.objects.create(firm=person.firm, name="Another house")
    put_away(kind="client", pk=finished.visit.client_id, actor=person, now=now)
    assert sweep_away(now + KEPT_FOR - timedelta(minutes=1)) == 0
    assert sweep_away(now + KEPT_FOR + timedelta(minutes=1)) > 0
    left = counts()
    assert {m.__name__: left[m] for m in (Client, Display, Visit, Tuning, Pass, SettingsSheet)} == {
        "Client": 1, "Display": 0, "Visit": 0, "Tuning": 0, "Pass": 0, "SettingsSheet": 0,
    }  # fmt: skip
    assert Client.objects.get() == other
    assert signed_in.get(reverse("visits")).status_code == 200


def test_a_visit_is_moved_cancelled_held_and_planned_once_more(tuning, signed_in):
    visit = tuning.visit
    assert "on 4 March 2027 now" in do(signed_in, visit, "move", on="2027-03-04", starts="14:30", notes="bring the ladder")
    assert "Which day?" in do(signed_in, visit, "move", on="", starts="")
    visit.refresh_from_db()
    assert (str(visit.on), f"{visit.starts:%H:%M}", visit.notes) == ("2027-03-04", "14:30", "bring the ladder")
    assert "cancelled on" in do(signed_in, visit, "cancel", why="snow")
    assert "cancelled: snow" in " ".join(signed_in.get(reverse("visits")).content.decode().split())
    assert "cancelled on" not in do(signed_in, visit, "hold")
    shown = do(signed_in, visit, "copy", on="2027-09-01", starts="")
    assert "Planned once more" in shown
    made = Visit.objects.exclude(pk=visit.pk).get()
    again = made.tunings.get()
    assert (made.client, str(made.on)) == (visit.client, "2027-09-01")
    assert (again.name, again.display, again.target_name, again.picture_mode) == (
        tuning.name, tuning.display, tuning.target_name, tuning.picture_mode,
    )  # fmt: skip
    assert not again.passes.exists()


def test_a_visit_that_was_measured_is_not_cancelled(finished, signed_in):
    assert "it has taken place" in do(signed_in, finished.visit, "cancel", why="")


def test_names_of_passes_and_sheets_are_shown_where_they_are_chosen(finished, signed_in):
    left, sheet = finished.passes.filter(purpose="left").first(), finished.sheets.first()
    signed_in.post(reverse("act", args=(finished.pk, "name-pass")), {"stop": "left", "pass": left.pk, "name": "dimming high"})
    named = {"stop": "arrival", "sheet": sheet.pk, "name": "before the ladder"}
    signed_in.post(reverse("act", args=(finished.pk, "name-sheet")), named)
    assert "dimming high" in signed_in.get(reverse("compare", args=(finished.pk,))).content.decode()
    assert "dimming high" in signed_in.get(reverse("stop", args=(finished.pk, "left"))).content.decode()
    assert "before the ladder" in signed_in.get(reverse("stop", args=(finished.pk, "arrival")), {"view": "sheets"}).content.decode()


def test_nothing_that_was_typed_is_dropped(tuning, signed_in):
    both = {"client": tuning.visit.client_id, "new_client": "Somebody else", "on": "2027-03-04"}
    assert "is chosen above" in signed_in.post(reverse("new-visit"), both).content.decode()
    assert not Client.objects.filter(name="Somebody else").exists()
    known = {"display": tuning.display_id, "model": "X9", "picture_mode": "Film", "purpose": "night", "target_name": "bt709-bt1886"}
    page = signed_in.post(reverse("visit", args=(tuning.visit_id,)), known | {"tolerance": "1"})
    assert "Which of the two is it?" in page.content.decode()
