"""What the model of the greys is to do next: the moves that it expects least error of."""

from collections.abc import Sequence
from functools import partial

import numpy as np
import scipy

from fenvik.core.colour.target import Target
from fenvik.core.models.grey import Fit, seen_of, wanted_of
from fenvik.core.models.greyworth import metric
from fenvik.core.models.rolloff import RollOff
from fenvik.core.types import Bools, Floats, Ints

DOUBT = 0.06  # of a move's effect: what it is off by
CHARGED, CHARGED_LAST = 0.4, 0.7  # share of what the fit does not know that a move is charged for: to be read again, and not
PRICE = 3e-4  # squared error a step: a step must be worth something
OUTSTANDING, MOST_WEIGHT = 0.5, 4.0  # error at which a level counts twice, and the most that any may count
OUTSTANDING_ITP = 0.2  # the same in HDR, in the measure of moves: 0.6 of ΔE ITP
DROWNED, SHOWS = 0.25, 5.0  # weight of a level that lies in a display's own black, and times that black from which one counts fully
BEYOND = 0.5  # weight of a level at which an HDR display ends already
ROUNDS = 3  # how often these weights follow from what is left, and what is cut off from what is moved
SWEEPS = 40
MANY = 40  # controls from which on the bounded least squares goes by the interior
LUMINANCE = np.array([0.22, 0.70, 0.08])  # of white's, by the three lights, roughly
FIRM = 3000.0  # weight of what must not be passed: error a drive
KEPT = 300.0  # weight of a light's end: error a drive
BELOW_END, ABOVE_END = 0.002, 1e-4  # of drive: by how much white stays below it, and what counts as above that
HELD, HELD_IN_HLG, HELD_ALONE = 1.0, 2.0, 6.0  # weight of white's own luminance; in HLG; and where no other level's counts


def solve(
    model: Fit, moved: Floats, target: Target, white: float, black: float, *, allowed: Sequence[bool], levels: Floats,
    cap: float = 0.12, last: bool = False, curve: bool = True, lift: float | None = None, roll: RollOff | None = None,
) -> Floats:  # fmt: skip
    """Return the moves (k,), in whole steps from where the knobs were found, that the model expects least error of.

    ``cap``: most change of drive that one solve may make; ``last``: no reading will check it, so it must be surer of itself;
    ``curve``: whether luminance counts too, and not the balance alone; ``lift``: by how much of signal black may be raised at most,
    from where the knobs were found; ``roll``: how an HDR display ends.
    """
    use = np.flatnonzero(np.asarray(allowed))
    if not use.size:
        return moved
    effects = model.effects(levels, moved)
    # HLG keeps its peak: its lights are not brought down to their ends, and as long as they are there nothing shows what is turned.
    at_and_white, stays = np.append(levels, 1.0), target.curve == "hlg"
    cut = model.ended_at(at_and_white, moved) & stays
    judged = partial(_judged, model, moved, target, white, black, levels, curve=curve, roll=roll)
    a, b = judged(cut)
    a = a[:, use]
    size = np.sqrt((a**2).sum(axis=0))
    own = np.array([float(np.abs(effects[:, :, k]).max()) or 1.0 for k in use])
    # Each move is charged for what is not known of it; a last one twice over, for no reading will check it.
    doubt = size * np.hypot(
        (2.0 if last else 1.0) * DOUBT, (CHARGED_LAST if last else CHARGED) * model.doubt[use] / own
    )
    a = np.vstack([a, np.diag(doubt + 1e-9)])
    b = np.concatenate([b, np.zeros(use.size)])
    lo, hi = _room(model, moved, use, np.abs(effects).max(axis=(0, 1)), cap)
    x = _bounded(a, b, lo, hi)
    for _ in range(ROUNDS):
        after = moved.copy()
        after[use] += x
        still = cut & model.ended_at(at_and_white, after)
        if (still == cut).all():
            break
        cut = still
        rows, of_rows = judged(cut)
        a[: len(rows)], b[: len(rows)] = rows[:, use], of_rows
        x = _bounded(a, b, lo, hi)
    if lift is not None:
        raising = lift_of(model, moved)
        room = lift - float(raising @ moved)
        if float(raising[use] @ x) > room:
            a, b = np.vstack([a, FIRM * raising[use]]), np.append(b, FIRM * room)
            x = _bounded(a, b, lo, hi)
    for _ in range(ROUNDS if np.isfinite(model.end).any() and not stays else 0):
        rows, down = _above_ends(model, moved, use, x)
        if not len(down):
            break
        a, b = np.vstack([a, rows]), np.concatenate([b, down])
        x = _bounded(a, b, lo, hi)
    weight, beyond = np.ones(len(b)), np.zeros(len(b), dtype=bool)
    if target.curve == "pq":
        # What a display does not give stands out for ever: it must not be won at the cost of what can be right.
        share = reachable(levels, target, white, black, roll)
        mine = np.repeat(share, 3)
        a[: len(mine)], b[: len(mine)] = mine[:, None] * a[: len(mine)], mine * b[: len(mine)]
        beyond[: len(mine)] = mine < 1.0
    most = OUTSTANDING_ITP if target.is_hdr else OUTSTANDING
    for _ in range(ROUNDS):
        # Halfway each time: else a level that was won over gives way to those that it was won from, to and fro.
        weight = np.sqrt(weight * np.where(beyond, 1.0, _outstanding(a @ x - b, len(levels), most)))
        x = _bounded(a * weight[:, None], b * weight, lo, hi)
    a, b = a * weight[:, None], b * weight
    whole = _whole(a, b, x, np.ceil(lo - 1e-6), np.floor(hi + 1e-6))
    result = moved.copy()
    result[use] += whole
    return result


def _room(model: Fit, moved: Floats, use: Ints, does: Floats, cap: float) -> tuple[Floats, Floats]:
    """Return how many steps each of the used knobs may go down and up; ``does``: what a step does to drives at most (k,)."""
    low, high = [], []
    for k in use:
        knob = model.knobs[k]
        most = cap / max(float(does[k]), 1e-6 if moved[k] else knob.may_do)
        low.append(max((knob.low - knob.value) / knob.step - moved[k], -most) - 1e-9)
        high.append(min((knob.high - knob.value) / knob.step - moved[k], most) + 1e-9)
    return np.minimum(np.array(low), -1e-9), np.maximum(np.array(high), 1e-9)


def _above_ends(model: Fit, moved: Floats, use: Ints, x: Floats) -> tuple[Floats, Floats]:
    """Return rows (m, used) that bring white down to the ends of lights that moves ``x`` have go beyond, and by how much (m,)."""
    top = np.array([1.0])
    effects = model.effects(top, moved)[0][:, use]
    room = model.end - BELOW_END - model.unended_at(top, moved)[0]
    above = effects @ x > room + ABOVE_END
    return KEPT * effects[above], KEPT * room[above]


def reachable(levels: Floats, target: Target, white: float, black: float, roll: RollOff | None) -> Floats:
    """Return what levels (n,) count for in PQ: less where a display ends already, and where its own black drowns what is wanted."""
    luminance = target.xyz(np.repeat(levels[:, None], 3, axis=1), white, black)[:, 1]
    share: Floats = np.clip(luminance / max(SHOWS * black, 1e-9), DROWNED, 1.0)
    return share if roll is None else np.where(wanted_of(levels, target, white, black, roll) > roll.from_signal, BEYOND, share)


def _judged(
    model: Fit, moved: Floats, target: Target, white: float, black: float, levels: Floats, cut: Bools, *, curve: bool,
    roll: RollOff | None = None,
) -> tuple[Floats, Floats]:
    """Return what a step of each knob does (3n + 1, k) to the weighed errors at all levels, and what they are to change by.

    In SDR greys are judged against the white that is there in the end, so a level's lightness counts in relation to white's; one
    more row holds white itself, more loosely, where it was. HLG's peak is worth more: greys are held against where it was, and so
    is it, firmly, for whatever it moves by all of them are off by. ``cut``: which lights (levels + 1, 3) are cut off, and stay
    so, at levels and at white.
    """
    mixed = seen_of(model.boost)
    weigh = metric(levels, target, white, black, roll) @ mixed
    effects = model.effects(levels, moved)
    # Beyond its end a light is to come down to it, as far as it would be above; but for those that stay there.
    effects = np.where(cut[:-1, :, None], 0.0, effects)
    drives = np.where(cut[:-1], model.end, model.unended_at(levels, moved))
    off = drives - wanted_of(levels, target, white, black, roll)[:, None]
    a, b = weigh @ effects, -(weigh @ off[:, :, None])[:, :, 0]
    if target.curve == "pq":
        return _absolute(a, b, levels, curve=curve)
    top = np.array([1.0])
    of_white = metric(top, target, white, black)[0, 0] @ mixed * (1.0 if target.is_hdr else _share(1.0))
    on_white = np.where(cut[-1, :, None], 0.0, model.effects(top, moved)[0])
    of_top = np.where(cut[-1], model.end, model.unended_at(top, moved)[0])
    a_white = of_white @ on_white
    b_white = -float(of_white @ (of_top - 1.0))
    if target.is_hdr:
        a, b = _absolute(a, b, levels, curve=curve)
        firmly = HELD_IN_HLG if curve else HELD_ALONE
        return np.vstack([a, firmly * a_white]), np.append(b, firmly * b_white)
    share = np.array([_share(y) for y in target.xyz(np.repeat(levels[:, None], 3, axis=1), white, black)[:, 1] / white])
    a[:, 0] -= a_white / share[:, None]
    b[:, 0] -= b_white / share
    eye = np.sqrt(_eye(levels))
    a, b = a * eye[:, None, None], b * eye[:, None]
    if not curve:
        a[:, 0], b[:, 0] = 0.0, 0.0
    anchor = HELD / _share(1.0)
    return np.vstack([a.reshape(-1, a.shape[2]), anchor * a_white]), np.append(b.reshape(-1), anchor * b_white)


def _absolute(a: Floats, b: Floats, levels: Floats, *, curve: bool) -> tuple[Floats, Floats]:
    """Return rows of levels whose luminance is wanted by itself, and not in relation to the white that is left."""
    eye = np.sqrt(_eye(levels))
    a, b = a * eye[:, None, None], b * eye[:, None]
    if not curve:
        a[:, 0], b[:, 0] = 0.0, 0.0
    return a.reshape(-1, a.shape[2]), b.reshape(-1)


def _share(y: float) -> float:
    """Return how much of its light, as a logarithm, a grey of luminance y (white is 1) changes by with one weighed ΔL."""
    root = max(y, 0.0089) ** (1 / 3)
    away = 116.0 * root - 66.0
    return float((1.0 + 0.015 * away**2 / np.sqrt(20.0 + away**2)) / (116.0 / 3.0 * root))


def _bounded(a: Floats, b: Floats, lo: Floats, hi: Floats) -> Floats:
    found = scipy.optimize.lsq_linear(a, b, bounds=(lo, hi), method="bvls" if a.shape[1] < MANY else "trf")
    return np.asarray(found.x)


def _outstanding(left: Floats, levels: int, twice: float) -> Floats:
    """Return the weights of rows by what is left of them: a level that stands out is worth more than the many that are near.

    At an error of ``twice`` it counts twice.

    Rows after those of the levels, three each, keep theirs.
    """
    weight = np.ones(len(left))
    size = (left[: 3 * levels].reshape(-1, 3) ** 2).sum(axis=1)
    weight[: 3 * levels] = np.repeat(np.sqrt(np.minimum(1.0 + size / twice**2, MOST_WEIGHT)), 3)
    return weight


def lift_of(model: Fit, moved: Floats) -> Floats:
    """Return by how much of signal a step of each knob (k,) raises black, weighed by what the three lights give to luminance."""
    effects: Floats = LUMINANCE @ model.effects(np.array([0.0]), moved)[0]
    return effects


def _eye(levels: Floats) -> Floats:
    """Weigh dark levels less: little is seen there, and noise is large."""
    return np.clip(levels / 0.15, 0.25, 1.0)


def _whole(a: Floats, b: Floats, x: Floats, lo: Floats, hi: Floats) -> Floats:
    """Return whole steps near x: the single step, else the pair of steps, that lowers the squared error most, until none does."""
    steps = np.clip(np.round(x), lo, hi)
    gram, pull = a.T @ a, a.T @ b
    count = len(steps)
    sign = np.repeat([1.0, -1.0], count)
    both = np.kron(np.array([[1.0, -1.0], [-1.0, 1.0]]), np.ones((count, count))) * np.kron(np.ones((2, 2)), gram)
    # Two steps of one control are one step twice, or none.
    both[np.kron(np.ones((2, 2)), np.eye(count)) > 0] = np.inf
    diag = np.concatenate([np.diag(gram)] * 2)
    for _ in range(SWEEPS * count):
        slope = gram @ steps - pull
        price = PRICE * (np.abs(np.concatenate([steps, steps]) + sign) - np.abs(np.concatenate([steps, steps])))
        single = diag + 2.0 * sign * np.concatenate([slope, slope]) + price
        single[np.concatenate([steps + 1 > hi, steps - 1 < lo])] = np.inf
        k = int(np.argmin(single))
        if single[k] < -1e-9:
            steps[k % count] += sign[k]
            continue
        pairs = single[:, None] + single[None, :] + 2.0 * both
        at = int(np.argmin(pairs))
        if not pairs.flat[at] < -1e-6:
            break
        for k in divmod(at, 2 * count):
            steps[k % count] += sign[k]
    return steps
