"""How a pattern looks on a display that is set wrongly: the drawn examples beside each pattern."""

import numpy as np
import scipy

from fenvik.core.signal.decoding import decode
from fenvik.core.signal.patterns.board import Signal
from fenvik.core.signal.patterns.pattern import How, Pattern
from fenvik.core.types import Floats

PAGE_WHITE = 0.62  # of full light: an example must not light the room
DRAWN_WIDTH = 960  # at which patterns are drawn before the lens picks its part: single pixels stay whole
LUMA = np.array([0.2126, 0.7152, 0.0722])  # BT.709-6, item 3.2


def _spread(picture: Floats, sigma: float) -> Floats:
    return np.asarray(scipy.ndimage.gaussian_filter(picture, (sigma, sigma, 0)))


def _shifted(picture: Floats, channels: list[int], by: float) -> Floats:
    moved = picture.copy()
    for channel in channels:
        moved[..., channel] = scipy.ndimage.shift(picture[..., channel], (0.0, by), order=1, mode="nearest")
    return moved


def _chroma(picture: Floats, change: str, amount: float) -> Floats:
    """Change the colour of a picture and leave its luma where it is."""
    luma = (picture @ LUMA)[..., None]
    colour = picture - luma
    if change == "shift":
        colour = scipy.ndimage.shift(colour, (0.0, amount, 0.0), order=1, mode="nearest")
    elif change == "soften":
        colour = _spread(colour, amount)
    else:
        size = int(amount)
        colour = (
            colour[::size, ::size].repeat(size, axis=0).repeat(size, axis=1)[: picture.shape[0], : picture.shape[1]]
        )
    return np.asarray(luma + colour)


def with_fault(picture: Floats, fault: str, amount: float) -> Floats:
    """Return signal fractions (h, w, 3) as a display with a fault shows them; amounts are percent, pixels, bits or exponents."""
    share = amount / 100.0
    height, width = picture.shape[:2]
    down, across = np.meshgrid(np.linspace(-1, 1, height), np.linspace(-1, 1, width), indexing="ij")
    match fault:
        case "black":
            return np.asarray(picture + share * (1.0 - picture))
        case "white":
            return np.asarray(picture * (1.0 + share))
        case "clip-red":
            return np.asarray(picture * np.array([1.0 + share, 1.0, 1.0]))
        case "warm":
            return np.asarray(picture * (1.0 + amount * np.array([0.25, 0.0, -0.6])))
        case "gamma":
            return np.asarray(np.clip(picture, 0.0, None) ** amount)
        case "veil":
            return np.asarray(np.clip(picture, 0.0, None) + share * picture.mean())
        case "stars":
            bright = _spread(picture, width / 40).max(axis=-1, keepdims=True)
            return np.where(bright > 0.02, picture, 0.0)
        case "halo":
            return np.asarray(np.maximum(picture, share * 4.0 * _spread(picture, width / 28)))
        case "sharpen":
            return (
                np.asarray(picture + amount * (picture - _spread(picture, 1.6)))
                if amount > 0
                else _spread(picture, -amount)
            )
        case "soften":
            return _spread(picture, amount)
        case "crop":
            return np.asarray(scipy.ndimage.affine_transform(
                picture, [1 - 2 * share, 1 - 2 * share, 1], [share * height, share * width, 0], order=1, mode="nearest"
            ))  # fmt: skip
        case "shift":
            return np.asarray(scipy.ndimage.shift(picture, (height * share / 2, width * share, 0), order=1, mode="constant"))
        case "shift-red":
            return _shifted(picture, [0], amount)
        case "chroma-shift" | "chroma-soften" | "chroma-blocks":
            return _chroma(picture, fault.removeprefix("chroma-"), amount)
        case "bits":
            steps = 2.0**amount - 1.0
            return np.asarray(np.round(picture * steps) / steps)
        case "tint-wave":
            wave = share * np.sin(2 * np.pi * 4 * picture[..., 1:2])
            return np.asarray(picture + wave * np.array([1.0, -0.8, 0.6]))
        case "saturation":
            luma = (picture @ LUMA)[..., None]
            return np.asarray(luma + (1.0 + share) * (picture - luma))
        case "vignette" | "glow":
            far = (np.hypot(down, across) / np.sqrt(2)) ** 2
            return np.asarray(picture * (1.0 + share * far[..., None]))
        case "double":
            beside = np.roll(picture, max(int(width * share), 1), axis=1)
            return np.asarray(np.maximum(0.75 * picture, 0.75 * beside))
        case "smear":
            return np.asarray(scipy.ndimage.uniform_filter1d(picture, int(width * share) + 1, axis=1))
    return picture


def example(pattern: Pattern, how: How, width: int, height: int) -> Floats:
    """Return a drawn example as sRGB-coded fractions, shape (height, width, 3), dimmed for a dark page.

    ``how``: as it should be, or at one of its two ends. The drawing is the pattern itself, seen through the fault.
    """
    tall = DRAWN_WIDTH * 9 // 16
    signal = Signal(8, "limited")
    board = pattern.drawn(DRAWN_WIDTH, tall, signal)
    picture = decode(board.codes, signal.bits, signal.range)
    moving = pattern.movement(signal)
    if moving is not None:  # somewhere on its way
        light = decode(moving.rgb, signal.bits, signal.range)
        left, top, right, bottom = board.pixels((0.4, moving.box[1], 0.4 + moving.box[2], moving.box[3]))
        if not moving.rows:
            picture[top:bottom, left:right] = light
        for i, wide in enumerate(moving.rows):
            upper = top + (bottom - top) * i // len(moving.rows)
            lower = upper + int(0.6 * (bottom - top) / len(moving.rows))
            for line in range(4):
                picture[upper:lower, left + 2 * wide * line : left + 2 * wide * line + wide] = light
    wrong = {"low": pattern.low, "high": pattern.high}.get(how)
    if wrong is not None:
        picture = with_fault(picture, wrong.fault, wrong.amount)
    left, top, right, bottom = board.pixels(pattern.lens)
    part = np.clip(picture[top:bottom, left:right], 0.0, 1.0) ** pattern.lift
    rows = np.linspace(0, part.shape[0] - 1, height).round().astype(int)
    columns = np.linspace(0, part.shape[1] - 1, width).round().astype(int)
    small = part[rows][:, columns]
    if part.shape[0] > height * 1.5:  # averaged in light, so that thin lines do not come and go
        zoom = (height / part.shape[0], width / part.shape[1], 1)
        soft = scipy.ndimage.zoom(
            scipy.ndimage.uniform_filter(part**2.2, (part.shape[0] // height, part.shape[1] // width, 1)), zoom, order=1
        )
        small = np.clip(soft[:height, :width], 0.0, 1.0) ** (1 / 2.2)
    return np.asarray(small * PAGE_WHITE)
