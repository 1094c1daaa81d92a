"""Sessions go on under the hash of their keys; nobody is signed out."""

import base64
import hashlib

from django.db import migrations


def hashed(key):
    return base64.urlsafe_b64encode(hashlib.sha256(key.encode()).digest()[:30]).decode()


def under_hashes(apps, schema_editor):
    Session = apps.get_model("sessions", "Session")
    for session in list(Session.objects.all()):
        Session.objects.filter(pk=session.pk).update(session_key=hashed(session.pk))


class Migration(migrations.Migration):
    dependencies = [("accounts", "0001_initial"), ("sessions", "0001_initial")]

    operations = [migrations.RunPython(under_hashes, migrations.RunPython.noop)]
