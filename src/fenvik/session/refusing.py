"""What a display refuses for good, as procedures know it."""

from fenvik.core.procedures.steps import RefusedError, TooBrightError
from fenvik.link.faults import DeviceError

WRONG_PARAMETER, INSIDE_OF_IT = -32602, -32603
FOR_GOOD = (DeviceError.OUT_OF_RANGE, DeviceError.UNKNOWN, DeviceError.UNSUPPORTED, WRONG_PARAMETER, INSIDE_OF_IT)


def refusal_of(problem: DeviceError) -> RefusedError | None:
    """Return what a display refuses whenever it is asked, with the range that it tells; None for what may pass, or be mended."""
    if problem.number not in FOR_GOOD:
        return None
    ends = [problem.data.get(end) for end in ("min", "max")]
    low, high = ends if problem.number == DeviceError.OUT_OF_RANGE else (None, None)
    room = (float(low), float(high)) if isinstance(low, int | float) and isinstance(high, int | float) and low < high else None
    return RefusedError(str(problem).removeprefix(f"{problem.who}: "), room=room)


def too_bright(problem: DeviceError) -> TooBrightError | None:
    """Return what it means for a procedure that a meter refuses to read, where that is for too much light."""
    return TooBrightError(str(problem)) if problem.number == DeviceError.TOO_BRIGHT else None
