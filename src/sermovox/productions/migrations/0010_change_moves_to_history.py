# The table stays; from now on `history` knows it.
from django.db import migrations


class Migration(migrations.Migration):

    dependencies = [("productions", "0009_kept_safe")]

    operations = [migrations.SeparateDatabaseAndState(state_operations=[migrations.DeleteModel(name="Change")])]
