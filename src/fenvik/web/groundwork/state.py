"""How each check stands: from the settings where they are known, from what the display says, from a person's answer."""

from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from typing import Any

from django.utils import timezone
from django.utils.dateparse import parse_datetime

from fenvik.core.groundwork import CHECKS, Check, checks_for, extra_processing, signal_clash
from fenvik.web.controls.values import Values, shown
from fenvik.web.devices.displays import link_of
from fenvik.web.devices.standing import clash_of, mode_of, said_modes
from fenvik.web.groundwork.models import Answer, CheckAnswer
from fenvik.web.groundwork.words import when
from fenvik.web.passes.models import PICTURES, PassPurpose, PassState
from fenvik.web.visits.aimed import SIGNALS
from fenvik.web.visits.models import Tuning

QUICK_PLAY = ("process.game", "process.low-latency", "process.latency", "process.low-lag", "process.instant-response")
READ_AS_IT_STANDS = (*PICTURES, PassPurpose.HANDS_FREE)  # before whose readings a paired display is asked
FRESH = timedelta(seconds=45)  # what a display said longer ago may have changed
_BY_ID = {check.id: check for check in CHECKS}


@dataclass(frozen=True)
class Row:
    """One check and how it stands: "right", "left-on", "wrong" or "open", with the words for it."""

    check: Check
    state: str
    words: str
    control: dict[str, Any] | None = None
    off: str = ""  # what its control should be at, as typed
    now: Any = None
    found: Any = None
    warning: bool = False

    @property
    def is_done(self) -> bool:
        """Whether nothing is left to do about it."""
        return self.state in ("right", "left-on")


def fresh_state(said: dict[str, Any] | None, now: datetime) -> dict[str, Any] | None:
    """Return what a display said of itself, if that was just now."""
    at = parse_datetime(said["at"]) if said and said.get("at") else None
    return said if at is not None and now - at < FRESH else None


def _answered(check: Check, answer: CheckAnswer | None) -> Row:
    if answer is None or answer.answer == Answer.OPEN:
        return Row(check, "open", "not looked at yet")
    if answer.answer == Answer.LEFT_ON:
        return Row(check, "left-on", f"left as it is, because {answer.because}")
    if answer.answer == Answer.CHANGED:
        return Row(
            check, "right", f"changed from {answer.before or 'something else'} to {answer.after or check.wanted}"
        )
    return Row(check, "right", "as it should be")


def _by_control(check: Check, control: dict[str, Any], values: Values, answer: CheckAnswer | None) -> Row:
    name, off = control["id"], control.get("off")
    now, found = values.now.get(name), (values.found or {}).get(name)
    facts: dict[str, Any] = {"control": control, "off": "" if off is None else shown(off), "now": now, "found": found}
    if now is None:
        return Row(check, "open", f"{control['label']} has not been noted yet", **facts)
    if off is None:
        # Which value is the right one only an eye can tell: what stands there is said, and the person answers.
        told = _answered(check, answer)
        return replace(told, words=f"{control['label']} at {shown(now)}, {told.words}", **facts)
    changed = f", changed from {shown(found)}" if found is not None and found != now else ""
    if now == off:
        return Row(check, "right", f"as it should be: {control['label']} at {shown(now)}{changed}", **facts)
    if answer is not None and answer.answer == Answer.LEFT_ON and answer.after == shown(now):
        return Row(check, "left-on", f"{control['label']} left at {shown(now)}, because {answer.because}", **facts)
    return Row(check, "wrong", f"{control['label']} stands at {shown(now)}", **facts)


def _was_so(tuning: Tuning) -> str | None:
    """Return when a display was seen last as the tuning wants it, by what it said or by what was read of it; None for never.

    It may stand otherwise by now. Whatever is read next asks it first.
    """
    said = tuning.display.said or {}
    if said.get("mode") and said.get("signal") == tuning.signal and not clash_of(tuning, said)[0]:
        return str(said["at"])
    pairing = getattr(link_of(tuning.display), "pairing", None)
    if pairing is None or not pairing.token:
        return None
    done = [p for p in getattr(tuning, "main_passes", ()) if p.purpose in READ_AS_IT_STANDS and p.state == PassState.DONE]
    read = [p for p in done if p.started_at is not None and p.finished_at is not None and p.started_at > pairing.at]
    return max(p.finished_at for p in read).isoformat() if read else None


def _mode(check: Check, tuning: Tuning, said: dict[str, Any] | None, answer: CheckAnswer | None, was_so: str | None) -> Row:
    wanted = mode_of(tuning, said_modes(tuning.display.said))
    # Where it is not known which of its modes the tuning means, nobody has seen that it was in that one.
    if said is None and wanted and was_so is not None and (answer is None or answer.answer == Answer.OPEN):
        return Row(check, "right", f"the display was in {tuning.picture_mode} {when(was_so)}")
    if said is None or not wanted:
        return _answered(check, answer)
    if said.get("mode") == wanted:
        return Row(check, "right", f"the display is in {tuning.picture_mode}")
    return Row(check, "wrong", f"the display is in another mode than {tuning.picture_mode}", warning=True)


def _signal(check: Check, tuning: Tuning, said: dict[str, Any] | None, answer: CheckAnswer | None, was_so: str | None) -> Row:
    playing = said.get("signal") if said is not None else None
    told_by_hand = answer.after if answer is not None and answer.answer in (Answer.RIGHT, Answer.CHANGED) else ""
    clash = signal_clash(tuning.signal, playing or told_by_hand or None)
    if clash:
        return Row(check, "wrong", clash, warning=True)
    if playing:
        return Row(check, "right", f"the display shows {SIGNALS.get(playing, playing)}")
    if told_by_hand:
        return Row(check, "right", f"the display shows {SIGNALS.get(told_by_hand, told_by_hand)}")
    if was_so is not None:
        return Row(check, "right", f"the display showed {SIGNALS.get(tuning.signal, tuning.signal)} {when(was_so)}")
    return Row(check, "open", "which signal the display shows is not known yet")


def rows_of(tuning: Tuning, values: Values, answers: Iterable[CheckAnswer], now: datetime | None = None) -> list[Row]:
    """Return every check of a tuning with how it stands, in the order in which they are best done."""
    newest = {answer.check_id: answer for answer in answers}
    said = fresh_state(tuning.display.said, now or timezone.now())
    by_role = {c["role"]: c for c in values.controls if c.get("role")}
    was_so = None if said is not None else _was_so(tuning)
    made = []
    for check in checks_for(tuning.display.technology, tuning.signal, by_role):
        answer = newest.get(check.id)
        if check.id == "mode":
            check = replace(check, wanted=tuning.picture_mode)  # noqa: PLW2901
            made.append(_mode(check, tuning, said, answer, was_so))
        elif check.id == "signal":
            check = replace(check, wanted=tuning.get_signal_display())  # noqa: PLW2901
            made.append(_signal(check, tuning, said, answer, was_so))
        elif check.role:
            made.append(_by_control(check, by_role[check.role], values, answer))
        else:
            made.append(_answered(check, answer))
    for role in extra_processing(by_role):
        if tuning.purpose == "game" and role in QUICK_PLAY:
            continue  # it is what a game tuning is for
        control = by_role[role]
        check = Check(
            role.removeprefix("process."),
            control["label"],
            "It is processing: what it does to patches is not known beforehand.",
            "off",
            role,
        )
        made.append(_by_control(check, control, values, newest.get(check.id)))
    return made


def warning_of(tuning: Tuning, now: datetime | None = None) -> str:
    """Return the sentence about a signal or a mode that does not fit the tuning, for every stop's head; empty where it fits."""
    said = fresh_state(tuning.display.said, now or timezone.now())
    return "" if said is None else clash_of(tuning, said)[0]
