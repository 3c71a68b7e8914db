"""Whether meter, source and display belong together: white, black and white again, read before any work is built on them."""

from dataclasses import dataclass
from typing import Literal

from fenvik.core.measure.uncertainty import Repeatability

XYZ = tuple[float, float, float]
State = Literal["right", "doubtful", "wrong", "unknown"]
STILL = 1.5  # times black that white must be: a picture that changes at all is more than that
LOW_CONTRAST = 100.0
DIM_CD_M2 = 3.0
MOVED = 6.0  # standard deviations of the meter between the two whites


@dataclass(frozen=True)
class Tried:
    """What came of it, in sentences with numbers: the first says whether to go on, the second what to do."""

    state: State
    says: str
    todo: str = ""


def judge(white: XYZ | None, black: XYZ | None, again: XYZ | None, meter: Repeatability) -> Tried:
    """Return what white, black and white again say; None is a reading that was too dark, in cd/m² otherwise."""
    if white is None:
        return Tried(
            "wrong", "White is too dark to read.",
            "Take the cap off and aim the meter at the middle of the screen; see that the display shows the source's input.",
        )  # fmt: skip
    if white[1] < 1e-6:
        return Tried(
            "wrong",
            "The meter says that white has no light at all.",
            "See that it is aimed, and that the display is on.",
        )
    dark = 0.0 if black is None else max(black[1], 0.0)
    if white[1] < STILL * dark:
        return Tried(
            "wrong", f"White reads {white[1]:.3g} cd/m² and black {dark:.3g}: the picture does not change.",
            "The display shows another input, the source's picture is stuck, or the meter looks at a lamp or a window.",
        )  # fmt: skip
    if again is not None:
        apart = again[1] / white[1] - 1.0
        noise = 2.0**0.5 * float(meter.at(white[1])[0])
        if abs(apart) > MOVED * noise and abs(apart) > 0.01:
            way = "more" if apart > 0 else "less"
            return Tried(
                "doubtful", f"The second white reads {100.0 * abs(apart):.1f} % {way} than the first.",
                "Something moves the light: energy saving, an ambient sensor, dynamic contrast, a display that is still warming "
                "up, or a meter that slipped.",
            )  # fmt: skip
    if white[1] < DIM_CD_M2:
        return Tried(
            "doubtful", f"White reads only {white[1]:.2g} cd/m².",
            "Aim the meter at the patch; on a projector let it face the screen close by.",
        )  # fmt: skip
    if dark > 0 and white[1] / dark < LOW_CONTRAST:
        return Tried(
            "doubtful", f"White reads {white[1]:.3g} cd/m² and black {dark:.2g}, {white[1] / dark:.0f} to one.",
            "Light that is not the display's reaches the meter: darken the room, or shade it.",
        )  # fmt: skip
    shown = "too dark to read" if black is None else f"{dark:.2g}"
    return Tried("right", f"White reads {white[1]:.3g} cd/m² and black {shown}: the meter sees what the source shows.")
