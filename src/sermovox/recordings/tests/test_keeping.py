"""Originals against their hashes, what can be freed, and the watched folder."""

import errno
import os
import time
from datetime import timedelta
from unittest import mock

from django.db import OperationalError
from django.utils import timezone

from mastering.errors import UnreadableRecording
from mastering.tests.signals import speech, written
from sermovox.keeping import storage
from sermovox.productions.models import Production
from sermovox.recordings.intake import take_in
from sermovox.recordings.models import Recording, WatchedFile
from sermovox.recordings.tasks import draw_recording
from sermovox.recordings.verification import verify
from sermovox.running.watcher import Watcher
from sermovox.ui.tests.base import AppTestCase
from sermovox.work.queue import is_queued
from sermovox.work.recovery import look_after


class Verifying(AppTestCase):
    def test_one_changed_bit_and_a_lost_file_are_found_and_mended_by_bringing_them_in_again(self):
        kept = [self.bring_in(speech(seconds=3, seed=n), name=f"{n}.wav").recording for n in (1, 2, 3)]
        self.assertEqual([checked.state for checked in verify()], ["whole"] * 3)
        kept[0].path.chmod(0o644)
        data = bytearray(kept[0].path.read_bytes())
        data[-1] ^= 1
        kept[0].path.write_bytes(data)
        kept[1].path.unlink()
        states = {checked.sha256: checked.state for checked in verify()}
        self.assertEqual([states[recording.sha256] for recording in kept], ["damaged", "missing", "whole"])
        self.assertIn("1.wav in Salt and Cedar", [name for checked in verify() for name in checked.names])
        for number in (1, 2):
            self.upload(self.folder / f"{number}.wav")
        self.assertEqual([checked.state for checked in verify()], ["whole"] * 3)
        self.assertEqual(self.production.recordings.count(), 3)


class Storage(AppTestCase):
    def test_what_is_freed_comes_again_and_nothing_else_goes(self):
        section = self.bring_in(name="apple.aiff")
        recording = section.recording
        waveform = f"/recordings/{recording.pk}/waveform/?columns=300"
        drawn, slip = self.client.get(waveform).content, recording.figures
        audio = b"".join(self.client.get(f"/recordings/{recording.pk}/audio/").streaming_content)
        page = self.client.get("/recordings/storage/")
        self.assertContains(page, "Free ")
        self.assertGreater(storage.in_use().cache_bytes, 0)
        self.assertContains(self.client.post("/recordings/storage/free/", follow=True), "are free again")
        self.assertEqual(storage.in_use().cache_bytes, 0)
        self.assertEqual(next(verify()).state, "whole")
        answer = self.client.get(waveform)
        self.assertEqual((answer.status_code, answer["Retry-After"]), (202, "1"))
        self.client.get(waveform)
        self.work()
        self.assertEqual(self.client.get(waveform).content, drawn)
        self.assertEqual(b"".join(self.client.get(f"/recordings/{recording.pk}/audio/").streaming_content), audio)
        recording.refresh_from_db()
        self.assertEqual((recording.state, recording.figures), ("ready", slip))
        self.client.post("/recordings/storage/free/")
        self.assertContains(self.client.post("/recordings/storage/free/", follow=True), "nothing to free")

    def test_what_is_being_written_is_not_freed(self):
        partial = storage.cached("0" * 64, "waveform").with_name(f"x.waveform.{'0' * 32}")
        partial.write_bytes(b"half")
        storage.free_cache()
        self.assertTrue(partial.exists())
        os.utime(partial, (1, 1))
        storage.free_cache()
        self.assertFalse(partial.exists())

    def test_measuring_that_fails_for_a_reason_outside_waits_and_goes_on(self):
        path = written(self.folder, speech(seconds=3))
        outcome = self.upload(path)
        recording = Recording.objects.get(pk=outcome["recording"])
        reasons = (
            ("room on the server’s disk", OSError(errno.ENOSPC, "full")),
            ("the database, which was busy", OperationalError("database is locked")),
            ("memory", MemoryError()),
            ("the server’s disk", UnreadableRecording("It cannot be read.")),
        )
        reasons[-1][1].__cause__ = OSError(errno.EIO, "broken")
        for number, (words, error) in enumerate(reasons, 1):
            with mock.patch("sermovox.recordings.tasks.measure", side_effect=error), self.assertLogs(level="ERROR"):
                self.work()
            recording.refresh_from_db()
            self.assertEqual((recording.state, recording.starts), ("measuring", number))
            self.assertIn(words, recording.waits_for)
            self.assertEqual(recording.path.read_bytes(), path.read_bytes())
            self.assertEqual([path for path in (self.folder / "data" / "cache").rglob("*") if path.is_file()], [])
            self.assertContains(self.client.get(f"/productions/{self.production.pk}/"), f"waits for {words}")
            look_after()
            self.work()
            recording.refresh_from_db()
            self.assertEqual(recording.state, "measuring", "not at once")
            Recording.objects.update(try_at=timezone.now() - timedelta(seconds=1))
            look_after()
        self.work()
        recording.refresh_from_db()
        self.assertEqual((recording.state, recording.waits_for, recording.starts), ("ready", "", 0))

    def test_a_recording_that_is_still_to_be_measured_is_not_drawn_by_itself(self):
        outcome = self.upload(written(self.folder, speech(seconds=3)))
        waveform = f"/recordings/{outcome['recording']}/waveform/"
        self.assertEqual(self.client.get(waveform).status_code, 202)
        self.assertFalse(is_queued(draw_recording, outcome["recording"]))
        self.work()
        self.assertEqual(self.client.get(waveform).status_code, 200)

    def test_a_page_that_waits_does_not_open_the_recording_each_time_it_looks(self):
        outcome = self.upload(written(self.folder, speech(seconds=3)))
        with mock.patch("sermovox.recordings.tasks.is_short") as opened:
            self.client.get(f"/recordings/{outcome['recording']}/facts/")
        self.assertFalse(opened.called)
        self.work()
        self.client.post("/recordings/storage/free/")
        waveform = f"/recordings/{outcome['recording']}/waveform/"
        self.client.get(waveform)
        with mock.patch("sermovox.recordings.tasks.is_short") as opened:
            self.assertEqual(self.client.get(waveform).status_code, 202)
        self.assertFalse(opened.called)

    def test_what_waits_can_be_measured_now(self):
        outcome = self.upload(written(self.folder, speech(seconds=3)))
        with mock.patch("sermovox.recordings.tasks.measure", side_effect=MemoryError), self.assertLogs(level="ERROR"):
            self.work()
        slip = f"/recordings/{outcome['recording']}/"
        self.assertContains(self.client.get(slip), "Measure it now")
        self.client.post(f"{slip}measure/")
        self.work()
        self.assertEqual(Recording.objects.get().state, "ready")

    def test_what_ends_its_worker_again_and_again_waits_longer_and_is_not_refused(self):
        self.upload(written(self.folder, speech(seconds=3)))
        for _ in range(3):
            self.assertTrue(Recording.objects.get().begin())
        self.assertFalse(Recording.objects.get().begin())
        recording = Recording.objects.get()
        self.assertEqual(recording.state, "measuring")
        self.assertIn("broken off 3 times", recording.waits_for)
        self.assertGreater(recording.try_at, timezone.now() + timedelta(minutes=30))

    def test_what_is_gone_as_a_worker_takes_it_is_not_begun(self):
        self.upload(written(self.folder, speech(seconds=3)))
        taken = Recording.objects.get()
        self.production.delete()
        self.assertFalse(taken.begin())

    def test_measuring_of_what_is_deleted_meanwhile_stops(self):
        outcome = self.upload(written(self.folder, speech(seconds=3)))
        recording = Recording.objects.get(pk=outcome["recording"])
        self.assertFalse(recording.tell_progress(0.1))
        Recording.objects.get(pk=recording.pk).put_away()
        self.assertTrue(recording.tell_progress(0.2))
        self.work()
        self.assertEqual(Recording.with_deleted.get().state, "deleted")
        Recording.with_deleted.get().take_back()
        look_after()
        told = mock.patch.object(Recording, "tell_progress", return_value=True)
        with told, mock.patch("sermovox.recordings.tasks._PROGRESS_EVERY_S", -1.0):
            self.work()
        again = Recording.objects.get()
        self.assertEqual((again.state, again.waveform_path.exists()), ("measuring", False))

    def test_a_stored_file_that_is_damaged_is_no_reason_to_refuse_it(self):
        outcome = self.upload(written(self.folder, speech(seconds=3)))
        recording = Recording.objects.get(pk=outcome["recording"])
        recording.path.chmod(0o644)
        recording.path.write_bytes(b"RIFF")
        self.work()
        recording.refresh_from_db()
        self.assertEqual(recording.state, "measuring")
        self.assertIn("it is damaged on the server’s disk", recording.waits_for)
        self.upload(self.folder / "take.wav")
        recording.try_now()
        look_after()
        self.work()
        recording.refresh_from_db()
        self.assertEqual(recording.state, "ready")

    def test_recordings_used_nowhere_and_duplicates_are_shown(self):
        recording = self.bring_in().recording
        self.assertNotContains(self.client.get(recording.get_absolute_url()), "Used nowhere")
        other = Production.objects.create(owner=self.narrator, title="Second Shelf")
        take_in(other, self.folder / "take.wav", name="the same.wav")
        self.work()
        self.assertContains(self.client.get(recording.get_absolute_url()), "Second Shelf")
        self.production.sections.update(removed=True)
        self.assertContains(self.client.get(recording.get_absolute_url()), "Used nowhere")
        self.assertContains(self.client.get("/recordings/storage/"), "take.wav")


class Watching(AppTestCase):
    def prepare(self):
        super().prepare()
        self.watched = self.folder / "watched"
        self.here = self.watched / self.production.key
        self.here.mkdir(parents=True)

    def test_a_file_is_taken_in_once_it_has_stopped_growing_and_stays_where_it_is(self):
        whole = written(self.folder, speech(seconds=3)).read_bytes()
        path, watcher = self.here / "inner" / "slow.wav", Watcher(self.watched, still_for_s=0.3)
        path.parent.mkdir()
        for share in (0.3, 0.7, 1.0):
            path.write_bytes(whole[: int(len(whole) * share)])
            self.assertEqual(watcher.look(), 0, "still growing")
        time.sleep(0.35)
        self.assertEqual(watcher.look(), 1)
        self.assertEqual(watcher.look(), 0, "each file once")
        self.assertEqual(Watcher(self.watched, still_for_s=0).look(), 0, "also after a restart")
        self.assertEqual(self.production.recordings.get().name, "slow.wav")
        self.assertEqual(path.read_bytes(), whole)

    def test_what_is_no_recording_is_explained_until_it_is_put_away(self):
        (self.here / "notes.wav").write_text("Bring milk.")
        for name in (".hidden.wav", "half.wav.part", "~lock.wav"):
            (self.here / name).write_text("not yet")
        (self.here / "link.wav").symlink_to("/etc/hostname")
        watcher = Watcher(self.watched, still_for_s=0)
        watcher.look()
        watcher.look()
        found = WatchedFile.objects.get()
        page = self.client.get(f"/productions/{self.production.pk}/")
        self.assertContains(page, "Not taken from the watched folder")
        self.assertContains(page, "not a sound file")
        self.assertNotContains(self.client.post(f"/recordings/watched/{found.pk}/put-away/"), "notes.wav")
        self.assertFalse(self.production.recordings.exists())

    def test_a_name_that_is_no_text_does_not_stop_the_others(self):
        sound = written(self.folder, speech(seconds=3)).read_bytes()
        with open(os.fsencode(self.here) + b"/caf\xe9.wav", "wb") as file:
            file.write(sound)
        watcher = Watcher(self.watched, still_for_s=0)
        self.assertEqual((watcher.look(), watcher.look()), (1, 0))
        self.assertEqual(self.production.recordings.get().name, "caf.wav")

    def test_each_production_has_its_folder(self):
        Production.objects.create(owner=self.narrator, title="Übers Meer: Teil 2")
        Watcher(self.watched, still_for_s=0).look()
        self.assertEqual(
            sorted(path.name for path in self.watched.iterdir()), [self.production.key, "ubers-meer-teil-2"]
        )
