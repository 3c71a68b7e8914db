"""Who may do what: one place, asked by every service, so that pages, commands and whatever comes later cannot differ."""

import functools
from collections.abc import Callable
from enum import StrEnum
from typing import Any, ParamSpec, TypeVar

from fenvik.web.kit.nonsense import RefusedError
from fenvik.web.people.log import enter
from fenvik.web.people.models import Role

P = ParamSpec("P")
R = TypeVar("R")


class Right(StrEnum):
    """What a person of a firm may be allowed to do, in words that follow "may"."""

    RUN_FIRM = "say who is in the firm and which networks devices may be in"
    MEASURE = "measure, adjust and use devices"
    PLAN = "keep clients and plan visits"
    HAND_OVER = "make handovers and withdraw them"


MAY: dict[Right, tuple[Role, ...]] = {
    Right.RUN_FIRM: (Role.OWNER,),
    Right.MEASURE: (Role.OWNER, Role.CALIBRATOR),
    Right.PLAN: (Role.OWNER, Role.CALIBRATOR, Role.OFFICE),
    Right.HAND_OVER: (Role.OWNER, Role.CALIBRATOR, Role.OFFICE),
}


class NotAllowedError(RefusedError):
    """A person wants to do what is not for their role."""

    code = "not_allowed"

    def __init__(self, person: Any, right: Right) -> None:
        for_whom = " or ".join(f"an {role.label}" if role.label[0] in "aeiou" else f"a {role.label}" for role in MAY[right])
        super().__init__(f"Only {for_whom} of the firm may {right.value}; nothing was done.")
        self.right = right


def may(person: Any, right: Right) -> bool:
    """Whether a person may do something."""
    return bool(person.is_active and person.role in MAY[right])


def require(person: Any, right: Right) -> None:
    """Raise NotAllowedError where a person may not do something."""
    if not may(person, right):
        raise NotAllowedError(person, right)


def needs(right: Right, did: str = "") -> Callable[[Callable[P, R]], Callable[P, R]]:
    """Let a service ask whether its ``actor`` may do what it does. ``did``: what the log says of it, where it is worth a line."""

    def around(service: Callable[P, R]) -> Callable[P, R]:
        @functools.wraps(service)
        def asked(*args: P.args, **kwargs: P.kwargs) -> R:
            actor: Any = kwargs["actor"]
            require(actor, right)
            made = service(*args, **kwargs)
            if did:
                enter(actor, did, kwargs, made)
            return made

        asked.right = right  # type: ignore[attr-defined]
        return asked

    return around
