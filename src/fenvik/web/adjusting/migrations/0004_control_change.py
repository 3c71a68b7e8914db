"""What was turned is of the controls now: the table stays."""

from django.db import migrations


class Migration(migrations.Migration):

    dependencies = [('adjusting', '0003_hands_free'), ('menus', '0004_control_change')]

    operations = [migrations.SeparateDatabaseAndState(state_operations=[migrations.DeleteModel(name='ControlChange')])]
