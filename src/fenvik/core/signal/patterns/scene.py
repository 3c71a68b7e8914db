"""A drawn scene in which a white can be judged: snow and cloth, greys and skin, in one white or in two beside each other."""

from collections.abc import Callable
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from fenvik.core.colour.curves import pq, pq_inverse
from fenvik.core.colour.space import BT709, BT2020, D65_XY, rgb_to_xyz_matrix
from fenvik.core.signal.patterns.board import BAND, Board
from fenvik.core.signal.patterns.options import Option, PatternError
from fenvik.core.signal.patterns.pattern import Chosen, Pattern, Wrong
from fenvik.core.types import Floats

SKIN = ((0.74, 0.52, 0.42), (0.61, 0.37, 0.26), (0.44, 0.25, 0.16), (0.27, 0.145, 0.09), (0.13, 0.068, 0.045), (0.67, 0.43, 0.31))
CLOTHES = ((0.8, 0.8, 0.8), (0.12, 0.17, 0.3), (0.35, 0.33, 0.3))
GREYS = (0.9, 0.62, 0.4, 0.24, 0.13, 0.06, 0.02)
WALL, CLOTH, WOOD = (0.2, 0.2, 0.2), (0.93, 0.93, 0.93), (0.16, 0.095, 0.05)
SKY, FAR_SKY, SNOW, ROCK, WATER, PINE = (
    (0.2, 0.36, 0.64), (0.7, 0.77, 0.85), (0.97, 0.97, 0.97), (0.17, 0.18, 0.2), (0.1, 0.19, 0.26), (0.035, 0.075, 0.04),
)  # fmt: skip
SEAM = 0.03  # of the width: a hard edge would show a difference that nobody would see otherwise
_WIDER = np.linalg.inv(rgb_to_xyz_matrix(BT2020, D65_XY)) @ rgb_to_xyz_matrix(BT709, D65_XY)

Place = tuple[Floats, Floats]


def _over(ground: Floats, where: Floats, colour: tuple[float, ...] | Floats) -> Floats:
    """Return a colour laid over a ground by shares (h, w); only where there is any of it."""
    rows, columns = np.asarray(where.any(axis=1)), np.asarray(where.any(axis=0))
    if not rows.any():
        return ground
    across = slice(int(columns.argmax()), columns.size - int(columns[::-1].argmax()))
    down = slice(int(rows.argmax()), rows.size - int(rows[::-1].argmax()))
    over = np.asarray(colour)
    part = ground[down, across]
    part += where[down, across, None] * ((over[down, across] if over.ndim == 3 else over) - part)
    return ground


def _edge(distance: Floats, soft: float = 0.0025) -> Floats:
    """Return 1 inside (distance above 0), 0 outside, with an edge that does not flicker."""
    result: Floats = np.clip(distance / soft + 0.5, 0.0, 1.0)
    return result


def _box(u: Floats, v: Floats, left: float, top: float, right: float, bottom: float) -> Floats:
    return _edge(np.minimum(np.minimum(u - left, right - u), np.minimum(v - top, bottom - v)))


def _ridge(u: Floats, *waves: tuple[float, float, float]) -> Floats:
    line = np.zeros_like(u)
    for height, often, begins in waves:
        line = line + height * np.abs(((u * often + begins) % 1.0) * 2.0 - 1.0)
    return line


def _inside(at: Place, left: float, top: float, right: float, bottom: float) -> tuple[slice, slice] | None:
    """Return which rows and columns of a band lie within a box with a margin, None where none do."""
    u, v = at
    rows, columns = (v[:, 0] > top - 0.01) & (v[:, 0] < bottom + 0.01), (u[0] > left - 0.01) & (u[0] < right + 0.01)
    if not rows.any() or not columns.any():
        return None
    first, before = int(rows.argmax()), int(columns.argmax())
    return slice(first, rows.size - int(rows[::-1].argmax())), slice(before, columns.size - int(columns[::-1].argmax()))


def _window(u: Floats, v: Floats) -> Floats:
    """Return what is seen through the window: sky, snow on two ridges, a lake, pines; u, v from 0 to 1 within it."""
    down = np.clip(v / 0.6, 0.0, 1.0)[..., None]
    picture = np.asarray(SKY) * (1.0 - down) + np.asarray(FAR_SKY) * down + 0.0 * u[..., None]
    far = 0.2 + _ridge(u, (0.16, 1.4, 0.15), (0.06, 4.3, 0.4), (0.02, 11.0, 0.1))
    light = 0.72 + 0.28 * _edge(((u * 4.3 + 0.4) % 1.0) - 0.5, 0.08)
    picture = _over(picture, _edge(v - far), light[..., None] * np.asarray(SNOW))
    rock = _edge(v - far - 0.1 - 0.12 * _ridge(u, (1.0, 9.0, 0.3)))
    picture = _over(picture, rock, ROCK)
    lake = _edge(v - 0.68)
    ripple = 1.0 + 0.12 * np.sin(v * 190.0 + 6.0 * np.sin(u * 9.0))
    picture = _over(picture, lake, ripple[..., None] * (np.asarray(WATER) + 0.16 * np.clip(0.9 - v, 0.0, 1.0)[..., None]))
    pines = np.maximum(
        _edge(v - 0.58 - 0.12 * np.abs(((u * 13.0) % 1.0) * 2.0 - 1.0)) * _edge(0.3 - u, 0.02),
        _edge(v - 0.62 - 0.08 * np.abs(((u * 17.0 + 0.3) % 1.0) * 2.0 - 1.0)) * _edge(u - 0.8, 0.02),
    )
    return _over(picture, pines * _edge(0.74 - v, 0.01), PINE)


def _heads(picture: Floats, u: Floats, v: Floats, tall: float) -> Floats:
    """Lay six faces over a picture: rounded forms, lit from the window, with a shadow side; nobody's."""
    for i, tone in enumerate(SKIN):
        x, y, radius = 0.095 + i * 0.162, 0.72, 0.045
        high = radius * tall * 1.3
        part = _inside((u, v), x - 0.08, y - 1.3 * high, x + 0.08, 0.9)
        if part is not None:
            picture[part] = _head(picture[part], u[part], v[part], (x, y), (radius, high), tone, CLOTHES[i % len(CLOTHES)])
    return picture


def _head(
    picture: Floats, u: Floats, v: Floats, at: tuple[float, float], size: tuple[float, float], tone: tuple[float, ...],
    cloth: tuple[float, ...],
) -> Floats:
    """Lay one face with neck and shoulders over a part of a picture."""
    (x, y), (radius, high) = at, size
    across, down = (u - x) / radius, (v - y) / high
    far = across**2 + down**2
    lit = np.sqrt(np.clip(1.0 - far, 0.0, 1.0))
    light = 0.32 + 0.78 * np.clip(0.62 * lit - 0.55 * across - 0.25 * down, 0.0, 1.0)
    hair = _edge(-0.42 - down + 0.3 * across**2, 0.12) * _edge(1.12 - far, 0.02)
    body = (across / 1.75) ** 2 + ((down - 2.0) / 0.85) ** 2
    neck = _edge(0.42 - np.abs(across), 0.02) * _edge(down, 0.02)
    picture = _over(picture, _edge(1.0 - body, 0.02), (0.75 + 0.25 * np.clip(-across, -1.0, 1.0))[..., None] * np.asarray(cloth))
    picture = _over(picture, neck * _edge(1.35 - down, 0.05), 0.55 * np.asarray(tone))
    picture = _over(picture, _edge(1.0 - far, 0.02), light[..., None] * np.asarray(tone))
    return _over(picture, hair, (0.045, 0.032, 0.026))


def scene(u: Floats, v: Floats, tall: float) -> Floats:
    """Return the scene's light, 0 to 1 of white, linear BT.709, shape (h, w, 3); u, v from 0 to 1, ``tall`` width over height."""
    u, v = np.broadcast_arrays(u, v)
    wall = 1.15 - 0.5 * v
    picture = wall[..., None] * np.asarray(WALL)
    inside = _box(u, v, 0.04, 0.06, 0.62, 0.53)
    framed = _box(u, v, 0.028, 0.04, 0.632, 0.55)
    picture = _over(picture, framed, (0.82, 0.82, 0.82))
    if (part := _inside((u, v), 0.04, 0.06, 0.62, 0.53)) is not None:
        view = _window(np.clip((u[part] - 0.04) / 0.58, 0.0, 1.0), np.clip((v[part] - 0.06) / 0.47, 0.0, 1.0))
        picture[part] = _over(picture[part], inside[part], view)
    picture = _over(picture, _box(u, v, 0.325, 0.06, 0.335, 0.53), (0.82, 0.82, 0.82))
    folds = 0.8 + 0.2 * np.sin(u * 150.0 + 2.0 * np.sin(v * 6.0))
    picture = _over(picture, _box(u, v, 0.68, 0.05, 0.96, 0.53), folds[..., None] * np.asarray(CLOTH))
    table = _edge(v - 0.9)
    picture = _heads(picture, u, v, tall)
    picture = _over(picture, table, WOOD)
    for i, grey in enumerate(GREYS):
        left = 0.3 + i * 0.092
        picture = _over(picture, _box(u, v, left, 0.925, left + 0.078, 0.985), (grey,) * 3)
    paper = _box(u, v, 0.05, 0.915, 0.25, 0.992)
    lines = _box(u, v, 0.065, 0.915, 0.235, 0.985) * _edge(np.sin(v * 520.0) - 0.75, 0.1)
    picture = _over(picture, paper, (1.0, 1.0, 1.0))
    return _over(picture, lines, (0.45, 0.45, 0.45))


def skin(u: Floats, v: Floats, _: float) -> Floats:
    """Return six fields of skin under a row of greys."""
    u, v = np.broadcast_arrays(u, v)
    picture = np.full((*u.shape, 3), 0.2)
    for i, tone in enumerate(SKIN):
        row, column = divmod(i, 3)
        picture = _over(picture, _box(u, v, 0.06 + 0.3 * column, 0.3 + 0.34 * row, 0.33 + 0.3 * column, 0.6 + 0.34 * row), tone)
    for i, grey in enumerate(GREYS):
        picture = _over(picture, _box(u, v, 0.06 + i * 0.127, 0.07, 0.17 + i * 0.127, 0.23), (grey,) * 3)
    return picture


def plain(u: Floats, v: Floats, _: float) -> Floats:
    """Return white alone."""
    u, v = np.broadcast_arrays(u, v)
    return np.ones((*u.shape, 3))


SHOWS: dict[str, Callable[[Floats, Floats, float], Floats]] = {"scene": scene, "white": plain, "skin": skin}


def gains_of(text: str, option: str) -> Floats:
    """Return gains of light (3,) from three percentages. Raises PatternError."""
    try:
        told = np.array([float(part) for part in text.replace(",", ".").replace(";", " ").split()])
    except ValueError:
        told = np.zeros(0)
    if told.shape != (3,) or not ((told >= 20.0) & (told <= 200.0)).all():
        raise PatternError("A white is three percentages of light: red, green and blue, from 20 to 200.", option)
    return told / 100.0


@lru_cache(maxsize=2)
def _lit(shows: str, space: str, width: int, height: int, halves: bool) -> NDArray[np.float16]:
    """Return the light of what is shown, shape (height, width, 3): whites go by at a key, and the scene is the same in all of them."""
    at = np.arange(width) + 0.5
    wide = width / (2 if halves else 1)
    u = (np.where(at >= wide, at - wide, at) / wide)[None, :]
    made = np.empty((height, width, 3), dtype=np.float16)
    for top in range(0, height, BAND):
        v = ((np.arange(top, min(top + BAND, height)) + 0.5) / height)[:, None]
        light = SHOWS[shows](u, v, wide / height)
        made[top : top + BAND] = np.clip(light @ _WIDER.T if space == "bt2020" else light, 0.0, None)
    made.setflags(write=False)
    return made


def draw(board: Board, chosen: Chosen) -> None:
    """Draw what is asked for, in one white, or in two halves with a soft seam."""
    left = gains_of(chosen["left"], "left")
    right = gains_of(chosen["right"], "right") if str(chosen["right"]).strip() else left
    halves = bool(str(chosen["right"]).strip())
    level, gamma = float(chosen["level"]) / 100.0, float(chosen["gamma"])
    in_pq = chosen["curve"] == "pq"
    most = pq(level) if in_pq else level**gamma
    light = _lit(chosen["shows"], chosen["space"], board.width, board.height, halves)
    at = (np.arange(board.width) + 0.5) / board.width
    share = np.clip((at - 0.5) / SEAM + 0.5, 0.0, 1.0)[:, None] if halves else np.zeros((board.width, 1))
    gains = (left + share * (right - left)) * most
    for top in range(0, board.height, BAND):
        lit = light[top : top + BAND] * gains
        board.codes[top : top + BAND] = board.signal.code(100.0 * (pq_inverse(lit) if in_pq else lit ** (1.0 / gamma)))


PATTERNS = (
    Pattern(
        "white-scene", "A scene to judge white by", "colour",
        "Shows snow, cloth, skin and greys in a white, or in two whites side by side, so that somebody can say which is right to the eye.",
        "Give the eye a minute in a dark room first. White paper and cloth should look white and not tinted, and skin like skin; beside each other, look from one half to the other and not at the seam.",
        "It says which white is liked, not which is right: whose eye, which room and what was looked at before all have their say.",
        draw, Wrong("warm", 0.25, "Snow and paper are yellow: white is too warm."), Wrong("warm", -0.25, "Snow and paper are blue: white is too cool."),
        "Snow, paper and cloth are white.", roles=("white-preset",), ends=("too warm", "too cool"), own_colours=True,
        options=(
            Option("shows", "Shows", "scene", (("scene", "a scene"), ("skin", "skin and greys"), ("white", "white alone"))),
            Option("left", "White, or that of the left half, % of red, green, blue light", "100 100 100", text=True),
            Option("right", "White of the right half, none for one picture", "", text=True),
            Option("level", "White at", "85", low=20, high=100, unit=" %"),
            Option("curve", "Curve", "gamma", (("gamma", "gamma"), ("pq", "PQ"))),
            Option("gamma", "Gamma", "2.4", low=1.8, high=2.8),
            Option("space", "Sent in", "bt709", (("bt709", "BT.709"), ("bt2020", "BT.2020"))),
        ),
    ),
)  # fmt: skip
