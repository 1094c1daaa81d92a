"""What is said is kept by key; what was kept as English is told again where that can be told."""

import sermovox.keeping.sentences
from django.db import migrations

from sermovox.keeping.from_english import in_rows, retell


def by_key(apps, schema_editor):
    in_rows(apps.get_model("scripts", "Hearing"), ['said'], retell("said"))


class Migration(migrations.Migration):

    dependencies = [
        ('scripts', '0002_timed'),
    ]

    operations = [
        migrations.AlterField(
            model_name='hearing',
            name='said',
            field=sermovox.keeping.sentences.SaidField(blank=True),
        ),
        migrations.RunPython(by_key, migrations.RunPython.noop),
    ]
