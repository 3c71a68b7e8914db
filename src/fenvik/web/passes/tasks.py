"""The jobs of the queue."""

from procrastinate.contrib.django import app


@app.task(name="run_pass", queue="passes")
def run_pass(pass_id: int) -> None:
    """Run a pass, or go on with it after its last stored reading."""
    from fenvik.web.passes.engine import run

    run(pass_id)


@app.task(name="take_up_file", queue="passes")
def take_up_file(import_id: int) -> None:
    """Take up a large file of readings."""
    from fenvik.web.passes.imports import run

    run(import_id)
