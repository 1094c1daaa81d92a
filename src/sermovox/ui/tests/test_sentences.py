"""Sentences on their way: kept in the database, told again of old ones, after a redirect, sent out, and printed."""

import json
import os
import subprocess
import sys

from django.db import connection
from django.test import SimpleTestCase

from mastering.outlets.rules.levels import NOISE_FLOOR
from mastering.said import Said, speak
from mastering.tests.signals import noise, speech
from sermovox.deliveries.models import Delivery, FinishedFile
from sermovox.history.models import Change
from sermovox.keeping.from_english import in_rows, retell, told
from sermovox.productions import order
from sermovox.recordings.models import Recording
from sermovox.ui.tests.base import AppTestCase


class Kept(AppTestCase):
    def prepare(self):
        super().prepare()
        self.section = self.bring_in(noise(-20, 4), name="chapter 1.wav")

    def test_remarks_and_changes_are_read_in_the_reader_s_language_and_kept_by_key(self):
        remark = Said("off-zero-line-full-scale", dc_offset=4.26)
        recording = self.section.made_of[0].recording
        recording.remarks = [remark]
        recording.save()
        again = Recording.objects.get(pk=recording.pk)
        self.assertEqual(again.remarks, [remark])
        self.assertIn("4,3", speak(again.remarks[0], "de"))
        with connection.cursor() as cursor:
            cursor.execute("SELECT remarks FROM recordings_recording WHERE id = %s", [recording.pk])
            self.assertEqual(json.loads(cursor.fetchone()[0])[0]["say"], remark.key)
        order.remove(self.production, self.narrator, self.section)
        page = f"/productions/{self.production.pk}/history/"
        words = Change.objects.last().words
        self.assertContains(self.client.get(page, headers={"Accept-Language": "fr"}), speak(words, "fr"))
        self.assertNotEqual(speak(words, "fr"), words)

    def test_text_that_is_no_sentence_stays_text(self):
        recording = self.section.made_of[0].recording
        for text in ("Salt", "", '{"say": '):
            Recording.objects.filter(pk=recording.pk).update(refusal=text)
            self.assertEqual(Recording.objects.get(pk=recording.pk).refusal, text)
        self.assertTrue(Recording.objects.exclude(refusal="").exists())

    def test_an_answer_after_a_redirect_is_in_the_reader_s_language(self):
        german = {"Accept-Language": "de"}
        self.client.post("/recordings/storage/bin/empty/", headers=german)
        answer = self.client.get("/recordings/storage/bin/", headers=german)
        self.assertContains(answer, speak(Said("choose-what-go-good"), "de"))

    def test_a_check_sheet_that_goes_out_speaks_the_language_of_its_production(self):
        self.production.language = "German"
        self.production.save()
        made = {"section": [self.section.pk], "outlet": ["audiobook-retail"]}
        self.client.post(f"/deliveries/start/{self.production.pk}/", made)
        self.work()
        delivery = Delivery.objects.get()
        answer = self.client.get(f"/deliveries/{delivery.pk}/check-sheets.html")
        self.assertContains(answer, '<html lang="de"')
        self.assertContains(answer, "Grundrauschen")
        self.assertNotContains(answer, "Noise floor")
        self.assertContains(answer, "Alle Dateien zusammen", 2)
        finding = next(each for each in FinishedFile.objects.get().findings if each["rule"] == NOISE_FLOOR)
        self.assertIsInstance(finding["asked"], Said)


class Told(SimpleTestCase):
    """What earlier versions kept as English."""

    def test_a_sentence_is_told_by_its_key_with_what_it_tells_of(self):
        for english, german in (
            ("The file is made and passes.", "Die Datei ist erzeugt und besteht."),
            ("3 files are stuck on the way.", "3 Dateien stecken unterwegs fest."),
            ("1 file is stuck on the way.", "1 Datei steckt unterwegs fest."),
            ("nothing below 80 Hz", "nichts unter 80 Hz"),
            ("-22.5 dBFS", "-22,5 dBFS"),
        ):
            self.assertEqual(told(english), english)
            self.assertEqual(speak(told(english), "de"), german)
        several = "The file is louder than asked. Make the file again for this outlet from its recording."
        self.assertEqual(told(several), several)
        self.assertIn("lauter als verlangt", speak(told(several), "de"))

    def test_names_in_it_and_what_nobody_says_stay_as_they_are(self):
        quoted = "There is no file called “Music”. Nothing was renamed."
        self.assertEqual(told(quoted), quoted)
        for text in ("", "Salt and Cedar", "take 1.2.wav", "The fog came in. It stayed."):
            self.assertEqual(told(text), text)
            self.assertNotIsInstance(told(text), Said)


class Migrated(AppTestCase):
    def test_old_rows_are_told_again(self):
        section = self.bring_in(speech(seconds=3), name="a.wav")
        order.remove(self.production, self.narrator, section)
        change = Change.objects.last()
        self.assertIsInstance(change.words, Said)
        with connection.cursor() as cursor:
            cursor.execute("UPDATE productions_change SET words = %s", [str.__str__(change.words)])
        self.assertNotIsInstance(Change.objects.last().words, Said)
        in_rows(Change, ["words"], retell("words"))
        self.assertEqual(Change.objects.last().words, change.words)
        self.assertIsInstance(Change.objects.last().words, Said)


class InATerminal(SimpleTestCase):
    def said(self, *arguments: str, **environment: str) -> str:
        bare = {name: value for name, value in os.environ.items() if name not in ("LC_ALL", "LC_MESSAGES", "LANG")}
        line = [sys.executable, "-m", "sermovox.cli", *arguments]
        done = subprocess.run(line, capture_output=True, text=True, env=bare | environment)
        return done.stdout + done.stderr

    def test_a_command_speaks_the_language_of_the_terminal(self):
        for environment, wanted in (
            ({}, "The file is not there"),
            ({"LANG": "C.UTF-8"}, "The file is not there"),
            ({"LANG": "nl_NL.UTF-8"}, "The file is not there"),
            ({"LANG": "de_AT.UTF-8"}, "Die Datei ist nicht da"),
            ({"LANG": "de_DE", "LC_MESSAGES": "fr_FR"}, "Le fichier n’est pas là"),
            ({"LANG": "de_DE", "LC_ALL": "C"}, "The file is not there"),
        ):
            self.assertIn(wanted, self.said("measure", "/nowhere.wav", **environment))

    def test_help_does_and_what_machines_read_does_not(self):
        self.assertIn("Dateien gesprochenen Worts erzeugen", self.said("--help", LANG="de_DE.UTF-8"))
        self.assertEqual(
            self.said("outlets", "podcast-host", LANG="de_DE.UTF-8"), self.said("outlets", "podcast-host", LANG="C")
        )
