"""Requests of people who are signed in, for whoever wants to know that they are."""

from django.http import HttpRequest

from fenvik.web.people.models import User


class Asking(HttpRequest):
    """A request that only somebody of a firm can have sent: pages that others may open say so themselves."""

    user: User
