"""Deleting, the bin, and what takes the room."""

from datetime import timedelta
from unittest import mock

from django.utils import timezone

from mastering.errors import MasteringError
from mastering.outlets.rulesheets import shipped
from mastering.pipeline import make_all
from mastering.tests.signals import speech, written
from sermovox.bins import contents
from sermovox.deliveries.models import Delivery, FinishedFile
from sermovox.deliveries.runs import start_run
from sermovox.productions.models import Production
from sermovox.recordings.models import Recording
from sermovox.ui.tests.base import AppTestCase
from sermovox.work.recovery import look_after

STORAGE = "/recordings/storage/"


class Deleting(AppTestCase):
    def prepare(self):
        super().prepare()
        self.section = self.bring_in(speech(seconds=4))
        self.bring_in(speech(seconds=4, seed=2), name="two.wav")
        (self.delivery,) = start_run(self.production, [shipped()["podcast-host"]], [self.section])
        self.work()
        self.file = self.delivery.files.get()

    def delete(self, *keys: str, **values):
        return self.client.post(f"{STORAGE}delete/", {"chosen": keys, "back": STORAGE} | values, follow=True)

    def bin(self, deed: str, *keys: str, **values):
        return self.client.post(f"{STORAGE}bin/{deed}/", {"chosen": keys} | values, follow=True)

    def test_sizes_and_uses_are_said_before_many_go_at_once_and_all_come_back(self):
        keys = [f"recording-{pk}" for pk in self.production.recordings.values_list("pk", flat=True)]
        asked = self.delete(*keys)
        self.assertContains(asked, '<h1 class="text-break">Delete these 2?</h1>', html=True)
        self.assertContains(asked, "1 finished file was made from it and stays")
        self.assertEqual(self.production.recordings.count(), 2, "nothing is done yet")
        self.assertContains(self.delete(*keys, sure="yes"), "2 are deleted")
        self.assertEqual(self.production.recordings.count(), 0)
        page = self.client.get(f"{STORAGE}bin/")
        self.assertContains(page, "two.wav")
        self.assertContains(self.bin("take-back", *keys), "2 are back")
        self.assertEqual({each.state for each in self.production.recordings.all()}, {"ready"})
        self.work()
        self.assertEqual(self.client.get(f"/cutting/{self.section.recording_id}/").status_code, 200)

    def test_whichever_of_two_windows_comes_second_finds_how_it_is_by_then(self):
        run = {"existing": {"podcast-host": "replace"}, "again": True}
        start_run(self.production, [shipped()["podcast-host"]], [self.section], **run)
        self.work()
        recording = self.section.recording
        keys = (
            f"file-{self.file.pk} recording-{recording.pk} delivery-{self.delivery.pk} production-{self.production.pk}"
        )
        for key in keys.split():
            with self.subTest(key):
                for row in contents.chosen(self.narrator, [key], binned=False):
                    row.put_away()
                here, elsewhere = (contents.chosen(self.narrator, [key], binned=True)[0] for _ in range(2))
                here.take_back()
                elsewhere.empty_bin()
                there = [file.is_there for file in FinishedFile.objects.kept()]
                self.assertTrue(all(there) and recording.path.exists(), "what was taken back stays")
                if key.startswith("file"):
                    self.file.put_in_bin()
                for row in contents.chosen(self.narrator, [key], binned=False):
                    row.put_away()
                here, elsewhere = (contents.chosen(self.narrator, [key], binned=True)[0] for _ in range(2))
                here.empty_bin()
                with self.assertRaisesMessage(MasteringError, "no longer in the bin"):
                    elsewhere.take_back()
                if key.startswith("file"):
                    self.file.refresh_from_db()
                    self.assertFalse(self.file in FinishedFile.objects.standing(), "it has no bytes to stand with")
                    FinishedFile.objects.filter(pk=self.file.pk).update(replaced_at=None)
                    self.file.path.parent.mkdir()
                    self.file.path.write_bytes(b"sound")
                if key.startswith("recording"):
                    recording.path.write_bytes(b"sound")

    def test_a_delivery_goes_with_its_names_and_comes_back_unless_they_are_taken(self):
        self.delete(f"delivery-{self.delivery.pk}", sure="yes")
        self.assertFalse(FinishedFile.objects.standing().exists())
        self.assertEqual(self.client.get(self.delivery.get_absolute_url()).status_code, 404)
        self.assertEqual(self.client.get(f"/deliveries/files/{self.file.pk}/download/").status_code, 404)
        self.assertNotContains(self.client.get("/deliveries/"), "Podcast host")
        (again,) = start_run(self.production, [shipped()["podcast-host"]], [self.section])
        self.work()
        self.assertEqual(again.files.get().name, self.file.name, "its name is free")
        self.assertContains(self.bin("take-back", f"delivery-{self.delivery.pk}"), "There is another file called")
        self.delete(f"delivery-{again.pk}", sure="yes")
        self.assertContains(self.bin("take-back", f"delivery-{self.delivery.pk}"), "is back")
        self.assertEqual(FinishedFile.objects.standing().get(), self.file)

    def test_only_what_can_be_deleted_by_itself_is(self):
        for sure in ({}, {"sure": "yes"}):
            self.assertContains(self.delete(f"file-{self.file.pk}", **sure), "Choose what is to be deleted")
        self.assertTrue(FinishedFile.objects.get(pk=self.file.pk).is_there)

    def test_deleting_a_run_that_goes_on_stops_it_and_replaces_nothing(self):
        run = {"existing": {"podcast-host": "replace"}, "again": True}
        (again,) = start_run(self.production, [shipped()["podcast-host"]], [self.section], **run)
        self.assertTrue(again.files.get().begin())
        made = again.files.get()
        self.assertContains(self.delete(f"delivery-{again.pk}"), "what is not made yet of it is not made")
        self.delete(f"delivery-{again.pk}", sure="yes")
        self.assertTrue(FinishedFile.objects.filter(pk=made.pk).tell_progress("", 0.5), "it is told to stop")
        self.file.refresh_from_db()
        self.assertIsNone(self.file.replaced_at)

    def test_one_deleted_just_before_it_is_done_takes_nobodys_place(self):
        run = {"existing": {"podcast-host": "replace"}, "again": True}
        (again,) = start_run(self.production, [shipped()["podcast-host"]], [self.section], **run)

        def deleted_meanwhile(*args, **kwargs):
            made = make_all(*args, **kwargs)
            Delivery.objects.get(pk=again.pk).put_away()
            return made

        with mock.patch("sermovox.deliveries.tasks.make_all", deleted_meanwhile):
            self.work()
        self.assertTrue(again.files.get().is_made)
        self.file.refresh_from_db()
        self.assertIsNone(self.file.replaced_at)

    def test_a_whole_production_goes_and_comes_back(self):
        pages = [
            self.production.get_absolute_url(),
            self.section.get_absolute_url(),
            self.section.recording.get_absolute_url(),
            f"/cutting/{self.section.recording_id}/",
            f"/cutting/sections/{self.section.pk}/",
            f"/levels/sections/{self.section.pk}/",
            self.delivery.get_absolute_url(),
            self.file.get_absolute_url(),
        ]
        key = f"production-{self.production.pk}"
        self.assertContains(self.delete(key), "2 recordings, 1 delivery")
        self.assertContains(self.delete(key, sure="yes"), "is deleted")
        for page in pages:
            self.assertEqual(self.client.get(page).status_code, 404, page)
        self.assertNotContains(self.client.get("/"), "/productions/1/")
        other = Production.objects.create(owner=self.narrator, title=self.production.title)
        self.assertNotEqual(other.key, self.production.key, "its key is kept for it")
        self.bin("take-back", key)
        for page in pages:
            self.assertEqual(self.client.get(page).status_code, 200, page)

    def test_the_bin_is_emptied_when_asked_and_after_its_days(self):
        first, second = self.production.recordings.order_by("pk")
        self.delete(f"recording-{first.pk}", f"recording-{second.pk}", sure="yes")
        asked = self.bin("empty", f"recording-{first.pk}")
        self.assertContains(asked, "for good?")
        self.assertTrue(first.path.exists())
        self.bin("empty", f"recording-{first.pk}", sure="yes")
        self.assertFalse(first.path.exists())
        self.assertTrue(second.path.exists())
        Recording.with_deleted.update(binned_at=timezone.now() - timedelta(days=31))
        look_after()
        self.assertFalse(second.path.exists())
        self.assertEqual(contents.bin_of(self.narrator), [])
        self.assertContains(self.bin("take-back", f"recording-{first.pk}"), "Choose what is to be taken back")

    def test_bytes_that_another_production_has_stay_when_the_bin_is_emptied(self):
        other = Production.objects.create(owner=self.narrator, title="Other")
        self.upload(self.folder / "take.wav", production=other)
        recording = self.section.recording
        self.delete(f"recording-{recording.pk}", sure="yes")
        self.bin("empty", "", all="yes", sure="yes")
        self.assertTrue(recording.path.exists())
        self.work()
        self.assertEqual(other.recordings.get().state, "ready")

    def test_nobody_sees_or_empties_what_is_somebody_elses(self):
        from django.contrib.auth import get_user_model

        self.delete(f"recording-{self.section.recording_id}", sure="yes")
        self.client.force_login(get_user_model().objects.create_user("other"))
        self.assertContains(self.client.get(f"{STORAGE}bin/"), "The bin is empty")
        for deed in ("take-back", "empty"):
            self.bin(deed, f"recording-{self.section.recording_id}", all="yes", sure="yes")
        self.delete(f"production-{self.production.pk}", f"delivery-{self.delivery.pk}", sure="yes")
        self.assertTrue(Recording.with_deleted.get(pk=self.section.recording_id).binned_at)
        self.assertFalse(Production.objects.get().deleted_at or Delivery.objects.get().deleted_at)
        self.assertContains(self.client.get(STORAGE), "Productions of others")
        self.assertEqual(self.client.get(f"{STORAGE}of/{self.production.pk}/").status_code, 404)

    def test_what_takes_the_room_is_drawn_the_largest_first(self):
        other = Production.objects.create(owner=self.narrator, title="Larger")
        self.upload(written(self.folder, speech(seconds=20, seed=3), name="long.wav"), production=other)
        page = self.client.get(STORAGE)
        found = page.context["holdings"]
        self.assertEqual([each.production for each in found], [other, self.production])
        whole = sum(each.size_bytes for each in self.production.recordings.all())
        self.assertEqual(found[1].recordings_bytes, whole)
        self.assertEqual(found[1].finished_bytes, self.file.path.stat().st_size)
        self.delete(f"recording-{self.section.recording_id}", sure="yes")
        after = next(each for each in contents.holdings(self.narrator) if each.production == self.production)
        self.assertEqual(after.recordings_bytes + after.binned_bytes, whole)
        listed = self.client.get(f"{STORAGE}of/{self.production.pk}/")
        self.assertContains(listed, "two.wav")
        self.assertContains(listed, "Podcast host")
