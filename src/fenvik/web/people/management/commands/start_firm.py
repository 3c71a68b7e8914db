"""``./fenvik manage start-firm NAME``: a firm and its owner."""

import getpass
import sys
from argparse import ArgumentParser
from typing import Any

from django.core.exceptions import ValidationError
from django.core.management.base import BaseCommand, CommandError
from django.utils import timezone

from fenvik.web.people.models import User, loopback_only
from fenvik.web.people.services import start_firm


class Command(BaseCommand):
    """Makes a firm and its owner; the password is asked for, or is the first line of standard input."""

    help = "Make a firm and its owner. The password is asked for, or read from standard input."

    def add_arguments(self, parser: ArgumentParser) -> None:
        """Take the firm's name and the owner's."""
        parser.add_argument("name", help="what the firm is called")
        parser.add_argument("--owner", default="owner", help="the name that its owner signs in with")
        parser.add_argument("--own-machine", action="store_true", help="devices may be on this machine itself")

    def handle(self, *args: Any, **options: Any) -> None:
        """Make them."""
        owner = options["owner"]
        if User.objects.filter(username__iexact=owner).exists():
            raise CommandError(f"Somebody signs in as {owner} already; choose another name with --owner.")
        asked = f"Password of {owner}: "
        password = getpass.getpass(asked) if sys.stdin.isatty() else sys.stdin.readline().rstrip("\n")
        networks = loopback_only() if options["own_machine"] else []
        try:
            start_firm(name=options["name"], username=owner, password=password, networks=networks, now=timezone.now())
        except ValidationError as problem:
            raise CommandError(" ".join(problem.messages)) from problem
        told = f"{owner} signs in, says under Instruments where devices may be, and invites people."
        self.stdout.write(f"{options['name']} is there. {told}")
