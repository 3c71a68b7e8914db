"""What the model of the greys is to do next: the moves that it expects least error of, and the levels that are worth a reading."""

from collections.abc import Sequence

import numpy as np
from scipy.optimize import lsq_linear

from fenvik.core.colour.difference import xyz_to_lab
from fenvik.core.colour.itp import ITP, ictcp
from fenvik.core.colour.target import Target
from fenvik.core.models.grey import NOISE, Fit, Seen, seen_at, seen_of, wanted_of
from fenvik.core.models.greyblock import UNEQUAL
from fenvik.core.models.rolloff import RollOff
from fenvik.core.types import Floats, Ints

UNREAD = 0.006  # of drive: how far a level that was never read may be off
SAME_LEVEL = 0.006  # fraction of signal: levels that are nearer are one
DOUBT = 0.06  # of a move's effect: what it is off by
CHARGED, CHARGED_LAST = 0.4, 0.7  # share of what the fit does not know that a move is charged for: to be read again, and not
PRICE = 3e-4  # squared error a step: a step must be worth something
OUTSTANDING, MOST_WEIGHT = 0.5, 4.0  # error at which a level counts twice, and the most that any may count
OUTSTANDING_ITP = 0.2  # the same in HDR, in the measure of moves: 0.6 of ΔE ITP
DROWNED, SHOWS = 0.25, 5.0  # weight of a level that lies in a display's own black, and times that black from which one counts fully
BEYOND = 0.5  # weight of a level at which an HDR display ends already
ROUNDS = 3  # how often these weights follow from what is left
SWEEPS = 40
MANY = 40  # controls from which on the bounded least squares goes by the interior
LUMINANCE = np.array([0.22, 0.70, 0.08])  # of white's, by the three lights, roughly
FIRM = 3000.0  # weight of what must not be passed: error a drive
KEPT = 300.0  # weight of a light's end: error a drive
BELOW_END, ABOVE_END = 0.002, 1e-4  # of drive: by how much white stays below it, and what counts as above that
HELD, HELD_IN_HLG = 1.0, 2.0  # weight of white's own luminance


def metric(levels: Floats, target: Target, white: float, black: float, roll: RollOff | None = None) -> Floats:
    """Return the matrices (levels, 3, 3) that make a change of drives into ΔL/S_L, 1.5·Δa, Δb: CIEDE2000 near grey.

    In HDR into the three parts of ΔE ITP, weighed as CIEDE2000.
    """
    step = 1e-3
    if target.is_hdr:
        return _metric_itp(levels, target, white, black, step, roll)
    aim = target.xyz(np.repeat(levels[:, None], 3, axis=1), white, black)
    away = xyz_to_lab(aim, target.white * white)[:, 0] - 50.0
    lightness = 1.0 + 0.015 * away**2 / np.sqrt(20.0 + away**2)
    weigh = np.stack([1.0 / lightness, np.full(len(levels), 1.5), np.ones(len(levels))], axis=-1)
    made = np.empty((len(levels), 3, 3))
    for c in range(3):
        up, down = (np.repeat(levels[:, None], 3, axis=1) for _ in range(2))
        up[:, c] += step
        down[:, c] -= step
        lab = [xyz_to_lab(target.xyz(v, white, black), target.white * white) for v in (up, down)]
        made[:, :, c] = weigh * (lab[0] - lab[1]) / (2 * step)
    return made


def _metric_itp(
    levels: Floats, target: Target, white: float, black: float, step: float, roll: RollOff | None
) -> Floats:
    """Return the matrices (levels, 3, 3) that make a change of drives into I, T and P of ΔE ITP."""
    at = wanted_of(levels, target, white, black, roll)
    made = np.empty((len(levels), 3, 3))
    for c in range(3):
        up, down = (np.repeat(at[:, None], 3, axis=1) for _ in range(2))
        up[:, c] += step
        down[:, c] -= step
        both = [ictcp(seen_at(v, target, white, black, roll)) for v in (up, down)]
        made[:, :, c] = ITP * (both[0] - both[1]) / (2 * step) / target.metric.weight
    return made


def doubt_of(model: Fit, levels: Floats, moved: Floats, seen: Sequence[Seen]) -> Floats:
    """Return how far the drives (levels, 3) may be off: by noise, and by what was turned since a level was read last."""
    made = np.full((len(levels), 3), UNREAD)
    effects = model.effects(levels, moved)
    for i, level in enumerate(levels):
        mine = [s for s in seen if abs(s.level - level) < SAME_LEVEL]
        if not mine:
            continue
        since = effects[i] * (moved - mine[-1].moved)
        noise = model.fine * NOISE * (1.0 + (0.12 / max(float(level), 0.02)) ** 2) / np.sqrt(len(mine))
        made[i] = np.hypot(noise, np.sqrt(((UNEQUAL * since) ** 2).sum(axis=1)))
    return made


def judged_size(
    off: Floats, levels: Floats, boost: float, target: Target, white: float, black: float, roll: RollOff | None = None
) -> Floats:
    """Return how large changes of drives (n, 3) at levels (n,) are as they are judged (n,); ``boost``: of a white sub-pixel."""
    weigh = metric(levels, target, white, black, roll) @ seen_of(boost)
    size: Floats = np.sqrt(((weigh @ off[:, :, None]) ** 2).sum(axis=(1, 2)))
    return size


def worth_reading(
    model: Fit, levels: Floats, moved: Floats, seen: Sequence[Seen], target: Target, white: float, black: float,
    roll: RollOff | None = None,
) -> list[int]:  # fmt: skip
    """Return the places of levels (n,): first those that are expected to be farthest off, or that are known least of."""
    off = model.at(levels, moved) - wanted_of(levels, target, white, black, roll)[:, None]
    size = judged_size(off, levels, model.boost, target, white, black, roll)
    weigh = metric(levels, target, white, black, roll) @ seen_of(model.boost)
    unsure = np.sqrt(((weigh * doubt_of(model, levels, moved, seen)[:, None, :]) ** 2).sum(axis=(1, 2)))
    return [int(i) for i in np.argsort(-np.hypot(size, unsure) * np.clip(levels / 0.1, 0.4, 1.0))]


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
    a, b = _judged(model, moved, target, white, black, levels, curve=curve, roll=roll)
    a = a[:, use]
    size = np.sqrt((a**2).sum(axis=0))
    own = np.array([float(np.abs(effects[:, :, k]).max()) or 1.0 for k in use])
    # Each move is charged for what is not known of it; a last one twice over, for no reading will check it.
    doubt = size * np.hypot(
        (2.0 if last else 1.0) * DOUBT, (CHARGED_LAST if last else CHARGED) * model.doubt[use] / own
    )
    a = np.vstack([a, np.diag(doubt + 1e-9)])
    b = np.concatenate([b, np.zeros(use.size)])
    low, high = [], []
    for k in use:
        knob = model.knobs[k]
        most = cap / max(float(np.abs(effects[:, :, k]).max()), 1e-6 if moved[k] else knob.may_do)
        low.append(max((knob.low - knob.value) / knob.step - moved[k], -most) - 1e-9)
        high.append(min((knob.high - knob.value) / knob.step - moved[k], most) + 1e-9)
    lo, hi = np.minimum(np.array(low), -1e-9), np.maximum(np.array(high), 1e-9)
    x = _bounded(a, b, lo, hi)
    if lift is not None:
        raising = lift_of(model, moved)
        room = lift - float(raising @ moved)
        if float(raising[use] @ x) > room:
            a, b = np.vstack([a, FIRM * raising[use]]), np.append(b, FIRM * room)
            x = _bounded(a, b, lo, hi)
    for _ in range(3 if np.isfinite(model.end).any() else 0):
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
    model: Fit, moved: Floats, target: Target, white: float, black: float, levels: Floats, *, curve: bool,
    roll: RollOff | None = None,
) -> tuple[Floats, Floats]:
    """Return what a step of each knob does (3n + 1, k) to the weighed errors at all levels, and what they are to change by.

    In SDR greys are judged against the white that is there in the end, so a level's lightness counts in relation to white's; one
    more row holds white itself, more loosely, where it was. HLG's peak is worth more: greys are held against where it was, and so
    is it, firmly, for whatever it moves by all of them are off by.
    """
    mixed = seen_of(model.boost)
    weigh = metric(levels, target, white, black, roll) @ mixed
    effects = model.effects(levels, moved)
    # Beyond its end a light is to come down to it, as far as it would be above.
    off = model.unended_at(levels, moved) - wanted_of(levels, target, white, black, roll)[:, None]
    a, b = weigh @ effects, -(weigh @ off[:, :, None])[:, :, 0]
    if target.curve == "pq":
        return _absolute(a, b, levels, curve=curve)
    top = np.array([1.0])
    of_white = metric(top, target, white, black)[0, 0] @ mixed * (1.0 if target.is_hdr else _share(1.0))
    a_white = of_white @ model.effects(top, moved)[0]
    b_white = -float(of_white @ (model.unended_at(top, moved)[0] - 1.0))
    if target.is_hdr:
        a, b = _absolute(a, b, levels, curve=curve)
        return np.vstack([a, HELD_IN_HLG * a_white]), np.append(b, HELD_IN_HLG * b_white)
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
    found = lsq_linear(a, b, bounds=(lo, hi), method="bvls" if a.shape[1] < MANY else "trf")
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
