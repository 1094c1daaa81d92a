"""The running order on paper, and the facts and artwork of a production."""

import csv
import io

from django.core.files.uploadedfile import SimpleUploadedFile
from PIL import Image

from mastering.editing.assembly import Stretch
from mastering.outlets.rulesheets import shipped
from sermovox.deliveries.runs import start_run
from sermovox.productions.order import refresh_lengths
from sermovox.ui.tests.base import AppTestCase


def picture(width: int, height: int, kind: str = "PNG", mode: str = "RGB") -> bytes:
    out = io.BytesIO()
    Image.new(mode, (width, height)).save(out, kind)
    return out.getvalue()


class Sheet(AppTestCase):
    def prepare(self):
        super().prepare()
        section = self.bring_in()
        section.title, section.number, section.script = "=1+1", 7, "He said: “no”."
        section.save()
        self.production.add_section(title="שומר המגדלור", role="afterword")
        self.address = f"/productions/{self.production.pk}/sheet"

    def test_it_is_shown_with_lengths(self):
        page = self.client.get(self.address + "/")
        for text in ("chapter 7", "=1+1", "0:05", "שומר המגדלור", "take.wav"):
            self.assertContains(page, text)

    def test_what_is_cut_is_as_long_as_it_sounds(self):
        section = self.production.sections.first()
        section.set_stretches([Stretch(recording=str(section.recording_id), start_sample=0, end_sample=3 * 44100)])
        refresh_lengths(self.production, [section])
        self.assertContains(self.client.get(self.address + "/"), "0:03")
        (row, _) = csv.DictReader(io.StringIO(self.client.get(self.address + ".csv").content.decode()))
        self.assertEqual(row["length"], "0:03")

    def test_the_csv_holds_no_formula_and_can_be_read_back_as_a_script(self):
        answer = self.client.get(self.address + ".csv")
        self.assertIn("salt-and-cedar-running-order.csv", answer["Content-Disposition"])
        text = answer.content.decode()
        rows = list(csv.DictReader(io.StringIO(text)))
        self.assertEqual(rows[0]["title"], "'=1+1")
        script, said = f"/productions/{self.production.pk}/script/", {"text": text, "instead": "on"}
        seen = self.client.post(f"{script}preview/", said).context["seen"]
        self.client.post(f"{script}make/", said | {"seen": seen})
        found = list(self.production.sections.values_list("role", "number", "title", "script"))
        self.assertEqual(found[0], ("chapter", 7, "=1+1", "He said: “no”."))
        self.assertEqual(found[1][:3], ("afterword", None, "שומר המגדלור"))

    def test_the_pdf_is_a_pdf_with_as_many_pages_as_it_needs(self):
        for number in range(80):
            self.production.add_section(title=f"Chapter about {number}")
        pdf = self.client.get(self.address + ".pdf").content
        self.assertEqual(pdf[:5], b"%PDF-")
        self.assertGreaterEqual(pdf.count(b"/Type /Page\n"), 3)


class FactsAndArtwork(AppTestCase):
    def edit(self, **values):
        return self.fill_in(f"/productions/{self.production.pk}/edit/", **values)

    def upload_picture(self, data: bytes):
        return self.edit(picture=SimpleUploadedFile("cover.png", data))

    def test_facts_are_kept(self):
        facts = {
            "subtitle": "Two rivers",
            "publisher": "Nine Oaks",
            "genre": "Travel",
            "code": "NO-7",
            "contact": "ilse@example.org",
            "copyright_line": "© 2026 R. Ames",
            "description": "Two rivers meet.",
        }
        self.assertContains(self.edit(**facts), "The facts are saved")
        self.production.refresh_from_db()
        self.assertEqual({name: getattr(self.production, name) for name in facts}, facts)

    def test_artwork_is_checked_and_made_smaller_for_each_outlet(self):
        self.upload_picture(picture(3200, 3200))
        page = self.client.get(f"/productions/{self.production.pk}/edit/")
        self.assertContains(page, "3200")
        made = self.client.get(f"/productions/{self.production.pk}/artwork/?for=podcast-host")
        with Image.open(io.BytesIO(made.content)) as fitted:
            self.assertEqual(fitted.format, "JPEG")
            self.assertEqual(fitted.width, fitted.height)
            self.assertLessEqual(fitted.width, 3000)
        whole = self.client.get(f"/productions/{self.production.pk}/artwork/").content
        self.assertEqual(whole, picture(3200, 3200))

    def test_too_small_is_said_and_never_enlarged(self):
        self.upload_picture(picture(500, 500))
        self.assertContains(self.client.get(f"/productions/{self.production.pk}/edit/"), "it is not enlarged")
        answer = self.client.get(f"/productions/{self.production.pk}/artwork/?for=podcast-host")
        self.assertEqual(answer.status_code, 404)

    def test_what_is_no_picture_is_refused_and_the_old_one_stays(self):
        self.upload_picture(picture(3000, 3000))
        self.production.refresh_from_db()
        kept = self.production.artwork_sha256
        for data in (b"<svg onload=alert(1)>", picture(3000, 3000)[:200], picture(50, 50, "GIF", "P")):
            self.assertContains(self.upload_picture(data), 'role="alert"')
        self.production.refresh_from_db()
        self.assertEqual(self.production.artwork_sha256, kept)
        self.client.post(f"/productions/{self.production.pk}/artwork/remove/")
        self.assertEqual(self.client.get(f"/productions/{self.production.pk}/artwork/").status_code, 404)

    def test_the_cover_goes_along_with_the_delivery(self):
        self.upload_picture(picture(3000, 3000))
        self.bring_in()
        (delivery,) = start_run(self.production, [shipped()["podcast-host"]], list(self.production.sections.all()))
        self.work()
        self.assertEqual(self.client.get(f"/deliveries/{delivery.pk}/cover.jpg")["Content-Type"], "image/jpeg")
