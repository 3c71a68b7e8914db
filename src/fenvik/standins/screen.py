"""What a person sees on a simulated display: a chart with everything that the display does to it, pixel by pixel."""

import numpy as np
import scipy

from fenvik.core.types import Floats, Ints
from fenvik.standins.optics import LUMA, Optics

OVERSCAN = 0.025  # of width and height is cut off on each side
CRUDE_LEVELS = 95  # of signal that are left when dynamic contrast has worked on a picture
HALO = 0.03  # of a zone's light comes through black


def _zoomed(picture: Floats, inset: float) -> Floats:
    height, width = picture.shape[:2]
    return np.asarray(
        scipy.ndimage.affine_transform(
            picture, [1 - 2 * inset, 1 - 2 * inset, 1.0], [inset * height, inset * width, 0.0], order=1, mode="nearest"
        )
    )


def _halved_colour(picture: Floats) -> Floats:
    """Return a picture in which two by two pixels share one colour, each keeping its own luma."""
    height, width = picture.shape[0] // 2 * 2, picture.shape[1] // 2 * 2
    luma = (picture @ LUMA)[..., None]
    colour = picture - luma
    blocks = colour[:height, :width].reshape(height // 2, 2, width // 2, 2, 3).mean(axis=(1, 3))
    shared = colour.copy()
    shared[:height, :width] = blocks.repeat(2, axis=0).repeat(2, axis=1)
    return np.asarray(luma + shared)


def _processed(optics: Optics, mode: str, picture: Floats) -> Floats:
    """Return signal fractions after what the display's processing does to detail."""
    if optics.build.halves_colour:
        picture = _halved_colour(picture)
    if optics.value(mode, "process.overscan", "") in ("Wide", True):
        picture = _zoomed(picture, OVERSCAN)
    if optics.value(mode, "process.dynamic-contrast", "Off") != "Off":
        # It works with fewer bits than the signal has: ramps are banded.
        picture = np.round(picture * CRUDE_LEVELS) / CRUDE_LEVELS
    noise = {"Low": 0.6, "High": 1.2}.get(str(optics.value(mode, "process.noise", "Off")), 0.0)
    if noise:
        picture = scipy.ndimage.gaussian_filter(picture, (noise, noise, 0))
    item = next((i for i in optics.menu.items.values() if i.role == "process.sharpness"), None)
    if item is not None:
        edge = (optics.number(mode, "process.sharpness", 0.0) - float(item.off or 0)) / max(item.high - item.low, 1.0)
        soft = scipy.ndimage.gaussian_filter(picture, (1.3, 1.3, 0))
        picture = picture + (4.0 * edge if edge > 0 else 1.6 * edge) * (picture - soft)
    return np.asarray(picture)


def _dimmed(optics: Optics, mode: str, drive: Floats) -> Floats:
    """Return the drive with the light of each zone coming through black: halos, and swallowed stars."""
    zones = optics.build.zones
    strength = {"Low": 0.6, "High": 1.0}.get(str(optics.value(mode, "process.dimming", "Off")), 0.0)
    if zones is None or not strength:
        return np.asarray(drive + optics.build.leak)
    height, width = drive.shape[:2]
    across, down = zones
    peak = scipy.ndimage.maximum_filter(drive.max(axis=-1), size=(3, 3))
    tall, wide = height // down, width // across
    cells = peak[: tall * down, : wide * across].reshape(down, tall, across, wide).mean(axis=(1, 3)) ** 0.5
    cells = scipy.ndimage.gaussian_filter(cells, 0.6)
    light = scipy.ndimage.zoom(cells, (height / down, width / across), order=1, mode="nearest", grid_mode=True)
    light = np.clip(light, 0.0, 1.0)[:height, :width, None]
    kept = 1.0 - strength + strength * np.clip(light * 6.0, 0.0, 1.0)  # small bright things are dimmed with their zone
    return np.asarray(
        drive * kept
        + HALO * strength * light * (1 - strength * 0.3) * (drive < HALO)
        + optics.build.leak * (1 - strength)
    )


def _projected(optics: Optics, drive: Floats) -> Floats:
    """Return the drive as a lens throws it: colours apart, out of focus, darker corners."""
    build = optics.build
    values = optics.menu.values[next(iter(optics.menu.modes))]
    if build.convergence is not None:
        moved = drive.copy()
        for channel, name, own in ((0, "red", build.convergence[0]), (2, "blue", build.convergence[1])):
            x, y = (own[i] + float(values.get(f"cv-{name}-{axis}", 0)) for i, axis in enumerate("xy"))
            moved[..., channel] = scipy.ndimage.shift(drive[..., channel], (y, x), order=1, mode="nearest")
        drive = moved
    if build.best_focus is not None:
        off = abs(float(values.get("ln-focus", build.best_focus)) - build.best_focus) * 0.18
        drive = scipy.ndimage.gaussian_filter(drive, (0.35 + off, 0.35 + off, 0))
    if build.corner_light < 1.0:
        height, width = drive.shape[:2]
        far = np.hypot(np.linspace(-1, 1, height)[:, None], np.linspace(-1, 1, width)[None, :]) / np.sqrt(2)
        drive = drive * (1.0 - (1.0 - build.corner_light) * far[..., None] ** 2)
    return np.asarray(drive)


def picture_of(optics: Optics, mode: str | None, codes: Ints) -> Ints:
    """Return how a chart looks: sRGB codes of 8 bits, shape (height, width, 3), for code values on the cable."""
    if mode is None:
        return np.zeros(codes.shape, dtype=np.uint8)
    fraction = optics.fraction(codes)
    mean = float(np.clip(fraction, 0, 1).mean())
    drive = optics.light(mode, _processed(optics, mode, fraction), mean)
    shown = optics.as_srgb(_dimmed(optics, mode, _projected(optics, drive)))
    return np.asarray(np.round(255.0 * shown), dtype=np.uint8)
