"""A page has its words: found in the background, cut by, made into sections; every edit of them is one change."""

import io
import json
import re
import zipfile
from dataclasses import replace
from unittest import skipUnless
from unittest.mock import patch

from django.core.files.uploadedfile import SimpleUploadedFile

from mastering.editing.pauses import find_pauses
from mastering.meters.measurement import measure
from mastering.tests.prompts import RATE_HZ, joined, there
from mastering.tests.signals import noise
from mastering.words.hearing import HeardScript, hear
from sermovox.cutting.models import Page
from sermovox.cutting.spoken import spoken_in
from sermovox.cutting.tests.test_page import PageTestCase
from sermovox.cutting.texts import Words
from sermovox.keeping import caches
from sermovox.scripts import tasks
from sermovox.scripts.models import Hearing, Script, tag_of
from sermovox.scripts.recovery import hearings
from sermovox.work.queue import put_back

_LINES = 8


@skipUnless(there(), "the prompts of three languages and their texts are not installed")
class WordsOfAPage(PageTestCase):
    """The texts are those of Debian's asterisk-core-sounds; where each was put is known to the sample."""

    def prepare(self):
        super(PageTestCase, self).prepare()
        self.take = joined("en", _LINES, seed=22, false_starts=0.3, repeats=0.2)
        self.address = self.open(self.take.samples, rate_hz=RATE_HZ)
        # Each line is one sentence, as the page counts them.
        self.lines = [re.sub(r"[.!?] ", ", ", line) for line in self.take.lines]
        self.script = "\n".join(self.lines)
        self.give(text=self.script)
        self.words()
        self.work()

    def give(self, **values):
        return self.client.post(f"{self.address}text/", {"language": "en"} | values, follow=True)

    def words(self) -> dict:
        return self.client.get(f"{self.address}words/").json()

    def own(self) -> Words:
        return Words(Page.of(self.recording))

    def again(self) -> list:
        """The places of readings that do not count: false starts, and lines that were read again later."""
        last = self.take.last_whole()
        return [place for place in self.take.places if place != last[place.line]]

    def test_each_word_has_its_place(self):
        told = self.words()
        self.assertEqual(told["state"], "heard")
        # Of each line every word, in the order of the recording.
        counted = {line: words for line, _, counts, words in told["readings"] if counts}
        for line, place in self.take.last_whole().items():
            said = [told["lines"][str(line)][number] for number in counted[line][::4]]
            self.assertEqual(" ".join(said), " ".join(self.lines[line].split()))
            self.assertAlmostEqual(counted[line][1] / 1000, place.start_s, delta=0.1)
        self.assertEqual(self.client.get(f"{self.address}words/?known={told['key']}").status_code, 204)
        page = self.client.get(self.address)
        self.assertEqual(page.context["words"]["readings"][0], told["readings"][0])

    def test_what_does_not_count_is_struck_out_at_once_and_no_line_is_cut_into(self):
        self.assertGreaterEqual(len(self.again()), 3)
        state = self.do("false-starts")
        for place in self.take.places:
            edges = [(mark["start_sample"] / RATE_HZ, mark["end_sample"] / RATE_HZ) for mark in state["marks"]]
            gone_s = sum(max(0.0, min(place.end_s, end) - max(place.start_s, start)) for start, end in edges)
            if place in self.again():
                self.assertAlmostEqual(gone_s, place.end_s - place.start_s, delta=0.25)
            else:
                self.assertLess(gone_s, 0.1, place)
        self.assertEqual([each.line for each in self.own().remaining.readings], list(range(_LINES)))
        self.assertIn("not struck out already", self.do("false-starts", expect=400)["said"])
        self.assertEqual(self.do("undo")["marks"], [])

    def test_another_reading_can_be_kept_instead(self):
        told = self.words()
        line = next(place.line for place in self.again() if place.whole)
        first, second = [n for n, each in enumerate(told["readings"]) if each[0] == line and each[1]][:2]
        self.do("keep-reading", reading=first, key=told["key"])
        left = [reading for reading in self.own().remaining.readings if reading.line == line]
        self.assertEqual([reading.start_s for reading in left], [told["readings"][first][3][1] / 1000])
        self.do("keep-reading", reading=second, key=told["key"])
        left = [reading for reading in self.own().remaining.readings if reading.line == line]
        self.assertEqual([reading.start_s for reading in left], [told["readings"][second][3][1] / 1000])
        for values in ({"reading": 99}, {"reading": -1}, {"reading": first, "key": "old"}):
            said = self.do("keep-reading", expect=400, **({"key": told["key"]} | values))["said"]
            self.assertIn("found anew", said)
        self.assertIn("no position", self.do("keep-reading", expect=400, reading="1", key=told["key"])["said"])

    def test_a_strike_by_words_ends_at_a_section_and_spares_a_pickup(self):
        place = self.again()[0]
        following = next(each for each in self.take.places if each.start_s > place.end_s)
        edge = round((place.end_s + following.start_s) / 2 * RATE_HZ)
        self.do("break", at=edge)
        state = self.do("false-starts")
        # The section's edge parts the strike from the pause that belongs to the next.
        self.assertIn(edge, [mark["end_sample"] for mark in state["marks"]])

    def test_lines_become_named_sections_with_their_texts_and_back(self):
        table = "name\ttext\n" + "".join(f"ln_{at}.wav\t{line}\n" for at, line in enumerate(self.lines))
        self.give(text=table)
        self.words()
        self.work()
        found = self.client.post(f"{self.address}propose/", '{"by": "text"}', content_type="application/json").json()
        self.assertEqual([each["name"] for each in found["sections"]], [f"ln_{at}.wav" for at in range(_LINES)])
        self.assertTrue(all(each["span"] for each in found["sections"]))
        was = self.titles()
        self.do("split-by-text", key=found["key"])
        sections = list(self.production.sections.all())
        self.assertEqual([section.exact_name for section in sections], [f"ln_{at}.wav" for at in range(_LINES)])
        for section, line in zip(sections, self.lines, strict=True):
            self.assertEqual(section.script.split(), line.split())
        for section, (line, place) in zip(sections, sorted(self.take.last_whole().items()), strict=True):
            stretch = section.stretches()[0]
            self.assertLess(stretch.start_sample, (place.start_s + 0.05) * RATE_HZ, line)
            self.assertGreater(stretch.end_sample, (place.end_s - 0.05) * RATE_HZ, line)
        self.do("undo")
        self.assertEqual(self.titles(), was)

    def test_sections_that_wait_get_what_is_theirs_by_name_not_by_order(self):
        for at in (5, 2):
            self.production.add_section(title=f"Waits {at}", exact_name=f"ln_{at}.wav", role="line")
        self.give(text="".join(f"ln_{at}.wav\t{line}\n" for at, line in enumerate(self.lines)))
        self.words()
        self.work()
        self.do("split-by-text", key=self.words()["key"])
        for at in (5, 2):
            section = self.production.sections.get(title=f"Waits {at}")
            start_s = section.stretches()[0].start_sample / RATE_HZ
            self.assertAlmostEqual(start_s, self.take.last_whole()[at].start_s, delta=1.05)
        self.assertEqual(self.production.sections.count(), _LINES)

    def test_without_a_text_of_its_own_it_has_those_of_its_sections(self):
        self.do("text-away")
        self.assertEqual(self.words()["state"], "none")
        self.section.script = self.script
        self.section.save()
        self.assertEqual(self.words()["state"], "heard")
        self.do("undo")
        self.assertEqual(self.own().text.script.text, self.script)

    def test_what_is_no_text_is_said_and_nothing_is_changed(self):
        for values, told in (
            ({"text": " \n—\n"}, "no words in this text"),
            ({"text": "Some words.", "language": "xx"}, "Choose the language"),
            ({"file": SimpleUploadedFile("x.docx", b"PK\x03\x04 torn")}, "cannot be"),
        ):
            with self.subTest(told):
                self.assertContains(self.give(**values), told)
        self.assertEqual((Script.objects.count(), self.own().text.script.text), (1, self.script))

    def test_another_book_is_said_and_nothing_is_cut(self):
        self.give(text="Wer reitet so spät durch Nacht und Wind? Es ist der Vater mit seinem Kind. " * 6, language="de")
        self.words()
        self.work()
        told = self.words()
        self.assertEqual(told["state"], "another")
        self.assertIn("Hardly anything", told["said"])
        self.assertNotIn("readings", told)
        self.assertIn("not found yet", self.do("false-starts", expect=400)["said"])

    def test_it_is_left_taken_up_again_and_survives_a_killed_worker(self):
        self.give(text=self.script + "\nAnd one more.")
        self.assertEqual(self.words()["state"], "waiting")
        told = self.client.post(f"{self.address}words/listen/", {"do": "leave"}).json()
        self.assertEqual(told["state"], "left")
        self.work()
        self.assertEqual(self.words()["state"], "left")
        self.client.post(f"{self.address}words/listen/", {"do": "again"})
        hearing = Hearing.objects.get(recording=self.recording)
        hearing.start()
        put_back()
        hearings()
        self.work()
        self.assertEqual(self.words()["state"], "heard")
        hearing.refresh_from_db()
        hearing.path.write_bytes(b"torn")
        self.assertFalse(caches.is_kept(hearing.path))
        # What it is measured by may be gone as well, as after a restore.
        self.recording.measurement_path().unlink()
        self.assertEqual(self.words()["state"], "waiting")
        self.work()
        self.assertEqual(self.words()["state"], "heard")

    def test_the_words_of_a_finished_file_lie_where_they_are_heard_in_it(self):
        """As its sound is found by measuring: pauses of the file against the starts of its sentences."""
        self.do("false-starts")
        self.client.post(
            f"/deliveries/start/{self.production.pk}/", {"outlet": "radio-playout", "section": [self.section.pk]}
        )
        self.work()
        file = self.production.deliveries.first().files.get()
        told = json.loads(self.client.get(f"/deliveries/files/{file.pk}/words.json").content)["segments"]
        self.assertEqual([each["body"] for each in told], [" ".join(line.split()) for line in self.lines])
        pauses = find_pauses(measure(file.path).levels.envelope, shortest_s=0.25)
        for each in told:
            self.assertLess(min(abs(pauses.ends_s - each["startTime"])), 0.12, each)
        for kind in ("vtt", "srt", "txt"):
            self.assertContains(
                self.client.get(f"/deliveries/files/{file.pk}/words.{kind}?most=42"), "-->" if kind != "txt" else "\t"
            )
        for kind in ("doc", "epub"):
            # A WAV is nothing that a reader of EPUB has to play.
            self.assertEqual(self.client.get(f"/deliveries/files/{file.pk}/words.{kind}").status_code, 404)
        self.client.post(
            f"/deliveries/start/{self.production.pk}/", {"outlet": "podcast-host", "section": [self.section.pk]}
        )
        self.work()
        file = self.production.deliveries.first().files.get()
        epub = b"".join(self.client.get(f"/deliveries/files/{file.pk}/words.epub").streaming_content)
        with zipfile.ZipFile(io.BytesIO(epub)) as book:
            self.assertEqual(book.namelist()[0], "mimetype")
            self.assertEqual(book.read(f"book/audio/sound{file.path.suffix}"), file.path.read_bytes())
            self.assertEqual(book.read("book/text.smil").count(b"<par "), len(self.lines))

    def test_the_words_of_a_finished_file_do_not_follow_what_is_marked_later(self):
        """Of one that is all of the recording, and of one that is a stretch of it."""
        outlet, section = (
            {"outlet": "podcast-host", "section": [self.section.pk]},
            f"/deliveries/start/{self.production.pk}/",
        )
        for cut in (False, True):
            if cut:
                self.do("break", at=self.recording.frames - RATE_HZ)
            self.client.post(section, outlet | {"existing": "keep-both", "again": "yes"})
            self.work()
            file = self.production.deliveries.first().files.first()
            address = f"/deliveries/files/{file.pk}/words.vtt"
            before = self.client.get(address).content
            self.assertIn(self.lines[1].split()[0].encode(), before)
            self.do("mark", kind="strike", start=0, end=self.recording.frames // 2)
            self.assertEqual(self.client.get(address).content, before)
            self.do("undo")

    def test_words_go_with_the_sound_where_it_begins_later_or_earlier(self):
        as_it_is = spoken_in(self.production, None, self.recording)
        later = spoken_in(self.production, None, self.recording, later_s=0.25)
        self.assertAlmostEqual(later[3][0].start_s - as_it_is[3][0].start_s, 0.25)
        earlier = spoken_in(self.production, None, self.recording, later_s=-as_it_is[0][1].end_s)
        # What lies before the beginning is not heard.
        self.assertEqual([word.text for word in earlier[0]], [word.text for word in as_it_is[0][2:]])
        self.assertTrue(all(word.start_s >= 0 for words in earlier for word in words))

    def test_the_first_words_are_there_while_the_rest_is_looked_for(self):
        self.give(text=self.script + "\nAnd one more.")
        self.words()
        meanwhile = []

        def looked_at_meanwhile(*arguments, so_far, **more):
            found = hear(*arguments, **more)
            meanwhile.append(self.words())
            so_far(replace(found, readings=found.readings[:2]))
            meanwhile.append(self.words())
            meanwhile.append(self.client.get(f"{self.address}words/?so_far=2").json())
            self.assertIn("not found yet", self.do("false-starts", expect=400)["said"])
            so_far(replace(found, doubt=1.0))
            meanwhile.append(self.words())
            return found

        with patch.object(tasks, "hear", looked_at_meanwhile):
            self.work()
        nothing, two, known, doubtful = meanwhile
        self.assertEqual({told["state"] for told in meanwhile}, {"listening"})
        self.assertNotIn("readings", nothing | known | doubtful)
        self.assertEqual((len(two["readings"]), two["so_far"], known["so_far"]), (2, 2, 2))
        told = self.words()
        self.assertEqual((told["state"], len(told["readings"])), ("heard", len(self.take.places)))
        self.assertNotIn("so_far", told)
        self.assertEqual([each.name for each in Hearing.objects.get().path.parent.glob("*so-far*")], [])

    def test_a_text_given_while_another_is_looked_for_has_its_turn(self):
        self.give(text=self.script + "\nAnd one more.")
        self.words()

        def given_meanwhile(*arguments, **more):
            self.give(text=self.lines[0])
            self.words()
            return hear(*arguments, **more)

        with patch.object(tasks, "hear", given_meanwhile):
            self.work()
        hearing = Hearing.objects.get()
        self.assertEqual((hearing.lines, hearing.state), ([self.lines[0]], "heard"))

    def test_what_was_given_up_is_not_begun_and_what_is_not_kept_is_not_heard(self):
        self.give(text=self.lines[0])
        self.words()
        hearing = Hearing.objects.get()
        Hearing.objects.get().leave()
        self.assertFalse(hearing.start())
        self.assertEqual(Hearing.objects.get().state, "left")
        hearing.again()
        self.assertTrue(hearing.start())
        found = HeardScript((), (), (), (), 1.0, 0.0)
        # No file can lie in a folder that is a file.
        with (
            patch.object(Hearing, "path", self.recording.path / "words.json"),
            self.assertRaises(OSError),
        ):
            hearing.keep(found)
        self.assertEqual(Hearing.objects.get().state, "listening")

    def test_what_another_recogniser_heard_is_shown_and_cut_by(self):
        written = self.client.get(f"{self.address}words.vtt").content
        self.give(file=SimpleUploadedFile("other.vtt", written))
        told = self.words()
        self.assertEqual(told["state"], "heard")
        self.assertEqual(len(told["readings"]), len(self.take.places))
        # Cues are no headings: no sections are made of them.
        asked = self.client.post(f"{self.address}propose/", '{"by": "text"}', content_type="application/json")
        self.assertIn("headings, or a table", asked.json()["said"])
        late = b"WEBVTT\n\n09:00:00.000 --> 09:00:01.000\nLate.\n"
        self.assertContains(self.give(file=SimpleUploadedFile("late.vtt", late)), "beyond the end of the recording")
        self.do("undo")
        self.assertEqual(self.own().text.script.text, self.script)

    def test_somebody_elses_words_are_not_shown(self):
        self.client.logout()
        self.assertNotEqual(self.client.get(f"{self.address}words/").status_code, 200)


class Languages(PageTestCase):
    def test_a_language_is_known_by_its_names(self):
        for told, tag in (("English", "en"), ("Deutsch", "de"), ("german", "de"), ("fr-CA", "fr"), ("Elvish", "")):
            self.assertEqual(tag_of(told), tag, told)

    def test_a_language_that_is_not_spoken_is_said(self):
        self.section.script = "Some words of it."
        self.section.save()
        self.production.language = "Elvish"
        self.production.save()
        told = self.client.get(f"{self.address}words/").json()
        self.assertEqual(told["state"], "unspoken")

    def test_where_nobody_speaks_no_word_is_found(self):
        address = self.open(noise(-60, 3.0), name="hiss.wav")
        self.client.post(f"{address}text/", {"language": "en", "text": "Nobody says this."})
        self.client.get(f"{address}words/")
        self.work()
        self.assertIn(self.client.get(f"{address}words/").json()["state"], ("heard", "another"))
