"""Runs, their files and check sheets, handing over, and what happens when something breaks."""

import csv
import errno
import hashlib
import io
import json
import os
import zipfile
from unittest.mock import patch

import numpy as np
from django.db import connection
from django_tasks_db.models import DBTaskResult

from mastering.outlets.rulesheets import shipped
from mastering.tests.signals import noise, speech
from sermovox.deliveries.bundles import of_run
from sermovox.deliveries.manifest import as_csv
from sermovox.deliveries.models import Delivery, FinishedFile
from sermovox.deliveries.runs import start_run
from sermovox.ui.tests.base import AppTestCase
from sermovox.work.recovery import requeue_tasks


class Running(AppTestCase):
    def deliver(self, outlet="podcast-host", *, work=True) -> Delivery:
        keys = list(self.production.sections.values_list("pk", flat=True))
        answer = self.client.post(f"/deliveries/start/{self.production.pk}/", {"outlet": outlet, "section": keys})
        delivery = Delivery.objects.first()
        self.assertRedirects(answer, delivery.get_absolute_url())
        if work:
            self.work()
        return delivery

    def test_every_chosen_section_becomes_a_checked_file(self):
        self.bring_in(name="one.wav")
        self.bring_in(speech(seconds=6, seed=8), name="two.wav")
        delivery = self.deliver()
        files = list(delivery.files.all())
        self.assertEqual([file.name for file in files], ["01-one.mp3", "02-two.mp3"])
        for file in files:
            self.assertIn(file.state, ("passes", "passes with a remark"))
            self.assertEqual(hashlib.sha256(file.path.read_bytes()).hexdigest(), file.sha256)
            sheet = self.client.get(file.get_absolute_url())
            for text in (
                "Integrated loudness",
                "−19 ±1 LUFS",
                f"Passes all {len(file.findings)} rules",
                "at most −1 dBTP",
            ):
                self.assertContains(sheet, text)
            self.assertEqual(self.client.get(f"/deliveries/files/{file.pk}/waveform/").status_code, 200)
        page = self.client.get(delivery.get_absolute_url())
        self.assertContains(page, "Every file is made, was decoded again and passes.")
        self.assertContains(page, 'data-running="no"')
        self.assertContains(self.client.get(f"/productions/{self.production.pk}/"), 'aria-label="passes')

    def test_a_full_disk_and_lost_permission_are_said_and_nothing_half_is_left(self):
        self.bring_in(name="one.wav")
        for number, said in (
            (errno.ENOSPC, "disk is full"),
            (errno.EACCES, "permissions"),
            (errno.EIO, "Input/output"),
        ):
            with patch("mastering.making.proving.put_in_place", side_effect=OSError(number, os.strerror(number))):
                delivery = self.deliver()
            self.assertContains(self.client.get(delivery.get_absolute_url()), said)
            self.assertFalse(delivery.files.get().folder.exists())
        self.client.post(f"/deliveries/{delivery.pk}/again/")
        self.work()
        self.assertTrue(delivery.files.get().is_made)

    def test_a_failing_file_says_which_rule_and_what_to_do(self):
        self.bring_in(speech(peak=0.05) + noise(-50, 6))
        delivery = self.deliver("audiobook-retail")
        file = delivery.files.get()
        self.assertEqual(file.state, "fails")
        sheet = self.client.get(file.get_absolute_url())
        self.assertContains(sheet, "record in a quieter room")
        self.assertContains(sheet, "this take needs, its noise floor is at")
        # What fails stands first, with where it lies among what is asked.
        page = sheet.content.decode()
        self.assertLess(page.index("Noise floor</td>"), page.index("Container</td>"))
        self.assertIn('class="found fails"', page)
        self.assertContains(self.client.get(delivery.get_absolute_url()), "1 fails")

    def test_what_cannot_be_made_says_why_and_the_rest_is_made(self):
        self.bring_in(np.zeros((44100, 1)), name="silence.wav")
        self.bring_in(np.repeat(speech(seconds=3), 8, axis=1), name="eight.wav")
        self.bring_in(name="good.wav")
        delivery = self.deliver()
        page = self.client.get(delivery.get_absolute_url())
        self.assertContains(page, "silent throughout")
        self.assertContains(page, "8 channels")
        self.assertContains(page, "Of 3 files: 1 passes, 2 cannot be made.")
        self.assertEqual(len(list((self.folder / "data" / "deliveries").rglob("*.mp3"))), 1)

    def test_the_archive_holds_files_and_manifests(self):
        self.bring_in(name="one.wav")
        self.bring_in(speech(seconds=6, seed=8), name="two.wav")
        delivery = self.deliver("radio-playout")
        answer = self.client.get(f"/deliveries/{delivery.pk}/files.zip")
        self.assertIn("salt-and-cedar-radio-playout.zip", answer["Content-Disposition"])
        archive = zipfile.ZipFile(io.BytesIO(b"".join(answer.streaming_content)))
        self.assertIsNone(archive.testzip())
        self.assertEqual(set(archive.namelist()), {"01-one.wav", "02-two.wav", "manifest.csv", "manifest.json"})
        rows = list(csv.DictReader(io.StringIO(archive.read("manifest.csv").decode())))
        listed = json.loads(archive.read("manifest.json"))["files"]
        for row, entry in zip(rows, listed, strict=True):
            content = archive.read(row["name"])
            self.assertEqual(hashlib.sha256(content).hexdigest(), row["sha256"])
            self.assertEqual(len(content), int(row["size_bytes"]))
            self.assertEqual(entry["verdict"], "passes")
            self.assertAlmostEqual(entry["sample_peak_dbfs"], -3.0, delta=0.5)
        file = delivery.files.first()
        single = self.client.get(f"/deliveries/files/{file.pk}/download/")
        self.assertEqual(b"".join(single.streaming_content), file.path.read_bytes())

    def test_a_title_that_looks_like_a_formula_stays_a_title(self):
        section = self.bring_in()
        section.title = "=HYPERLINK(1)"
        section.save()
        self.assertIn("'=HYPERLINK(1)", as_csv(of_run(self.deliver())))

    def test_a_delivery_keeps_the_rules_it_was_made_under(self):
        self.bring_in()
        delivery = self.deliver()
        delivery.outlet_toml = delivery.outlet_toml.replace("Podcast host", "Podcast host of last year")
        delivery.save()
        self.assertContains(self.client.get(delivery.get_absolute_url()), "Podcast host of last year")

    def test_nothing_chosen_is_said(self):
        self.bring_in()
        for data, sentence in (
            ({"outlet": "podcast-host"}, "Choose at least one section"),
            ({"outlet": "nowhere", "section": [1]}, "Choose the outlet"),
        ):
            answer = self.client.post(f"/deliveries/start/{self.production.pk}/", data, follow=True)
            self.assertContains(answer, sentence)
        self.assertFalse(Delivery.objects.exists())

    def test_files_of_others_are_not_there(self):
        self.bring_in()
        file = self.deliver().files.get()
        self.client.logout()
        self.client.force_login(type(self.narrator).objects.create_user("stranger"))
        for address in (
            f"/deliveries/{file.delivery_id}/",
            f"/deliveries/{file.delivery_id}/files.zip",
            f"/deliveries/{file.delivery_id}/manifest.csv",
            f"/deliveries/files/{file.pk}/",
            f"/deliveries/files/{file.pk}/audio/",
            f"/deliveries/files/{file.pk}/download/",
        ):
            self.assertEqual(self.client.get(address).status_code, 404, address)

    def test_while_it_runs_the_book_is_shown_as_its_files_fill_up(self):
        self.bring_in(name="one.wav")
        self.bring_in(speech(seconds=10, seed=8), name="two.wav")
        delivery = self.deliver(work=False)
        delivery.files.first().begin()
        page = self.client.get(delivery.get_absolute_url())
        self.assertEqual([round(row.length_s) for row in page.context["rows"]], [5, 10])
        self.assertContains(page, "for 1 file before it")
        self.assertContains(page, '<span class="making" style="flex-grow: 5.00"')

    def test_cancelling_stops_what_waits_and_running_again_makes_it(self):
        self.bring_in()
        delivery = self.deliver(work=False)
        self.client.post(f"/deliveries/{delivery.pk}/cancel/")
        self.work()
        self.assertEqual(delivery.files.get().state, "cancelled")
        self.client.post(f"/deliveries/{delivery.pk}/again/")
        self.work()
        self.assertIn(delivery.files.get().state, FinishedFile.MADE)


class Breaking(AppTestCase):
    def prepare(self):
        super().prepare()
        self.bring_in()
        section = self.production.sections.get()
        (self.delivery,) = start_run(self.production, [shipped()["podcast-host"]], [section])
        self.file = self.delivery.files.get()

    def broken_off_by(self, worker_id: str) -> DBTaskResult:
        """As a worker leaves things that is killed in the middle of an encode."""
        task = DBTaskResult.objects.ready().get()
        task.claim(worker_id)
        self.assertTrue(self.file.begin())
        (self.file.folder / ".half.making").write_bytes(b"half a file")
        return task

    def test_work_of_a_killed_worker_is_taken_up_again(self):
        self.broken_off_by("dead")
        self.assertEqual(requeue_tasks(lambda: ["another", "dead"]), 0)
        self.assertEqual(requeue_tasks(lambda: ["another"]), 1)
        self.work()
        self.file.refresh_from_db()
        self.assertIn(self.file.state, FinishedFile.MADE)
        self.assertEqual(
            {path.name for path in self.file.folder.iterdir()}, {self.file.stored_as, "waveform", "waveform.sum"}
        )

    def test_what_kills_its_worker_every_time_is_given_up_with_a_reason(self):
        for _ in range(3):
            self.broken_off_by("dead")
            requeue_tasks()
            self.file.refresh_from_db()
        self.work()
        self.file.refresh_from_db()
        self.assertEqual(self.file.state, "cannot be made")
        self.assertIn("broken off 3 times", self.file.refusal)

    def test_a_file_is_made_by_one_worker_only(self):
        same = FinishedFile.objects.get(pk=self.file.pk)
        self.assertTrue(self.file.begin())
        self.assertFalse(same.begin())

    def test_progress_shows_share_and_stage(self):
        self.file.begin()
        FinishedFile.objects.filter(pk=self.file.pk).tell_progress("Levelling and encoding", 0.4)
        page = self.client.get(f"/deliveries/{self.delivery.pk}/progress/")
        self.assertContains(page, "Levelling and encoding")
        self.assertContains(page, 'data-title="40 % ·')
        self.assertContains(page, 'aria-valuenow="40"')
        self.delivery.cancel()
        self.assertTrue(FinishedFile.objects.filter(pk=self.file.pk).tell_progress("Levelling and encoding", 0.5))

    def test_a_page_that_shows_a_file_as_being_made_goes_on_looking(self):
        self.file.begin()
        asked = []

        def it_ends_after_the_files_were_read(execute, sql, *rest):
            if asked == ["files"]:
                asked.append("ended")
                FinishedFile.objects.filter(pk=self.file.pk).update(state="passes")
            elif not asked and sql.startswith("SELECT") and 'FROM "deliveries_finishedfile"' in sql:
                asked.append("files")
            return execute(sql, *rest)

        with connection.execute_wrapper(it_ends_after_the_files_were_read):
            page = self.client.get(f"/deliveries/{self.delivery.pk}/progress/").content.decode()
        self.assertEqual(asked, ["files", "ended"])
        self.assertIn('data-running="yes"', page)

    def test_a_lost_cache_is_worked_out_again(self):
        for path in (self.folder / "data" / "cache").rglob("*"):
            if path.is_file():
                path.unlink()
        self.work()
        self.file.refresh_from_db()
        self.assertIn(self.file.state, FinishedFile.MADE)
