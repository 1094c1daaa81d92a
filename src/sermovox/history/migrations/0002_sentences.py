"""What is said is kept by key; what was kept as English is told again where that can be told."""

import sermovox.keeping.sentences
from django.db import migrations

from sermovox.keeping.from_english import in_rows, retell


def by_key(apps, schema_editor):
    in_rows(apps.get_model("history", "Change"), ['words'], retell("words"))


class Migration(migrations.Migration):

    dependencies = [
        ('history', '0001_initial'),
    ]

    operations = [
        migrations.AlterField(
            model_name='change',
            name='words',
            field=sermovox.keeping.sentences.SaidField(),
        ),
        migrations.RunPython(by_key, migrations.RunPython.noop),
    ]
