from django.db import migrations


class Migration(migrations.Migration):
    """Everything that was in it has its own place by now."""

    dependencies = [('passes', '0010_typed'), ('corrections', '0002_typed'), ('adjusting', '0005_typed')]

    operations = [migrations.RemoveField(model_name='pass', name='conditions')]
