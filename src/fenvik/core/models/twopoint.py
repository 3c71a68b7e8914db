"""What one step of each white balance control does on *this* display, learned from readings.

The place where it is learned is the signal domain: ``drive`` is the signal at which the target's own curve would give
the light that was measured, for red, green and blue each. There a gain acts in proportion to the signal and an offset
against it, whatever the display's gamma, so few numbers describe a control at every level. Each control has, for each
of the three lights, a share that grows with the signal and one that fades with it: cross-talk and impure controls
are learned in the same place. Source of the update: Kalman (1960), J. Basic Eng. 82(1), 35-45, with nothing moving.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from fenvik.core.colour.target import Target
from fenvik.core.controls import Control
from fenvik.core.errors import FenvikError
from fenvik.core.types import Floats

CHANNELS = ("red", "green", "blue")
FULL_EFFECT = {"gain": 0.20, "offset": 0.10}  # of the signal, at a control's end of range: what menus of this kind do
OWN_DOUBT = 0.5  # std of a control's effect on its own light, as a share of the effect itself
CROSS_DOUBT = 0.18  # std of its effect on the other lights and against its kind
BEND = 0.06  # std of what the two shares leave out, as a share of the change: gamma errors, panel steps
CARRIED_DOUBT = 0.35  # std added, as a share, when another sample of the model lends what it learned
SAME_AS_ZERO = 1.5  # standard deviations within which an effect cannot be told from none
AT_MOST = 0.65  # of the usual effect: a control whose effect is surely below it, and cannot be told from none, is dead


class ControlError(FenvikError):
    """A control that is not part of what is being adjusted."""

    code = "control"


def shares(level: float) -> Floats:
    """Return how much of the growing and of the fading share is felt at a fraction of signal, shape (2,)."""
    v = min(max(level, 0.0), 1.0)
    return np.array([v, 1.0 - v])


def drive(xyz: Floats, target: Target, white: float, black: float) -> Floats:
    """Return the signal-domain drive (..., 3) of XYZ readings (..., 3): where the target's curve has that light."""
    return target.drive(xyz, white, black)


def light(drives: Floats, target: Target, white: float, black: float) -> Floats:
    """Return XYZ (..., 3) of drives (..., 3): the inverse of ``drive``."""
    return target.xyz(drives, white, black)


@dataclass(frozen=True)
class Response:
    """Belief about k controls: mean (k, 3, 2) of signal per step and its covariance (6k, 6k)."""

    controls: tuple[str, ...]
    mean: Floats
    covariance: Floats
    usual: Floats  # (k,): the effect on its own light that such a control usually has
    observed: tuple[int, ...]  # how many changes each control was seen to make

    @classmethod
    def prior(cls, controls: Sequence[Control]) -> "Response":
        """Return what is believed before the first change, by role and range alone."""
        k = len(controls)
        mean, std = np.zeros((k, 3, 2)), np.zeros((k, 3, 2))
        usual = np.zeros(k)
        for i, control in enumerate(controls):
            usual[i] = FULL_EFFECT[control.kind] / max(control.half_steps, 1.0)
            share = 0 if control.kind == "gain" else 1
            std[i] = CROSS_DOUBT * usual[i]
            mean[i, control.channel, share] = usual[i]
            std[i, control.channel, share] = OWN_DOUBT * usual[i]
        return cls(
            tuple(control.id for control in controls),
            mean,
            np.diag(std.ravel() ** 2),
            usual,
            (0,) * k,
        )

    def jacobian(self, level: float) -> Floats:
        """Return the change of drive (3, k) by one step of each control at a fraction of signal."""
        result: Floats = (self.mean @ shares(level)).T
        return result

    def doubt(self, level: float, metric: Floats) -> Floats:
        """Return the form Q (k, k) with E[square of the error's unknown part] = Δ·Q·Δ, for a metric (3, 3)."""
        k = len(self.controls)
        s = shares(level)
        full = self.covariance.reshape(k, 3, 2, k, 3, 2)
        result: Floats = np.einsum("acsbdt,s,t,cd->ab", full, s, s, metric)
        return result

    def covariance_of(self, level: float, steps: Floats) -> Floats:
        """Return the covariance (3, 3) of the drive after so many steps (k,), from doubt about the controls alone."""
        design = self._design(level, steps)
        result: Floats = design @ self.covariance @ design.T
        return result

    def _design(self, level: float, steps: Floats) -> Floats:
        s = shares(level)
        design = np.zeros((3, len(self.controls), 3, 2))
        for channel in range(3):
            design[channel, :, channel, :] = np.asarray(steps)[:, None] * s
        return design.reshape(3, -1)

    def scaled(self, factor: float) -> "Response":
        """Return this belief for steps that do so many times as much."""
        return replace(self, mean=factor * self.mean, covariance=factor**2 * self.covariance, usual=factor * self.usual)

    def learn(self, level: float, steps: Floats, change: Floats, covariance: Floats) -> tuple["Response", Floats]:
        """Return the belief after a change of drive (3,), its covariance (3, 3), was seen for so many steps (k,).

        With it comes how surprising just that was, (2,): the square of the surprise in its deviations, about 3 where the belief
        was right, and the logarithm of how widely it was expected. Half of their sum is what spoke against the belief.
        """
        steps = np.asarray(steps, dtype=np.float64)
        design = self._design(level, steps)
        # What two straight shares cannot say grows with the change; without it one reading would fix the belief for good.
        slack = np.eye(3) * (BEND * float(np.abs(change).max())) ** 2
        noise = np.asarray(covariance) + slack + np.eye(3) * 1e-10
        told = design @ self.covariance
        expected = told @ design.T + noise
        surprise = change - design @ self.mean.ravel()
        solved = np.linalg.solve(expected, np.concatenate([told, surprise[:, None]], axis=1))
        gain = solved[:, :-1].T
        against = np.array([surprise @ solved[:, -1], np.linalg.slogdet(expected)[1]])
        mean = self.mean.ravel() + gain @ surprise
        keep = np.eye(mean.size) - gain @ design
        after = keep @ self.covariance @ keep.T + gain @ noise @ gain.T
        observed = tuple(n + bool(step) for n, step in zip(self.observed, steps, strict=True))
        return Response(self.controls, mean.reshape(self.mean.shape), 0.5 * (after + after.T), self.usual, observed), against

    def carried(self) -> "Response":
        """Return this belief as a wide prior for the next sample of the model."""
        widened = np.diag((CARRIED_DOUBT * np.repeat(self.usual, 6)) ** 2)
        return Response(self.controls, self.mean, self.covariance + widened, self.usual, (0,) * len(self.controls))

    def own_effect(self, control: Control) -> tuple[float, float]:
        """Return the effect of one step on the control's own light where it acts most, and its std."""
        i = self.controls.index(control.id)
        share = 0 if control.kind == "gain" else 1
        place = (i * 3 + control.channel) * 2 + share
        return float(self.mean[i, control.channel, share]), float(np.sqrt(self.covariance[place, place]))

    def does_nothing(self, control: Control) -> bool:
        """Whether readings have shown that a control has no effect worth a step."""
        i = self.controls.index(control.id)
        effect, std = self.own_effect(control)
        probed = self.observed[i] > 0 and abs(effect) + 2.0 * std < AT_MOST * self.usual[i]
        return probed and abs(effect) < SAME_AS_ZERO * std
