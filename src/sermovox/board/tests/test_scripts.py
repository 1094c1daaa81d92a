"""A running order made of what people have, and recordings paired with it."""

import io
import zipfile

from django.core.files.uploadedfile import SimpleUploadedFile

from mastering.tests.signals import speech, written
from sermovox.recordings.intake import take_in
from sermovox.ui.tests.base import AppTestCase

LINES = "LT_0010\tWho goes there?\nLT_0020\tNobody. Only the tide.\nLT_0030\t“Then come in,” she said.\n"


class Making(AppTestCase):
    def post(self, what: str, **values):
        return self.client.post(f"/productions/{self.production.pk}/script/{what}/", values)

    def read(self, name: str, data: bytes, **values) -> dict:
        return self.post("read", file=SimpleUploadedFile(name, data), **values).json()

    def test_a_preview_makes_nothing_and_making_can_be_undone(self):
        text = "Opening credits\nChapter 1: The Ford\n\nChapter 2: The Mill\nClosing credits\n"
        shown = self.post("preview", text=text)
        self.assertContains(shown, "Make 4 sections")
        self.assertFalse(self.production.sections.exists())
        self.post("make", text=text, digest=shown.context["digest"])
        found = list(self.production.sections.values_list("role", "number", "title"))
        self.assertEqual(
            found,
            [
                ("opening credits", None, "Opening credits"),
                ("chapter", 1, "The Ford"),
                ("chapter", 2, "The Mill"),
                ("closing credits", None, "Closing credits"),
            ],
        )
        self.client.post(f"/productions/{self.production.pk}/change/", {"do": "undo"})
        self.assertFalse(self.production.sections.exists())

    def test_lines_keep_the_client_s_names_and_their_text(self):
        self.post("make", text=LINES)
        found = list(self.production.sections.values_list("role", "exact_name", "script"))
        self.assertEqual(found[0], ("line", "LT_0010", "Who goes there?"))
        self.assertEqual(found[2], ("line", "LT_0030", "“Then come in,” she said."))

    def test_what_is_left_out_or_corrected_in_the_preview_is_made_so(self):
        text = "name,said,where\nA1,Hello,hall\nA2,Goodbye,door\n"
        shown = self.post("preview", text=text, kind="columns", separator=",")
        self.assertContains(shown, "parted by comma")
        facts = {
            "kind": "columns",
            "separator": ",",
            "digest": shown.context["digest"],
            "shape": shown.context["shape"],
            "header": "on",
        }
        columns = ["name", "text", ""]
        corrected = self.post("preview", text=text, column=columns, skip=["0"], **facts)
        self.assertContains(corrected, "Make 1 section")
        self.post("make", text=text, column=columns, skip=["0"], **facts)
        self.assertEqual(self.production.sections.get().exact_name, "A2")
        seen = self.post("preview", text="Chapter 1\nChapter 2", instead="on").context["seen"]
        self.post("make", text="Chapter 1\nChapter 2", instead="on", seen=seen)
        self.assertEqual(self.production.sections.count(), 2)

    def test_names_that_cannot_be_used_are_told_in_the_preview(self):
        shown = self.post("preview", text="A1\tOne\na1\tTwo\nCON\tThree\nb?\tFour\n")
        for words in ("a1", "CON", "b?"):
            self.assertContains(shown, f"{words}:")

    def test_files_are_read_whatever_wrote_them(self):
        self.assertEqual(self.read("s.txt", "Größe".encode("utf-16"))["text"], "Größe")
        self.assertEqual(self.read("s.txt", "Café “déjà”".encode("cp1252"))["text"], "Café “déjà”")
        self.assertEqual(self.read("s.txt", "פרק א".encode())["text"], "פרק א")
        self.assertEqual(self.read("s.txt", "Ärger".encode("cp1252"), encoding="cp1252")["text"], "Ärger")

    def test_what_cannot_be_read_is_said(self):
        bomb = io.BytesIO()
        with zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("word/document.xml", b"<w>" + b" " * (200 << 20))
        for data, words in (
            (b"", "empty"),
            (bomb.getvalue(), "swell beyond measure"),
            (b"PK\x03\x04 not really", "damaged"),
            (b"\x00\x01\x02\x03" * 100, "not a text"),
        ):
            with self.subTest(words):
                self.assertIn(words, self.read("script.docx", data)["problem"])

    def test_ten_thousand_lines_with_blank_ones_between(self):
        text = "\n\n".join(f"L_{n:05}\tLine number {n}." for n in range(10_000))
        self.assertContains(self.post("preview", text=text), "And 9800 more")
        self.post("make", text=text)
        self.assertEqual(self.production.sections.count(), 10_000)
        self.assertEqual(self.production.sections.last().exact_name, "L_09999")


class Pairing(AppTestCase):
    def prepare(self):
        super().prepare()
        for number in (1, 2, 3):
            self.production.add_section(title=f"The {'ford mill gate'.split()[number - 1]}", number=number)
        for seed, name in enumerate(("take 03.wav", "01 first.wav", "extra.wav"), 20):
            take_in(self.production, written(self.folder, speech(seconds=3, seed=seed), name=name))
        self.address = f"/productions/{self.production.pk}/pairing/"

    def paired(self) -> list[str | None]:
        return [s.recording.name if s.recording else None for s in self.production.sections.all()]

    def test_by_number_shows_what_is_left_on_either_side_and_changes_nothing_yet(self):
        page = self.client.get(self.address + "?way=number")
        self.assertContains(page, 'value="01 first.wav"')
        self.assertContains(page, 'value="take 03.wav"')
        self.assertEqual([row["section"].title for row in page.context["left_sections"]], ["The mill"])
        self.assertEqual([r.name for r in page.context["left_recordings"]], ["extra.wav"])
        self.assertEqual(self.paired(), [None, None, None])

    def test_the_preview_is_applied_as_corrected_and_can_be_undone(self):
        keys = list(self.production.sections.values_list("pk", flat=True))
        names = ("01 first.wav", "extra.wav", "")
        chosen = {f"recording-{key}": name for key, name in zip(keys, names, strict=True)}
        self.assertContains(self.submit(self.address, chosen), "2 sections have their recordings")
        self.assertEqual(self.paired(), ["01 first.wav", "extra.wav", None])
        self.client.post(f"/productions/{self.production.pk}/change/", {"do": "undo"})
        self.assertEqual(self.paired(), [None, None, None])

    def test_one_chosen_twice_or_unknown_changes_nothing(self):
        keys = list(self.production.sections.values_list("pk", flat=True))
        for second, words in (("extra.wav", "chosen twice"), ("gone.wav", "no recording called")):
            chosen = {f"recording-{keys[0]}": "extra.wav", f"recording-{keys[1]}": second}
            self.assertContains(self.submit(self.address, chosen), words)
        self.assertEqual(self.paired(), [None, None, None])

    def test_in_order_and_everything_anew(self):
        page = self.client.get(self.address + "?way=order")
        self.assertEqual([row["label"] for row in page.context["rows"]], ["01 first.wav", "extra.wav", "take 03.wav"])
        self.give_all(self.production.recordings.first())
        self.assertContains(self.client.get(self.address), "Every section has its recording")
        self.assertContains(self.client.get(self.address + "?anew&way=order"), 'value="extra.wav"')
