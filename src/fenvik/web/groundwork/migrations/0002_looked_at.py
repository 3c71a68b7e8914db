"""What was looked at is of the patterns now: the table stays."""

from django.db import migrations


class Migration(migrations.Migration):

    dependencies = [('groundwork', '0001_arrival_groundwork'), ('patterns', '0004_looked_at')]

    operations = [migrations.SeparateDatabaseAndState(state_operations=[migrations.DeleteModel(name='LookedAt')])]
