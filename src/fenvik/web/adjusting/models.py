"""What was turned, and what was learned from it."""

from django.db import models

from fenvik.web.kit.models import FirmModel


class ListKind(models.TextChoices):
    POINTS = "points", "points of the white balance"
    BACK = "back", "everything back to as found"
    LED = "led", "what a run that leads the hand wants turned"


class ChangeList(FirmModel):
    """Changes that were proposed together and are entered on the display one after the other.

    ``rows`` are control, label, before and after, in the menu's own order. How far a person is follows from the controls'
    values, so nothing is lost with a page, and a value that was turned back is open again.
    """

    firm_path = "tuning__visit__firm_id"
    tuning = models.ForeignKey("visits.Tuning", on_delete=models.PROTECT, related_name="change_lists")
    kind = models.CharField(max_length=8, choices=ListKind.choices)
    rows = models.JSONField()
    expected = models.JSONField(default=dict)  # mean and worst error, now and then
    at = models.DateTimeField()
    by = models.ForeignKey("people.User", null=True, on_delete=models.PROTECT)
    closed_at = models.DateTimeField(null=True)
    # Of a run that leads the hand: which one, and the number of its first step that is on this list.
    of_pass = models.ForeignKey("passes.Pass", null=True, on_delete=models.CASCADE, related_name="lists")
    step = models.PositiveIntegerField(null=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["tuning"], condition=models.Q(closed_at__isnull=True), name="one_open_list_a_tuning"
            )
        ]


class LearnedResponse(FirmModel):
    """What a tuning's readings taught about its controls: the next sample of the model starts from it."""

    firm_path = "menu_map__firm_id"
    menu_map = models.ForeignKey("menus.MenuMap", on_delete=models.PROTECT, related_name="learned")
    display = models.ForeignKey("clients.Display", on_delete=models.PROTECT, related_name="+")
    picture_mode = models.CharField(max_length=60)
    tuning = models.OneToOneField("visits.Tuning", on_delete=models.PROTECT, related_name="learned")
    controls = models.JSONField()
    mean = models.JSONField()
    covariance = models.JSONField()
    observed = models.JSONField()
    at = models.DateTimeField()


class Run(FirmModel):
    """A hands-free run: what it was asked to do, what it says while it works, and what came of it.

    Without a ``display`` it leads the hand of a person: what is to be set is a list to be entered with the display's own remote.

    ``controls``: those of the mode as the display told them when it began, each with its value then. ``over_at``: after how many
    readings its minutes were over. ``left_from``: the first reading of the proof. Scores are means of errors.
    """

    firm_path = "pass_of__tuning__visit__firm_id"
    pass_of = models.OneToOneField("passes.Pass", primary_key=True, on_delete=models.CASCADE, related_name="run")
    display = models.ForeignKey("devices.Device", null=True, on_delete=models.PROTECT, related_name="+")
    mode = models.CharField(max_length=120)
    steps = models.JSONField()
    budget = models.PositiveSmallIntegerField()
    minutes = models.PositiveIntegerField(default=0)  # 0: no limit
    puts_back = models.BooleanField(default=True)  # when it is stopped
    goal = models.FloatField(default=0.0)  # of the error: what is no farther off is left alone; 0: as good as it gets
    may_cost = models.FloatField(default=2.0)  # percent of HLG's peak: what a white without a tint may cost where it is installed
    luminance = models.FloatField(null=True)  # cd/m² of white that is wanted
    controls = models.JSONField()
    proof = models.PositiveSmallIntegerField()  # so many of its readings, the first, tell what was found
    phase = models.CharField(max_length=80, blank=True)
    notes = models.JSONField(default=list)
    dead = models.JSONField(default=list)  # controls that do nothing that a reading can tell
    matrix = models.JSONField(null=True)  # the correction (3, 3) that was in force when it began
    over_at = models.PositiveIntegerField(null=True)
    by = models.CharField(
        max_length=8, default="controls",
        choices=[("controls", "its menu"), ("install", "what can be installed"), ("both", "both")],
    )  # fmt: skip
    takes = models.JSONField(default=dict)  # what the display can be given to install, as it described itself
    stood = models.JSONField(default=dict)  # what was installed when it began: for each kind its row among Installed
    installed = models.JSONField(default=list)  # what it was given, and has still
    restored = models.BooleanField(default=False)
    without_reference = models.BooleanField(default=False)  # whether a person has said, meanwhile, to go on without it
    readings = models.PositiveIntegerField(default=0)
    moves = models.PositiveIntegerField(default=0)
    found_score = models.FloatField(null=True)
    left_score = models.FloatField(null=True)
    left_from = models.PositiveIntegerField(null=True)
    # What an earlier display of the model had taught of the greys' controls when it began, and what this one has taught since.
    taught = models.JSONField(null=True)
    teaches = models.JSONField(null=True)


class StepKind(models.TextChoices):
    READ = "read", "read"
    SET = "set", "set"
    LOOK = "look", "look"
    INSTALL = "inst", "install"
    UNINSTALL = "away", "uninstall"
    CORRECT = "corr", "correct"
    ASK = "ask", "ask"


class RunStep(FirmModel):
    """One step of a run as it was decided, kept before it is done: a run that was cut off is led the same way again by these.

    ``asked``: of a reading the percentages of signal, of a set control and value, of what is installed its kind. ``came``: what a
    set control was at then, or how the display stood that was looked at; null until it was done. A reading is the pass's own, in
    the order of the steps.
    """

    firm_path = "pass_of__tuning__visit__firm_id"
    pass_of = models.ForeignKey("passes.Pass", on_delete=models.CASCADE, related_name="steps")
    number = models.PositiveIntegerField()
    kind = models.CharField(max_length=4, choices=StepKind.choices)
    asked = models.JSONField()
    came = models.JSONField(null=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["pass_of", "number"], name="run_step_once")]


class Trial(FirmModel):
    """One thing that is done to a mode and proved by two short passes: kept when it is better, undone when not.

    ``data``: of a tone what the display is given, of settings that are carried over the values by control; ``sheet``: those
    values as a sheet; ``stood``: what these controls, or the roll-off, stood at before. ``done_at``: since when the display has it.
    """

    class Kind(models.TextChoices):
        TONE = "tone", "its roll-off"
        CARRIED = "carried", "settings of another mode"

    firm_path = "tuning__visit__firm_id"
    tuning = models.ForeignKey("visits.Tuning", on_delete=models.PROTECT, related_name="trials")
    kind = models.CharField(max_length=8, choices=Kind.choices)
    data = models.JSONField()
    stood = models.JSONField(default=dict)
    told = models.CharField(max_length=160, blank=True)  # what is tried, in words
    sheet = models.ForeignKey("menus.SettingsSheet", null=True, on_delete=models.SET_NULL, related_name="+")
    before = models.ForeignKey("passes.Pass", null=True, on_delete=models.SET_NULL, related_name="+")
    after = models.ForeignKey("passes.Pass", null=True, on_delete=models.SET_NULL, related_name="+")
    at = models.DateTimeField()
    by = models.ForeignKey("people.User", null=True, on_delete=models.PROTECT, related_name="+")
    done_at = models.DateTimeField(null=True)
    ended_at = models.DateTimeField(null=True)
    kept = models.BooleanField(null=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["tuning"], condition=models.Q(ended_at__isnull=True), name="one_open_trial_a_tuning"
            )
        ]

    @property
    def was_sent(self) -> bool:
        """Whether a roll-off was sent to the display: it may have it even where the line broke before it said so."""
        return self.kind == self.Kind.TONE and (bool(self.stood) or self.done_at is not None)


class Workplace(FirmModel):
    """Where a person works at a tuning's Adjust. Another person who looks at the same tuning has a place of their own."""

    firm_path = "tuning__visit__firm_id"
    tuning = models.ForeignKey("visits.Tuning", on_delete=models.CASCADE, related_name="workplaces")
    person = models.ForeignKey("people.User", on_delete=models.CASCADE, related_name="+")
    high = models.FloatField(default=80.0)
    low = models.FloatField(default=30.0)
    end = models.CharField(max_length=4, choices=[("high", "high"), ("low", "low")], default="high")

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["tuning", "person"], name="one_workplace_a_person"),
            models.CheckConstraint(condition=models.Q(high__gt=models.F("low")), name="high_above_low"),
        ]
