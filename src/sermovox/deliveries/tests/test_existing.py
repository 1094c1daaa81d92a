"""Files whose names are there already, and renaming finished files by a map."""

from django.core.files.uploadedfile import SimpleUploadedFile

from mastering.tests.signals import speech
from sermovox.deliveries.models import Delivery, FinishedFile
from sermovox.ui.tests.base import AppTestCase


class DeliveredTwice(AppTestCase):
    def prepare(self):
        super().prepare()
        self.bring_in(name="one.wav")
        self.bring_in(speech(seconds=4, seed=8), name="two.wav")
        self.begin()
        self.work()
        self.first = Delivery.objects.get()

    def begin(self, outlet="podcast-host", **values):
        keys = list(self.production.sections.values_list("pk", flat=True))
        data = {"outlet": outlet, "section": keys} | values
        return self.client.post(f"/deliveries/start/{self.production.pk}/", data)

    def name(self, pattern: str) -> None:
        names = f"/productions/{self.production.pk}/names/"
        said = {"outlet": "podcast-host", "pattern": pattern, "existing": ""}
        self.submit(f"{names}save/", said, shown=f"{names}?outlet=podcast-host")

    def again(self, **values) -> list[str]:
        answer = self.begin(again="yes", **values)
        self.assertEqual(answer.status_code, 302)
        self.work()
        return sorted(FinishedFile.objects.values_list("name", flat=True))


class Existing(DeliveredTwice):
    def test_it_is_asked_first_and_nothing_is_made_meanwhile(self):
        page = self.begin(again="yes")
        self.assertContains(page, "2 files of these names are there already")
        self.assertContains(page, "01-one.mp3")
        self.assertEqual(FinishedFile.objects.count(), 2)
        self.assertEqual(self.begin("volunteer-archive").status_code, 302, "another outlet has its own files")

    def test_both_are_kept_and_the_new_ones_numbered(self):
        before = {file.path: file.path.read_bytes() for file in self.first.files.all()}
        self.assertEqual(self.again(existing="keep-both"), ["01-one-2.mp3", "01-one.mp3", "02-two-2.mp3", "02-two.mp3"])
        self.assertEqual({path: path.read_bytes() for path in before}, before)

    def test_a_numbered_name_never_meets_that_of_another_section(self):
        one, two = self.production.sections.all()
        for section, name in ((one, "take"), (two, "take-2")):
            section.exact_name = name
            section.save()
        self.again()
        names = self.again(existing="keep-both")
        self.assertEqual(len({name.casefold() for name in names}), 6, names)

    def test_the_earlier_ones_go_only_when_the_new_ones_are_made(self):
        self.begin(existing="replace", again="yes")
        self.assertEqual(self.first.files.standing().count(), 2, "until then both are there")
        self.work()
        standing = FinishedFile.objects.standing()
        self.assertEqual(sorted(standing.values_list("name", flat=True)), ["01-one.mp3", "02-two.mp3"])
        self.assertEqual(self.first.files.standing().count(), 0)
        self.assertEqual(FinishedFile.objects.filter(in_bin=True).count(), 2)
        for file in FinishedFile.objects.filter(in_bin=True):
            file.empty_bin()
        self.assertEqual(len(list((self.folder / "data" / "deliveries").rglob("*.mp3"))), 2)

    def test_what_cannot_be_made_replaces_nothing(self):
        self.begin(existing="replace", again="yes")
        Delivery.objects.first().cancel()
        self.work()
        self.assertEqual(self.first.files.made().count(), 2)

    def test_skipping_makes_only_what_is_new(self):
        self.assertContains(self.client.get(self.begin(existing="skip", again="yes")["Location"]), "nothing was made")
        self.bring_in(speech(seconds=4, seed=9), name="three.wav")
        self.assertEqual(self.again(existing="skip"), ["01-one.mp3", "02-two.mp3", "03-three.mp3"])

    def test_the_answer_is_remembered_when_asked(self):
        self.again(existing="keep-both", remember="on")
        self.assertIn("01-one-3.mp3", self.again())
        self.name("{place|pad:2}-{title}")
        self.assertContains(self.begin(again="yes"), "there already")


class Renaming(DeliveredTwice):
    def rename(self, text: str, **values):
        return self.client.post(f"/deliveries/{self.first.pk}/rename/", {"map": text} | values, follow=True)

    def names(self) -> list[str]:
        files = list(self.first.files.all())
        for file in files:
            self.assertTrue(file.path.exists(), file.name)
            self.assertEqual(
                {path.name for path in file.folder.iterdir()}, {file.stored_as, "waveform", "waveform.sum"}
            )
        return [file.name for file in files]

    def test_the_map_comes_filled_and_goes_back_changed(self):
        self.name("ford-{place}")
        text = self.client.get(f"/deliveries/{self.first.pk}/rename.csv").content.decode()
        self.assertEqual(text.splitlines(), ["old name,new name", "01-one.mp3,ford-1.mp3", "02-two.mp3,ford-2.mp3"])
        shown = self.client.post(
            f"/deliveries/{self.first.pk}/rename/", {"file": SimpleUploadedFile("rename.csv", text.encode())}
        )
        self.assertContains(shown, "ford-2.mp3")
        self.assertEqual(self.names(), ["01-one.mp3", "02-two.mp3"], "shown, not done")
        self.rename(text, apply="yes")
        self.assertEqual(self.names(), ["ford-1.mp3", "ford-2.mp3"])
        self.client.post(f"/deliveries/{self.first.pk}/rename/undo/")
        self.assertEqual(self.names(), ["01-one.mp3", "02-two.mp3"])

    def test_names_may_change_places(self):
        self.rename("01-one.mp3;02-two.mp3\n02-two.mp3;01-one.mp3", apply="yes")
        self.assertEqual(self.names(), ["02-two.mp3", "01-one.mp3"])

    def test_all_or_none(self):
        for text, words in (
            ("01-one.mp3,a.mp3\ngone.mp3,b.mp3", "no file called “gone.mp3”"),
            ("01-one.mp3,A.mp3\n02-two.mp3,a.mp3", "differs only in case"),
            ("01-one.mp3,a.wav", "the ending says"),
            ("01-one.mp3,../up.mp3", "refuse"),
            ("", "empty"),
        ):
            with self.subTest(text):
                page = self.rename(text, apply="yes")
                self.assertContains(page, words)
                self.assertContains(page, text.partition("\n")[0], msg_prefix="what was written is still there")
                self.assertEqual(self.names(), ["01-one.mp3", "02-two.mp3"])

    def test_a_file_that_is_gone_stops_all(self):
        self.first.files.last().path.unlink()
        page = self.rename("01-one.mp3,a.mp3\n02-two.mp3,b.mp3", apply="yes")
        self.assertContains(page, "not there any more")
        file = self.first.files.first()
        self.assertEqual((file.name, file.path.exists()), ("01-one.mp3", True))
