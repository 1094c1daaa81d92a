"""What was read is held against the text, settled, read again and put in its place; every step can be undone."""

import csv
import io
from unittest import skipUnless

import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client
from django.utils.html import escape

from mastering.tests.prompts import RATE_HZ, over_noise, there, unlike
from sermovox.cutting.models import Page
from sermovox.cutting.tests.test_page import PageTestCase
from sermovox.proofing.models import MOST_REMARKS, Remark, Shared
from sermovox.proofing.pickups import pickups_of
from sermovox.proofing.sheet import Sheet
from sermovox.recordings.models import Recording

GAP = np.zeros(RATE_HZ * 6 // 10, np.float32)


def read(*prompts) -> np.ndarray:
    """A take of these prompts one after the other, 30 dB over noise."""
    parts = [GAP]
    for prompt in prompts:
        parts += [prompt.samples, GAP]
    return over_noise(np.concatenate(parts), 30.0)


@skipUnless(there(), "the prompts of three languages and their texts are not installed")
class ProofSheet(PageTestCase):
    """Eight French prompts: the fourth is left out, the sixth was begun before, and one is in no text."""

    def prepare(self):
        super(PageTestCase, self).prepare()
        self.production.language = "Français"
        self.production.save()
        single = [each for each in unlike("fr") if not any(sign in each.text.rstrip(" .!?") for sign in ".!?")]
        self.prompts, other = single[10:18], single[30]
        broken = type(other)(self.prompts[5].text, self.prompts[5].samples[: len(self.prompts[5].samples) // 2])
        said = [*self.prompts[:3], self.prompts[4], broken, self.prompts[5], other, *self.prompts[6:]]
        self.starts_s = np.cumsum([0.6] + [len(each.samples) / RATE_HZ + 0.6 for each in said])
        self.address = self.open(read(*said), rate_hz=RATE_HZ)
        self.section.script = "\n".join(each.text for each in self.prompts)
        self.section.save()
        self.client.get(f"{self.address}words/")
        self.work()
        self.sheet = f"/proof/{self.recording.pk}/"

    def rows(self) -> list:
        return Sheet(Page.of(self.recording)).rows()

    def kinds(self) -> list[str]:
        return [row.kind for row in self.rows() if not row.settled]

    def row(self, kind: str):
        return next(row for row in self.rows() if row.kind == kind)

    def settle(self, row, how: str, **more):
        values = {"op": "settle", "key": row.key, "as": how} | more
        return self.client.post(f"{self.sheet}do/", values)

    def note(self, at_s: float, kind: str, **more):
        return self.client.post(f"{self.sheet}do/", {"op": "note", "kind": kind, "at_s": f"{at_s:.3f}"} | more)

    def test_what_was_planted_is_found_and_nothing_else(self):
        self.assertEqual(self.kinds(), ["missing", "broken off", "outside the script"])
        missing, broken, outside = self.rows()
        self.assertEqual(missing.sentence, self.prompts[3].text)
        self.assertEqual((missing.before, missing.after), (self.prompts[2].text, self.prompts[4].text))
        self.assertAlmostEqual(broken.start_s, self.starts_s[4], delta=0.1)
        self.assertAlmostEqual(outside.start_s, self.starts_s[6], delta=0.25)
        page = self.client.get(self.sheet)
        self.assertContains(page, "3 places are to be looked at.")
        self.assertContains(page, "begun and broken off")

    def test_each_is_settled_and_every_step_can_be_undone(self):
        missing, broken, outside = self.rows()
        self.assertContains(self.settle(outside, "struck"), "2 places are to be looked at.")
        self.assertContains(self.settle(broken, "struck"), "1 place is to be looked at.")
        self.assertContains(self.settle(missing, "fine"), "Nothing of what can be found is left to be looked at.")
        self.assertEqual(len(self.state()["marks"]), 2)
        self.section.refresh_from_db()
        self.assertLess(self.section.length_s, self.recording.figures["duration_s"] - 2)
        self.assertContains(self.client.get(f"{self.sheet}?show=all"), "not read")
        for left in (1, 2, 3):
            self.client.post(f"{self.sheet}do/", {"op": "undo"})
            self.assertEqual(len(self.kinds()), left)
        self.assertEqual((self.state()["marks"], Page.of(self.recording).proof), ([], {}))
        self.client.post(f"{self.sheet}do/", {"op": "redo"})
        self.assertEqual(self.kinds(), ["missing", "broken off"])

    def test_what_comes_back_is_open_again(self):
        self.settle(self.row("broken off"), "struck")
        mark = self.state()["marks"][0]
        self.do("restore", start=mark["start_sample"], end=mark["end_sample"])
        self.assertEqual(self.kinds(), ["missing", "broken off", "outside the script"])

    def test_what_cannot_be_done_is_said_and_nothing_is(self):
        for kind, how in (("missing", "struck"), ("broken off", "pickup"), ("missing", "dance")):
            self.assertContains(self.settle(self.row(kind), how), "cannot be done")
        gone = self.client.post(f"{self.sheet}do/", {"op": "settle", "key": "x", "as": "fine"})
        self.assertContains(gone, "no longer on the sheet")
        self.assertEqual(Page.of(self.recording).proof, {})

    def test_a_listener_notes_a_word(self):
        at_s = self.starts_s[1] + 0.5
        self.assertContains(self.note(at_s, "pace", note="=1+1"), "too fast or too slow")
        row = self.row("pace")
        self.assertEqual((row.sentence, row.note), (self.prompts[1].text, "=1+1"))
        self.assertEqual(sum(meant for _, meant in row.parts), 1)
        self.assertLess(abs(row.start_s - at_s), 1.0)
        self.assertIn(f"{row.start_s}", self.client.get(f"{self.sheet}listen/").content.decode())
        for values, said in (
            ({"kind": "sneeze", "at_s": "1"}, "Say what"),
            ({"kind": "pace", "at_s": "x"}, "no number"),
            ({"kind": "pace", "at_s": "-1"}, "outside"),
            ({"kind": "pace", "at_s": "1e9"}, "no number"),
        ):
            self.assertContains(self.client.post(f"{self.sheet}do/", {"op": "note"} | values), said)
        rows = list(csv.DictReader(io.StringIO(self.client.get(f"{self.sheet}sheet.csv").content.decode())))
        # A spreadsheet runs nothing of it.
        self.assertEqual([(e["what"], e["note"]) for e in rows if e["note"]], [("too fast or too slow", "'=1+1")])
        self.assertTrue(self.client.get(f"{self.sheet}sheet.pdf").content.startswith(b"%PDF"))
        self.client.post(f"{self.sheet}do/", {"op": "unnote", "key": row.key})
        self.assertNotIn("pace", self.kinds())

    def test_a_sheet_shows_one_section_alone(self):
        self.do("break", at=round((self.starts_s[5] - 0.3) * RATE_HZ))
        first, second = self.production.sections.all()
        second.script = "\n".join(each.text for each in self.prompts[5:])
        second.save()
        first.script = "\n".join(each.text for each in self.prompts[:5])
        first.save()
        self.client.get(f"{self.address}words/")
        self.work()
        self.assertContains(self.client.get(f"{self.sheet}?section={second.pk}"), "not in the text")
        self.assertNotContains(self.client.get(f"{self.sheet}?section={second.pk}"), ">not read<")
        self.assertContains(self.client.get(f"{self.sheet}?section={first.pk}"), ">not read<")

    def take(self, *prompts, name: str = "again.wav"):
        self.bring_in(read(*prompts), name=name, rate_hz=RATE_HZ)
        take = self.production.recordings.get(name=name)
        address = f"/proof/productions/{self.production.pk}/pickups/take/{take.pk}/"
        self.client.get(address)
        self.work()
        return take, address

    def want_two(self) -> None:
        """One that was left out, and one that a listener wants otherwise."""
        self.settle(self.row("missing"), "pickup")
        self.note(self.starts_s[5] + 0.5, "misread")
        self.settle(self.row("misread"), "pickup")

    def test_sentences_read_again_go_where_they_belong_in_one_change(self):
        self.want_two()
        wanted = pickups_of(self.production)
        self.assertEqual([each.row.sentence for each in wanted], [self.prompts[3].text, self.prompts[5].text])
        listed = f"/proof/productions/{self.production.pk}/pickups"
        self.assertContains(self.client.get(f"{listed}/"), escape(self.prompts[3].text))
        for kind in ("csv", "pdf"):
            self.assertEqual(self.client.get(f"{listed}.{kind}").status_code, 200)
        _, address = self.take(self.prompts[3], self.prompts[5])
        shown = self.client.get(address)
        self.assertEqual([each.problem for _, each, _ in shown.context["rows"]], ["", ""])
        was_s = self.length_heard_s()
        keys = [key for key, _, _ in shown.context["rows"]]
        answer = self.client.post(address, {"do": "put-in", "key": keys}, follow=True)
        self.assertContains(answer, "2 pickups put in.")
        # The take is no row of its own to be delivered.
        self.assertEqual(self.production.sections.count(), 1)
        # What was missing makes it longer by about itself and its pauses, the other takes the place of its like.
        own_s = len(self.prompts[3].samples) / RATE_HZ
        self.assertAlmostEqual(self.length_heard_s() - was_s, own_s + 0.6, delta=0.35)
        marks = [mark for mark in self.state()["marks"] if mark["kind"] == "pickup"]
        self.assertAlmostEqual(marks[1]["start_sample"] / RATE_HZ, self.starts_s[5], delta=0.1)
        self.assertLess(abs(marks[0].get("value_db", 0.0)), 3.0)
        self.assertEqual(self.kinds(), ["broken off", "outside the script"])
        self.assertEqual(pickups_of(self.production), [])
        self.do("undo")
        self.assertEqual([each["kind"] for each in self.state()["marks"]], [])
        self.assertEqual((len(pickups_of(self.production)), self.production.sections.count()), (2, 2))

    def test_what_was_not_read_again_is_said_and_stays_on_the_list(self):
        self.want_two()
        _, address = self.take(self.prompts[3])
        shown = self.client.get(address)
        self.assertContains(shown, "It was not read in this take.")
        keys = [key for key, _, _ in shown.context["rows"]]
        self.assertContains(self.client.post(address, {"do": "put-in", "key": keys}, follow=True), "1 pickup put in.")
        self.assertEqual(len(pickups_of(self.production)), 1)
        self.assertContains(self.client.post(address, {"do": "put-in"}), "None of the sentences")

    def test_two_that_are_missing_in_one_place_both_come_in_and_in_their_order(self):
        also = next(each for each in unlike("fr")[40:] if not any(sign in each.text.rstrip(" .!?") for sign in ".!?"))
        lines = self.section.script.split("\n")
        self.section.script = "\n".join([*lines[:4], also.text, *lines[4:]])
        self.section.save()
        self.client.get(f"{self.address}words/")
        self.work()
        for _ in range(2):
            self.settle(next(row for row in self.rows() if row.kind == "missing" and not row.settled), "pickup")
        wanted = pickups_of(self.production)
        self.assertEqual([each.row.sentence for each in wanted], [self.prompts[3].text, also.text])
        take, address = self.take(self.prompts[3], also)
        keys = [key for key, _, _ in self.client.get(address).context["rows"]]
        answer = self.client.post(address, {"do": "put-in", "key": keys}, follow=True)
        self.assertContains(answer, "2 pickups put in.")
        marks = [mark for mark in self.state()["marks"] if mark["kind"] == "pickup"]
        self.assertEqual([mark["name"] for mark in marks], [self.prompts[3].text[:60], also.text[:60]])
        self.assertLess(marks[0]["from_sample"], marks[1]["from_sample"])
        self.assertEqual({mark["recording"] for mark in marks}, {str(take.pk)})
        self.assertNotIn("missing", self.kinds())

    def test_a_sentence_that_was_broken_off_again_is_not_put_in(self):
        self.want_two()
        whole = self.prompts[5]
        half = type(whole)(whole.text, whole.samples[: len(whole.samples) * 2 // 3])
        _, address = self.take(self.prompts[3], half)
        shown = self.client.get(address)
        (key, first, _), (other, second, _) = shown.context["rows"]
        self.assertEqual((first.problem, second.place), ("", None))
        self.assertRegex(second.problem, "not read (in|to its end)")
        answer = self.client.post(address, {"do": "put-in", "key": [key, other]}, follow=True)
        self.assertContains(answer, "1 pickup put in.")

    def length_heard_s(self) -> float:
        self.section.refresh_from_db()
        return len(self.heard(self.section)) / RATE_HZ

    def test_nobody_sees_or_settles_what_is_not_theirs(self):
        other = type(self.narrator).objects.create_user("other")
        self.client.force_login(other)
        listed = f"/proof/productions/{self.production.pk}/pickups/"
        for address in (self.sheet, f"{self.sheet}listen/", f"{self.sheet}sheet.csv", listed):
            self.assertEqual(self.client.get(address).status_code, 404, address)
        self.assertEqual(self.client.post(f"{self.sheet}do/", {"op": "undo"}).status_code, 404)

    def test_a_text_given_as_a_file_takes_its_place(self):
        file = SimpleUploadedFile("text.txt", "\n".join(each.text for each in self.prompts[:3]).encode())
        self.client.post(f"{self.address}text/", {"file": file, "language": "fr"})
        self.client.get(f"{self.address}words/")
        self.work()
        self.assertNotIn("missing", self.kinds())

    def share(self, **values):
        self.client.post(f"{self.sheet}share/", {"whom": "Odile Marchand", "days": "7"} | values)
        shared = Shared.objects.get()
        return shared, f"/proof/read/{shared.key}/"

    def test_somebody_with_a_link_reads_hears_and_remarks_at_a_word(self):
        shared, address = self.share()
        self.settle(self.row("broken off"), "struck")
        guest = Client()
        page = guest.get(address)
        self.assertEqual((page.status_code, page["X-Robots-Tag"]), (200, "noindex, nofollow"))
        sentences = page.context["sentences"]
        # What was struck out is neither read nor heard: the words after it come so much earlier.
        self.assertEqual(len(sentences), 7)
        word, at_s, heard_s = sentences[4][0]
        self.assertAlmostEqual(at_s, self.starts_s[5], delta=0.1)
        gone_s = self.starts_s[5] - self.starts_s[4]
        self.assertAlmostEqual(at_s - heard_s, gone_s, delta=0.2)
        sound = guest.get(f"{address}listen.wav?start=0&end={self.recording.frames}")
        self.assertEqual(sound["Content-Type"], "audio/wav")
        said = guest.post(f"{address}remark/", {"at_s": str(at_s), "text": "A longer pause here.", "called": "Odile"})
        self.assertEqual(said.json()["said"], "Your remark is there.")
        row = self.row("remark")
        self.assertEqual((row.note, row.sentence), ("Odile: A longer pause here.", self.prompts[5].text))
        self.assertEqual([text for text, meant in row.parts if meant], [word])
        self.assertContains(self.settle(row, "pickup"), "is to be read again")
        self.assertEqual([each.row.note for each in pickups_of(self.production)], ["Odile: A longer pause here."])
        self.client.post(f"{self.sheet}do/", {"op": "undo"})
        self.assertEqual(self.row("remark").settled, "")

    def test_a_link_says_so_while_its_recording_is_measured_anew(self):
        _, address = self.share()
        guest = Client()
        self.assertEqual(guest.get(address).status_code, 200)
        Recording.objects.filter(pk=self.recording.pk).update(figures={}, state="measuring")
        self.recording.waveform_path.unlink()
        page = guest.get(address)
        self.assertContains(page, "measured")
        for answer in (
            guest.get(f"{address}listen.wav?start=0&end=100"),
            guest.post(f"{address}remark/", {"at_s": "1", "text": "Here."}),
        ):
            self.assertIn(answer.status_code, (400, 422))
            self.assertIn("measured", answer.json()["said"])
        self.assertEqual(self.client.get(self.sheet).status_code, 200)
        # Ready for all the rest, but of another that stands in it.
        Recording.objects.filter(pk=self.recording.pk).update(state="ready")
        self.assertContains(guest.get(address), "measured")
        self.assertIn(guest.post(f"{address}remark/", {"at_s": "1", "text": "Here."}).status_code, (400, 422))

    def test_a_link_opens_nothing_else_and_ends(self):
        shared, address = self.share()
        guest = Client()
        for other in (self.sheet, f"{self.sheet}do/", f"{self.address}words/", "/proof/read/wrong/"):
            self.assertIn(guest.get(other).status_code, (302, 404, 405), other)
        for values, told in (
            ({"text": "Here."}, "Choose the word"),
            ({"at_s": "1"}, "Write what"),
            ({"at_s": "nan", "text": "Here."}, "outside the recording"),
            ({"at_s": "1e9", "text": "Here."}, "outside the recording"),
        ):
            answer = guest.post(f"{address}remark/", values)
            self.assertEqual(answer.status_code, 400)
            self.assertIn(told, answer.json()["said"])
        self.client.post(f"{self.sheet}share/{shared.pk}/end/")
        self.assertEqual(guest.get(address).status_code, 410)
        self.assertContains(guest.get(address), "This link ended", status_code=410)
        self.assertEqual(guest.get(f"{address}listen.wav?start=0&end=100").status_code, 400)
        ended = guest.post(f"{address}remark/", {"at_s": "1", "text": "Still here."})
        self.assertIn("This link has ended", ended.json()["said"])
        self.assertEqual(Remark.objects.count(), 0)

    def test_a_link_takes_so_many_remarks_and_no_more(self):
        shared, address = self.share()
        Remark.objects.bulk_create(Remark(shared=shared, called="x", text="y") for _ in range(MOST_REMARKS))
        answer = Client().post(f"{address}remark/", {"at_s": "1", "text": "One more."})
        self.assertIn("as many as it takes", answer.json()["said"])
        # What has no place and no sentence is shown all the same.
        self.assertEqual(self.client.get(self.sheet).status_code, 200)
