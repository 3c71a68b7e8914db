"""Which correction is best where white has a sub-pixel of its own: 150 random quick meters on the stand-in WRGB OLED.

Each meter's filters miss the eye's in their own way. The methods are judged by CIEDE2000 of 20 greys and 54 colours that they were
not made of, first by what the filters alone leave, then with the noise of four averaged readings a patch. The last line gives the
four-colour method as many readings as the fits take.
"""

import numpy as np
from common import say

METERS = 150
NOISE = 0.0004  # of each of X, Y, Z, four readings averaged


def main() -> None:
    from fenvik.core.colour.difference import whole
    from fenvik.core.colour.target import TARGETS
    from fenvik.core.measure.correction import make_correction
    from fenvik.core.measure.correction_patches import FULL, MIXTURES
    from fenvik.core.signal.decoding import encode
    from fenvik.core.signal.patches import COLOURS
    from fenvik.standins.bench import make_bench
    from fenvik.standins.meter import _missed_filters
    from fenvik.standins.spectra import spectrum_to_xyz
    from fenvik.standins.world import Picture

    bench = make_bench(haste=float("inf"), pair_code="1", seed=55)
    oled = bench.displays[1]
    bench.world.front, oled.optics.on_since = oled.serial, -86_400.0

    def light(percent):
        bench.world.picture = Picture(rgb=tuple(int(c) for c in encode(percent, 10, "limited")), window=10.0, surround=(64, 64, 64))
        return oled.optics.radiance("p2", (0.5, 0.5))

    patches = {name: light(percent) for name, percent in (FULL | MIXTURES).items()}
    names = ["red", "green", "blue", "white"]
    names += [name for name in patches if name not in names]
    greys = np.array([light((v,) * 3) for v in np.linspace(100, 5, 20)])
    draw = np.random.default_rng(1)
    ladder = [tuple(75 * (1 if lit else 1 - s) for lit in mix) for mix in COLOURS.values() for s in (0.25, 0.5, 0.75, 1)]
    colours = np.array([light(p) for p in [*ladder, *(tuple(draw.uniform(20, 90, 3)) for _ in range(30))]])
    true = {name: spectrum_to_xyz(radiance) for name, radiance in patches.items()}
    white = TARGETS["bt709-2.4"].white * true["white"][1]
    methods = (("primaries", 3, 1), ("four-colour", 4, 1), ("weighted", 16, 1), ("least-squares", 16, 1), ("four-colour", 4, 4))
    for noise in (0.0, NOISE):
        off = {}
        for seed in range(METERS):
            filters, rng = _missed_filters(1000 + seed, 1.0), np.random.default_rng(seed)

            def sides(count, times, filters=filters, rng=rng, noise=noise):
                seen = np.array([683.002 * (patches[name] @ filters) for name in names[:count]])
                told = np.array([true[name] for name in names[:count]])
                return [side * (1 + noise / np.sqrt(times) * rng.normal(size=side.shape)) for side in (seen, told)]

            for method, count, times in methods:
                meter, reference = sides(count, times)
                made = make_correction(method, meter, reference, white=3 if method == "weighted" else None)
                for what, radiance in (("greys", greys), ("colours", colours)):
                    wanted = np.array([spectrum_to_xyz(r) for r in radiance])
                    error = whole(wanted, 683.002 * (radiance @ filters) @ made.matrix.T, white).total.mean()
                    off.setdefault((method, count * times, what), []).append(error)
        for (method, readings, what), errors in off.items():
            when = "with noise" if noise else "by its filters alone"
            say(f"{method} of {readings} readings a meter, {what}, {when}", float(np.mean(errors)), "CIEDE2000")


if __name__ == "__main__":
    main()
