"""Has the display settled? Exponential fits to white over time, and what they say will still change."""

from dataclasses import dataclass

import numpy as np

from fenvik.core.colour.space import xyz_to_uv
from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.types import Floats

REMAINING_Y = 0.003  # of luminance: less is lost in the meter
REMAINING_UV = 0.0005  # in u′v′
LEAST_READINGS = 5
LEAST_MINUTES = 2.0  # a minute of silence says nothing about half an hour
# Light comes in one or two goes, as of a panel and of its supply: each row is a pair of time constants, the second NaN for one go.
SINGLE_S, PAIRED_S, APART = np.geomspace(60.0, 3600.0, 48), np.geomspace(60.0, 3600.0, 13), 2.4
GOES_S = np.array(
    [(tau, np.nan) for tau in SINGLE_S] + [(a, b) for a in PAIRED_S for b in PAIRED_S if b > APART * a]
)
SURE = 0.3  # deviations of what is still to come that count with it before a display is called settled
# Whatever is fitted, white must have come to rest: a slow go looks like the end of a quick one until it has been watched.
# At its last pace it would take so long for what counts, as long as the slowest panels take; watched for any of these shares of the
# pass that a line explains: a long look is the sure one where nothing moves, a short one where something quick has just ended.
QUIET_MINUTES, QUIET_SHARES = 20.0, (1.0, 2.0 / 3.0, 1.0 / 2.0, 1.0 / 3.0)
SLOPE_SURE = 1.0  # deviations
STRAIGHT = 2.0  # deviations by which what is left of a line may exceed its noise
WIDEST_Y, WIDEST_UV = 0.08, 0.003  # one deviation of what a cold display may have missing
LONGEST_MINUTES = 120.0


@dataclass(frozen=True)
class WarmUp:
    """What a stability pass says. Shares of luminance and u′v′ still to come, from now on, each with one deviation.

    ``minutes_left`` is None while it cannot be told and 0 once settled; ``settled_at`` is in seconds of the pass's time.
    """

    remaining_y: float
    remaining_y_std: float
    remaining_uv: float
    remaining_uv_std: float
    minutes_left: float | None
    settled_at: float | None
    curve: Floats  # fitted luminance at each reading, cd/m²
    final_y: float

    @property
    def is_settled(self) -> bool:
        """Whether what is still to come is below what counts."""
        return self.settled_at is not None


@dataclass(frozen=True)
class _Fits:
    """One quantity fitted for every pair of goes: final value, what was still to come of each at the start, their covariances."""

    mean: Floats  # (k, 3)
    covariance: Floats  # (k, 3, 3)
    evidence: Floats  # (k,) logarithms


def _gone(seconds: Floats) -> Floats:
    """Return the share of each go (k, n, 2) that is still to come at ``seconds`` (n,); none of a go that there is not."""
    with np.errstate(invalid="ignore"):
        shares = np.exp(-seconds[None, :, None] / GOES_S[:, None, :])
    return np.asarray(np.nan_to_num(shares, nan=0.0))


def _fit(seconds: Floats, values: Floats, std: Floats, widest: float) -> _Fits:
    """Fit final − Σ missing·exp(−t/τ) for every pair; ``widest`` is one deviation of what a display may have missing of each."""
    basis = np.concatenate([np.ones((len(GOES_S), seconds.size, 1)), -_gone(seconds)], axis=-1)
    weighted = basis / std[:, None]
    precision = np.swapaxes(weighted, -1, -2) @ weighted + np.diag([0.0, widest**-2, widest**-2])
    covariance = np.linalg.inv(precision)
    centre = float(np.average(values, weights=std**-2))  # keeps the numbers of the evidence small
    pull = np.swapaxes(weighted, -1, -2) @ ((values - centre) / std)
    mean = np.einsum("kij,kj->ki", covariance, pull)
    # A go that there is not keeps its prior width, which is taken out again with that of the others.
    evidence = 0.5 * np.einsum("ki,ki->k", pull, mean) + 0.5 * np.linalg.slogdet(covariance)[1] - 2.0 * np.log(widest)
    mean = np.asarray(mean + np.array([centre, 0.0, 0.0]), dtype=np.float64)
    return _Fits(mean, np.asarray(covariance, dtype=np.float64), np.asarray(evidence, dtype=np.float64))


def _to_come(fits: _Fits, share: Floats, seconds: float) -> tuple[float, float]:
    """Return what is still to come after so many seconds and one deviation of it, over all pairs of goes."""
    gone = _gone(np.array([seconds]))[:, 0]
    each = np.einsum("ki,ki->k", fits.mean[:, 1:], gone)
    variance = np.einsum("ki,kij,kj->k", gone, fits.covariance[:, 1:, 1:], gone)
    mean = float(share @ each)
    return mean, float(np.sqrt(max(share @ (variance + each**2) - mean**2, 0.0)))


def warm_up(seconds: Floats, xyz: Floats, meter: Repeatability, average: int = 1) -> WarmUp | None:
    """Return how far a display has warmed up.

    ``seconds``: when white was read, (n,), rising; ``xyz``: the readings in cd/m², (n, 3). None while there are too few
    of them or they span too short a time. Light and colour share one or two time constants, which are not chosen: all
    are fitted and weighed by how well they explain the readings, so that a short pass says that it cannot tell. Settled means
    that what is predicted still to come is below 0.3 % of luminance and 0.0005 in u′v′.
    """
    seconds, xyz = np.asarray(seconds, dtype=np.float64), np.asarray(xyz, dtype=np.float64)
    if seconds.size < LEAST_READINGS or seconds[-1] - seconds[0] < LEAST_MINUTES * 60.0:
        return None
    seconds = seconds - seconds[0]
    covariance = meter.covariance(xyz, np.full(seconds.size, float(average)))
    uv = xyz_to_uv(xyz)
    std_uv = np.maximum(_uv_std(xyz, covariance), 1e-6)
    y = _fit(seconds, xyz[:, 1], np.sqrt(covariance[:, 1, 1]), WIDEST_Y * float(xyz[-1, 1]))
    u, v = (_fit(seconds, uv[:, i], std_uv, WIDEST_UV) for i in (0, 1))
    evidence = y.evidence + u.evidence + v.evidence
    share = np.exp(evidence - evidence.max())
    share /= share.sum()
    final_y = float(share @ y.mean[:, 0])
    now = float(seconds[-1])

    def still(at: float) -> tuple[float, float, float, float]:
        light, light_std = _to_come(y, share, at)
        (du, du_std), (dv, dv_std) = _to_come(u, share, at), _to_come(v, share, at)
        return light / final_y, light_std / final_y, float(np.hypot(du, dv)), float(np.hypot(du_std, dv_std))

    def outside(at: float, sure: float = 0.0) -> bool:
        light, light_std, colour, colour_std = still(at)
        return abs(light) + sure * light_std >= REMAINING_Y or colour + sure * colour_std >= REMAINING_UV

    def quiet() -> bool:
        """Whether the last stretch, a line through it and a deviation of its slope, has come to rest."""
        # Two goes of opposite sign cancel over a long look: the end of it must not move either, as far as that can be seen.
        return still_for(QUIET_SHARES[-1], 0.0) and any(still_for(share, SLOPE_SURE) for share in QUIET_SHARES)

    def still_for(share: float, sure: float) -> bool:
        late = seconds >= min(now - max(share * now, 60.0 * LEAST_MINUTES), seconds[-LEAST_READINGS])
        pace = QUIET_MINUTES * 60.0
        lines = [_line(seconds[late], xyz[late, 1], np.sqrt(covariance[late, 1, 1]), sure)]
        lines += [_line(seconds[late], uv[late, i], std_uv[late], sure) for i in (0, 1)]
        limits = (REMAINING_Y * final_y, REMAINING_UV, REMAINING_UV)
        return all(steep * pace < limit and straight for (steep, straight), limit in zip(lines, limits, strict=True))

    minutes: float | None = 0.0
    if outside(now, SURE):
        ahead = now + np.arange(15.0, LONGEST_MINUTES * 60.0, 15.0)
        calm = next((float(t) for t in ahead if not outside(float(t))), None)
        minutes = None if calm is None else (calm - now) / 60.0
    elif not quiet():
        minutes = None
    light, light_std, colour, colour_std = still(now)
    curve = share @ (y.mean[:, :1] - np.einsum("ki,kni->kn", y.mean[:, 1:], _gone(seconds)))
    return WarmUp(light, light_std, colour, colour_std, minutes, now if minutes == 0.0 else None, curve, final_y)


def _line(seconds: Floats, values: Floats, std: Floats, sure: float) -> tuple[float, bool]:
    """Return how steep the line through values is at the most, a second and without sign, and whether it explains them."""
    weight = std**-2
    centred = seconds - np.average(seconds, weights=weight)
    spread = float((weight * centred**2).sum())
    slope = float((weight * centred * values).sum()) / spread
    left = values - np.average(values, weights=weight) - slope * centred
    free = values.size - 2
    straight = float((weight * left**2).sum()) <= free + STRAIGHT * float(np.sqrt(2.0 * free))
    return float(abs(slope) + sure * spread**-0.5), straight


def _uv_std(xyz: Floats, covariance: Floats) -> Floats:
    """Return one deviation of u′ or v′, the larger, (n,), from the readings' covariances."""
    x, y, z = xyz[:, 0], xyz[:, 1], xyz[:, 2]
    below = x + 15.0 * y + 3.0 * z
    u_slope = np.stack([4.0 * (below - x), -60.0 * x, -12.0 * x], axis=1) / below[:, None] ** 2
    v_slope = np.stack([-9.0 * y, 9.0 * (below - 15.0 * y), -27.0 * y], axis=1) / below[:, None] ** 2
    both = [np.sqrt(np.einsum("ni,nij,nj->n", s, covariance, s)) for s in (u_slope, v_slope)]
    result: Floats = np.maximum(both[0], both[1])
    return result
