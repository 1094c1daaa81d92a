"""Sessions go on under the hash of their keys; nobody is signed out."""

from django.db import migrations

from sermovox.accounts.sessions import hashed


def under_hashes(apps, schema_editor):
    Session = apps.get_model("sessions", "Session")
    for session in list(Session.objects.all()):
        Session.objects.filter(pk=session.pk).update(session_key=hashed(session.pk))


class Migration(migrations.Migration):
    dependencies = [("accounts", "0001_initial"), ("sessions", "0001_initial")]

    operations = [migrations.RunPython(under_hashes, migrations.RunPython.noop)]
