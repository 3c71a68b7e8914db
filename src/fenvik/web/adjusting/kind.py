"""What adjusting adds to the running of passes: hands-free is one whose list grows as it goes."""

from fenvik.web.adjusting.runner import HandsFreeRunner
from fenvik.web.passes.kinds import kinds
from fenvik.web.passes.models import PassPurpose

kinds.runners[PassPurpose.HANDS_FREE] = HandsFreeRunner
