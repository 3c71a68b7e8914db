"""``fenvik manage fill_demo``: the demo's data, once."""

import sys
from typing import Any

from django.core.management.base import BaseCommand, CommandParser
from django.utils import timezone

from fenvik.core.errors import FenvikError
from fenvik.web.demo.build import fill


class Command(BaseCommand):
    """Fill the invented firm, or refresh where its devices are."""

    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        """Want the directory of the stand-ins."""
        parser.add_argument("--directory", required=True)

    def handle(self, *args: Any, **options: Any) -> None:
        """Fill it."""
        try:
            fill(options["directory"], timezone.localtime())
        except FenvikError as problem:
            self.stderr.write(str(problem))
            sys.exit(1)
