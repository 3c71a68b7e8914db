"""A display in numbers only, whose truth the tests know: not the stand-ins, so that nothing is fitted to them."""

import numpy as np

from fenvik.core.colour.target import TARGETS
from fenvik.core.controls import Control
from fenvik.core.measure.uncertainty import Repeatability
from fenvik.core.models.nudge import Surroundings, propose
from fenvik.core.models.state import GreyReading, as_felt, levels_now
from fenvik.core.models.twopoint import Response

METER = Repeatability.of([[0.01, 0.05, 0.005, 0.005], [1, 0.004, 0.001, 0.001], [100, 0.001, 0.0003, 0.0003]])
LEVELS = np.array([0.05, *np.arange(1, 11) / 10])
AROUND = Surroundings(TARGETS["bt709-bt1886"], 120.0, 0.05)


class Display:
    """Gains and offsets with cross-talk on a drive that is off in scale, shift and bend."""

    def __init__(self, seed, *, dead=(), backwards=(), half=50, grain=None):
        draw = np.random.default_rng(seed)
        self.draw = draw
        self.gain, self.offset = draw.uniform(0.0015, 0.008, 3), draw.uniform(0.0006, 0.003, 3)
        for channel in dead:
            self.gain[channel] = 0.0
        for channel in backwards:
            self.gain[channel] *= -1
        self.cross = draw.normal(0, 0.05, (3, 3))
        np.fill_diagonal(self.cross, 0)
        self.scale, self.shift = 1 + draw.normal(0, 0.03, 3), draw.normal(0, 0.01, 3)
        self.bend = draw.normal(0, 0.004, 3)
        self.values, self.half = [0.0] * 6, half
        self.clip, self.grain = np.inf, grain

    def controls(self):
        return [
            Control(f"{end}{c}", f"{end} {c}", end, c, self.values[c + 3 * (end == "offset")], -self.half, self.half, 1)
            for end in ("gain", "offset")
            for c in range(3)
        ]

    def drive(self, level, values=None):
        values = self.values if values is None else values
        if self.grain is not None:
            values = [self.grain.every * self.grain.counted(value) for value in values]
        gains, offsets = self.gain * np.array(values[:3]), self.offset * np.array(values[3:])
        gains, offsets = gains + self.cross @ gains, offsets + self.cross @ offsets
        level = np.asarray(level)[..., None]
        drive = level * (self.scale + gains) + (1 - level) * (self.shift + offsets)
        return np.minimum(drive + self.bend * np.sin(np.pi * level), self.clip)

    def read(self, level, *, fresh=True):
        clean = AROUND.target.xyz(np.maximum(self.drive(level), 0), AROUND.white, AROUND.black)
        noisy = self.draw.multivariate_normal(clean, METER.covariance(clean))
        return GreyReading(float(level), noisy, 1, tuple(self.values), fresh)

    def errors(self, values=None):
        return AROUND.errors(LEVELS, self.drive(LEVELS, values))


def pass_of(display):
    return [display.read(level, fresh=False) for level in LEVELS]


def follow(display, readings, *, ends=("gain", "offset", "gain", "offset"), most=8):
    """Do what the nudges say, and come back to an end once; return how many moves each end took, and the last nudge."""
    moves = dict.fromkeys(ends, 0)
    nudge = None
    for end in ends:
        level = 0.8 if end == "gain" else 0.3
        readings.append(display.read(level))
        for _ in range(most):
            controls, response = as_felt(readings, display.controls(), AROUND, METER, Response.prior)
            nudge = propose(
                levels=levels_now(readings, controls, AROUND, METER, response),
                controls=controls, response=response, surroundings=AROUND,
                allowed=[c.id for c in controls if c.kind == end],
            )  # fmt: skip
            if not nudge.moves:
                break
            for move in nudge.moves:
                display.values[[c.id for c in controls].index(move.control.id)] = move.value
            moves[end] += 1
            readings.append(display.read(level))
    return moves, nudge
