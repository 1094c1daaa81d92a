"""What lies here is nobody else's to read, and who reads the database can sign in as nobody."""

import os
import stat
import subprocess
import sys
import tempfile
from pathlib import Path
from unittest import TestCase

from django.contrib.sessions.models import Session
from django.test import Client

from mastering.tests.signals import speech
from sermovox.accounts.sessions import hashed
from sermovox.dispatch.tests.test_sending import SendingTestCase
from sermovox.keeping import rights
from sermovox.ui.tests.base import AppTestCase


def mode(path: Path) -> int:
    return stat.S_IMODE(path.stat().st_mode)


class Kept(SendingTestCase):
    def test_nothing_that_is_kept_can_be_read_by_others(self):
        self.bring_in(speech(seconds=3))
        self.work()
        data = self.folder / "data"
        found = [path for path in data.rglob("*") if path.is_file()]
        self.assertGreater(len(found), 3)
        self.assertEqual([path for path in found if mode(path) & 0o077], [])

    def test_what_is_sent_into_a_folder_can_be_read_as_other_files_there(self):
        self.state(folder="new/ones")
        with self.settings(UMASK=0o022):
            self.assertEqual(self.sent().state, "arrived")
        folder = self.there / "new" / "ones"
        self.assertEqual({mode(each) for each in (folder, folder.parent)}, {0o755})
        self.assertEqual({mode(path) for path in folder.iterdir()}, {0o644})

    def test_what_is_wider_is_found_and_mended(self):
        data = self.folder / "data"
        open_ones = [data, data / "of-before", data / "of-before" / "a.wav"]
        open_ones[1].mkdir(parents=True)
        open_ones[2].write_bytes(b"RIFF")
        for path, rights_of in zip(open_ones, (0o755, 0o770, 0o444), strict=True):
            path.chmod(rights_of)
        self.assertEqual(sorted(rights.wider(data)), open_ones)
        self.assertEqual([mode(path) for path in open_ones], [0o700, 0o700, 0o400])
        self.assertEqual(list(rights.wider(data)), [])


class OfProcesses(TestCase):
    def test_every_process_writes_for_its_own_alone_and_knows_what_was_usual(self):
        with tempfile.TemporaryDirectory() as folder:
            data = Path(folder) / "data"
            code = (
                "import os, subprocess, sys; from django.conf import settings; import sermovox.running.ready\n"
                "from django.core.management import call_command; call_command('migrate', verbosity=0)\n"
                "told = 'from django.conf import settings; import sermovox.running.ready; print(oct(settings.UMASK))'\n"
                "subprocess.run([sys.executable, '-c', told], check=True)"
            )
            environment = os.environ | {"SERMOVOX_DATA": str(data)}
            environment.pop("SERMOVOX_UMASK", None)
            run = subprocess.run(
                [sys.executable, "-c", code], env=environment, umask=0o027, capture_output=True, text=True, check=True
            )
            self.assertEqual(run.stdout.split(), ["0o27"])
            self.assertEqual((mode(data), mode(data / "sermovox.sqlite3")), (0o700, 0o600))


class Sessions(AppTestCase):
    def test_what_the_database_holds_of_a_session_signs_nobody_in(self):
        key = self.client.cookies["sessionid"].value
        kept = Session.objects.get()
        self.assertEqual(kept.session_key, hashed(key))
        self.assertEqual(self.client.get("/").status_code, 200)
        thief = Client()
        for stolen in (kept.session_key, hashed(kept.session_key)):
            thief.cookies["sessionid"] = stolen
            self.assertEqual(thief.get("/").status_code, 302)
        self.client.logout()
        self.assertFalse(Session.objects.exists())
