"""The whole way in Firefox: from a recording to its files as a ZIP, playing, and the page."""

import base64
import io
import json
import os
import shutil
import subprocess
import tempfile
import zipfile
from pathlib import Path
from unittest import SkipTest, TestCase

from mastering.tests.signals import speech, written
from sermovox.ui.tests.running import running_for_all

_DRIVER = Path(__file__).with_name("firefox.mjs")
_FIREFOX, _NODE = shutil.which("firefox-esr"), shutil.which("node")
_AT_MOST_S = 240
_SILENT_DEVICE = "pcm.!default { type null }\nctl.!default { type null }\n"
"""A sound device that takes all sound and plays none of it, where a machine has no other."""


class Firefox(TestCase):
    in_a_browser = True

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        if not _FIREFOX or not _NODE:
            raise SkipTest("Firefox or Node is not installed")
        asked = subprocess.run([_NODE, "-e", "import('puppeteer-core')"], cwd=_DRIVER.parent, capture_output=True)
        if asked.returncode:
            raise SkipTest("puppeteer-core is not installed")

    def setUp(self):
        self.home = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def seen(self, title: str, **environment: str) -> dict:
        take = written(self.home, speech(seconds=6), name=f"{title}.wav")
        command = [_NODE, _DRIVER, running_for_all().address, take, title]
        # Its settings, and which sound device there is, are looked for below HOME.
        own = os.environ | {"HOME": str(self.home), "FIREFOX": str(_FIREFOX)} | environment
        run = subprocess.run(command, env=own, capture_output=True, text=True, timeout=_AT_MOST_S)
        self.assertEqual(run.returncode, 0, run.stderr)
        told = json.loads(run.stdout)
        self.assertEqual(told["troubles"], [])
        return told

    def test_from_a_recording_to_its_archive_playing_and_the_page(self):
        (self.home / ".asoundrc").write_text(_SILENT_DEVICE)
        told = self.seen("Pine and Plover")
        self.assertEqual(told["begun"], "Pine and Plover")
        self.assertIn("passes", told["made"])
        archive = zipfile.ZipFile(io.BytesIO(base64.b64decode(told["zip"])))
        self.assertEqual(archive.namelist(), ["01-pine-and-plover.mp3", "manifest.csv", "manifest.json"])
        self.assertIn("struck out", told["mark"])
        self.assertRegex(told["player"], r"^0:0\d of 0:0\d$")

    def test_a_machine_without_a_sound_device_is_told_so(self):
        told = self.seen("Reed and Rail", SOUNDLESS="yes", ALSA_CONFIG_PATH="/nowhere")
        for said in (told["player"], told["page"]):
            self.assertIn("no sound device", said)
