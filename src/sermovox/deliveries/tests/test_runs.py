"""Several outlets in one run, what is said before it, check sheets to keep, and tags written again."""

import csv
import io
import json
import zipfile

from mastering.clock import clock
from mastering.making.proving import MOST_ATTEMPTS
from mastering.outlets.findings import FAIL
from mastering.outlets.rulesheets import parse, shipped, written
from mastering.tagging.carried import read_carried
from mastering.tagging.writing import sound_sha256
from mastering.tests.signals import picture, speech
from sermovox.cutting.models import Page
from sermovox.deliveries.archive import extras_of
from sermovox.deliveries.bundles import of_run
from sermovox.deliveries.manifest import chapter_files
from sermovox.deliveries.models import Delivery, FinishedFile
from sermovox.keeping import storage
from sermovox.outlets.models import RuleSheet
from sermovox.ui.tests.base import AppTestCase

BOOK = ("audiobook-retail", "single-file-audiobook", "own-masters")


class Runs(AppTestCase):
    def prepare(self):
        super().prepare()
        for name, seed in (("one.wav", 3), ("two.wav", 8)):
            self.bring_in(speech(seconds=6, seed=seed), name=name)
        self.sections = list(self.production.sections.with_pieces())

    def run_for(self, *keys: str, **more) -> list[Delivery]:
        fields = {"outlet": keys, "section": [section.pk for section in self.sections]} | more
        self.answer = self.client.post(f"/deliveries/start/{self.production.pk}/", fields)
        self.work()
        return list(Delivery.objects.order_by("pk"))

    def test_one_run_serves_several_outlets(self):
        deliveries = self.run_for(*BOOK)
        self.assertEqual([delivery.outlet_key for delivery in deliveries], list(BOOK))
        self.assertEqual(len({delivery.run for delivery in deliveries}), 1)
        self.assertRedirects(self.answer, deliveries[0].get_absolute_url())
        self.assertEqual([delivery.files.made().count() for delivery in deliveries], [2, 1, 2])
        page = self.client.get(deliveries[0].get_absolute_url())
        for delivery in deliveries[1:]:
            self.assertContains(page, delivery.get_absolute_url())
        archive = zipfile.ZipFile(
            io.BytesIO(b"".join(self.client.get(f"/deliveries/{deliveries[0].pk}/files.zip?run")))
        )
        names = archive.namelist()
        for name in (
            "audiobook-retail/01-one.mp3",
            "single-file-audiobook/salt-and-cedar.m4b",
            "single-file-audiobook/chapters.txt",
            "own-masters/masters/02-two.wav",
        ):
            self.assertIn(name, names)
        self.production.refresh_from_db()
        self.assertEqual(self.production.last_outlets, list(BOOK))

    def test_files_of_one_section_are_queued_together(self):
        from django_tasks_db.models import DBTaskResult

        fields = {"outlet": ["podcast-host", "own-masters"], "section": [section.pk for section in self.sections]}
        self.client.post(f"/deliveries/start/{self.production.pk}/", fields)
        ready = [task.args_kwargs["args"][0] for task in DBTaskResult.objects.ready() if "make_files" in task.task_path]
        self.assertEqual([len(keys) for keys in ready], [2, 2])

    def test_the_whole_run_is_cancelled_and_run_again(self):
        fields = {"outlet": BOOK, "section": [section.pk for section in self.sections]}
        self.client.post(f"/deliveries/start/{self.production.pk}/", fields)
        delivery = Delivery.objects.order_by("pk").last()
        self.client.post(f"/deliveries/{delivery.pk}/cancel/")
        self.work()
        self.assertEqual(set(FinishedFile.objects.values_list("state", flat=True)), {"cancelled"})
        self.client.post(f"/deliveries/{delivery.pk}/again/")
        self.work()
        self.assertEqual(FinishedFile.objects.made().count(), 5)

    def test_sizes_and_time_are_said_before_anything_is_made(self):
        fields = {"outlet": ["volunteer-archive", "slow-connections"], "look": "yes"}
        fields["section"] = [section.pk for section in self.sections]
        page = self.client.post(f"/deliveries/start/{self.production.pk}/", fields)
        self.assertFalse(Delivery.objects.exists())
        self.assertContains(page, "Before the files are made")
        self.assertContains(page, "01-one.mp3")
        wanted = page.context["proposed"]
        constant, variable = (each.files[0] for each in wanted)
        self.assertEqual(constant.low_bytes, constant.high_bytes)
        self.assertLess(variable.low_bytes, variable.high_bytes)
        self.assertGreater(page.context["whole"].making_s, 0)
        made = self.run_for("volunteer-archive", "slow-connections")
        for delivery, each in zip(made, wanted, strict=True):
            for file, estimate in zip(delivery.files.all(), each.files, strict=True):
                size = file.figures["size_bytes"]
                # A few seconds long, tags weigh much; of an hour they are nothing.
                self.assertGreater(size, estimate.low_bytes * 0.9)
                self.assertLess(size, estimate.high_bytes * 1.05)

    def test_chapters_of_a_joined_book_are_its_sections(self):
        section = self.sections[1]
        section.title, section.link = "The Second: 海", "https://example.org/two"
        section.save()
        (delivery,) = self.run_for("single-file-audiobook")
        found = read_carried(delivery.files.get().path)
        self.assertEqual([chapter.title for chapter in found.chapters], ["one", "The Second: 海"])
        self.assertAlmostEqual(found.chapters[1].start_s, 6.0, delta=0.1)
        self.assertEqual((found.container, found.tags["kind"]), ("m4b", "audiobook"))
        text = self.client.get(f"/deliveries/{delivery.pk}/chapters.txt").content.decode()
        self.assertEqual(text, "0:00 one\n0:06 The Second: 海\n")
        chapters = json.loads(self.client.get(f"/deliveries/{delivery.pk}/chapters.json").content)["chapters"]
        self.assertEqual(chapters[1]["url"], "https://example.org/two")

    def test_a_joined_file_of_some_sections_has_their_chapters_alone_and_keeps_their_places(self):
        self.bring_in(speech(seconds=5, seed=5), name="three.wav")
        self.sections = list(self.production.sections.with_pieces())[1:]
        some = {"some": "yes"}
        picked = storage.keep_picture(picture(side=64))
        self.production.sections.filter(pk=self.sections[1].pk).update(picture=picked, link="https://example.org/3")
        asked = written(shipped()["single-file-audiobook"]).replace('"chapters.txt"', '"chapters.txt", "chapters.json"')
        later = asked + '\n[[rules]]\nname = "head_s"\nat_least = 3\nsource = "a test"\n'
        RuleSheet.change(self.narrator, parse(later), "More room before")
        (delivery,) = self.run_for("single-file-audiobook", **some)
        file = delivery.files.get()
        found = read_carried(file.path).chapters
        self.assertEqual([chapter.title for chapter in found], ["two", "three"])
        self.assertGreater(found[1].start_s, 8, "6 s, and what was put before")
        extras = extras_of(of_run(delivery))
        told = json.loads(extras["chapters.json"])["chapters"]
        self.assertEqual(told[1]["startTime"], round(found[1].start_s, 3))
        self.assertEqual((told[1]["url"], told[1]["img"]), ("https://example.org/3", "chapter-02.jpg"))
        self.assertEqual(extras["chapter-02.jpg"], picture(side=64))
        self.assertIn(f"{clock(found[1].start_s)} three", extras["chapters.txt"].decode())
        # Written again after the order was changed: titles as they are now, places as they are in the sound.
        self.production.sections.filter(pk=self.sections[1].pk).update(title="The Third")
        self.submit(f"/deliveries/{delivery.pk}/tags/", {"file": [file.pk]})
        again = read_carried(delivery.files.get().path).chapters
        self.assertEqual([chapter.title for chapter in again], ["two", "The Third"])
        self.assertEqual([chapter.start_s for chapter in again], [chapter.start_s for chapter in found])
        tags = f"/deliveries/{delivery.pk}/tags/"
        self.assertContains(self.client.get(tags), "All files say what the production says now")
        link = {"link": "https://example.org/4"}
        for changed, told in ((link, "1 with a link, 1 with a picture"), ({"picture": ""}, "0 with a picture")):
            self.production.sections.filter(pk=self.sections[1].pk).update(**changed)
            self.assertContains(self.client.get(tags), told)
            self.submit(tags, {"file": [file.pk]})
            self.assertContains(self.client.get(tags), "All files say what the production says now")

    def test_chapters_come_from_the_marks_of_a_page(self):
        text = written(shipped()["internet-station"])
        asked = parse(text + '\n[[rules]]\nname = "chapters"\nexactly = "from marks"\nsource = "a test"\n')
        RuleSheet.change(self.narrator, asked, "Chapters asked")
        recording = self.sections[0].recording
        page = Page.of(recording)
        page.marks = [{"kind": "point", "start_sample": 88200, "end_sample": 88200, "name": "The bridge", "id": 1}]
        page.save()
        (delivery,) = self.run_for("internet-station")
        found = read_carried(delivery.files.first().path).chapters
        self.assertEqual([(round(c.start_s, 2), c.title) for c in found], [(0, "one"), (2, "The bridge")])
        extras = chapter_files(of_run(delivery), "txt")
        self.assertEqual(extras, {"01-one.chapters.txt": b"0:00 one\n0:02 The bridge\n"})

    def test_what_the_delivery_as_a_whole_lacks_is_said(self):
        (delivery,) = self.run_for("audiobook-retail")
        page = self.client.get(delivery.get_absolute_url())
        self.assertContains(page, "All files together")
        self.assertContains(page, "without opening credits, closing credits")

    def test_check_sheets_are_kept_in_four_ways_with_what_fails_first(self):
        self.production.artwork_sha256 = ""
        self.production.save()
        (delivery,) = self.run_for("podcast-host")
        at = f"/deliveries/{delivery.pk}/check-sheets"
        self.assertContains(self.client.get(f"{at}.html"), "Artwork, each side")
        self.assertTrue(self.client.get(f"{at}.pdf").content.startswith(b"%PDF"))
        rows = list(csv.DictReader(io.StringIO(self.client.get(f"{at}.csv").content.decode())))
        failing = {row["rule"] for row in rows if row["verdict"] == FAIL}
        self.assertEqual(failing, {"Artwork, each side", "Artwork, weight", "Artwork, format"})
        kept = json.loads(self.client.get(f"{at}.json").content)
        self.assertEqual(parse(kept["rules"]), shipped()["podcast-host"])
        self.assertEqual(len(kept["sheets"]), 2)
        self.assertContains(self.client.get(delivery.get_absolute_url()), "What fails most: Artwork")

    def test_tags_follow_the_production_without_touching_the_sound(self):
        (delivery,) = self.run_for("volunteer-archive")
        files = list(delivery.files.all())
        before = [sound_sha256(file.path) for file in files]
        self.assertContains(self.client.get(f"/deliveries/{delivery.pk}/tags/"), "All files say what the production")
        self.production.title, self.production.author = "Salt & Cedar", "Ada Fenn"
        self.production.save()
        page = self.client.get(f"/deliveries/{delivery.pk}/tags/")
        self.assertContains(page, "Ada Fenn")
        answer = self.submit(f"/deliveries/{delivery.pk}/tags/", {"file": [files[0].pk]})
        self.assertContains(answer, "The tags of 1 file are written")
        was, files = files, list(delivery.files.all())
        self.assertEqual([sound_sha256(file.path) for file in files], before)
        self.assertEqual(read_carried(files[0].path).tags["album"], "Salt & Cedar")
        self.assertEqual(read_carried(files[1].path).tags["album"], "Salt and Cedar")
        again = FinishedFile.objects.get(pk=files[0].pk)
        self.assertNotEqual(again.sha256, was[0].sha256)
        album = next(finding for finding in again.findings if finding["rule"] == "tag_album")
        self.assertEqual((album["found"], album["verdict"]), ("Salt & Cedar", "passes"))

    def test_a_tag_that_cannot_be_written_refuses_that_file_with_a_sentence(self):
        self.production.description = "x" * 10_000
        self.production.save()
        podcast, station = self.run_for("podcast-host", "internet-station")
        refused = podcast.files.first()
        self.assertEqual(refused.state, "cannot be made")
        self.assertIn("comment is 10,000 characters long", refused.refusal)
        self.assertIn(station.files.first().state, FinishedFile.MADE)

    def test_all_alike_makes_all_stereo_where_one_is(self):
        self.bring_in(speech(seconds=6, seed=5).repeat(2, axis=1), name="three.wav")
        self.sections = list(self.production.sections.with_pieces())
        (delivery,) = self.run_for("audiobook-retail")
        self.assertEqual({file.figures["channels"] for file in delivery.files.all()}, {2})
        self.assertLessEqual(max(file.attempts for file in delivery.files.all()), MOST_ATTEMPTS)

    def test_which_outlets_have_a_column_is_chosen(self):
        self.submit(f"/productions/{self.production.pk}/outlets/", {"outlet": ["broadcast", "line-set"]})
        page = self.client.get(f"/productions/{self.production.pk}/")
        self.assertContains(page, 'data-outlet="line-set"')
        self.assertNotContains(page, 'data-outlet="podcast-host"')
        answer = self.submit(f"/productions/{self.production.pk}/outlets/", {"outlet": ["nowhere"]})
        self.assertContains(answer, "Choose at least one outlet")


class Numbers(AppTestCase):
    def names_and_tracks(self) -> list[tuple[str, str]]:
        sections = [section.pk for section in self.production.sections.all()]
        self.client.post(f"/deliveries/start/{self.production.pk}/", {"outlet": "podcast-host", "section": sections})
        self.work()
        files = Delivery.objects.order_by("pk").last().files.all()
        return [(file.name, read_carried(file.path).tags.get("track", "")) for file in files]

    def test_an_episode_keeps_its_number_whatever_stands_beside_it(self):
        self.bring_in(speech(seed=1), name="Episode 12 Fog v2.wav")
        self.assertEqual(self.names_and_tracks(), [("12-fog.mp3", "12")])
        self.bring_in(speech(seed=2), name="Episode 11 Reeds FINAL.wav")
        self.bring_in(speech(seed=3), name="Trailer.wav")
        # The first is as it was, so it is not made again; what follows gets the next number that is free.
        self.assertEqual(sorted(self.names_and_tracks()), [("11-reeds.mp3", "11"), ("13-trailer.mp3", "13")])
        self.assertFalse(Delivery.objects.order_by("pk").first().files.get().replaced_at)

    def test_where_nothing_has_a_number_the_place_is_told(self):
        self.bring_in(speech(seed=4), name="Herons.wav")
        self.bring_in(speech(seed=5), name="Trailer.wav")
        self.assertEqual(self.names_and_tracks(), [("01-herons.mp3", "1"), ("02-trailer.mp3", "2")])
