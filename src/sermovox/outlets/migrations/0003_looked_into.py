"""What was stated without anybody's choice, that sizes are proof enough, gives way to reading back."""

from django.db import migrations

COUNTED, LOOKED_INTO = 'proof = "there, with its full size"', 'proof = "read back, large files in samples"'


def looked_into(apps, schema_editor):
    sheets = apps.get_model("outlets", "RuleSheet").objects
    for sheet in sheets.filter(toml__contains=COUNTED):
        sheets.filter(pk=sheet.pk).update(toml=sheet.toml.replace(COUNTED, LOOKED_INTO))


class Migration(migrations.Migration):
    dependencies = [("outlets", "0002_file_checks")]

    operations = [migrations.RunPython(looked_into, migrations.RunPython.noop)]
