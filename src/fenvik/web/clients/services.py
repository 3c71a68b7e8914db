"""Keeping rooms and the displays in them."""

from django.db import transaction

from fenvik.core.errors import FenvikError
from fenvik.web.clients.models import Client, Display, Feed, Room
from fenvik.web.people.models import User
from fenvik.web.people.policy import Right, needs


class NameTakenError(FenvikError):
    """A name that something else of the same place has."""

    code = "name_taken"


@needs(Right.PLAN, "kept a client")
@transaction.atomic
def keep_client(*, client: Client, actor: User) -> Client:
    """Keep a client as filled in, unless the firm has another one of that name. Raises NameTakenError."""
    if Client.objects.of_firm(actor.firm_id).filter(name=client.name).exclude(pk=client.pk).exists():
        raise NameTakenError(f"There is a client called {client.name} already.")
    client.save()
    return client


@needs(Right.PLAN, "kept a room")
@transaction.atomic
def keep_room(*, room: Room, actor: User) -> Room:
    """Keep a room as it was filled in, unless the client has another one of that name. Raises NameTakenError."""
    taken = (
        Room.objects.of_firm(actor.firm_id).filter(client_id=room.client_id, name__iexact=room.name).exclude(pk=room.pk)
    )
    if taken.exists():
        raise NameTakenError(f"This client has a room called {room.name} already.")
    room.save()
    return room


@needs(Right.PLAN, "kept a display")
@transaction.atomic
def keep_display(*, display: Display, actor: User, feeds: list[tuple[str, str]]) -> Display:
    """Keep a display with what feeds it; the lines as they stand replace those before."""
    display.save()
    Feed.objects.filter(display=display).delete()
    Feed.objects.bulk_create(Feed(display=display, through=t, what=w, order=i) for i, (t, w) in enumerate(feeds))
    return display
