"""The jobs of passes."""

from procrastinate.contrib.django import app

from fenvik.web.passes.engine import run


@app.task(name="run_pass", queue="passes")
def run_pass(pass_id: int) -> None:
    """Run a pass, or go on with it after its last stored reading."""
    run(pass_id)
