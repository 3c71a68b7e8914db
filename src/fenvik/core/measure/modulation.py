"""What a light's own frequency says beside the rates of pictures: whether the panel runs in their multiples."""

import math
from dataclasses import dataclass

RATES = (24.0, 25.0, 30.0, 50.0, 60.0)  # pictures a second; 23.976 and 59.94 lie within what is let pass
PASSES = 0.004  # of a rate: 23.976 beside 24 is 0.001


@dataclass(frozen=True)
class Rate:
    """One rate of pictures: ``times``, how often the light comes and goes in one picture; ``fits`` where that is a whole number."""

    rate: float
    times: float
    fits: bool


def beside(hertz: float) -> list[Rate]:
    """Return what a frequency in hertz is beside each usual rate of pictures."""
    made = []
    for rate in RATES:
        times = hertz / rate
        whole = max(round(times), 1)
        made.append(Rate(rate, times, math.isclose(times, whole, rel_tol=PASSES)))
    return made


def words(hertz: float) -> str:
    """Return in sentences what a frequency means for films and broadcasts."""
    known = beside(hertz)
    fits = ", ".join(f"{r.rate:g} ({round(r.times)} times a picture)" for r in known if r.fits)
    not_so = ", ".join(f"{r.rate:g}" for r in known if not r.fits)
    said = f"The light comes and goes {hertz:.1f} times a second"
    if not fits:
        return f"{said}: in multiples of none of the usual rates, so pictures are not shown equally long."
    return f"{said}, in multiples of {fits}" + (f"; not of {not_so}: those are shown unequally long." if not_so else ".")
