"""What is typed while somebody signs out, or in anew, in another tab of the same browser."""

import pytest

pytestmark = pytest.mark.django_db(transaction=True)


def end_session(page):
    """As its fortnight does; the token stays."""
    page.context.clear_cookies(name=next(c["name"] for c in page.context.cookies() if c["name"].startswith("fenvik")))


def sign_in(page):
    page.fill("#id_username", "ina")
    page.fill("#id_password", "quiet water")
    page.press("#id_password", "Enter")


def begin_another(page):
    end_session(page)
    other = page.context.new_page()
    other.goto(page.url.partition("/clients")[0].partition("/tunings")[0])
    sign_in(other)
    other.wait_for_url("**/visits/")
    other.close()


@pytest.mark.parametrize("began", [False, True], ids=["ended", "another"])
@pytest.mark.parametrize(
    ("path", "form", "field"),
    [("/clients/new/", "main form", "notes"), ("/tunings/{}/arrival/?view=target", "#field form[data-draft]", "name")],
    ids=["office", "stop"],
)
def test_what_was_typed_is_filled_in_again(page, system, tuning, began, path, form, field):
    page.goto(system.address + path.format(tuning.pk))
    page.fill(f"{form} [name={field}]", "typed before")
    (begin_another if began else end_session)(page)
    page.locator(form).evaluate("form => form.requestSubmit()")
    page.locator(".notice.unsent").wait_for()
    if not began:
        sign_in(page)
    page.wait_for_url(lambda to: to.endswith(path.format(tuning.pk)))
    page.wait_for_function(f"document.querySelector('{form} [name={field}]')?.value === 'typed before'")
    page.complaints[:] = [told for told in page.complaints if "403" not in told]  # the refusal that was wanted
    assert page.complaints == []
