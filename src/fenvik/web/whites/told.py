"""What is told of whites elsewhere: on the page of a display, and in a handover."""

from typing import Any

from fenvik.core.colour.space import XY
from fenvik.web.clients.models import Display
from fenvik.web.passes.models import Pass, PassPurpose, PassState
from fenvik.web.visits.models import Tuning
from fenvik.web.whites.models import WhiteMatch, WhiteTrial
from fenvik.web.whites.shifting import modes_of, wanted_white


def of_tuning(tuning: Tuning) -> dict[str, Any]:
    """Return what a handover says of a tuning's white: how it was chosen, and where each mode ended when it was read last."""
    trial = WhiteTrial.objects.filter(tuning=tuning, ended_at__isnull=False).order_by("-id").first()
    done = Pass.objects.filter(tuning=tuning, purpose=PassPurpose.SHIFT, state=PassState.DONE)
    pass_ = done.select_related("correction", "tuning").order_by("-id").first()
    wanted: XY = wanted_white(tuning)
    return {
        "choice": "" if trial is None else said_of(trial),
        "wanted": list(wanted),
        "modes": [
            {"label": m.label, "xy": list(m.xy), "far": m.far} for m in ([] if pass_ is None else modes_of(pass_))
            if m.xy is not None and m.far is not None
        ],
    }  # fmt: skip


def said_of(trial: WhiteTrial) -> str:
    """Return a choice that has ended, in one sentence; nothing of one that was given up."""
    names = ", ".join(told["name"] for told in trial.candidates)
    words = f" In the client’s words: “{trial.words}”." if trial.words else ""
    if trial.winner is not None:
        how = f"blind, in {len(trial.picks)} rounds" if trial.blind else "openly"
        return f"White was chosen {how} between {names}: {trial.winner['name']}.{words}"
    if trial.blind and trial.picks:
        return f"Between {names} no difference could be told, in {len(trial.picks)} rounds.{words}"
    return ""


def of_display(display: Display) -> list[tuple[Any, str]]:
    """Return what was chosen and matched on a display, with its day, newest first."""
    trials = WhiteTrial.objects.filter(tuning__display=display, ended_at__isnull=False).order_by("-id")[:6]
    rows = [(trial.ended_at, said) for trial in trials if (said := said_of(trial))]
    matches = WhiteMatch.objects.filter(tuning__display=display, du__isnull=False).select_related("reference__room")
    for match in matches.order_by("-id")[:6]:
        beside = f"{match.reference.room.name}: {match.reference.name}"
        offset = f"{match.du:+.4f}, {match.dv:+.4f}".replace("-", "−")
        rows.append((match.ended_at, f"Looked like {beside} at {offset} in u′v′ from the standard’s white."))
    return sorted(rows, key=lambda row: row[0], reverse=True)
