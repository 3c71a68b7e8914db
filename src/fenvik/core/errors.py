"""What can go wrong in Fenvik's own rules: one base, facts as attributes, a stable code for forms and scripts."""


class FenvikError(Exception):
    """Base of every error whose sentence may be shown to a person."""

    code = "error"


class ShapeError(FenvikError, ValueError):
    """An array does not have the shape that a function states."""

    code = "shape"

    def __init__(self, shape: tuple[int, ...], wanted: str) -> None:
        super().__init__(f"An array of shape {wanted} is needed, not {shape}.")
        self.shape = shape
        self.wanted = wanted


class SignalError(FenvikError, ValueError):
    """A bit depth, range or code that no signal has."""

    code = "signal"


class NoWhiteError(FenvikError, ValueError):
    """A relative target is asked for where nothing says how bright 100 % is."""

    code = "no_white"

    def __init__(self) -> None:
        super().__init__(
            "There is no reading of 100 % white, so nothing says how bright each level should be. "
            "Read 100 % white, or give the tuning a fixed luminance."
        )
