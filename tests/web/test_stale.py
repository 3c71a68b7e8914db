"""Forms of pages that were open before a session ended or another began."""

import pytest
from django.test import Client as Browser
from django.urls import reverse

from fenvik.web.clients.models import Client

pytestmark = pytest.mark.django_db
FROM = "http://testserver/clients/new/"
OLD = "a" * 64  # the shape of a token, and nobody's


@pytest.fixture
def browser(person):
    """One that keeps its tokens, as those of people do, and has a page open."""
    made = Browser(enforce_csrf_checks=True)
    made.force_login(person, backend="django.contrib.auth.backends.ModelBackend")
    made.get(reverse("new-client"))
    return made


def send(browser, token=OLD, **headers):
    headers = {"HTTP_REFERER": FROM} | headers
    return browser.post(reverse("new-client"), {"name": "Typed", "csrfmiddlewaretoken": token}, **headers)


def test_a_page_from_before_the_last_sign_in_is_led_back_and_told(browser):
    answer = send(browser)
    assert (answer.status_code, answer["Location"]) == (302, "/clients/new/")
    assert 'class="notice unsent warning">This page had been open since' in browser.get("/clients/new/").content.decode()
    within = send(browser, HTTP_X_ALPINE_REQUEST="true", HTTP_REFERER="http://testserver/tunings/4/adjust/?view=levels")
    assert (within.status_code, within["X-Fenvik-Go"]) == (403, "/tunings/4/adjust/?view=levels")
    assert not Client.objects.filter(name="Typed").exists()


def test_a_page_of_an_ended_session_leads_through_the_sign_in_and_back(browser):
    browser.get(reverse("new-client"))
    token = browser.cookies["csrftoken"].value
    browser.session.flush()
    answer = send(browser, token)
    assert answer["Location"] == "/sign-in/?next=%2Fclients%2Fnew%2F"
    assert "You had been signed out meanwhile" in browser.get(answer["Location"]).content.decode()
    within = send(browser, token, HTTP_X_ALPINE_REQUEST="true")
    assert within["X-Fenvik-Go"] == answer["Location"]


def test_a_sign_in_that_was_left_open_goes_on_where_it_would_have_gone(browser, person):
    told = {"username": "ina", "password": "quiet water", "csrfmiddlewaretoken": OLD}
    for wanted, led in (("/clients/", "/clients/"), ("http://elsewhere.invalid/", "/")):
        answer = browser.post(reverse("sign-in"), told | {"next": wanted}, HTTP_REFERER="http://testserver/sign-in/")
        assert answer["Location"] == led
    nobody = Browser(enforce_csrf_checks=True)
    answer = nobody.post(reverse("sign-in"), told, HTTP_REFERER="http://testserver/sign-in/?next=/clients/")
    assert answer["Location"] == "/sign-in/?next=/clients/"
    assert "refuses Fenvik" in nobody.get(answer["Location"]).content.decode()


@pytest.mark.parametrize(
    ("sent", "said"),
    [
        ({"HTTP_ORIGIN": "http://elsewhere.invalid"}, "FENVIK_ORIGINS"),
        ({"token": None}, "another site"),
    ],
)
def test_what_another_site_sends_is_refused(browser, sent, said):
    token = sent.pop("token", OLD)
    fields = {"name": "Typed"} | ({"csrfmiddlewaretoken": token} if token else {})
    answer = browser.post(reverse("new-client"), fields, HTTP_REFERER=FROM, **sent)
    assert answer.status_code == 403
    assert said in answer.content.decode()
    assert not Client.objects.filter(name="Typed").exists()


def test_another_sites_page_is_none_to_go_back_to(browser):
    assert send(browser, HTTP_REFERER="http://elsewhere.invalid/clients/")["Location"] == "/"
