"""A command of Fenvik before stand-ins whose light follows at once: nobody waits for what is there already, or for passwords.

``python -m tests.at_once COMMAND``. How long a slow display is waited for is tested by the clock of a bench.
"""

import os
import sys

import django.contrib.auth.hashers as hashers

from fenvik.cli.__main__ import main
from fenvik.session.rig import LinkRig


def _nor_in_the_web():
    import django

    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "fenvik.web.settings")
    django.setup()
    from fenvik.web.adjusting import kind
    from fenvik.web.adjusting.runner import HandsFreeRunner

    HandsFreeRunner.let_pass = lambda self, seconds: None
    kind.SEEN_S = dict.fromkeys(kind.SEEN_S, 0.0)


if __name__ == "__main__":
    LinkRig.wait = lambda self, seconds: None
    hashers.PBKDF2PasswordHasher.iterations = 500
    if sys.argv[1] == "worker":
        _nor_in_the_web()
    sys.exit(main(sys.argv[1:]))
