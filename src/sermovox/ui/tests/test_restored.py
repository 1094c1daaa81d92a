"""An installation that was brought back from a backup, held beside the original, screen by screen."""

import json
import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path
from unittest import TestCase

from sermovox.ui.tests.running import brought_in

_SCREENS = r"""
import django, json, re, sys
django.setup()
from django.conf import settings
from django.test import Client
from django_tasks_db.models import DBTaskResult
from sermovox.accounts.models import DEMO_USERNAME
from django.contrib.auth import get_user_model
from sermovox.productions.models import Production, Section
from sermovox.recordings.models import Recording
from sermovox.deliveries.models import Delivery, FinishedFile
from django.core.management import call_command
settings.ALLOWED_HOSTS = ["testserver"]
DBTaskResult.objects.filter(status="READY").delete()
client = Client()
client.force_login(get_user_model().objects.get(username=DEMO_USERNAME))
addresses = ["/", "/deliveries/", "/outlets/", "/recordings/storage/bin/"]
for p in Production.objects.all():
    addresses += [f"/productions/{p.pk}/" + e for e in ("", "history/", "edit/", "names/", "outlets/", "sheet/")]
    addresses += [f"/levels/{p.pk}/", f"/recordings/storage/of/{p.pk}/", f"/productions/{p.pk}/artwork/"]
for r in Recording.objects.all():
    addresses += [f"/recordings/{r.pk}/", f"/recordings/{r.pk}/audio/", f"/cutting/{r.pk}/", f"/cutting/{r.pk}/state/"]
addresses += [f"/sections/{s.pk}/" for s in Section.objects.all()]
addresses += [f"/cutting/sections/{s.pk}/" for s in Section.objects.all()]
for d in Delivery.objects.all():
    addresses += [f"/deliveries/{d.pk}/" + e for e in ("", "tags/", "manifest.json", "check-sheets.html", "cover.jpg")]
for f in FinishedFile.objects.standing():
    addresses += [f"/deliveries/files/{f.pk}/", f"/deliveries/files/{f.pk}/download/"]
for turn in range(2):
    for address in (each for each in addresses if re.match(r"/(levels|cutting|productions)/", each)):
        client.get(address)
    call_command("db_worker", queue_name="*", batch=True, startup_delay=False, reload=False, verbosity=0)
import hashlib
asked = json.loads(sys.argv[1])
for address in asked or addresses:
    plain = None
    # What a page works out within its time may need another look; it is given one where it matters.
    for _ in range(8 if asked else 1):
        answer = client.get(address)
        content, before = b"".join(answer) if answer.streaming else answer.content, plain
        plain = content
        for token in re.findall(rb'X-CSRFToken[^A-Za-z0-9]+([A-Za-z0-9]{64})', content):
            plain = plain.replace(token, b"")
        # A stamp of what the rows were drawn from, which differs from process to process.
        plain = re.sub(rb"seen=[0-9a-f]{16}", b"", plain)
        if plain == before:
            break
    print(json.dumps([address, answer.status_code, hashlib.sha256(plain).hexdigest()]))
"""


class Restored(TestCase):
    takes_long = True

    def test_every_screen_is_as_it_was(self):
        with tempfile.TemporaryDirectory() as kept:
            folder, original = Path(kept), Path(kept) / "original"
            shutil.copytree(brought_in(), original)
            self.command("backup", str(folder / "backups"), data=original)
            self.command("restore", str(folder / "backups"), data=folder / "restored")
            self.assertTrue((folder / "restored" / "copied.json").exists(), "it does nothing by itself")
            code = "import sermovox.running.ready; from sermovox.keeping import copied; copied.go_on()"
            environment = os.environ | {"SERMOVOX_DATA": str(folder / "restored")}
            subprocess.run([sys.executable, "-c", code], env=environment, check=True)
            both = original, folder / "restored"
            before, after = self.screens(*both)
            self.assertGreater(len(before), 100)
            self.assertEqual({status for _, status, _ in before}, {200, 404})
            differing = [each[0] for each, then in zip(after, before, strict=True) if each != then]
            if differing:
                before, after = self.screens(*both, asked=differing)
            self.assertEqual([each for each, then in zip(after, before, strict=True) if each != then], [])

    def command(self, *words: str, data: Path) -> None:
        environment = os.environ | {"SERMOVOX_DATA": str(data)}
        subprocess.run([sys.executable, "-m", "sermovox.cli", *words], env=environment, check=True, capture_output=True)

    def screens(self, *folders: Path, asked: list[str] | None = None) -> list[list[list]]:
        """Address, status and content of all screens, or of those that are asked for, of several installations."""
        told = []
        for data in folders:
            environment = os.environ | {"SERMOVOX_DATA": str(data), "DJANGO_SETTINGS_MODULE": "sermovox.settings"}
            command = [sys.executable, "-c", _SCREENS, json.dumps(asked)]
            told.append(subprocess.Popen(command, env=environment, stdout=subprocess.PIPE))
        found = []
        for each in told:
            lines = each.communicate()[0].splitlines()
            self.assertEqual(each.returncode, 0)
            found.append([json.loads(line) for line in lines if line.startswith(b"[")])
        return found
