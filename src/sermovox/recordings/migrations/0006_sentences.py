"""What is said is kept by key; what was kept as English is told again where that can be told."""

import sermovox.keeping.sentences
from django.db import migrations

from sermovox.keeping.from_english import in_rows, retell


def by_key(apps, schema_editor):
    in_rows(apps.get_model("recordings", "Recording"), ['refusal', 'waits_for', 'remarks'], retell("refusal", "waits_for", "remarks"))
    in_rows(apps.get_model("recordings", "Upload"), ['said'], retell("said"))
    in_rows(apps.get_model("recordings", "WatchedFile"), ['refusal'], retell("refusal"))


class Migration(migrations.Migration):

    dependencies = [
        ('recordings', '0005_upload_for_section'),
    ]

    operations = [
        migrations.AlterField(
            model_name='recording',
            name='refusal',
            field=sermovox.keeping.sentences.SaidField(blank=True),
        ),
        migrations.AlterField(
            model_name='recording',
            name='remarks',
            field=sermovox.keeping.sentences.SaidJSONField(default=list),
        ),
        migrations.AlterField(
            model_name='recording',
            name='waits_for',
            field=sermovox.keeping.sentences.SaidField(blank=True),
        ),
        migrations.AlterField(
            model_name='upload',
            name='said',
            field=sermovox.keeping.sentences.SaidField(blank=True),
        ),
        migrations.AlterField(
            model_name='watchedfile',
            name='refusal',
            field=sermovox.keeping.sentences.SaidField(blank=True),
        ),
        migrations.RunPython(by_key, migrations.RunPython.noop),
    ]
