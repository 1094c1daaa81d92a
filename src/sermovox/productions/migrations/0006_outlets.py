from django.db import migrations, models


def keep_last(apps, schema_editor):
    Production = apps.get_model("productions", "Production")
    for production in Production.objects.exclude(last_outlet=""):
        production.last_outlets = [production.last_outlet]
        production.save(update_fields=["last_outlets"])


class Migration(migrations.Migration):
    dependencies = [("productions", "0005_treatments")]

    operations = [
        migrations.AddField("production", "outlet_keys", models.JSONField(default=list, editable=False)),
        migrations.AddField("production", "last_outlets", models.JSONField(default=list, editable=False)),
        migrations.AddField("section", "notes", models.TextField(blank=True, default=""), preserve_default=False),
        migrations.AddField("section", "link", models.URLField(blank=True, default=""), preserve_default=False),
        migrations.RunPython(keep_last, migrations.RunPython.noop),
        migrations.RemoveField("production", "last_outlet"),
    ]
