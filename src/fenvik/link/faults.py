"""What can go wrong on the far side of the link, in sentences that a person can act on."""

from typing import Any, Literal

from fenvik.core.errors import FenvikError

Kind = Literal["absent", "closed", "silent", "garbage", "shape"]

_SENTENCES: dict[Kind, str] = {
    "absent": "{who} cannot be reached at {where}. Check that it is on and connected; what was read is kept.",
    "closed": "{who} closed the connection. Check its cable or its bridge; what was read is kept.",
    "silent": "{who} did not answer within {seconds:.0f} s. Check that it is not waiting for something; "
    "what was read is kept.",
    "garbage": "{who} answered with something that is not the device link. Check that the right program is "
    "at {where}; nothing of it was stored.",
    "shape": "{who} gave an answer that the device link does not allow ({detail}). Its bridge needs mending; "
    "nothing of it was stored.",
}


class LinkFault(FenvikError):
    """A passed deadline, a closed connection, or an answer that the link does not allow."""

    code = "link_fault"

    def __init__(self, kind: Kind, who: str, where: str, *, detail: str = "", seconds: float = 0.0) -> None:
        super().__init__(_SENTENCES[kind].format(who=who, where=where, detail=detail, seconds=seconds))
        self.kind = kind
        self.who = who
        self.where = where
        self.detail = detail


class DeviceError(FenvikError):
    """The device refused, with a code of the link and a sentence of its own."""

    code = "device_error"

    NOT_PAIRED, WRONG_CODE, OUT_OF_RANGE, UNKNOWN, BUSY, TOO_DARK, TOO_BRIGHT, UNSUPPORTED, INSIDE, SIGNAL = range(
        1, 11
    )
    PASSING = (BUSY, INSIDE)  # may be tried again

    def __init__(self, who: str, number: int, message: str, data: dict[str, Any]) -> None:
        super().__init__(f"{who}: {message}")
        self.who = who
        self.number = number
        self.data = data
