"""Uploads by the tus protocol, version 1.0.0: https://tus.io/protocols/resumable-upload, from memory."""

import errno
import hashlib
import os
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from unittest import mock

from django.contrib.auth import get_user_model
from django.db import OperationalError, connection
from django.test import Client
from django.utils import timezone

from mastering.tests.signals import speech, written
from sermovox.keeping import storage
from sermovox.recordings import tus
from sermovox.recordings.models import Upload
from sermovox.ui.tests.base import TUS, AppTestCase
from sermovox.work.recovery import look_after


class Resuming(AppTestCase):
    def prepare(self):
        super().prepare()
        self.data = written(self.folder, speech(seconds=3), name="part one.wav").read_bytes()
        begun = self.begin_upload("part one.wav", len(self.data), modified=1700000000123, batch="b", rank=4)
        self.assertEqual(begun.status_code, 201)
        self.assertEqual(begun["Tus-Resumable"], "1.0.0")
        self.assertIn("Upload-Expires", begun)
        self.address = begun["Location"]

    def offset(self) -> int:
        answer = self.client.head(self.address, headers=TUS)
        self.assertEqual((answer["Cache-Control"], answer["Upload-Length"]), ("no-store", str(len(self.data))))
        return int(answer["Upload-Offset"])

    def test_what_the_server_can_do_is_told(self):
        answer = self.client.options(f"/recordings/uploads/into/{self.production.pk}/")
        self.assertEqual((answer.status_code, answer["Tus-Version"]), (204, "1.0.0"))
        self.assertEqual(answer["Tus-Extension"], "creation,termination,expiration")
        self.assertGreaterEqual(int(answer["Tus-Max-Size"]), 4 << 30)

    def test_it_goes_on_from_where_it_broke_off(self):
        at = 0
        for part in (self.data[:1000], self.data[1000:100_000], self.data[100_000:]):
            self.assertEqual(self.offset(), at)
            answer = self.send(self.address, part, at)
            at += len(part)
            self.assertEqual((answer.status_code, answer["Upload-Offset"]), (204, str(at)))
        outcome = self.client.get(self.address).json()
        self.assertEqual((outcome["state"], outcome["said"]), ("here", ""))
        recording = self.production.recordings.get(pk=outcome["recording"])
        self.assertEqual(recording.sha256, hashlib.sha256(self.data).hexdigest())
        self.assertEqual(recording.path.read_bytes(), self.data)
        self.assertEqual(self.offset(), len(self.data), "asked again, it is whole")
        self.assertEqual(list(storage.incoming().iterdir()), [])

    def test_a_file_that_is_chosen_again_is_found_among_the_unfinished(self):
        self.send(self.address, self.data[:1000], 0)
        (listed,) = self.client.get(f"/recordings/uploads/into/{self.production.pk}/").json()["uploads"]
        self.assertTrue(self.address.endswith(listed["address"]))
        self.assertEqual((listed["name"], listed["size"]), ("part one.wav", len(self.data)))
        self.assertEqual(listed["modified"], 1700000000123)

    def test_parts_repeated_or_out_of_order_change_nothing(self):
        self.assertEqual(self.send(self.address, self.data[:1000], 0).status_code, 204)
        for part, at in ((self.data[:1000], 0), (self.data[5000:6000], 5000), (b"x", 999)):
            answer = self.send(self.address, part, at)
            self.assertEqual((answer.status_code, answer["Upload-Offset"]), (409, "1000"))
        self.send(self.address, self.data[1000:], 1000)
        self.assertEqual(self.send(self.address, b"more", len(self.data)).status_code, 409, "whole is whole")
        self.assertEqual(self.production.recordings.get().path.read_bytes(), self.data)

    def test_what_is_given_up_while_a_part_arrives_is_gone_and_the_part_is_told_so(self):
        flush = tus._flush

        def flushed(file):
            flush(file)
            with ThreadPoolExecutor() as another:
                another.submit(give_up).result()

        def give_up():
            Upload.objects.get().delete()
            connection.close()

        with mock.patch.object(tus, "_flush", flushed), self.assertNoLogs("sermovox.recordings", "ERROR"):
            answer = self.send(self.address, self.data, 0)
        self.assertContains(answer, "given up", status_code=410)
        self.assertEqual((Upload.objects.count(), self.production.recordings.count()), (0, 0))
        self.assertEqual(list(storage.incoming().iterdir()), [])

    def test_longer_than_announced_is_refused_and_nothing_of_it_kept(self):
        self.send(self.address, self.data[:1000], 0)
        answer = self.send(self.address, self.data[1000:] + b"tail", 1000)
        self.assertContains(answer, "longer than what was announced", status_code=400)
        self.assertEqual(self.offset(), 1000)
        self.send(self.address, self.data[1000:], 1000)
        self.assertEqual(self.production.recordings.get().path.read_bytes(), self.data)

    def test_a_disk_that_fills_in_the_middle_is_said_and_what_has_arrived_stays(self):
        self.send(self.address, self.data[:1000], 0)
        with mock.patch("sermovox.recordings.tus.os.fsync", side_effect=OSError(errno.ENOSPC, "full")):
            answer = self.send(self.address, self.data[1000:], 1000)
        self.assertContains(answer, "disk is full. Free some space", status_code=507)
        self.assertEqual(self.offset(), 1000)
        self.assertFalse(self.production.recordings.exists() or self.production.sections.exists())
        self.assertEqual(self.send(self.address, self.data[1000:], 1000).status_code, 204)
        self.assertEqual(self.production.recordings.get().path.read_bytes(), self.data)

    def test_a_database_that_cannot_be_written_is_said_in_words_and_what_has_arrived_stays(self):
        self.send(self.address, self.data[:1000], 0)
        for words, status in (("database or disk is full", 507), ("database is locked", 503)):
            broken = mock.patch.object(Upload, "set_flushed", side_effect=OperationalError(words))
            with broken, self.assertLogs("sermovox.recordings.tus", "ERROR"):
                answer = self.send(self.address, self.data[1000:], 1000)
            self.assertEqual((answer.status_code, answer["Content-Type"][:10]), (status, "text/plain"))
            self.assertEqual(self.offset(), 1000)
        self.assertEqual(self.send(self.address, self.data[1000:], 1000).status_code, 204)

    def test_giving_up_leaves_nothing(self):
        self.send(self.address, self.data[:1000], 0)
        self.assertEqual(self.client.delete(self.address, headers=TUS).status_code, 204)
        self.assertEqual(self.client.head(self.address, headers=TUS).status_code, 404)
        self.assertEqual(list(storage.incoming().iterdir()), [])

    def test_what_nobody_goes_on_with_goes_away(self):
        self.send(self.address, self.data[:1000], 0)
        Upload.objects.update(touched_at=timezone.now() - timedelta(days=60))
        self.begin_upload("another.wav", 10)
        look_after()
        self.assertEqual(Upload.objects.get().name, "another.wav")
        self.assertEqual(len(list(storage.incoming().iterdir())), 1)

    def test_one_that_was_whole_when_the_server_stopped_is_taken_in_afterwards(self):
        upload = Upload.objects.get()
        upload.path.write_bytes(self.data)
        Upload.objects.update(state=Upload.State.FINISHING, flushed_bytes=len(self.data))
        self.assertEqual(self.client.get(self.address).json()["state"], "here")
        self.assertEqual(self.production.recordings.count(), 1)

    def test_broken_off_ones_are_shown_with_how_far_they_are(self):
        self.send(self.address, self.data[: len(self.data) // 2], 0)
        address = f"/productions/{self.production.pk}/"
        self.assertNotContains(self.client.get(address), "Broken off on the way")
        os.utime(Upload.objects.get().path, (1, 1))
        Upload.objects.update(touched_at=timezone.now() - timedelta(minutes=1))
        page = self.client.get(address)
        self.assertContains(page, "Broken off on the way")
        self.assertContains(page, 'aria-valuenow="50"')
        Upload.objects.update(state=Upload.State.FINISHING)
        self.assertNotContains(self.client.get(address), "Broken off on the way")

    def test_requests_that_do_not_keep_to_the_protocol(self):
        into = f"/recordings/uploads/into/{self.production.pk}/"
        for headers, status in (
            ({"Upload-Length": "10"}, 412),
            (TUS, 400),
            (TUS | {"Upload-Length": "-5"}, 400),
            (TUS | {"Upload-Length": "9" * 40}, 400),
            (TUS | {"Upload-Length": "5", "Upload-Metadata": "filename ???"}, 400),
            (TUS | {"Upload-Length": "5", "Upload-Metadata": "filename /w=="}, 400),
            (TUS | {"Upload-Length": str(1 << 45)}, 413),
        ):
            with self.subTest(headers):
                self.assertEqual(self.client.post(into, headers=headers).status_code, status)
        plain = self.client.patch(self.address, b"x", content_type="text/plain", headers=TUS | {"Upload-Offset": "0"})
        self.assertEqual(plain.status_code, 415)
        for offset in ("", "-1", "one"):
            self.assertEqual(self.send(self.address, b"x", offset).status_code, 409)
        self.assertEqual(self.client.put(into).status_code, 405)
        self.assertEqual(self.client.post(self.address, headers=TUS).status_code, 405)
        self.assertEqual(Upload.objects.count(), 1)

    def test_strangers_and_foreign_pages_get_nowhere(self):
        stranger = Client()
        stranger.force_login(get_user_model().objects.create_user("stranger"))
        self.assertEqual(self.begin_upload("a.wav", 5, client=stranger).status_code, 404)
        self.assertEqual(self.send(self.address, b"x", 0, client=stranger).status_code, 404)
        self.assertEqual(stranger.get(self.address).status_code, 404)
        self.assertEqual(stranger.delete(self.address, headers=TUS).status_code, 404)
        strict = Client(enforce_csrf_checks=True)
        strict.force_login(self.narrator)
        self.assertEqual(self.send(self.address, b"x", 0, client=strict).status_code, 403)
        self.assertEqual(self.offset(), 0)

    def test_files_sent_together_stand_in_the_order_of_their_names_however_they_arrive(self):
        for rank, seed in ((2, 12), (0, 10), (1, 11)):
            path = written(self.folder, speech(seconds=3, seed=seed), name=f"take {rank}.wav")
            self.upload(path, batch="together", rank=rank)
        titles = list(self.production.sections.values_list("title", flat=True))
        self.assertEqual(titles, ["take 0", "take 1", "take 2"])
