"""What was read last of each patch, analysed."""



from fenvik.core.analysis.analysis import Analysis, analyse
from fenvik.core.errors import NoWhiteError
from fenvik.web.passes.models import Pass, Reading
from fenvik.web.results.assemble import core_readings
from fenvik.web.stops.scenes import Scene


def analysed(scene: Scene, run: Pass, rows: list[Reading]) -> Analysis | None:
    """Return the analysis of the newest reading of each patch."""
    newest = {(row.r, row.g, row.b): row for row in rows if not row.too_dark and row.part != "comparison"}
    if not newest:
        return None
    try:
        return analyse(core_readings(run, list(newest.values())), scene.tuning.target)
    except NoWhiteError:
        return None
