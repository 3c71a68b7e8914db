"""What adjusting adds to the running of passes: hands-free is one whose list grows as it goes, a trial is read once it is seen."""

from fenvik.web.adjusting.models import Trial
from fenvik.web.adjusting.runner import HandsFreeRunner
from fenvik.web.passes.kinds import kinds
from fenvik.web.passes.models import PassPurpose
from fenvik.web.passes.runner import Ended, Runner

SEEN_S = {Trial.Kind.CARRIED: 3.0, Trial.Kind.TONE: 6.0}  # from where it is set or installed until a display shows it, at most


class TriedRunner(Runner):
    """Reads what was just set or installed over the link: a display may say so before its light has followed."""

    def run(self) -> None:
        """Let it come into the light, then run as any pass."""
        tried = Trial.objects.filter(tuning=self.plan.pass_.tuning_id, done_at__isnull=False).order_by("-done_at").first()
        try:
            if tried is not None and tried.done_at is not None:
                self._wait_until(tried.done_at.timestamp() + SEEN_S[Trial.Kind(tried.kind)])
        except Ended:
            return
        super().run()


kinds.runners[PassPurpose.HANDS_FREE] = HandsFreeRunner
kinds.runners[PassPurpose.CHECK] = TriedRunner
