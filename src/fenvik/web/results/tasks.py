"""The jobs of results."""

from procrastinate.contrib.django import app

from fenvik.web.results.imports import run


@app.task(name="take_up_file", queue="passes")
def take_up_file(import_id: int) -> None:
    """Take up a large file of readings."""
    run(import_id)
