"""How long a nudge takes, and CIEDE2000 of a million pairs against colour-science."""

import sys
from pathlib import Path

import numpy as np
from common import p95, say, seconds

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))


def main() -> None:
    from fenvik.core.colour.difference import de2000_parts
    from fenvik.core.colour.science import reference_delta_e_2000
    from fenvik.core.models.nudge import propose
    from fenvik.core.models.state import as_felt, levels_now
    from fenvik.core.models.twopoint import Response
    from tests.core.simulated import AROUND, METER, Display, follow, pass_of

    display = Display(3)
    readings = pass_of(display)
    follow(display, readings)
    controls = display.controls()

    def whole() -> None:
        response = as_felt(readings, controls, AROUND, METER, Response.prior)[1]
        levels = levels_now(readings, controls, AROUND, METER, response)
        propose(levels=levels, controls=controls, response=response, surroundings=AROUND)

    whole()
    taken = seconds(whole, 100)
    say("a nudge of six controls over 11 levels, learning included, p95", 1000 * p95(taken), "ms", "below 30 is wanted")
    draw = np.random.default_rng(1)
    first = draw.uniform([0, -90, -90], [100, 90, 90], (1_000_000, 3))
    second = first + draw.normal(0, 4, first.shape)
    ours = min(seconds(lambda: de2000_parts(first, second).total, 3))
    theirs = min(seconds(lambda: reference_delta_e_2000(first, second), 3))
    say("ratio: CIEDE2000 of a million pairs / colour-science", ours / theirs, "", "1 or less is wanted")


if __name__ == "__main__":
    main()
