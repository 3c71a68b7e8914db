"""The commands that run inside the virtual environment: ``python -m fenvik.cli COMMAND``."""

import os
import sys


def _ended(status: int) -> int:
    """End at once: taking millions of values apart one by one would take as long as a third of the work."""
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(status)


def main(arguments: list[str]) -> int:
    """Run a command; each is imported only when it is wanted, so none waits for another's libraries."""
    command, rest = (arguments[0], arguments[1:]) if arguments else ("", [])
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "fenvik.web.settings")
    match command:
        case "standins":
            from fenvik.cli.standins import run

            return run(rest)
        case "analyse":
            from fenvik.cli.analyse import run as analyse

            return _ended(analyse(rest))
        case "correct":
            from fenvik.cli.correct import run as correct

            return _ended(correct(rest))
        case "calibrate":
            from fenvik.cli.calibrate import run as calibrate

            return calibrate(rest)
        case "white-shift":
            from fenvik.cli.white_shift import run as white_shift

            return white_shift(rest)
        case "web":
            from fenvik.cli.serve import web

            return web(rest)
        case "worker":
            from fenvik.cli.serve import worker

            return worker(rest)
        case "manage":
            from django.core.management import execute_from_command_line

            if rest[:1] and not rest[0].startswith("-"):
                rest = [rest[0].replace("-", "_"), *rest[1:]]  # start-firm
            execute_from_command_line(["fenvik manage", *rest])
            return 0
    print("fenvik: standins, analyse, correct, calibrate, white-shift, web, worker or manage", file=sys.stderr)
    return 2


def told_plainly(arguments: list[str]) -> int:
    """Run a command; a setting with which nothing starts is told in its sentence, without a trace."""
    try:
        return main(arguments)
    except Exception as error:
        if type(error).__name__ != "SettingsError":
            raise
        print(f"fenvik: {error}", file=sys.stderr)
        return 2


if __name__ == "__main__":
    sys.exit(told_plainly(sys.argv[1:]))
