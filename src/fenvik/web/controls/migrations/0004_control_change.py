"""What was turned is of the controls: the table stays where it is and keeps its name."""

import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('menus', '0003_arrival_groundwork'),
        ('adjusting', '0003_hands_free'),
        ('passes', '0009_imports'),
        ('visits', '0007_proof'),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]

    operations = [
        migrations.SeparateDatabaseAndState(state_operations=[
            migrations.CreateModel(
                name='ControlChange',
                fields=[
                    ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                    ('group', models.UUIDField()),
                    ('control', models.CharField(max_length=80)),
                    ('label', models.CharField(max_length=120)),
                    ('before', models.JSONField(null=True)),
                    ('after', models.JSONField()),
                    ('at', models.DateTimeField()),
                    ('by', models.ForeignKey(null=True, on_delete=django.db.models.deletion.PROTECT, to=settings.AUTH_USER_MODEL)),
                    ('reading_before', models.ForeignKey(null=True, on_delete=django.db.models.deletion.PROTECT, related_name='+', to='passes.reading')),
                    ('of_pass', models.ForeignKey(null=True, on_delete=django.db.models.deletion.PROTECT, related_name='changes', to='passes.pass')),
                    ('tuning', models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name='changes', to='visits.tuning')),
                    ('undoes', models.OneToOneField(null=True, on_delete=django.db.models.deletion.PROTECT, related_name='undone_by', to='menus.controlchange')),
                ],
                options={
                    'db_table': 'adjusting_controlchange',
                    'indexes': [models.Index(fields=['tuning', 'id'], name='adjusting_c_tuning__af76f9_idx')],
                    'constraints': [models.UniqueConstraint(fields=('group', 'control'), name='control_once_a_group'), models.CheckConstraint(condition=models.Q(('before', models.F('after')), _negated=True), name='change_changes_something')],
                },
            ),
        ]),
    ]
