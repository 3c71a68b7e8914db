"""Whether 95 % intervals hold the truth in 95 of 100, and how often equal displays are said to differ.

Displays that are perfect, nearly so, fair, poor, or right but for a few patches are read again and again with a meter's noise, once
plainly and once with four averages, with whites in between or without. `./fenvik bench intervals [REPEATS]` prints the table of
docs/results.md; 1,000 repeats take some minutes.
"""

import sys

import numpy as np
from common import say

KINDS = ("perfect", "near", "fair", "poor", "mixed")
TARGETS_SHOWN = ("bt709-bt1886", "bt2020-pq")
NOISE = (
    (0.003, 0.08, 0.006, 0.006), (0.01, 0.03, 0.004, 0.004), (0.1, 0.012, 0.002, 0.002), (1.0, 0.004, 0.0009, 0.0009),
    (10.0, 0.002, 0.0006, 0.0006), (100.0, 0.0015, 0.0005, 0.0005), (1000.0, 0.0015, 0.0005, 0.0005),
)  # fmt: skip
FLOOR = 0.003
EACH = 10  # readings of a display: many displays tell more than many readings


def display(kind, rng, target, levels):
    """Codes, true XYZ and labels of a display that is off in its own way."""
    from fenvik.core.signal.decoding import decode
    from fenvik.core.signal.patches import full_colours, grey

    near = [] if target.is_hdr else [grey(v, 10, "limited") for v in (1, 2, 3, 4)]
    patches = [grey(v, 10, "limited") for v in levels] + near + full_colours(100, 10, "limited") + full_colours(75, 10, "limited")
    codes = np.array([p.rgb for p in patches])
    fraction = decode(codes, 10, "limited")
    white, black = (700.0, 0.001) if target.is_hdr else (120.0, 0.02)
    linear = target.xyz(fraction, white, black) @ target.inverse_matrix.T
    size = {"near": 0.003, "fair": 0.01, "poor": 0.05}.get(kind, 0.0)
    greys = (codes == codes[:, :1]).all(axis=1)
    off = size * rng.normal(size=linear.shape)
    for channel in range(3):
        phase, height = rng.uniform(0, 2 * np.pi, 3), rng.normal(size=3) / 1.7
        waves = sum(height[k] * np.sin(2 * (k + 1) * fraction[:, 0] + phase[k]) for k in range(3))
        off[greys, channel] = size * waves[greys]
    if kind == "mixed":
        off[rng.choice(len(off), 4, replace=False)] = 0.06 * rng.normal(size=(4, 3))
    beside = greys & (fraction[:, 0] > 0) & (fraction[:, 0] < 0.045)
    return codes, (linear * (1 + off)) @ target.matrix.T, tuple(p.label for p in patches), beside


def read(shown, rng, average, drifts):
    """One pass over a display: readings with noise, and with the drift taken out by whites that are noisy too."""
    from fenvik.core.analysis.analysis import Readings
    from fenvik.core.measure.drift import factors, shared_noise
    from fenvik.core.measure.uncertainty import Repeatability

    codes, xyz, labels, beside = shown
    meter = Repeatability.of(NOISE)

    def noisy(true, averages):
        root = np.linalg.cholesky(meter.covariance(true, averages, FLOOR) + 1e-18 * np.eye(3))
        return true + np.einsum("nij,nj->ni", root, rng.normal(size=true.shape))

    taken, shared = noisy(xyz, np.full(len(xyz), average)), None
    if drifts:
        at = np.arange(len(xyz), dtype=float)
        when = np.arange(0.0, len(xyz), 8.0)
        white = xyz[(codes == codes.max()).all(axis=1)][0]
        drift = 1.0 + 0.01 * at / len(at)
        whites = noisy(white * (1.0 + 0.01 * when / len(at))[:, None], np.full(len(when), average))
        taken = taken * drift[:, None] * factors(at, when, whites)
        shared = shared_noise(at, when, whites, meter.covariance(whites, np.full(len(when), average), FLOOR))
    return Readings(
        codes, taken, 10, "limited", labels, np.full(len(codes), float(average)), meter, FLOOR, shared=shared, beside=beside
    )


def figures(analysis):
    """The figures that are compared, by name: value, truth, and interval; without the meter's noise the truth itself."""
    from fenvik.core.analysis.estimates import Draws

    draws = Draws(analysis)
    made = {
        "grey, colour only": draws.average(analysis.graded, "colour_only"),
        "grey, whole": draws.average(analysis.graded_whole, "whole"),
        "colours": draws.average(analysis.coloured, "whole"),
    }
    gamma = draws.gamma()
    return made | ({"mean gamma": gamma} if gamma is not None else {})


def singles(analysis, true):
    """How often single figures hold the truth: gamma and colour-only error of a level, near black not resolved."""
    from fenvik.core.measure.uncertainty import TWO_SIDED_95, interval_95

    told = {}
    level = np.isfinite(analysis.gamma) & analysis.graded
    if level.any():
        told["gamma of a level"] = np.abs(analysis.gamma - true.gamma)[level] <= TWO_SIDED_95 * analysis.gamma_std[level]
    low, high = interval_95(analysis.colour_only.value, analysis.colour_only.std)
    there = analysis.graded & (true.colour_only.value > 0.3)
    if there.any():
        told["colour-only of a level"] = ((low <= true.colour_only.value) & (true.colour_only.value <= high))[there]
    dark = analysis.grey & (analysis.readings.fraction[:, 0] > 0.001) & (analysis.readings.fraction[:, 0] < 0.095)
    off = analysis.readings.xyz[:, 1] - analysis.target_xyz[:, 1]
    meant = true.readings.xyz[:, 1] - true.target_xyz[:, 1]
    told["near black"] = (np.abs(off - meant) <= TWO_SIDED_95 * analysis.apart_std)[dark]
    return told


def main() -> None:
    from dataclasses import replace

    from fenvik.core.analysis.analysis import analyse
    from fenvik.core.analysis.estimates import difference_std
    from fenvik.core.colour.target import TARGETS
    from fenvik.core.measure.uncertainty import TWO_SIDED_95

    repeats = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    for name in TARGETS_SHOWN:
        target = TARGETS[name]
        for kind in KINDS:
            rng = np.random.default_rng([1886, KINDS.index(kind), TARGETS_SHOWN.index(name)])
            held, differ = {}, {}
            for turn in range(repeats):
                if turn % EACH == 0:
                    shown = display(kind, rng, target, np.linspace(100, 0, 21 if turn % (2 * EACH) else 11))
                    perfect = replace(read(shown, rng, 1, drifts=False), xyz=shown[1], repeatability=None)
                    true = analyse(perfect, target)
                    truth = {key: one.value for key, one in figures(true).items()}
                both = [analyse(read(shown, rng, average, drifts=turn % 3 == 0), target) for average in (1, 4)]
                first, second = (figures(one) for one in both)
                for key, value in truth.items():
                    low, high = first[key].interval
                    held.setdefault(key, []).append(low - 1e-9 <= value <= high)
                    apart = abs(first[key].truth - second[key].truth)
                    differ.setdefault(key, []).append(apart > TWO_SIDED_95 * difference_std(first[key], second[key], shared=True))
                for key, here in singles(both[0], true).items():
                    held.setdefault(key, []).extend(here)
            for key, here in held.items():
                wrong = f"{100 * np.mean(differ[key]):.0f} % of equal pairs differ" if key in differ else ""
                say(f"{name}, {kind}: {key} holds the truth", 100 * float(np.mean(here)), "%", wrong)


if __name__ == "__main__":
    main()
