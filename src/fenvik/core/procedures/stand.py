"""How a display stands while it is worked at: its controls, what is installed in it, and what it refuses."""

from collections.abc import Collection
from dataclasses import dataclass, field
from typing import Any

from fenvik.core.procedures.doubt import INSTALLED
from fenvik.core.procedures.steps import Install, Procedure, RefusedError, Say, Standing, Uninstall
from fenvik.core.procedures.taken import Taken
from fenvik.core.procedures.turning import Turning

UNKNOWN = "*unknown*"  # among what was installed: what nobody has told
MOST_STRAYS = 2  # times that what has no role is set again
MOST_AGAIN = 2  # times that what does not stay where it is put is set again


@dataclass
class Stand(Turning):
    """The controls as they stand, what was found, what is installed and was, and what is to be said of it."""

    dead: list[str] = field(default_factory=list)  # controls that do nothing that a reading can tell
    given: dict[str, dict[str, Any]] = field(default_factory=dict)  # what is installed now, in the order in which it came
    strays: dict[str, int] = field(default_factory=dict)  # how often a control without a role moved by itself
    mirrors: set[str] = field(default_factory=set)  # twins that are seen to go where the first of their role goes
    restless: set[str] = field(default_factory=set)  # controls that do so all the time, and are not set again
    entered: dict[Any, dict[str, Any]] = field(default_factory=dict)  # settings with which each white preset was first come to
    is_drowsy: bool = False  # whether the display is known to take light from a picture that stands still
    still: int = 0  # readings since something was last turned
    stood: list[Any] = field(default_factory=list)  # the values of the controls then
    gave: list[dict[str, dict[str, Any]]] = field(default_factory=list)  # what was installed in every state so far

    def __post_init__(self) -> None:
        self.see_twins()
        self.gave = [dict(self.given)]
        self.found = self.settings
        self.enter_preset()

    @property
    def settings(self) -> dict[str, Any]:
        """The values of all controls now."""
        return {c["id"]: c["value"] for c in self.controls} | {INSTALLED: self.gave.index(self.given)}

    @property
    def has_installed(self) -> bool:
        """Whether anything was installed or taken away since it began."""
        return len(self.gave) > 1

    def install(self, what: str, data: dict[str, Any]) -> Procedure[None]:
        """Install something; the light is another from now on, and what was read before tells of another display."""
        now = {name: each for name, each in self.given.items() if name != what} | {what: data}
        before = self.given
        self._is_given(now)  # before it is: whatever ends it in between, it is taken away again
        try:
            yield Install(what, data)
        except RefusedError as refusal:
            self.given = before
            raise RefusedError(str(refusal), what=what) from refusal

    def uninstall(self, what: str) -> Procedure[None]:
        """Take away something that is installed."""
        self.may_have(what)  # whatever ends it in between, it may be there or not
        yield Uninstall(what)
        self._is_given({name: each for name, each in self.given.items() if name != what})

    def may_have(self, what: str) -> None:
        """Take it that nobody knows what of a kind is installed: it is taken away, or installed anew, where either is wanted."""
        self._is_given(self.given | {what: {UNKNOWN: what}})

    def stands_with(self, given: dict[str, dict[str, Any]]) -> None:
        """Take it that just this is installed now."""
        self._is_given(given)

    def was_bare(self) -> None:
        """Take it that nothing of what was said to be installed really was."""
        self.given, self.gave = {}, [{} for _ in self.gave]

    def can_go_back_to(self, taken: Taken) -> bool:
        """Return whether it is known what was installed when something was read."""
        return UNKNOWN not in self.gave[taken.settings[INSTALLED]]

    def _is_given(self, now: dict[str, dict[str, Any]]) -> None:
        self.given = now
        if now not in self.gave:
            self.gave.append(now)

    def put(self, settings: dict[str, Any]) -> Procedure[None]:
        """Put every control to a value, and let be installed what was."""
        wanted = self.gave[settings[INSTALLED]] if INSTALLED in settings else self.given
        wanted = {what: data for what, data in wanted.items() if what != UNKNOWN}
        for what in [what for what in self.given if what not in wanted]:
            yield from self.uninstall(what)
        for what, data in wanted.items():
            if self.given.get(what) != data:
                try:
                    yield from self.install(what, data)
                except RefusedError as refusal:
                    self.notes.append(f"What was installed before ({what}) could not be brought back: {refusal}")
        stood = self.settings
        yield from self._turn_back_here(settings)
        # Choices first: one may bring other controls along.
        for control in sorted(self.controls, key=lambda c: c["kind"] == "range"):
            if control["id"] in settings and control["id"] not in self.mirrors:
                yield from self.set(control, settings[control["id"]])
        yield from self._see_that_it_stands({name for name, value in self.settings.items() if value != stood[name]})

    def enter_preset(self) -> None:
        """Keep how white balance stands in the white preset that was just come to, unless that is known."""
        for preset in self.by_role("white-preset"):
            self.entered.setdefault(preset["value"], self.settings)

    def _turn_back_here(self, settings: dict[str, Any]) -> Procedure[None]:
        """Before a choice is put back, turn back what it may lock; the white balance of a white preset to how it stood there at
        first, for it may be that preset's own.
        """
        leaves = {c["id"] for c in self.controls if c["kind"] != "range" and settings.get(c["id"], c["value"]) != c["value"]}
        if not leaves:
            return
        presets = [c["value"] for c in self.by_role("white-preset") if c["id"] in leaves]
        # In one that was never worked in nothing was turned.
        here: dict[str, Any] = self.entered.get(presets[0], {}) if presets else settings
        for control in self.by_role("white"):
            yield from self.set(control, here.get(control["id"], control["value"]), as_far_as_it_lets=True)
        for control in (c for role in ("gamma.at", "colour") for c in self.by_role(role)):
            yield from self.set(control, settings.get(control["id"], control["value"]), as_far_as_it_lets=True)

    def _see_that_it_stands(self, turned: set[str]) -> Procedure[None]:
        """Ask the display how it stands now, and set once more what something that was set after it has turned."""
        for again in reversed(range(MOST_AGAIN + 1)):
            standing = yield from self.stands()
            if standing is None:
                return
            strayed = self.strayed(standing, turned)
            if strayed and not again:
                named = ", ".join(c["label"] for c in strayed[:3])
                self.notes.append(f"What does not stay where it is put, for the display turns it with something else: {named}.")
            for control in strayed:
                if again:
                    yield from self.set_again(control, standing)
                else:
                    control["value"] = standing.values[control["id"]]
            if not strayed:
                return

    def strayed(self, standing: Standing, turned: Collection[str] = ()) -> list[dict[str, Any]]:
        """Return the controls that stand otherwise than they were set. One that nobody knows to do anything, and that moves again
        and again, is no control but a figure that the display shows: it is left to itself.

        ``turned``: by id, what was set just now, and may be tied to something else that was.
        """
        made = []
        for control in self.controls:
            name = control["id"]
            if name in self.restless or standing.values.get(name, control["value"]) == control["value"]:
                continue
            if self._is_seen_elsewhere(control, standing):
                continue
            if not control.get("role") and control["kind"] == "range" and name not in turned:
                self.strays[name] = self.strays.get(name, 0) + 1
                if self.strays[name] > MOST_STRAYS:
                    self._leave_to_itself(control)
                    continue
            made.append(control)
        return made

    def _is_seen_elsewhere(self, control: dict[str, Any], standing: Standing) -> bool:
        """Take a control as it stands where it is the first of its role, shown in another place."""
        name = control["id"]
        is_seen = name in self.twins and standing.values[name] == standing.values.get(self.twins[name])
        if is_seen:
            self.mirrors.add(name)
            control["value"] = standing.values[name]
        return is_seen

    def set_again(self, control: dict[str, Any], standing: Standing) -> Procedure[None]:
        """Set a control that moved by itself to where it was."""
        wanted, control["value"] = control["value"], standing.values[control["id"]]
        yield from self.set(control, wanted)
        if control["value"] != wanted and not control.get("role"):
            control["value"] = wanted
            self._leave_to_itself(control)

    def _leave_to_itself(self, control: dict[str, Any]) -> None:
        self.restless.add(control["id"])
        why = "keeps moving by itself, and nothing is known that it does"
        self.notes.append(f"{control['label']} {why}, so it was left to itself.")

    def say(self, words: str) -> Procedure[None]:
        """Tell whoever watches."""
        yield Say(words)
