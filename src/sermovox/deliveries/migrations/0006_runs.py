import uuid

from django.db import migrations, models


def each_its_own(apps, schema_editor):
    Delivery = apps.get_model("deliveries", "Delivery")
    for delivery in Delivery.objects.filter(run=None):
        delivery.run = uuid.uuid4()
        delivery.save(update_fields=["run"])


class Migration(migrations.Migration):
    dependencies = [("deliveries", "0005_treatments")]

    operations = [
        migrations.AddField("delivery", "run", models.UUIDField(null=True, editable=False)),
        migrations.RunPython(each_its_own, migrations.RunPython.noop),
        migrations.AlterField(
            "delivery", "run", models.UUIDField(db_index=True, default=uuid.uuid4, editable=False)
        ),
    ]
