"""What was only counted over there is no longer said to have arrived."""

from django.db import migrations, models

COUNTED = "there, with its full size"


def told_apart(apps, schema_editor):
    Part, Dispatch = (apps.get_model("dispatch", name) for name in ("Part", "Dispatch"))
    counted = Part.objects.filter(state="arrived", proof=COUNTED)
    Dispatch.objects.filter(state="arrived", pk__in=list(counted.values_list("dispatch", flat=True))).update(state="there")
    counted.update(state="there")


def as_before(apps, schema_editor):
    for name in ("Part", "Dispatch"):
        apps.get_model("dispatch", name).objects.filter(state="there").update(state="arrived")


class Migration(migrations.Migration):
    dependencies = [("dispatch", "0004_for_whom")]

    operations = [
        migrations.AlterField(
            model_name="dispatch",
            name="state",
            field=models.CharField(
                choices=[
                    ("waiting", "Waiting"),
                    ("sending", "Sending"),
                    ("paused", "Paused"),
                    ("sent", "Sent"),
                    ("there", "There"),
                    ("arrived", "Arrived"),
                    ("stuck", "Stuck"),
                    ("cancelled", "Cancelled"),
                ],
                default="waiting",
                max_length=12,
            ),
        ),
        migrations.AlterField(
            model_name="part",
            name="state",
            field=models.CharField(
                choices=[
                    ("waiting", "Waiting"),
                    ("sending", "Sending"),
                    ("sent", "Sent"),
                    ("there", "There"),
                    ("arrived", "Arrived"),
                    ("stuck", "Stuck"),
                ],
                default="waiting",
                max_length=12,
            ),
        ),
        migrations.RunPython(told_apart, as_before),
    ]
