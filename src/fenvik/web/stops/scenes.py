"""What a stop shows: the trail, the head line, the field, the hand and the tape."""

from dataclasses import dataclass, field
from functools import cached_property
from itertools import takewhile
from typing import Any
from urllib.parse import quote

from django.conf import settings
from django.http import Http404
from django.utils import timezone

from fenvik.core.analysis.analysis import Analysis
from fenvik.formats.typed import ORDERS
from fenvik.web.adjusting.desk import Desk
from fenvik.web.adjusting.ends import placed
from fenvik.web.adjusting.speaking import newest_white
from fenvik.web.controls.restless import folded, restless, still_on
from fenvik.web.controls.values import Values, values_from
from fenvik.web.corrections.choosing import candidates
from fenvik.web.devices.standing import clash_of
from fenvik.web.groundwork.state import fresh_state, warning_of
from fenvik.web.groundwork.words import warmth_words
from fenvik.web.kit.keeping import Kept
from fenvik.web.passes.models import NOT_OF_THE_MODE, OF_INSTRUMENTS, Pass, PassPurpose, Reading, ReadingsImport
from fenvik.web.passes.recent import FOR_THE_TAPE, MOST, recent_readings
from fenvik.web.passes.recent import forget as forget_passes
from fenvik.web.results import pictures
from fenvik.web.results.assemble import analysis_of
from fenvik.web.results.imports import of_tuning
from fenvik.web.results.parts import Picture, own_colour
from fenvik.web.results.proof import proof, short_of, unfinished
from fenvik.web.results.verdict import Verdict
from fenvik.web.stops.options import PARTS, WORKS, Options
from fenvik.web.stops.progress import Progress, progress_of
from fenvik.web.stops.registry import Page, pages
from fenvik.web.stops.tape import TapeRow, tape_of
from fenvik.web.trail.facts import STOPS, Trail, trail_of
from fenvik.web.trail.kept import tunings
from fenvik.web.visits.aimed import SIGNALS
from fenvik.web.visits.models import Tuning


@dataclass
class Scene:
    """Everything that the templates of a stop need."""

    tuning: Any
    stop: str
    options: Options
    trail: Trail
    values: Values
    tape: list[TapeRow]
    open_pass: Pass | None
    progress: Progress | None
    found_pass: Pass | None
    left_pass: Pass | None
    found: Analysis | None
    left: Analysis | None
    recent: list[Reading]
    begun: Pass | None = None  # a pass of this stop that is not complete and newer than its proof
    begun_analysis: Analysis | None = None
    picture: Picture | None = None
    desk: Desk | None = None
    verdict: Verdict | None = None
    extra: dict[str, Any] = field(default_factory=dict)

    @property
    def page(self) -> Page:
        """What this stop shows, and by which templates."""
        return pages[self.stop]

    @property
    def looked_through(self) -> str:
        """How what the meter reads is looked at, in one word."""
        if self.tuning.correction:
            return "corrected"
        return "reference" if self.tuning.meter.facts.get("kind") == "spectroradiometer" else "uncorrected"

    @property
    def standin_page(self) -> str:
        """Where the stand-ins show this display with its menu; without it in earnest."""
        serial, pages_at = quote(self.tuning.display.serial, safe=""), settings.STANDIN_PAGES.rstrip("/")
        return pages_at and f"{pages_at}/display/{serial}" if serial else pages_at

    @property
    def stop_name(self) -> str:
        """The stop as it is written."""
        return STOPS[self.stop]

    @property
    def views(self) -> list[tuple[str, str, str]]:
        """Key, id and name of each picture."""
        named = [item for item in pictures.VIEWS.items() if self.stop != "adjust" or item[0] not in ("light", "wrong")]
        return [(str(i + 1), name, label) for i, (name, (label, _)) in enumerate(named)]

    @property
    def shown_view(self) -> str:
        """Which view the field shows."""
        return "lists" if "choices" in self.extra else "" if self.picture is None else self.picture.id

    @property
    def parts(self) -> list[tuple[str, str, str]]:
        """Key, id and name of each part of a stop that has parts."""
        return [(str(i + 1), name, label) for i, (name, label) in enumerate(PARTS.get(self.stop, {}).items())]

    @property
    def works(self) -> list[tuple[str, str, str]]:
        """Key, id and name of each kind of work at Adjust that this display allows."""
        roles = {(control.get("role") or "").split(".")[0] for control in self.values.controls}
        at = {".".join((control.get("role") or "").split(".")[:2]) for control in self.values.controls}
        if self.tuning.signal == "dynamic":
            return [(key, name, label) for name, (key, label) in WORKS.items() if name == "two"]
        has_points, is_pq = bool(at & {"white.at", "gamma.at"}), self.tuning.target.curve == "pq"
        # In PQ gains and offsets are set by all levels at once too, for every light is wanted as it is.
        there = {"two", "light"} | ({"points"} if has_points or (is_pq and "white.gain" in at) else set())
        there |= ({"colours"} if "colour" in roles else set()) | ({"hands-free"} if self.is_linked or self.may_lead else set())
        named = dict(WORKS)
        if not self.is_linked:
            named["hands-free"] = (WORKS["hands-free"][0], "led by hand")
        if not has_points:
            named["points"] = (WORKS["points"][0], "all levels")
        return [(key, name, label) for name, (key, label) in named.items() if name in there]

    @property
    def may_lead(self) -> bool:
        """Whether a run can lead a person: it is known where the controls stand, and nobody has to type what is read."""
        return bool(self.values.now) and not any(d is not None and d.is_keyed for d in (self.tuning.meter, self.tuning.source))

    @property
    def all_at_once(self) -> str:
        """What sets all levels at once: the points, in PQ gains and offsets too; empty where nothing does."""
        label = next((label for _, name, label in self.works if name == "points"), "")
        return "the points" if label == "points" else label

    @property
    def has_colours(self) -> bool:
        """Whether the menu has controls for single colours."""
        return any(name == "colours" for _, name, _ in self.works)

    @property
    def is_hands_free(self) -> bool:
        """Whether a hands-free run is going on."""
        return self.open_pass is not None and self.open_pass.purpose == PassPurpose.HANDS_FREE

    @property
    def is_linked(self) -> bool:
        """Whether the display can be asked what it shows."""
        link = self.tuning.display.link
        return link is not None and hasattr(link, "pairing")

    @property
    def signals(self) -> dict[str, str]:
        """The signals that a display may show."""
        return SIGNALS

    @property
    def warning(self) -> str:
        """What the display says that does not fit the tuning."""
        return warning_of(self.tuning)

    @property
    def mends_mode(self) -> bool:
        """Whether the open pass waits for the display's mode, or the display was just seen in another one."""
        if not self.is_linked:
            return False
        if self.open_pass is not None:
            return self.open_pass.state == "paused" and self.open_pass.mend == "choose-mode"
        said = fresh_state(self.tuning.display.said, timezone.now())
        return said is not None and clash_of(self.tuning, said)[1] == "choose-mode"

    @property
    def plays(self) -> bool:
        """Whether a source on the link can send what the tuning is for."""
        source = self.tuning.source
        linked = source is not None and not source.is_keyed and "screen" not in source.facts
        return source is not None and linked and self.tuning.signal in source.facts.get("formats", [])

    @property
    def warmth(self) -> str:
        """How warm the display was when the pass of this stop began."""
        pass_ = self.shown_pass
        return warmth_words(getattr(pass_, "circumstance", None))

    @cached_property
    def told(self) -> dict[str, Any] | None:
        """What the display told of its controls that nobody here had turned: of the pass that is shown, at Adjust the last of all.

        ``meanwhile``: it was turned while that pass was read. ``restless``: what moves by itself. ``on``: what may do that.
        """
        pass_ = self.shown_pass if self.stop in ("found", "left") else None
        if self.stop == "adjust":
            rows = list(takewhile(lambda change: change.is_told, reversed(self.values.changes)))[::-1]
        else:
            rows = [] if pass_ is None else [c for c in self.values.changes if c.is_told and c.of_pass_id == pass_.pk]
        if not rows:
            return None
        meanwhile = pass_ is not None and pass_.readings.filter(knew__lt=rows[-1].pk).exists()
        moving = restless(self.tuning, self.values)
        return {
            "rows": folded(rows), "meanwhile": meanwhile, "restless": moving,
            "on": still_on(self.values) if moving or meanwhile else [],
        }

    @property
    def elsewhere(self) -> Progress | None:
        """An open pass that belongs to another stop than this one."""
        if self.progress is None:
            return None
        home = {
            "found": PassPurpose.FOUND,
            "left": PassPurpose.LEFT,
            "adjust": PassPurpose.ADJUST,
            "groundwork": PassPurpose.WARM_UP,
        }
        purpose = self.progress.pass_.purpose
        at_home = home.get(self.stop) == purpose or (self.stop == "instruments" and purpose in OF_INSTRUMENTS)
        at_home = at_home or (self.stop == "groundwork" and purpose in NOT_OF_THE_MODE and purpose not in OF_INSTRUMENTS)
        at_home = at_home or (self.stop == "adjust" and purpose == PassPurpose.HANDS_FREE)
        tries = self.stop == "arrival" and self.options.part("arrival") in ("target", "sheets")
        at_home = at_home or (tries and purpose == PassPurpose.CHECK)
        return None if at_home else self.progress

    @property
    def asked(self) -> dict[str, Any] | None:
        """What the open pass asks of a person, with what comes after it."""
        pass_ = self.open_pass
        if pass_ is None or pass_.asks is None:
            return None
        meter = pass_.reference if pass_.asks["by"] == "reference" else pass_.meter
        at = pass_.asks["index"] + 1
        following = pass_.patches[at]["label"] if not pass_.repeat and at < len(pass_.patches) else ""
        assert meter is not None
        order = str(meter.facts.get("order", "XYZ"))
        asked: dict[str, Any] = pass_.asks | {
            "meter": meter, "order": ORDERS[order], "example": "95.0 100 108.9" if order == "XYZ" else "100 0.3127 0.3290",
            "following": following, "colour": own_colour([value / 100.0 for value in pass_.asks["percent"]]), "pass": pass_.pk,
            "can_go_back": pass_.asks["index"] > 0 and not pass_.repeat, "show": pass_.source.is_keyed,
        }  # fmt: skip
        return asked

    @cached_property
    def importing(self) -> ReadingsImport | None:
        """A large file on its way into this tuning, at the stops that show passes."""
        return of_tuning(self.tuning.pk) if self.stop in ("found", "left") else None

    @property
    def proof_pass(self) -> Pass | None:
        """The proof of this stop."""
        return self.left_pass if self.stop == "left" else self.found_pass

    @property
    def shows_begun(self) -> bool:
        """Whether the picture is of a pass that is not complete: while it is read, and where there is no other."""
        return self.begun is not None and (self.begun.is_open or self.proof_pass is None)

    @property
    def shown_pass(self) -> Pass | None:
        """The pass whose readings this stop is about."""
        return self.begun if self.shows_begun else self.proof_pass or self.found_pass

    @property
    def lacks(self) -> str:
        """What the pass that is shown lacks, in words."""
        return "" if self.shown_pass is None or self.stop not in ("found", "left") else short_of(self.shown_pass)

    @property
    def passes_here(self) -> list[Any]:
        """The passes of this stop that could be its proof, newest first."""
        if self.stop not in ("found", "left"):
            return []
        return [p for p in self.tuning.main_passes if p.purpose == self.stop and p.read and not p.is_open]

    @property
    def drifts(self) -> bool:
        """Whether the pass of this stop has whites by which drift is taken out."""
        pass_ = self.shown_pass
        return pass_ is not None and sum(row.get("part") == "drift" for row in pass_.patches) > 1

    @property
    def looks(self) -> dict[str, Any] | None:
        """What the pass of this stop was looked at through, and what else it could be."""
        pass_ = self.shown_pass if self.stop in ("found", "left") else None
        if pass_ is None or pass_.is_open:
            return None
        choices = [c for c in candidates(self.tuning) if c.meter_id == pass_.meter_id]
        return {"pass": pass_, "now": pass_.correction, "choices": choices} if choices or pass_.correction else None


def load_tuning(firm_id: int, pk: int) -> Any:
    """Return a tuning of a firm with what its trail needs, or answer 404."""
    found = tunings(firm_id, [pk], whole=True)
    if not found:
        raise Http404
    return found[0]


_tapes: Kept[list[Reading]] = Kept(200)  # forty readings each
_recents: Kept[list[Reading]] = Kept(12)  # hundreds each
_told: Kept[list[TapeRow]] = Kept(200)


def _recent_of(tuning: Tuning, most: int) -> list[Reading]:
    """Return the last readings of a tuning; those that were loaded before for as long as nothing has changed."""
    kept = _tapes if most == FOR_THE_TAPE else _recents
    return list(kept.get((tuning.pk, tuning.version), lambda: recent_readings(tuning, most)))


def _tape_of(tuning: Tuning, recent: list[Reading], white: float | None, black: float) -> list[TapeRow]:
    key = (tuning.pk, tuning.version, len(recent), tuning.target, white, black)
    return list(_told.get(key, lambda: tape_of(tuning, recent, white, black)))


def forget() -> None:
    """Forget what is kept between requests: for tests, whose databases begin anew."""
    forget_passes()
    for kept in (_tapes, _recents, _told):
        kept.clear()


def make_scene(
    firm_id: int, pk: int, stop: str, options: Options, *, person_id: int, extra: dict[str, Any] | None = None
) -> Scene:
    """Return the scene of a stop as a person has it; ``extra`` is what a form that was refused had in it."""
    tuning = load_tuning(firm_id, pk)
    if stop == "adjust":
        placed(tuning, person_id)
    sheet = tuning.found_sheets[0] if tuning.found_sheets else None
    values = values_from(tuning, sheet, tuning.ordered_changes)
    passes = tuning.main_passes
    open_pass = next((p for p in passes if p.is_open), None)
    found_pass, left_pass = proof(passes, PassPurpose.FOUND), proof(passes, PassPurpose.LEFT)
    found = analysis_of(found_pass, tuning, found_pass and found_pass.last_reading)
    left = analysis_of(left_pass, tuning, left_pass and left_pass.last_reading)
    recent = _recent_of(tuning, MOST if stop in ("adjust", "instruments") else FOR_THE_TAPE)
    base = left or found
    # Before a pass has told, the white that was read last is what errors are counted against.
    white = newest_white(recent) if base is None else float(base.white[1])
    scene = Scene(
        tuning=tuning,
        stop=stop,
        options=options,
        trail=trail_of(tuning),
        values=values,
        tape=_tape_of(tuning, recent, white, 0.0 if base is None else base.black_luminance),
        open_pass=open_pass,
        progress=_progress(open_pass),
        found_pass=found_pass,
        left_pass=left_pass,
        found=found,
        left=left,
        recent=recent,
        extra=dict(extra or {}),
    )
    if stop in ("found", "left"):
        begun = unfinished(passes, stop)
        scene.begun, scene.begun_analysis = begun, analysis_of(begun, tuning, begun and begun.last_reading)
    scene.page.fill(scene)
    return scene


def _progress(open_pass: Pass | None) -> Progress | None:
    if open_pass is None:
        return None
    rows = list(open_pass.readings.order_by("id").values_list("index", "at"))
    done = set() if open_pass.repeat else {index for index, _ in rows}
    return progress_of(open_pass, done, rows[-1][1] if rows else None)
