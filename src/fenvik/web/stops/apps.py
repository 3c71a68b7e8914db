"""The seven stops of a tuning."""

from importlib import import_module

from django.apps import AppConfig

PARTS = (
    "turning", "arrival.page", "arrival.acts", "arrival.trial_acts",
    "groundwork.page", "groundwork.acts", "groundwork.white_acts", "instruments.page",
    "instruments.acts", "measured.page", "measured.acts", "adjust.page", "adjust.acts", "handover.page", "handover.acts",
)  # fmt: skip


class StopsConfig(AppConfig):
    name = "fenvik.web.stops"

    def ready(self) -> None:
        """Let each stop say what it shows and what can be done there."""
        for part in PARTS:
            import_module(f"fenvik.web.stops.{part}")
