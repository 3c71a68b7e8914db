"""What results add to the running of passes: the figures of each that ends."""

from fenvik.web.passes.kinds import kinds
from fenvik.web.results.summary import summarise

kinds.after.append(summarise)
