"""What is said is kept by key; what was kept as English is told again where that can be told."""

import sermovox.keeping.sentences
from django.db import migrations

from sermovox.keeping.from_english import in_rows, retell


def by_key(apps, schema_editor):
    in_rows(apps.get_model("deliveries", "FinishedFile"), ['stage', 'refusal', 'remarks', 'steps', 'findings'], retell("stage", "refusal", "remarks", "steps", finding="findings"))


class Migration(migrations.Migration):

    dependencies = [
        ('deliveries', '0012_demands_as_values'),
    ]

    operations = [
        migrations.AlterField(
            model_name='finishedfile',
            name='figures',
            field=sermovox.keeping.sentences.SaidJSONField(default=dict),
        ),
        migrations.AlterField(
            model_name='finishedfile',
            name='findings',
            field=sermovox.keeping.sentences.SaidJSONField(default=list),
        ),
        migrations.AlterField(
            model_name='finishedfile',
            name='refusal',
            field=sermovox.keeping.sentences.SaidField(blank=True),
        ),
        migrations.AlterField(
            model_name='finishedfile',
            name='remarks',
            field=sermovox.keeping.sentences.SaidJSONField(default=list),
        ),
        migrations.AlterField(
            model_name='finishedfile',
            name='stage',
            field=sermovox.keeping.sentences.SaidField(blank=True),
        ),
        migrations.AlterField(
            model_name='finishedfile',
            name='steps',
            field=sermovox.keeping.sentences.SaidJSONField(default=list),
        ),
        migrations.RunPython(by_key, migrations.RunPython.noop),
    ]
