"""Waiting for what a page says. An element may be away for a moment while the page is filled in anew: that is not an answer."""


def wait_until_otherwise(page, selector, before):
    """Wait until the element is there and says something else than it did before."""
    page.wait_for_function(
        "([selector, before]) => { const e = document.querySelector(selector); return e && e.innerText !== before; }",
        arg=[selector, before],
    )


def wait_until_without(page, selector, words):
    """Wait until the element is there and these words are not in it."""
    page.wait_for_function(
        "([selector, words]) => { const e = document.querySelector(selector); return e && !e.textContent.includes(words); }",
        arg=[selector, words],
    )
