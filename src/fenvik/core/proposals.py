"""What a tuning should aim at, from what it is for and the room that it is in; each proposal says why."""

from dataclasses import dataclass

DARK_LUX, BRIGHT_LUX = 5.0, 80.0  # below: nobody sees the room beside the picture; above: the room lifts its black
NIGHT_CD_M2, DIM_CD_M2, DAY_CD_M2, GAME_CD_M2 = 100.0, 120.0, 200.0, 160.0
CINEMA_CD_M2, LIT_SCREEN_CD_M2 = 50.0, 90.0  # on a projection screen
HDR_TOLERANCE, SDR_TOLERANCE, GAME_TOLERANCE = 3.0, 1.0, 1.5
PURPOSES = ("night", "day", "game", "film")
SIGNALS = ("sdr", "hdr10", "hlg", "dynamic")
USUAL = (
    ("film", "sdr"), ("night", "sdr"), ("day", "sdr"), ("game", "sdr"), ("film", "hdr10"), ("game", "hdr10"),
    ("film", "dynamic"), ("day", "hlg"),
)  # fmt: skip


@dataclass(frozen=True)
class Room:
    """Light of a room in lux, by day and at night; None where nobody has measured it."""

    lux_day: float | None = None
    lux_night: float | None = None


@dataclass(frozen=True)
class Proposal:
    """A target by its name, luminance of white in cd/m² (None: as the signal or the display has it), tolerance, reasons."""

    purpose: str
    signal: str
    target: str
    luminance: float | None
    tolerance: float
    why: tuple[str, ...]


def _lux(purpose: str, room: Room) -> tuple[float, str]:
    """Return the light that counts for a purpose, and how it is known."""
    known = room.lux_day if purpose == "day" else room.lux_night
    if known is not None:
        return known, f"{known:g} lux {'by day' if purpose == 'day' else 'at night'}"
    guess = 150.0 if purpose == "day" else 3.0
    return (
        guess,
        "a lit room, since nobody has measured it" if purpose == "day" else "a dark room, since nobody has measured it",
    )


def _curve(lux: float, words: str) -> tuple[str, str]:
    if lux >= BRIGHT_LUX:
        return "bt709-2.2", f"Gamma 2.2, because of {words}: the room lifts the shadows out of a darker curve."
    return "bt709-bt1886", f"BT.1886, because of {words}: film and television are graded on it in the dark."


def propose(purpose: str, signal: str, *, technology: str = "lcd", room: Room | None = None) -> Proposal:
    """Return what a tuning for a purpose and a signal should aim at; every part of it may be changed."""
    room = room or Room()
    lux, words = _lux(purpose, room)
    if signal == "hdr10":
        return Proposal(
            purpose, signal, "bt2020-pq", None, HDR_TOLERANCE,
            ("PQ is absolute: the signal says how bright, so the light control stays at its top.",),
        )  # fmt: skip
    if signal == "dynamic":
        return Proposal(
            purpose, signal, "p3d65-pq", None, HDR_TOLERANCE,
            ("Dynamic metadata is mastered in P3; the mode is set with still PQ patches and judged by eye with moving ones.",),
        )  # fmt: skip
    if signal == "hlg":
        return Proposal(
            purpose, signal, "bt2020-hlg", None, HDR_TOLERANCE,
            ("HLG follows the display’s own peak, with the system gamma that BT.2100 gives for it.",),
        )  # fmt: skip
    target, why = _curve(lux, words)
    tolerance = GAME_TOLERANCE if purpose == "game" else SDR_TOLERANCE
    if technology == "projector":
        light = LIT_SCREEN_CD_M2 if lux >= BRIGHT_LUX else CINEMA_CD_M2
        return Proposal(
            purpose, signal, target, light, tolerance, (f"{light:g} cd/m², as on a screen in {words}.", why)
        )
    if purpose == "day" or lux >= BRIGHT_LUX:
        light, reason = DAY_CD_M2, f"About 200 cd/m², so that the picture stands up to {words}."
    elif purpose == "game":
        light, reason = GAME_CD_M2, "160 cd/m²: between night and day, since games are played at all hours."
    elif lux > DARK_LUX:
        light, reason = DIM_CD_M2, f"120 cd/m² for {words}: a lamp is on."
    else:
        light, reason = (
            NIGHT_CD_M2,
            f"100 cd/m² for {words}: brighter tires the eyes, and it is what film is graded at.",
        )
    return Proposal(purpose, signal, target, light, tolerance, (reason, why))
