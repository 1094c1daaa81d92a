"""What is said is kept by key; what was kept as English is told again where that can be told."""

import sermovox.keeping.sentences
from django.db import migrations

from sermovox.keeping.from_english import in_rows, retell


def by_key(apps, schema_editor):
    in_rows(apps.get_model("outlets", "FileCheck"), ['said', 'findings'], retell("said", finding="findings"))
    in_rows(apps.get_model("outlets", "SheetVersion"), ['words'], retell("words"))


class Migration(migrations.Migration):

    dependencies = [
        ('outlets', '0003_looked_into'),
    ]

    operations = [
        migrations.AlterField(
            model_name='filecheck',
            name='figures',
            field=sermovox.keeping.sentences.SaidJSONField(default=dict),
        ),
        migrations.AlterField(
            model_name='filecheck',
            name='findings',
            field=sermovox.keeping.sentences.SaidJSONField(default=list),
        ),
        migrations.AlterField(
            model_name='filecheck',
            name='said',
            field=sermovox.keeping.sentences.SaidField(blank=True),
        ),
        migrations.AlterField(
            model_name='sheetversion',
            name='words',
            field=sermovox.keeping.sentences.SaidField(),
        ),
        migrations.RunPython(by_key, migrations.RunPython.noop),
    ]
