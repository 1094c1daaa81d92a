"""What the chapter marks of a section say, and where it goes."""

import io
import json

from django.contrib.auth import get_user_model
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse
from mutagen.id3 import ID3
from PIL import Image

from mastering.outlets.rulesheets import parse, shipped, written
from mastering.tests.signals import speech
from sermovox.cutting.models import Page
from sermovox.deliveries.estimates import Proposed
from sermovox.deliveries.models import Delivery
from sermovox.history.changing import undo
from sermovox.outlets.models import RuleSheet
from sermovox.productions.models import Section
from sermovox.ui.tests.base import AppTestCase


def picture(colour: str, *, mode: str = "RGB", size: tuple[int, int] = (1600, 900), form: str = "PNG") -> bytes:
    made = io.BytesIO()
    Image.new(mode, size, colour).save(made, form)
    return made.getvalue()


class ChapterMarks(AppTestCase):
    def prepare(self):
        super().prepare()
        self.bring_in(speech(seconds=6, seed=3), name="one.wav")
        self.section = self.production.sections.get()
        page = Page.of(self.section.recording)
        page.marks = [
            {"id": 1, "kind": "point", "start_sample": 88200, "end_sample": 88200, "name": "The bridge"},
            {"id": 4, "kind": "point", "start_sample": 132300, "end_sample": 132300},
        ]
        page.save()
        self.address = reverse("cutting:chapters", args=[self.section.pk])

    def say(self, *rows: dict, page: int = 1):
        fields = {"form-TOTAL_FORMS": len(rows), "form-INITIAL_FORMS": len(rows)}
        for at, row in enumerate(rows):
            fields |= {f"form-{at}-{name}": value for name, value in row.items()}
        return self.submit(f"{self.address}?page={page}", fields)

    def rows(self, **of_bridge) -> list[dict]:
        page = self.section.recording.page
        return [
            {"key": "section", "title": "one", "link": "https://example.org/one"},
            {"key": f"{page.pk}.1", "title": "The bridge", "link": ""} | of_bridge,
            {"key": f"{page.pk}.4", "title": "", "link": ""},
        ]

    def test_links_and_pictures_reach_the_finished_file(self):
        shown = self.client.get(self.address)
        self.assertEqual([round(row["start_s"], 1) for row in shown.context["rows"]], [0.0, 2.0, 3.0])
        sent = SimpleUploadedFile("bridge.png", picture("teal"), "image/png")
        self.say(*self.rows(title="The long bridge", link="https://example.org/bridge", picture=sent))
        self.section.refresh_from_db()
        self.assertEqual(self.section.link, "https://example.org/one")
        text = written(shipped()["internet-station"])
        asked = parse(text + '\n[[rules]]\nname = "chapters"\nexactly = "from marks"\nsource = "a test"\n')
        RuleSheet.change(self.narrator, asked, "Chapters asked")
        fields = {"outlet": "internet-station", "section": [self.section.pk]}
        (estimate,) = Proposed(self.production, asked, [self.section]).files
        self.client.post(f"/deliveries/start/{self.production.pk}/", fields)
        self.work()
        file = Delivery.objects.get().files.get()
        first, second = sorted(ID3(file.path).getall("CHAP"), key=lambda frame: frame.start_time)
        self.assertEqual(first.sub_frames["WXXX:"].url, "https://example.org/one")
        self.assertEqual(
            (str(second.sub_frames["TIT2"]), second.sub_frames["WXXX:"].url, second.start_time),
            ("The long bridge", "https://example.org/bridge", 2000),
        )
        with Image.open(io.BytesIO(second.sub_frames["APIC:"].data)) as carried:
            self.assertEqual((carried.format, carried.size), ("JPEG", (600, 338)))
        self.assertLess(file.path.stat().st_size, estimate.high_bytes)
        tags = f"/deliveries/{file.delivery_id}/tags/"
        self.assertContains(self.client.get(tags), "All files say what the production says now")
        Section.objects.update(link="https://example.org/another")
        self.assertContains(self.client.get(tags), "2 with a link, 1 with a picture")
        self.assertNotIn("chapters", [finding["rule"] for finding in file.failures()])

    def test_a_picture_is_shown_taken_away_and_brought_back(self):
        self.say(*self.rows(picture=SimpleUploadedFile("a.jpg", picture("white", mode="CMYK", form="JPEG"))))
        sha256 = self._bridge().picture
        self.assertEqual(self.client.get(f"{self.address}{sha256}.jpg")["Content-Type"], "image/jpeg")
        self.assertEqual(self.client.get(f"{self.address}{'0' * 64}.jpg").status_code, 404)
        self.say(*self.rows(without="on"))
        self.assertEqual(self._bridge().picture, "")
        undo(self.production)
        self.assertEqual(self._bridge().picture, sha256)

    def test_many_marks_come_in_pages_and_each_is_saved_by_itself(self):
        page = self.section.recording.page
        page.marks = [
            {"id": n, "kind": "point", "start_sample": 400 * n, "end_sample": 400 * n, "name": f"{n}"}
            for n in range(1, 300)
        ]
        page.save()
        shown = self.client.get(f"{self.address}?page=6").context["rows"]
        self.assertEqual(len(shown), 50)
        rows = [{name: row["form"].initial[name] for name in ("key", "title", "link")} for row in shown]
        rows[-1]["title"] = "The last"
        self.assertContains(self.say(*rows, page=6), "are saved")
        names = [mark.name for mark in Page.objects.get(recording=self.section.recording).mark_list]
        self.assertEqual(names, [*map(str, range(1, 299)), "The last"])

    def test_what_cannot_be_is_said_and_nothing_is_kept(self):
        bad = SimpleUploadedFile("a.jpg", b"no picture")
        answer = self.say(*self.rows(title="Lost", picture=bad))
        self.assertContains(answer, "not a picture in JPEG or PNG")
        self.assertContains(self.say(*self.rows(title="A\x1bB")), "control character (U+001B)")
        self.assertContains(self.say(*self.rows(link="javascript:alert(1)")), "no web address")
        self.assertContains(self.say(*self.rows()[:2]), "changed in another window")
        self.assertEqual(self._bridge().name, "The bridge")
        self.client.force_login(get_user_model().objects.create_user("another"))
        self.assertEqual(self.client.get(self.address).status_code, 404)

    def test_the_open_chapter_format_carries_links(self):
        self.say(*self.rows())
        Section.objects.update(title="o\x1bn\te")
        self.client.post(
            f"/deliveries/start/{self.production.pk}/",
            {"outlet": "single-file-audiobook", "section": [self.section.pk]},
        )
        self.work()
        delivery = Delivery.objects.get()
        chapters = json.loads(self.client.get(f"/deliveries/{delivery.pk}/chapters.json").content)["chapters"]
        self.assertEqual(chapters, [{"startTime": 0, "title": "o n e", "url": "https://example.org/one"}])

    def _bridge(self):
        return Page.objects.get(recording=self.section.recording).mark_list[0]
