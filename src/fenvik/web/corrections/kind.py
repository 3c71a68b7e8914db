"""What corrections add to the running of passes: the one that fits is in force, two meters read by a procedure,
and what they say of white is kept.
"""

from fenvik.web.corrections.choosing import renew
from fenvik.web.corrections.making import comparison, keep_of_run, keep_sum
from fenvik.web.passes.kinds import kinds
from fenvik.web.passes.models import PassPurpose
from fenvik.web.passes.script import Scripted

kinds.before.append(renew)
kinds.procedures[PassPurpose.CORRECTION] = Scripted(comparison, keep_sum)
kinds.keeps = keep_of_run
