"""Averages of lengths that were seen with noise: what the true ones come to on average, and between which ends that lies.

An average of lengths is not to be had from an average of readings: noise makes every length longer, near zero most of all. So the
true lengths are estimated together, as a mixture that explains the lengths that were seen (Kiefer and Wolfowitz (1956), Ann. Math.
Stat. 27(4), 887-906). The draws have a fixed seed: the same lengths give the same figure.
"""

from dataclasses import dataclass

import numpy as np
import scipy

from fenvik.core.types import Floats

# Noise that moves errors in one direction mostly moves their lengths by less, since errors lie in any: by the root of this.
ALONG = 1.5
CLEAR = 6.0  # deviations
DRAWS, CHAINS, BURN = 480, 24, 8  # of the mixture
GRID = 24  # true lengths that the mixture is made of
TRIALS, STEPS, ONE_SIDE = 400, 21, 0.027  # of the interval
UNLIKE = 0.08  # how often noise alone gives as much as the rest: where it is seldomer, the rest counts for less as none at all
BOTH_SIDES = 3.0  # deviations of an average from zero: from there on an interval misses as often below as above
FROM_NONE, UNEVEN = 1.7, 0.72  # times as often that is
STANDS_OUT = 2.0  # times what noise alone makes of a length
SEED = 1886


def posterior(seen: Floats, noise: Floats, kinds: int, belief: tuple[float, float]) -> tuple[Floats, Floats]:
    """Return draws (DRAWS,) of the average of the true lengths behind lengths (n,) seen with noise, and each one's mean (n,).

    ``noise``: (n,) the root mean square that noise adds to each in all, ``kinds``: in how many directions, 1 to 3. The lengths are
    a mixture whose weights are drawn along with them (Gibbs sampling; Escobar and West (1995), JASA 90(430), 577-588).
    """
    prior = np.concatenate([[belief[0]], np.full(GRID - 1, belief[1] / (GRID - 1))])
    rng = np.random.default_rng(SEED)
    unit = np.maximum(noise, 1e-6) / np.sqrt(max(kinds, ALONG))
    # In units of its own noise every length is as well known as every other, so that none borrows what only suits another level.
    near = seen <= CLEAR * unit
    each = np.sqrt(np.maximum(seen**2 - (max(kinds, ALONG) - 1.0) * unit**2, 0.0))
    # What stands clear of the noise needs no belief; noise hardly lengthens it.
    clear = seen[~near].sum() + np.sqrt((unit[~near] ** 2).sum()) * rng.standard_normal(DRAWS)
    if not near.any():
        return np.asarray(clear / len(seen)), each
    count, seen, unit = len(seen), seen[near] / unit[near], unit[near]
    grid = np.concatenate([[0.0], np.linspace(0.4, CLEAR + 2.0, GRID - 1)])
    likely = _likelihood(seen[:, None], grid, kinds)
    weight = np.full((CHAINS, GRID), 1.0 / GRID)
    kept, each[near] = [], 0.0
    for turn in range(BURN + DRAWS // CHAINS):
        share = np.cumsum(likely * weight[:, None, :], axis=-1)
        share /= share[..., -1:]
        of = (share < rng.random((CHAINS, len(seen), 1))).sum(axis=-1)
        counts = np.zeros((CHAINS, GRID))
        np.add.at(counts, (np.arange(CHAINS)[:, None], of), 1.0)
        drawn = rng.standard_gamma(counts + prior) + 1e-300
        weight = drawn / drawn.sum(axis=1, keepdims=True)
        if turn >= BURN:
            kept.append((unit * grid[of]).sum(axis=1))
            each[near] += (unit * grid[of]).mean(axis=0) / (DRAWS // CHAINS)
    return np.asarray((np.concatenate(kept) + clear) / count), each


@dataclass(frozen=True)
class Spread:
    """What noise does to errors as vectors, in their own measure.

    ``root``: (n, 3, 3), by which standard normal numbers become what noise adds; ``along``: (n, 3) unit vectors of what was seen;
    ``together``: (m, n, 3) draws of what all of them share, which adds up where that of each averages out.
    """

    root: Floats
    along: Floats
    together: Floats


def inverted(seen: Floats, each: Floats, noise: Floats, spread: Spread, *, may_be_none: bool) -> tuple[float, float]:
    """Return the 95 % interval of the average true length by asking which true lengths would give the average that was seen.

    ``each``: (n,) the lengths as they are taken to be; all are made longer or shorter by one factor until the average that was seen
    would come out only once in forty times (Neyman (1937), Phil. Trans. A 236, 333-380). ``noise`` (n,): root mean square of what
    noise alone makes of each; ``may_be_none``: noise alone may have made all of it, so that the interval begins at zero.
    """
    value = float(seen.mean())
    pushed = np.einsum("nij,tnj->tni", spread.root, np.random.default_rng(SEED).standard_normal((TRIALS, len(each), 3)))
    pushed += spread.together[np.arange(TRIALS) % len(spread.together)]
    square, slope = (pushed**2).sum(axis=-1), 2.0 * (pushed * spread.along).sum(axis=-1)
    middle = max(float(each.mean()), 1e-12)
    # As far as noise may have spread the average, and below by what it lengthens.
    apart = 4.5 * float(np.sqrt((noise**2).sum())) / len(each)
    wanted = np.linspace(max(value - float(noise.mean()) - apart, 0.0), value + apart, STEPS)
    shapes = [each / middle if middle > 1e-9 else np.ones(len(each))]
    # Either all are off a little, or only those that stand out: noise swallows more of what is spread over many.
    stands = seen > STANDS_OUT * noise
    alone, others = np.where(stands, each, 0.0), (seen[~stands] / noise[~stands]) ** 2
    by_noise = (square[:, ~stands] / noise[~stands] ** 2).sum(axis=1)
    as_noise = float((by_noise > others.sum()).mean())
    if alone.any() and others.size and as_noise > 0.01:
        shapes.append(alone / alone.mean())
    ends = []
    for shape in shapes:
        told = np.array([np.sqrt(np.maximum(square + g * (slope * shape) + (g * shape) ** 2, 0.0)).mean(axis=1) for g in wanted])
        above, below = (told >= value).mean(axis=1), (told <= value).mean(axis=1)
        # A length has no other side at zero: there all that may be missed is missed above, and from there on half of it below
        # (Feldman and Cousins (1998), Phys. Rev. D 57, 3873-3889).
        under = ONE_SIDE * np.clip(wanted / np.maximum(BOTH_SIDES * told.std(axis=1), 1e-12), 0.0, 1.0)
        # Shapes are taken to be more uneven than they are, and so noise to swallow more: both ends come out a little low.
        under *= UNEVEN
        over = 2.0 * ONE_SIDE - under
        under *= FROM_NONE if may_be_none else 1.0  # what begins at zero is not missed below
        low = float(np.interp(0.0, np.maximum.accumulate(above - over), wanted)) if above[0] < over[0] else float(wanted[0])
        ends.append((low, float(np.interp(0.0, -np.minimum.accumulate(below - under), wanted))))
    lows = [low for low, _ in ends]
    less = min(as_noise / UNLIKE, 1.0)
    return less * min(lows) + (1.0 - less) * max(lows), max(high for _, high in ends)


def _likelihood(d: Floats, g: Floats, kinds: int) -> Floats:
    """How likely lengths d are for true ones g, with a deviation of 1 in each of 1 to 3 directions, up to a factor of d's own."""
    z = d * g
    if kinds == 1:
        bend = 0.5 * (1.0 + np.exp(-2.0 * z))
    elif kinds == 3:
        with np.errstate(divide="ignore", invalid="ignore"):
            bend = np.where(z > 1e-9, -np.expm1(-2.0 * z) / (2.0 * z), 1.0)
    else:
        bend = scipy.special.i0e(z)
    result: Floats = bend * np.exp(-0.5 * (d - g) ** 2)
    return result
