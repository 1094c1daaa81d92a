"""What opens an outlet belongs to way, server, port and user together: those of today, where there are any."""

from django.db import migrations, models

from mastering.errors import MasteringError
from mastering.outlets.rulesheets import parse


def as_stated(apps, schema_editor):
    sheets = apps.get_model("outlets", "RuleSheet").objects
    for secret in apps.get_model("dispatch", "Secret").objects.all():
        sheet = sheets.filter(owner=secret.owner_id, key=secret.outlet_key, removed=False).first()
        receives = None
        if sheet is not None:
            try:
                receives = parse(sheet.toml).receives
            except MasteringError:
                pass
        if receives is None:
            secret.delete()
        else:
            secret.door = receives.door
            secret.save(update_fields=["door"])


class Migration(migrations.Migration):
    dependencies = [("dispatch", "0005_counted"), ("outlets", "0003_looked_into")]

    operations = [
        migrations.AddField(
            model_name="secret", name="door", field=models.CharField(blank=True, default="", max_length=1000), preserve_default=False
        ),
        migrations.RunPython(as_stated, migrations.RunPython.noop),
    ]
