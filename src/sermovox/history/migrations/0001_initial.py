# The table was made by `productions`; only who it belongs to is noted here.
import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models


class Migration(migrations.Migration):

    initial = True

    dependencies = [
        ("productions", "0010_change_moves_to_history"),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]

    operations = [
        migrations.SeparateDatabaseAndState(
            state_operations=[
                migrations.CreateModel(
                    name="Change",
                    fields=[
                        ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                        ("made_at", models.DateTimeField(auto_now_add=True)),
                        ("words", models.CharField(max_length=300)),
                        ("before", models.JSONField()),
                        ("after", models.JSONField()),
                        ("undone", models.BooleanField(default=False)),
                        (
                            "made_by",
                            models.ForeignKey(
                                null=True, on_delete=django.db.models.deletion.SET_NULL, to=settings.AUTH_USER_MODEL
                            ),
                        ),
                        (
                            "production",
                            models.ForeignKey(
                                on_delete=django.db.models.deletion.CASCADE,
                                related_name="changes",
                                to="productions.production",
                            ),
                        ),
                    ],
                    options={"db_table": "productions_change", "ordering": ["pk"]},
                ),
            ],
        ),
    ]
