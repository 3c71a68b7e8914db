"""What was looked at is of the patterns: the table stays where it is and keeps its name."""

import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('patterns', '0003_until'),
        ('groundwork', '0001_arrival_groundwork'),
        ('visits', '0007_proof'),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]

    operations = [
        migrations.SeparateDatabaseAndState(state_operations=[
            migrations.CreateModel(
                name='LookedAt',
                fields=[
                    ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                    ('pattern', models.CharField(max_length=40)),
                    ('step', models.CharField(blank=True, max_length=40)),
                    ('control', models.CharField(blank=True, max_length=80)),
                    ('label', models.CharField(blank=True, max_length=120)),
                    ('before', models.JSONField(null=True)),
                    ('after', models.JSONField(null=True)),
                    ('at', models.DateTimeField()),
                    ('by', models.ForeignKey(null=True, on_delete=django.db.models.deletion.PROTECT, to=settings.AUTH_USER_MODEL)),
                    ('tuning', models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name='looked', to='visits.tuning')),
                ],
                options={
                    'db_table': 'groundwork_lookedat',
                    'indexes': [models.Index(fields=['tuning', 'id'], name='groundwork__tuning__02ddeb_idx')],
                },
            ),
        ]),
    ]
