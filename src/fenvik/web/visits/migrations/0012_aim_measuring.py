"""What a tuning aims at and how it is measured become rows of their own, which it inherits."""

import django.core.validators
import django.db.models.deletion
from django.db import migrations, models
from django.db.migrations.operations.base import Operation

AIM = (
    "target_name, free, tolerance, luminance, roll_off, mastered, mastered_least, rolled_by, max_cll, diffuse, knees, white_parts"
)
MEASURING = (
    "meter_id, source_id, \"window\", settle_s, settles, average, bits, signal_range, frame_rate, surround, effort, low_below, "
    "low_average, low_effort, correction_id, correction_choice"
)
OLD_CONSTRAINTS = ("tolerance_above_zero", "window_within_screen", "free_target_has_its_facts")
OLD_FIELDS = (
    "average", "bits", "correction", "correction_choice", "diffuse", "effort", "frame_rate", "free", "knees", "low_average",
    "low_below", "low_effort", "luminance", "mastered", "mastered_least", "max_cll", "meter", "roll_off", "rolled_by",
    "settle_s", "settles", "signal_range", "source", "surround", "target_name", "tolerance", "white_parts", "window",
)
AT_ONCE = "SET CONSTRAINTS ALL IMMEDIATE"  # a table whose rows are still to be checked cannot be altered


def there(table, columns):
    return f"""
        INSERT INTO visits_{table} (id, {columns}) SELECT id, {columns} FROM visits_tuning;
        SELECT setval(pg_get_serial_sequence('visits_{table}', 'id'), GREATEST(max(id), 1)) FROM visits_{table};
        UPDATE visits_tuning SET {table}_id = id;
    """


def back(table, columns):
    taken = ", ".join(f"{name} = other.{name}" for name in columns.split(", "))
    return f"UPDATE visits_tuning SET {taken} FROM visits_{table} other WHERE other.id = visits_tuning.{table}_id;"


class Inherit(Operation):
    """Let a tuning be known to have what stands in the other two rows; Django has no operation for this."""

    reversible = True

    def state_forwards(self, app_label, state):
        state.models[app_label, "tuning"].bases = ("visits.aim", "visits.measuring", models.Model)
        state.reload_model(app_label, "tuning")

    def database_forwards(self, app_label, schema_editor, from_state, to_state):
        pass

    def database_backwards(self, app_label, schema_editor, from_state, to_state):
        pass


class Together(Operation):
    """Several operations at a model that do not hang on each other. Models are drawn anew once and not after each: 31 took four seconds."""

    reversible = True

    def __init__(self, *operations):
        self.operations = operations

    def state_forwards(self, app_label, state):
        state.__dict__.pop("apps", None)
        for one in self.operations:
            one.state_forwards(app_label, state)

    def database_forwards(self, app_label, schema_editor, from_state, to_state):
        for one in self.operations:
            one.database_forwards(app_label, schema_editor, from_state, to_state)

    def database_backwards(self, app_label, schema_editor, from_state, to_state):
        for one in reversed(self.operations):
            one.database_backwards(app_label, schema_editor, from_state, to_state)


class Migration(migrations.Migration):

    dependencies = [
        ('adjusting', '0012_led_by_hand'),
        ('corrections', '0003_spectra'),
        ('devices', '0006_lease'),
        ('passes', '0017_panel'),
        ('visits', '0011_ends'),
    ]

    operations = [
        migrations.CreateModel(
            name='Aim',
            fields=[
                ('aim_key', models.BigAutoField(db_column='id', primary_key=True, serialize=False)),
                ('target_name', models.CharField(choices=[('bt709-bt1886', 'BT.709, BT.1886, D65'), ('bt709-2.2', 'BT.709, gamma 2.2, D65'), ('bt709-2.4', 'BT.709, gamma 2.4, D65'), ('p3d65-2.6', 'P3-D65, gamma 2.6'), ('bt2020-pq', 'BT.2020, PQ, D65'), ('p3d65-pq', 'P3-D65 in BT.2020, PQ'), ('bt2020-hlg', 'BT.2020, HLG, D65'), ('free', 'free target')], default='bt709-bt1886', max_length=24)),
                ('free', models.JSONField(blank=True, null=True)),
                ('tolerance', models.FloatField(default=1.0, validators=[django.core.validators.MinValueValidator(0.1), django.core.validators.MaxValueValidator(10.0)])),
                ('luminance', models.FloatField(blank=True, null=True, validators=[django.core.validators.MinValueValidator(5.0), django.core.validators.MaxValueValidator(5000.0)])),
                ('roll_off', models.CharField(choices=[('clip', "clipped at the display's peak"), ('bt2390', 'rolled off by BT.2390'), ('points', 'by points of my own')], default='clip', max_length=8)),
                ('mastered', models.FloatField(default=1000.0, validators=[django.core.validators.MinValueValidator(100.0), django.core.validators.MaxValueValidator(10000.0)])),
                ('mastered_least', models.FloatField(default=0.005, validators=[django.core.validators.MinValueValidator(0.0), django.core.validators.MaxValueValidator(1.0)])),
                ('rolled_by', models.CharField(choices=[('light', 'each light by itself'), ('greatest', 'all three, by the greatest of them'), ('luminance', 'all three, by their luminance')], default='light', max_length=10)),
                ('max_cll', models.FloatField(blank=True, null=True, validators=[django.core.validators.MinValueValidator(50.0), django.core.validators.MaxValueValidator(10000.0)])),
                ('diffuse', models.FloatField(blank=True, null=True, validators=[django.core.validators.MinValueValidator(5.0), django.core.validators.MaxValueValidator(500.0)])),
                ('knees', models.JSONField(default=list)),
                ('white_parts', models.JSONField(default=list)),
            ],
        ),
        migrations.CreateModel(
            name='Measuring',
            fields=[
                ('measuring_key', models.BigAutoField(db_column='id', primary_key=True, serialize=False)),
                ('window', models.FloatField(default=10.0, validators=[django.core.validators.MinValueValidator(1.0), django.core.validators.MaxValueValidator(100.0)])),
                ('settle_s', models.FloatField(default=0.5, validators=[django.core.validators.MinValueValidator(0.0), django.core.validators.MaxValueValidator(30.0)])),
                ('settles', models.CharField(choices=[('wait', 'wait'), ('agree', 'two agree')], default='wait', max_length=8)),
                ('average', models.PositiveSmallIntegerField(default=1, validators=[django.core.validators.MinValueValidator(1), django.core.validators.MaxValueValidator(64)])),
                ('bits', models.PositiveSmallIntegerField(choices=[(8, '8 bit'), (10, '10 bit'), (12, '12 bit')], default=8)),
                ('signal_range', models.CharField(choices=[('limited', 'limited'), ('full', 'full')], default='limited', max_length=8)),
                ('frame_rate', models.FloatField(blank=True, null=True, validators=[django.core.validators.MinValueValidator(1.0), django.core.validators.MaxValueValidator(240.0)])),
                ('surround', models.FloatField(default=0.0, validators=[django.core.validators.MinValueValidator(0.0), django.core.validators.MaxValueValidator(100.0)])),
                ('effort', models.CharField(blank=True, max_length=40)),
                ('low_below', models.FloatField(default=0.0, validators=[django.core.validators.MinValueValidator(0.0), django.core.validators.MaxValueValidator(100.0)])),
                ('low_average', models.PositiveSmallIntegerField(default=4, validators=[django.core.validators.MinValueValidator(1), django.core.validators.MaxValueValidator(64)])),
                ('low_effort', models.CharField(blank=True, max_length=40)),
                ('correction_choice', models.CharField(choices=[('auto', 'where one fits'), ('chosen', 'chosen'), ('none', 'none')], default='auto', max_length=8)),
            ],
        ),
        migrations.AddField(
            model_name='measuring',
            name='correction',
            field=models.ForeignKey(blank=True, null=True, on_delete=django.db.models.deletion.PROTECT, related_name='+', to='corrections.correction'),
        ),
        migrations.AddField(
            model_name='measuring',
            name='meter',
            field=models.ForeignKey(blank=True, null=True, on_delete=django.db.models.deletion.PROTECT, related_name='+', to='devices.device'),
        ),
        migrations.AddField(
            model_name='measuring',
            name='source',
            field=models.ForeignKey(blank=True, null=True, on_delete=django.db.models.deletion.PROTECT, related_name='+', to='devices.device'),
        ),
        migrations.AddField(
            model_name='tuning',
            name='aim',
            field=models.OneToOneField(null=True, on_delete=django.db.models.deletion.CASCADE, parent_link=True, related_name='tuning', to='visits.aim'),
        ),
        migrations.AddField(
            model_name='tuning',
            name='measuring',
            field=models.OneToOneField(null=True, on_delete=django.db.models.deletion.CASCADE, parent_link=True, related_name='tuning', to='visits.measuring'),
        ),
        migrations.RunSQL(
            [there("aim", AIM), there("measuring", MEASURING), AT_ONCE],
            [back("aim", AIM), back("measuring", MEASURING), AT_ONCE],
        ),
        Together(
            *(migrations.RemoveConstraint("tuning", name) for name in OLD_CONSTRAINTS),
            *(migrations.RemoveField("tuning", name) for name in OLD_FIELDS),
        ),
        migrations.AlterField(
            model_name='tuning',
            name='aim',
            field=models.OneToOneField(on_delete=django.db.models.deletion.CASCADE, parent_link=True, related_name='tuning', to='visits.aim'),
        ),
        migrations.AlterField(
            model_name='tuning',
            name='measuring',
            field=models.OneToOneField(on_delete=django.db.models.deletion.CASCADE, parent_link=True, related_name='tuning', to='visits.measuring'),
        ),
        migrations.AlterField(
            model_name='tuning',
            name='id',
            field=models.BigAutoField(primary_key=True, serialize=False),
        ),
        migrations.AddConstraint(
            model_name='aim',
            constraint=models.CheckConstraint(condition=models.Q(('tolerance__gt', 0)), name='tolerance_above_zero'),
        ),
        migrations.AddConstraint(
            model_name='aim',
            constraint=models.CheckConstraint(condition=models.Q(models.Q(('target_name', 'free'), _negated=True), ('free__isnull', False), _connector='OR'), name='free_target_has_its_facts'),
        ),
        migrations.AddConstraint(
            model_name='measuring',
            constraint=models.CheckConstraint(condition=models.Q(('window__gt', 0), ('window__lte', 100)), name='window_within_screen'),
        ),
        Inherit(),
    ]
