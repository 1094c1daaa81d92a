"""What is said is kept by key; what was kept as English is told again where that can be told."""

import sermovox.keeping.sentences
from django.db import migrations

from sermovox.keeping.from_english import in_rows, retell


def by_key(apps, schema_editor):
    in_rows(apps.get_model("dispatch", "Dispatch"), ['said'], retell("said"))
    in_rows(apps.get_model("dispatch", "Part"), ['answered', 'proof'], retell("answered", "proof"))


class Migration(migrations.Migration):

    dependencies = [
        ('dispatch', '0006_doors'),
    ]

    operations = [
        migrations.AlterField(
            model_name='dispatch',
            name='said',
            field=sermovox.keeping.sentences.SaidField(blank=True),
        ),
        migrations.AlterField(
            model_name='part',
            name='answered',
            field=sermovox.keeping.sentences.SaidField(blank=True),
        ),
        migrations.AlterField(
            model_name='part',
            name='proof',
            field=sermovox.keeping.sentences.SaidField(blank=True),
        ),
        migrations.RunPython(by_key, migrations.RunPython.noop),
    ]
