"""What came in is safe: hashes held, caches judged, names and tags by one row, a full disk, backups, fair queues."""

import hashlib
import io
import shutil
import sqlite3
import subprocess
import threading
import zipfile
from datetime import UTC, datetime, time
from pathlib import Path
from unittest import mock, skipUnless

import numpy as np
import soundfile
from django.contrib.auth import get_user_model
from django.db import OperationalError, connection
from django_tasks_db.models import DBTaskResult
from PIL import Image

from mastering.errors import MasteringError
from mastering.outlets.rulesheets import shipped
from mastering.tagging.carried import read_carried
from mastering.tests.signals import speech, written
from sermovox.deliveries import retagging
from sermovox.deliveries.models import Delivery, FinishedFile
from sermovox.deliveries.runs import run_again, start_run
from sermovox.deliveries.verification import verify_files
from sermovox.keeping import apart, backups, caches, room, storage
from sermovox.productions.models import Production
from sermovox.recordings.intake import take_in
from sermovox.recordings.models import Recording
from sermovox.recordings.verification import verify
from sermovox.ui.tests.base import AppTestCase
from sermovox.work.recovery import clear_away, look_after


class Delivered(AppTestCase):
    def prepare(self):
        super().prepare()
        self.sections = [self.bring_in(speech(seconds=4, seed=seed), name=f"{seed}.wav") for seed in (1, 2)]
        (self.delivery,) = start_run(self.production, [shipped()["podcast-host"]], self.sections)
        self.work()
        self.files = list(self.delivery.files.all())


class OneRow(Delivered):
    """Whatever is killed between a byte and a row: the row says what is."""

    def test_names_are_changed_without_a_byte_being_moved(self):
        paths = [file.path for file in self.files]
        names = [file.name for file in self.files]
        self.delivery.rename([(names[0], names[1]), (names[1], names[0])])
        now = list(self.delivery.files.all())
        self.assertEqual(([file.name for file in now], [file.path for file in now]), (names[::-1], paths))

    def test_a_kill_while_tags_are_written_leaves_the_file_that_was_checked(self):
        self.production.author = "Ada Fenn"
        self.production.save()
        with (
            mock.patch.object(FinishedFile, "save", side_effect=KeyboardInterrupt),
            self.assertRaises(KeyboardInterrupt),
        ):
            retagging.write(self.delivery, {self.files[0].pk})
        self.assertEqual([state for _, state in verify_files()], ["whole", "whole"])
        retagging.write(self.delivery, {self.files[0].pk})
        file = FinishedFile.objects.get(pk=self.files[0].pk)
        self.assertEqual(read_carried(file.path).tags["composer"], "Ada Fenn")
        self.assertEqual({path.name for path in file.folder.iterdir()}, {file.stored_as, "waveform", "waveform.sum"})

    def test_what_no_row_names_is_cleared_away_once_it_is_old(self):
        stray = [
            self.files[0].folder / "left.mp3",
            storage.finished(999, 1) / "sound.mp3",
            storage.stored("ab" * 32),
            storage.incoming() / "left",
            storage.cached("cd" * 32, "waveform").with_name(f"x.{'0' * 32}"),
        ]
        for path in stray:
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(b"left")
        clear_away()
        self.assertTrue(all(path.exists() for path in stray), "somebody may be writing it")
        with mock.patch("sermovox.work.recovery.time.time", return_value=2e9):
            clear_away()
        self.assertFalse([path for path in stray if path.exists()])
        self.assertEqual([state for _, state in verify_files()] + [each.state for each in verify()], ["whole"] * 4)

    def test_pages_and_archive_give_the_rest_where_a_file_is_missing_or_damaged(self):
        gone, damaged = self.files
        gone.path.unlink()
        damaged.path.write_bytes(damaged.path.read_bytes()[:-100])
        at = f"/deliveries/{self.delivery.pk}/"
        for page in ("", "tags/", "progress/", "manifest.csv", "check-sheets.html", "check-sheets.pdf", "cover.jpg"):
            self.assertEqual(self.client.get(at + page).status_code, 200, page)
        self.assertContains(self.client.get(at), "its file is gone")
        self.assertContains(self.client.get(f"{at}tags/"), "no longer there")
        archive = zipfile.ZipFile(io.BytesIO(b"".join(self.client.get(f"{at}files.zip"))))
        said = archive.read("read first.txt").decode()
        self.assertIn(f"{gone.name} ({gone.title}): its file is gone", said)
        self.assertIn(f"{damaged.name} ({damaged.title}) is damaged", said)
        self.assertEqual(self.client.get(f"/deliveries/current/{self.production.pk}/podcast-host/").status_code, 200)

    def test_a_file_that_goes_while_the_archive_is_sent_is_named(self):
        answer = iter(self.client.get(f"/deliveries/{self.delivery.pk}/files.zip"))
        self.files[1].path.unlink()
        archive = zipfile.ZipFile(io.BytesIO(b"".join(answer)))
        self.assertIn(self.files[1].name, archive.read("read first.txt").decode())


class OneHash(AppTestCase):
    def test_deleting_waits_while_the_same_bytes_are_being_kept_for_somebody_else(self):
        path = written(self.folder, speech(seconds=3))
        first = take_in(self.production, path).recording
        other = Production.objects.create(owner=get_user_model().objects.create_user("other"), title="Other")
        hashed, go_on = threading.Event(), threading.Event()
        looked_at = storage.state_of

        def slowly(sha256):
            state = looked_at(sha256)
            hashed.set()
            go_on.wait(10)
            return state

        def emptied():
            hashed.wait(10)
            threading.Timer(0.3, go_on.set).start()
            first.put_away()
            first.empty_bin()
            connection.close()

        deleting = threading.Thread(target=emptied)
        deleting.start()
        with mock.patch.object(storage, "state_of", slowly):
            second = take_in(other, path).recording
        deleting.join()
        self.assertEqual(second.path.read_bytes(), path.read_bytes())

    def test_a_server_that_dies_while_taking_in_loses_nothing(self):
        data = written(self.folder, speech(seconds=3)).read_bytes()
        begun = self.begin_upload("take.wav", len(data))["Location"]
        killed = {"side_effect": KeyboardInterrupt}
        with mock.patch("sermovox.recordings.intake._kept", **killed), self.assertRaises(KeyboardInterrupt):
            self.send(begun, data, 0)
        with mock.patch("sermovox.recordings.intake.queue_measuring", **killed), self.assertRaises(KeyboardInterrupt):
            self.client.get(begun)
        self.assertEqual(Recording.objects.get().state, "measuring")
        look_after()
        self.work()
        self.assertEqual(self.client.get(begun).json()["state"], "here")
        self.assertEqual(Recording.objects.get().state, "ready")


class Caches(Delivered):
    def test_whatever_becomes_of_a_cache_no_page_fails_and_all_is_made_anew(self):
        recording = self.sections[0].recording
        addresses = [
            f"/levels/{self.production.pk}/?outlet=podcast-host",
            f"/levels/sections/{self.sections[0].pk}/?outlet=podcast-host",
            f"/cutting/{recording.pk}/",
            f"/cutting/{recording.pk}/pauses/",
            f"/recordings/{recording.pk}/waveform/?columns=50",
            f"/deliveries/files/{self.files[0].pk}/waveform/?columns=50",
            f"/productions/{self.production.pk}/artwork/?for=podcast-host",
            f"/cutting/{recording.pk}/retakes/",
        ]
        before = self.answers(addresses)
        for spoil in (lambda data: b"", lambda data: data[: len(data) // 2], lambda data: b"{" + data[1:], flipped):
            kept = [path for path in (self.folder / "data" / "cache").rglob("*") if path.is_file()]
            kept += (self.folder / "data" / "deliveries").rglob("waveform*")
            self.assertGreater(len(kept), 10)
            for path in kept:
                path.write_bytes(spoil(path.read_bytes()))
            for address in addresses:
                self.assertIn(self.client.get(address).status_code, (200, 202, 422), address)
            self.assertEqual(self.answers(addresses), before)
            run = {"existing": {"podcast-host": "keep-both"}, "again": True}
            (again,) = start_run(self.production, [shipped()["podcast-host"]], self.sections[:1], **run)
            self.work()
            made = again.files.get()
            self.assertTrue(made.is_made, made.refusal)
            self.assertEqual(made.path.read_bytes(), self.files[0].path.read_bytes())

    def answers(self, addresses: list[str]) -> list[bytes]:
        """What they answer once everything is worked out."""
        for _ in range(3):
            for address in addresses:
                self.client.get(address)
            self.work()
        drawn = [self.client.get(address) for address in addresses[3:]]
        self.assertEqual([answer.status_code for answer in drawn], [200] * len(drawn))
        return [answer.content for answer in drawn]

    def test_a_copy_to_listen_to_that_is_spoilt_is_not_played(self):
        section = self.bring_in(name="apple.aiff")
        copy = storage.cached(section.recording.sha256, "preview.flac")
        self.assertEqual(storage.heard(section.recording.sha256), copy)
        copy.write_bytes(flipped(copy.read_bytes()))
        self.assertEqual(storage.heard(section.recording.sha256), section.recording.path)
        self.assertFalse(caches.is_kept(copy))


def flipped(data: bytes) -> bytes:
    """One bit changed in the middle."""
    middle = len(data) // 2
    return data[:middle] + bytes([data[middle] ^ 1]) + data[middle + 1 :] if data else b""


def _mounts() -> bool:
    return shutil.which("mount") is not None and hasattr(shutil.os, "geteuid") and shutil.os.geteuid() == 0


class Room(AppTestCase):
    def test_announced_sizes_are_held_against_what_is_free(self):
        with mock.patch(
            "sermovox.keeping.room.shutil.disk_usage", return_value=mock.Mock(free=2_000_000_000, total=4_000_000_000)
        ):
            free = room.left_bytes()
            self.assertEqual(self.begin_upload("one.wav", int(free * 0.9)).status_code, 201)
            refused = self.begin_upload("two.wav", int(free * 0.9))
            self.assertContains(refused, "disk is full. Free some space", status_code=507)
            self.assertEqual(self.begin_upload("three.wav", int(free * 0.05)).status_code, 201)

    def test_what_cannot_be_written_is_said(self):
        self.client.raise_request_exception = False
        for words, status in (("database or disk is full", 507), ("database is locked", 503)):
            with mock.patch(
                "django.contrib.sessions.backends.db.SessionStore.save", side_effect=OperationalError(words)
            ):
                answer = self.client.post("/account/sign-in/", {"username": "narrator", "password": "x"})
                if answer.status_code == 200:
                    get_user_model().objects.get(username="narrator").set_password("x")
            with mock.patch("sermovox.board.forms.NewForm.save", side_effect=OperationalError(words)):
                answer = self.client.post("/productions/new/", {"title": "x"})
            self.assertEqual(answer.status_code, status)
        self.assertContains(answer, "try once more", status_code=503)

    @skipUnless(_mounts(), "this machine mounts no small disk")
    def test_every_screen_works_with_no_byte_free(self):
        small = self.folder / "small"
        small.mkdir()
        mounted = subprocess.run(["mount", "-t", "tmpfs", "-o", "size=60m", "tmpfs", str(small)], capture_output=True)
        if mounted.returncode:
            self.skipTest("this machine mounts no small disk")
        self.addCleanup(subprocess.run, ["umount", "-l", str(small)])
        with self.settings(DATA_DIR=small / "data"):
            (small / "data").mkdir()
            section = self.bring_in(speech(seconds=3))
            (delivery,) = start_run(self.production, [shipped()["podcast-host"]], [section])
            self.work()
            room.keep_reserve()
            self.assertEqual(room.reserve().stat().st_size, 3 << 20)
            begun = self.begin_upload("late.wav", 5 << 20)["Location"]
            fill(small / "filler")
            self.assertEqual(shutil.disk_usage(small).free, 0)
            sent = self.send(begun, bytes(5 << 20), 0)
            self.assertContains(sent, "disk is full", status_code=507)
            self.assertFalse(room.reserve().exists(), "it was let go")
            fill(small / "filler two")
            for address in ("/", f"/productions/{self.production.pk}/", f"/levels/{self.production.pk}/",
                            "/recordings/storage/", f"/cutting/{section.recording_id}/", delivery.get_absolute_url(),
                            section.recording.get_absolute_url(), "/outlets/", "/recordings/storage/bin/",
                            f"/deliveries/{delivery.pk}/files.zip"):  # fmt: skip
                self.assertEqual(self.client.get(address).status_code, 200, address)
            self.assertContains(self.client.get("/recordings/storage/"), "used up")
            (again,) = start_run(self.production, [shipped()["podcast-host"]], [section], again=True)
            self.work()
            self.assertIn("disk is full", again.files.get().refusal)
            (small / "filler").unlink()
            (small / "filler two").unlink()
            look_after()
            self.assertTrue(room.reserve().exists())
            run_again(again)
            self.work()
            self.assertTrue(again.files.get().is_made)


def fill(path: Path) -> None:
    """Take every byte that is left."""
    for size in (1 << 16, 1):
        try:
            with path.open("ab", buffering=0) as file:
                while file.write(bytes(size)):
                    pass
        except OSError:
            continue


class Backups(Delivered):
    def setUp(self):
        super().setUp()
        self.at = self.folder / "backups"
        name = self.folder / "data" / "sermovox.sqlite3"
        self.enterContext(mock.patch.object(backups, "_copy_database", self.copied))
        self.database = name

    def copied(self, target: Path) -> None:
        """The tests' database, which lies in memory, as a file."""
        with sqlite3.connect(target) as theirs:
            connection.ensure_connection()
            connection.connection.backup(theirs)
        theirs.close()

    def test_only_what_is_new_is_copied_and_what_only_old_ones_had_goes(self):
        first = backups.back_up(self.at)
        self.assertEqual((first.files, first.wrong), (5, ()))
        second = backups.back_up(self.at)
        self.assertEqual(second.copied_bytes, 0)
        self.assertEqual({state for _, state in backups.verify(self.at)}, {"whole"})
        Delivery.objects.get().delete()
        with mock.patch.object(backups, "datetime", wraps=datetime) as clock:
            clock.now.return_value = datetime(2031, 5, 5, tzinfo=UTC)
            third = backups.back_up(self.at, keep=1)
        self.assertEqual((third.files, backups.copies_in(self.at)), (3, [third.copy]))
        self.assertEqual(len([path for path in (self.at / "objects").rglob("*") if path.is_file()]), 3)

    def test_what_is_brought_back_is_proven_and_what_is_damaged_is_said(self):
        made = backups.back_up(self.at)
        with self.assertRaisesRegex(MasteringError, "There is an installation"):
            self.database.touch()
            backups.bring_back(self.at)
        with self.settings(DATA_DIR=self.folder / "other"):
            (self.folder / "other").mkdir()
            back = backups.bring_back(self.at)
            self.assertEqual((back.copy, back.files, back.wrong), (made.copy, 5, ()))
            self.assertEqual([each.state for each in verify()], ["whole", "whole"])
            self.assertEqual([state for _, state in verify_files()], ["whole", "whole"])
            self.assertTrue((self.folder / "other" / "sermovox.sqlite3").exists())
        sha256 = self.sections[0].recording.sha256
        (self.at / "objects" / sha256[:2] / sha256).write_bytes(b"RIFF")
        self.assertIn(("Recording 1.wav", "damaged"), list(backups.verify(self.at)))
        with self.settings(DATA_DIR=self.folder / "third"):
            (self.folder / "third").mkdir()
            self.assertEqual(backups.bring_back(self.at).wrong, ("Recording 1.wav is missing.",))
        self.assertEqual(backups.back_up(self.at).wrong, (), "the next one copies it anew")
        self.assertEqual({state for _, state in backups.verify(self.at)}, {"whole"})

    def test_what_is_damaged_here_does_not_get_into_a_backup(self):
        path = self.sections[0].recording.path
        path.chmod(0o644)
        path.write_bytes(b"RIFF")
        self.assertEqual(backups.back_up(self.at).wrong, ("Recording 1.wav is damaged.",))
        with self.assertRaisesRegex(MasteringError, "does not lie in the folder"):
            backups.back_up(self.folder / "data" / "inside")

    def test_nothing_goes_while_all_is_copied_and_goes_afterwards(self):
        recording = self.sections[0].recording
        with storage.copying():
            recording.put_away()
            recording.empty_bin()
            self.assertTrue(recording.path.exists())
        with mock.patch("sermovox.work.recovery.time.time", return_value=2e9):
            clear_away()
        self.assertFalse(recording.path.exists())

    def test_the_nightly_one_is_due_once_after_its_time(self):
        with self.settings(BACKUPS_DIR=self.at, BACKUP_AT=time(3)):
            now = datetime.now(UTC)
            self.assertTrue(backups.is_due(now))
            backups.back_up(self.at)
            self.assertFalse(backups.is_due(now))
            self.assertTrue(backups.is_due(now.replace(year=now.year + 1, hour=3, minute=1)))
            with mock.patch.object(backups.subprocess, "Popen") as begun:
                backups.make_nightly()
                self.assertFalse(begun.called)
                self.client.get("/recordings/storage/")


class Fairness(AppTestCase):
    def test_short_work_is_queued_apart_and_people_take_turns(self):
        for seed in range(3):
            self.upload(written(self.folder, speech(seconds=3, seed=seed), name=f"{seed}.wav"))
        other = get_user_model().objects.create_user("other")
        theirs = Production.objects.create(owner=other, title="Theirs")
        take_in(theirs, written(self.folder, speech(seconds=3, seed=9), name="theirs.wav"))
        queued = [
            (task.args_kwargs["args"][0], task.queue_name, task.priority) for task in DBTaskResult.objects.ready()
        ]
        keys = [key for key, _, _ in queued]
        self.assertEqual({name for _, name, _ in queued}, {"short"})
        self.assertLess(keys.index(theirs.recordings.get().pk), 2, "before all but the first of the others")

    def test_a_small_file_of_many_hours_is_long_or_refused(self):
        path = self.folder / "silence.flac"
        soundfile.write(path, np.zeros((192_000 * 12, 8), np.int16), 192_000)
        self.assertEqual(self.upload(path)["state"], "here")
        with self.settings(MOST_SAMPLES=10_000_000):
            outcome = self.upload(path, production=Production.objects.create(owner=self.narrator, title="Other"))
            self.assertEqual(outcome["state"], "refused")
            self.assertIn("longer than 0:06, the most this server measures of 8 channels", outcome["said"])
        with mock.patch("sermovox.keeping.limits._SHORT_SAMPLES", 10_000_000):
            DBTaskResult.objects.all().delete()
            look_after()
            self.assertEqual(DBTaskResult.objects.ready().get().queue_name, "default")

    def test_large_pictures_and_documents_are_opened_apart_within_limits(self):
        large = io.BytesIO()
        Image.new("RGB", (2400, 2400), "white").save(large, "JPEG")
        self.assertEqual(apart.picture_facts(large.getvalue()).width_px, 2400)
        self.assertEqual(Image.open(io.BytesIO(apart.chapter_picture(large.getvalue()))).width, 600)
        little = mock.patch.object(apart, "_LIMITS", {"memory_bytes": 60 << 20, "cpu_s": 20})
        with little, self.assertRaisesRegex(MasteringError, "more memory or time than any picture should"):
            apart.chapter_picture(large.getvalue() + b" ")
        document = io.BytesIO()
        with zipfile.ZipFile(document, "w") as archive:
            words = [hashlib.sha256(str(number).encode()).hexdigest() for number in range(40_000)]
            archive.writestr("word/document.xml", " ".join(words))
        with self.assertRaisesRegex(MasteringError, "damaged or not what its name says"):
            apart.document_text(document.getvalue())
