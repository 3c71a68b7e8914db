"""What corrections add to the running of passes: the one that fits is in force, and readings decide by which method one is made."""

from fenvik.web.corrections.choosing import renew
from fenvik.web.corrections.making import decide, keep_of_run
from fenvik.web.passes.kinds import kinds
from fenvik.web.passes.models import PassPurpose

kinds.before.append(renew)
kinds.deciders[PassPurpose.CORRECTION] = decide
kinds.keeps = keep_of_run
