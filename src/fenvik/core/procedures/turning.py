"""The controls of a display as they stand, turned one by one, and what it refuses."""

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any

from fenvik.core.controls import surely_felt
from fenvik.core.procedures.steps import Look, Procedure, RefusedError, Set, Standing, Wait

STAYS = "It does not move, whatever it is set to."
LATE_S, PROVEN = (0.3, 0.7, 1.5, 2.5), 2  # seconds between looks at what may move late; times that show that it does not
NAMED = 3  # controls in a sentence
LIMITS = ("value", "min", "max", "step", "options")  # by which one setting that is shown in two places is known


def _refused(labels: list[str], refusal: str) -> str:
    """Return in a sentence what was left as it is."""
    named = ", ".join(labels[:NAMED]) + (f" and {len(labels) - NAMED} more" if len(labels) > NAMED else "")
    was, it = ("was left as it is", "it") if len(labels) == 1 else ("were left as they are", "them")
    if refusal == STAYS:
        what = "it does not move, whatever it is" if len(labels) == 1 else "they do not move, whatever they are"
        return f"{named} {was}: {what} set to."
    return f"{named} {was}, for the display refuses {it}: {refusal}"


@dataclass
class Turning:
    """The controls as they stand, what was found, what the display refuses, and what is to be said."""

    controls: list[dict[str, Any]]  # of the mode, as the device link describes them; ``value`` is kept up
    notes: list[str] = field(default_factory=list)
    found: dict[str, Any] = field(default_factory=dict)
    refused: set[str] = field(default_factory=set)  # controls that the display does not let be set
    refusals: dict[str, list[str]] = field(default_factory=dict)  # what the display says to that, and the labels it says it to
    twins: dict[str, str] = field(default_factory=dict)  # by id, controls of a role that an earlier one has, and that one's id
    refused_options: dict[str, dict[Any, str]] = field(default_factory=dict)  # of choices, by id, with what was said of each
    felt: set[str] = field(default_factory=set)  # controls that are known to move
    left_mode: bool = False  # whether it had left its mode, and was sent the signal anew, since that was last looked after
    sent_again: bool = False
    moves_late: bool = False  # whether controls move some seconds after the display has answered that they did not
    proven_at_once: int = 0  # times that was waited for in vain
    by_hand: bool = False  # whether a person turns what is set: then many readings are better than many turns

    def by_role(self, prefix: str) -> list[dict[str, Any]]:
        """Return the controls whose role is this or begins with it and a dot, the first of each role; of processes all."""
        left_out = self.refused | self.twins.keys()
        return [
            c
            for c in self.controls
            if c.get("role") and (c["role"] == prefix or c["role"].startswith(f"{prefix}.")) and c["id"] not in left_out
        ]

    def see_twins(self) -> None:
        """Leave out what an earlier control does: some displays have one setting in two places, some two that do the same.

        What scales the light may be several, a lamp and an iris: there only one that looks the same is taken for the same.
        """
        first: dict[tuple[Any, ...], str] = {}
        for control in self.controls:
            role = str(control.get("role") or "")
            looks = tuple(str(control.get(name)) for name in LIMITS) if role == "light" else ()
            if role and not role.startswith("process."):
                same = first.setdefault((role, control["kind"], *looks), control["id"])
                if same != control["id"]:
                    self.twins[control["id"]] = same

    def set(self, control: dict[str, Any], value: Any, *, as_far_as_it_lets: bool = False) -> Procedure[Any]:
        """Set a control, held within its range, and keep what it now is.

        ``as_far_as_it_lets``: what is refused tells nothing, for something else may lock it as yet.
        """
        if control["kind"] == "range":
            low, high, step = float(control["min"]), float(control["max"]), float(control["step"])
            value = low + round((min(max(float(value), low), high) - low) / step) * step
            value = int(value) if float(value).is_integer() else round(value, 9)
        is_in_vain = control["id"] in self.refused and value != self.found[control["id"]]
        if value != control["value"] and not is_in_vain:
            stood = control["value"]
            try:
                control["value"] = yield Set(control["id"], value)
            except RefusedError as refusal:
                if not as_far_as_it_lets:
                    yield from self._was_refused(control, value, refusal)
            else:
                if not as_far_as_it_lets:
                    yield from self._has_stayed(control, stood, value)
        return control["value"]

    def _has_stayed(self, control: dict[str, Any], stood: Any, value: Any) -> Procedure[None]:
        """Go on without a control that stays where it is whatever it is set to, or only as far as it goes: a refusal, unsaid."""
        if control["value"] != stood and control["kind"] == "choice":
            self.felt.add(control["id"])
        if control["value"] != stood or self.by_hand or control["id"] in self.refused:
            return
        if (yield from self.has_moved_late(control, stood)):
            return
        if control["kind"] != "range":
            yield from self._was_refused(control, value, RefusedError(STAYS))
            return
        way = 1 if value > stood else -1
        if control["id"] in self.felt and abs(value - stood) < surely_felt(control):
            return  # it feels larger steps alone
        if (yield from self._goes(control, way)):
            self.felt.add(control["id"])
        elif (yield from self._goes(control, -way)):
            control["max" if way > 0 else "min"] = stood
        else:
            yield from self._was_refused(control, value, RefusedError(STAYS))

    def has_moved_late(self, control: dict[str, Any], stood: Any) -> Procedure[bool]:
        """Return whether a control moves after the display has answered that it did not, and take it as it stands then."""
        is_waited_for = self.moves_late or self.proven_at_once < PROVEN
        for pause in (0.0, *(LATE_S if is_waited_for else ())):
            if pause:
                yield Wait(pause)
            standing = yield from self.stands()
            if standing is None:
                return False
            if standing.values.get(control["id"], stood) != stood:
                control["value"], self.moves_late = standing.values[control["id"]], True
                return True
        self.proven_at_once += 1
        return False

    def stands(self) -> Procedure[Standing | None]:
        """Return how the display says that it stands; that it had left its mode or its signal is kept for who looks after that."""
        standing: Standing | None = yield Look()
        if standing is not None:
            self.left_mode, self.sent_again = self.left_mode or standing.left_mode, self.sent_again or standing.sent_again
        return standing

    def moves(self, control: dict[str, Any]) -> Procedure[bool]:
        """Return whether a range moves at all, by a step that every display feels; it is turned back."""
        return (yield from self._goes(control, 1)) or (yield from self._goes(control, -1))

    def _goes(self, control: dict[str, Any], way: int) -> Procedure[bool]:
        stood = control["value"]
        there = min(max(stood + way * surely_felt(control), control["min"]), control["max"])
        if there == stood:
            return False
        try:
            came = yield Set(control["id"], type(stood)(there))
        except RefusedError:
            return False
        if came != stood:
            control["value"] = yield Set(control["id"], stood)
        return bool(came != stood)

    def _was_refused(self, control: dict[str, Any], value: Any, refusal: RefusedError) -> Procedure[None]:
        """Go on without a control that cannot be set, or only as far as the display says."""
        if refusal.room is not None and control["kind"] == "range":
            low, high = max(refusal.room[0], control["min"]), min(refusal.room[1], control["max"])
            if low <= control["value"] <= high and (low, high) != (control["min"], control["max"]):
                control["min"], control["max"] = low, high
                yield from self.set(control, value)
                return
        if control["kind"] == "choice" and self._refuses_some(control, value, str(refusal)):
            return
        if control["id"] not in self.refused:
            self.refused.add(control["id"])
            self._say_refused(str(control["label"]), str(refusal))

    def _refuses_some(self, control: dict[str, Any], option: Any, refusal: str) -> bool:
        """Keep that an option is refused, and say it; return whether others may be chosen, for one was or no second is refused."""
        told = self.refused_options.setdefault(control["id"], {})
        may = control["id"] in self.felt or (not told.keys() - {option} and len(control["options"]) > 2)
        if not may:
            self.notes[:] = [note for note in self.notes if note not in told.values()]
        elif option not in told:
            told[option] = f"{control['label']}: the display refuses {option}: {refusal}"
            self.notes.append(told[option])
        return may

    def _say_refused(self, label: str, refusal: str) -> None:
        """Keep one note of all that is refused in the same words."""
        labels = self.refusals.setdefault(refusal, [])
        before = _refused(labels, refusal)
        labels.append(label)
        place = self.notes.index(before) if before in self.notes else len(self.notes)
        self.notes[place : place + 1] = [_refused(labels, refusal)]

    def lets_again(self, names: Iterable[str]) -> None:
        """Take it that controls, by id, can be set now."""
        labels = {str(c["label"]) for c in self.controls if c["id"] in names}
        self.refused -= set(names)
        for refusal, said in list(self.refusals.items()):
            if labels.issuperset(said):
                self.notes.remove(_refused(self.refusals.pop(refusal), refusal))
