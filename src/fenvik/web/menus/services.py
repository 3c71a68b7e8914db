"""Noting settings sheets."""

from collections.abc import Mapping
from datetime import datetime
from typing import Any

from django.db import transaction

from fenvik.web.kit.notify import notify
from fenvik.web.menus.models import Moment, SettingsSheet
from fenvik.web.menus.values import SettingError, typed_value
from fenvik.web.people.models import User
from fenvik.web.visits.models import Tuning


class SheetError(SettingError):
    """Several typed values were wrong: nothing was stored, and each has its sentence."""

    code = "sheet"

    def __init__(self, problems: dict[str, str]) -> None:
        super().__init__(next(iter(problems.values())), next(iter(problems)))
        self.problems = problems


@transaction.atomic
def note_found(*, tuning_id: int, actor: User, typed: Mapping[str, str], now: datetime) -> SettingsSheet:
    """Note the settings as found, typed by control id; a later sheet replaces none, the newest counts.

    Empty fields are left out. Raises SheetError where a value is wrong; then nothing is stored.
    """
    tuning = Tuning.objects.of_firm(actor.firm_id).select_related("display__menu_map").get(pk=tuning_id)
    controls = tuning.display.menu_map.controls if tuning.display.menu_map else []
    values: dict[str, Any] = {}
    problems: dict[str, str] = {}
    for control in controls:
        text = typed.get(control["id"], "")
        if not text.strip():
            continue
        try:
            values[control["id"]] = typed_value(control, text)
        except SettingError as problem:
            problems[control["id"]] = str(problem)
    if problems:
        raise SheetError(problems)
    sheet = SettingsSheet.objects.create(tuning=tuning, moment=Moment.FOUND, values=values, at=now, by=actor)
    notify(tuning.pk)
    return sheet
