"""People of a firm: who is in it, with which role; links to join or to set a password; sessions."""

import zoneinfo
from datetime import datetime

from django.contrib.auth import password_validation
from django.contrib.sessions.models import Session
from django.db import transaction

from fenvik.core.errors import FenvikError
from fenvik.web.kit.notify import notify_ended
from fenvik.web.people import zones
from fenvik.web.people.log import enter
from fenvik.web.people.models import Firm, Link, Role, SignedIn, User
from fenvik.web.people.policy import Right, needs
from fenvik.web.people.second import switch_off


class LastOwnerError(FenvikError):
    """Without this owner nobody could run the firm."""

    code = "last_owner"

    def __init__(self) -> None:
        super().__init__("This is the firm’s only owner. Make somebody else an owner first; nothing was changed.")


class ZoneError(FenvikError):
    """A time zone that there is none of."""

    code = "zone"

    def __init__(self) -> None:
        super().__init__("A time zone is a name such as Europe/Helsinki; nothing was changed.")


class LinkError(FenvikError):
    """A link that is used, ended, or for somebody else."""

    code = "link"

    def __init__(self) -> None:
        super().__init__("This link was used, or it has ended. Ask for a new one.")


def start_firm(*, name: str, username: str, password: str, networks: list[str], now: datetime) -> User:
    """Make a firm and its owner. Raises IntegrityError for a name that is taken, ValidationError for a weak password."""
    with transaction.atomic():
        firm = Firm.objects.create(name=name[:120], networks=networks)
        owner = User(username=username, firm=firm, role=Role.OWNER)
        password_validation.validate_password(password, owner)
        owner.set_password(password)
        owner.save()
        enter(owner, "started the firm", about=firm.name)
    return owner


def _of_firm(actor: User, person_id: int) -> User:
    return User.objects.select_for_update(of=("self",)).get(firm_id=actor.firm_id, pk=person_id)


def _see_an_owner_stays(person: User) -> None:
    others = User.objects.filter(firm_id=person.firm_id, role=Role.OWNER, is_active=True).exclude(pk=person.pk)
    if person.role == Role.OWNER and person.is_active and not others.select_for_update().exists():
        raise LastOwnerError


@needs(Right.RUN_FIRM)
@transaction.atomic
def invite(*, actor: User, name: str, role: str) -> Link:
    """Return a link by which somebody joins the firm, once."""
    made = Link.objects.create(firm_id=actor.firm_id, name=name[:120], role=Role(role), made_by=actor)
    enter(actor, f"invited somebody as {made.get_role_display()}", about=made.name)
    return made


@needs(Right.RUN_FIRM)
@transaction.atomic
def let_set_password(*, actor: User, person_id: int) -> Link:
    """Return a link by which a person sets a new password, once; earlier ones end."""
    person = _of_firm(actor, person_id)
    Link.objects.filter(person=person, used_at__isnull=True).delete()
    made = Link.objects.create(firm_id=actor.firm_id, person=person, name=person.called, role=person.role, made_by=actor)
    enter(actor, "made a link for a new password", about=person.called)
    return made


@needs(Right.RUN_FIRM)
@transaction.atomic
def end_link(*, actor: User, link_id: int) -> None:
    """End a link that nobody has used."""
    for link in Link.objects.filter(firm_id=actor.firm_id, pk=link_id, used_at__isnull=True):
        enter(actor, "ended a link", about=link.name)
        link.delete()


@needs(Right.RUN_FIRM)
@transaction.atomic
def change_role(*, actor: User, person_id: int, role: str) -> User:
    """Give a person another role. Raises LastOwnerError."""
    person = _of_firm(actor, person_id)
    if Role(role) != Role.OWNER:
        _see_an_owner_stays(person)
    person.role = Role(role)
    person.save(update_fields=["role"])
    enter(actor, f"made somebody {person.get_role_display()}", about=person.called)
    return person


@needs(Right.RUN_FIRM)
@transaction.atomic
def set_active(*, actor: User, person_id: int, active: bool) -> User:
    """Let a person in no longer, or again; what is open ends at once. Raises LastOwnerError."""
    person = _of_firm(actor, person_id)
    if not active:
        _see_an_owner_stays(person)
    person.is_active = active
    person.save(update_fields=["is_active"])
    if not active:
        end_sessions(person)
    enter(actor, "let somebody in again" if active else "deactivated somebody", about=person.called)
    return person


@needs(Right.RUN_FIRM)
@transaction.atomic
def end_all(*, actor: User, person_id: int) -> None:
    """End all sessions of a person."""
    person = _of_firm(actor, person_id)
    end_sessions(person)
    enter(actor, "ended the sessions of somebody", about=person.called)


@needs(Right.RUN_FIRM)
@transaction.atomic
def take_second_off(*, actor: User, person_id: int) -> None:
    """Let a person who has lost telephone and codes sign in with the password alone."""
    person = _of_firm(actor, person_id)
    switch_off(person)
    end_sessions(person)
    enter(actor, "took the second factor off somebody", about=person.called)


def end_sessions(person: User, *, but: str = "") -> None:
    """End the sessions of a person, but for one, with what they have open."""
    mine = SignedIn.objects.filter(person=person).exclude(session_key=but)
    keys = list(mine.values_list("session_key", flat=True))
    Session.objects.filter(session_key__in=keys).delete()
    mine.delete()
    for key in keys:
        notify_ended(session_key=key)


def good_link(token: str, now: datetime) -> Link:
    """Return a link that is still good. Raises LinkError."""
    link = Link.objects.select_related("firm", "person").filter(token=token, used_at__isnull=True, until__gt=now).first()
    if link is None or (link.person is not None and not link.person.is_active):
        raise LinkError
    return link


@transaction.atomic
def join(*, token: str, username: str, first_name: str, last_name: str, password: str, now: datetime) -> User:
    """Join a firm by a link. Raises LinkError, IntegrityError for a name that is taken."""
    link = good_link(token, now)
    if not Link.objects.filter(pk=link.pk, used_at__isnull=True).update(used_at=now) or link.person_id is not None:
        raise LinkError
    person = User(username=username, first_name=first_name, last_name=last_name, firm=link.firm, role=link.role)
    person.set_password(password)
    person.save()
    enter(person, "joined the firm", about=person.called)
    return person


@transaction.atomic
def set_password(*, person: User, password: str, but: str = "") -> None:
    """Set a person's password: sessions other than ``but`` end."""
    person.set_password(password)
    person.save(update_fields=["password"])
    end_sessions(person, but=but)
    enter(person, "set a new password", about=person.called)


@transaction.atomic
def set_password_by_link(*, token: str, password: str, now: datetime) -> User:
    """Set a password by a link. Raises LinkError."""
    link = good_link(token, now)
    if link.person is None or not Link.objects.filter(pk=link.pk, used_at__isnull=True).update(used_at=now):
        raise LinkError
    set_password(person=link.person, password=password)
    return link.person


@needs(Right.RUN_FIRM)
@transaction.atomic
def keep_networks(*, actor: User, networks: list[str]) -> None:
    """Keep in which networks the firm's devices may be."""
    firm = Firm.objects.select_for_update().get(pk=actor.firm_id)
    firm.networks = networks
    firm.save(update_fields=["networks"])
    enter(actor, "changed the networks of devices", about=" ".join(networks))


@needs(Right.RUN_FIRM)
@transaction.atomic
def keep_zone(*, actor: User, name: str) -> None:
    """Keep in which time zone a firm works; empty for the installation's. Raises ZoneError."""
    if name and name not in zoneinfo.available_timezones():
        raise ZoneError
    Firm.objects.filter(pk=actor.firm_id).update(time_zone=name)
    zones.forget()
    enter(actor, "changed the time zone", about=name)
