"""What pattern screens add to the running of passes: each is a source."""

from fenvik.web.passes.kinds import kinds
from fenvik.web.patterns.source import ScreenSource

kinds.sources["screen"] = lambda device: ScreenSource(int(device.facts["screen"]), device.name)
