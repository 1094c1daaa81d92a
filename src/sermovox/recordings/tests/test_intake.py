"""What happens to a file from its first byte to its slip, and to files that are none."""

import errno
import stat
from unittest import mock

import numpy as np

from mastering.tests.signals import noise, speech, written, written_aac
from sermovox.history.changing import undo
from sermovox.keeping import storage
from sermovox.productions.models import Production
from sermovox.productions.order import remove
from sermovox.recordings.intake import Refused, shown_name, take_in
from sermovox.recordings.models import Recording
from sermovox.ui.tests.base import TUS, AppTestCase


class Arriving(AppTestCase):
    def test_formats_people_send_are_measured_and_shown(self):
        samples = speech(seconds=4)
        paths = [
            written(self.folder, samples, name="sixteen.wav"),
            written(self.folder, samples, name="twentyfour.wav", subtype="PCM_24"),
            written(self.folder, samples, name="float.wav", subtype="FLOAT"),
            written(self.folder, samples, name="apple.aiff"),
            written(self.folder, samples, name="small.flac"),
            written(self.folder, samples, name="lossy.mp3", subtype=None),
            written_aac(self.folder, samples, name="phone.m4a"),
        ]
        for path in paths:
            self.assertEqual(self.upload(path)["state"], "here", path.name)
        self.work()
        for recording in self.production.recordings.all():
            with self.subTest(recording.name):
                self.assertEqual(recording.state, "ready", recording.refusal)
                slip = self.client.get(recording.get_absolute_url())
                for fact in ("Integrated loudness", "True peak", "RMS", "Noise floor", "44100 Hz", "LUFS", "dBTP"):
                    self.assertContains(slip, fact)
                self.assertEqual(self.client.get(f"/recordings/{recording.pk}/waveform/").status_code, 200)
        self.assertEqual(self.production.sections.count(), len(paths))

    def test_each_is_stored_once_under_its_hash_read_only_and_unchanged(self):
        path = written(self.folder, speech(seconds=3))
        other = Production.objects.create(owner=self.narrator, title="Another")
        self.upload(path)
        self.upload(path, production=other)
        first, second = Recording.objects.all()
        self.assertEqual(first.path, second.path)
        self.assertEqual(first.path.read_bytes(), path.read_bytes())
        self.assertFalse(first.path.stat().st_mode & stat.S_IWUSR)
        first.delete()
        self.assertTrue(second.path.exists(), "the other production still has it")
        second.delete()
        self.assertFalse(second.path.exists())

    def test_the_same_file_twice_is_said_and_kept_once(self):
        path = written(self.folder, speech(seconds=3))
        self.upload(path, name="first.wav")
        outcome = self.upload(path, name="second.wav")
        self.assertIn("same file as “first.wav”", outcome["said"])
        self.assertEqual((self.production.recordings.count(), self.production.sections.count()), (1, 1))

    def test_a_file_whose_section_is_gone_comes_back_when_it_is_sent_again(self):
        section = self.bring_in()
        section.delete()
        outcome = self.upload(self.folder / "take.wav")
        self.assertEqual((outcome["said"], self.production.recordings.count()), ("", 1))
        self.assertTrue(self.production.sections.get().recording.ready)

    def test_names_of_any_kind_are_shown_and_do_no_harm(self):
        names = ["../../up.wav", "quo\"te's <b>.wav", "🎙️ take.wav", "x" * 300 + ".wav", "C:\\takes\\one.wav", ""]
        for seed, name in enumerate(names):
            path = written(self.folder, noise(-20, 1, seed=seed))
            self.assertEqual(self.upload(path, name=name)["state"], "here", name)
        shown = set(self.production.recordings.values_list("name", flat=True))
        self.assertIn("up.wav", shown)
        self.assertIn("one.wav", shown)
        self.assertIn("🎙️ take.wav", shown)
        self.assertTrue(all(len(name) <= 255 for name in shown))
        self.assertContains(self.client.get(f"/productions/{self.production.pk}/"), "&lt;b&gt;")

    def test_a_recording_a_browser_cannot_play_has_a_copy_to_listen_to(self):
        section = self.bring_in(name="apple.aiff")
        answer = self.client.get(f"/recordings/{section.recording_id}/audio/")
        self.assertEqual(answer["Content-Type"], "audio/flac")
        self.assertEqual(b"".join(answer.streaming_content)[:4], b"fLaC")

    def test_what_is_odd_about_a_recording_is_said(self):
        section = self.bring_in(np.clip(np.repeat(speech() * 9, 2, axis=1), -1, 1))
        slip = self.client.get(section.recording.get_absolute_url())
        self.assertContains(slip, "Clipped in")
        self.assertContains(slip, "Both sides are the same")


class Refusing(AppTestCase):
    def assert_nothing_kept(self):
        self.assertFalse(Recording.objects.exclude(state="refused").exists())
        self.assertEqual(list(storage.incoming().iterdir()), [])
        stored = self.folder / "data" / "recordings"
        self.assertEqual([path for path in stored.rglob("*") if path.is_file()], [])

    def test_what_is_no_recording_is_refused_at_the_door(self):
        for name, content, sentence in (
            ("empty.wav", b"", "empty (0 bytes)"),
            ("text.wav", b"Once upon a time there was no sound at all." * 20, "not a sound file"),
            ("page.mp3", b"<html>" + b"<p>text</p>" * 500, "not a sound file"),
        ):
            path = self.folder / name
            path.write_bytes(content)
            outcome = self.upload(path)
            self.assertEqual(outcome["state"], "refused")
            self.assertIn(sentence, outcome["said"])
        self.assert_nothing_kept()
        self.assertFalse(self.production.sections.exists())

    def test_a_cut_off_recording_is_refused_once_it_is_read(self):
        path = written(self.folder, speech())
        path.write_bytes(path.read_bytes()[:400000])
        self.upload(path)
        self.work()
        recording = self.production.recordings.get()
        self.assertEqual(recording.state, "refused")
        page = self.client.get(f"/productions/{self.production.pk}/")
        self.assertContains(page, "stops after 0:04, though it says it is 0:06 long")
        self.assertTrue(recording.binned_at and recording.path.exists(), "what came in is safe")
        recording.empty_bin()
        self.assert_nothing_kept()
        self.client.post(f"/recordings/{recording.pk}/delete/")
        self.assertFalse(self.production.sections.exists())

    def test_the_whole_file_may_be_sent_after_a_refusal(self):
        path = written(self.folder, speech())
        whole = path.read_bytes()
        path.write_bytes(whole[:400000])
        for _ in range(2):
            self.upload(path)
            self.work()
        self.assertEqual(self.production.sections.count(), 1, "the same refused file takes the same place")
        path.write_bytes(whole)
        self.upload(path)
        self.work()
        self.assertEqual(self.production.recordings.filter(state="ready").count(), 1)

    def test_a_full_disk_or_one_that_breaks_keeps_nothing(self):
        path = written(self.folder, speech(seconds=3))
        for number, sentence in ((errno.ENOSPC, "disk is full"), (errno.EIO, "could not be read or kept")):
            with mock.patch.object(storage.os, "replace", side_effect=OSError(number, "broken")):
                begun = self.begin_upload("take.wav", path.stat().st_size)
                sent = self.send(begun["Location"], path.read_bytes(), 0)
                self.assertContains(sent, sentence, status_code=507 if number == errno.ENOSPC else 503)
                outcome = self.client.get(begun["Location"]).json()
                self.assertEqual(outcome["state"], "finishing", "what has arrived stays")
                self.assertIn(sentence, outcome["said"])
                with self.assertRaisesRegex(Refused, sentence):
                    take_in(self.production, path)
            self.client.delete(begun["Location"], headers=TUS)
        small = mock.patch("sermovox.keeping.room.shutil.disk_usage", return_value=mock.Mock(free=1000, total=10**9))
        with small, self.assertRaisesRegex(Refused, "disk is full"):
            take_in(self.production, path)
        self.assert_nothing_kept()

    def test_too_large(self):
        path = written(self.folder, speech(seconds=3))
        with self.settings(MAX_UPLOAD_BYTES=1000):
            with self.assertRaisesRegex(Refused, "larger than"):
                take_in(self.production, path)
            self.assertContains(self.begin_upload("take.wav", 1001), "larger than", status_code=413)
        self.assert_nothing_kept()


class Playing(AppTestCase):
    def test_any_part_of_a_recording_can_be_asked_for(self):
        section = self.bring_in()
        whole = section.recording.path.read_bytes()
        address = f"/recordings/{section.recording_id}/audio/"
        for asked, start, stop in (
            ("bytes=0-99", 0, 100),
            ("bytes=1000-", 1000, len(whole)),
            ("bytes=-50", len(whole) - 50, len(whole)),
            (f"bytes=10-{len(whole) * 2}", 10, len(whole)),
        ):
            answer = self.client.get(address, headers={"Range": asked})
            self.assertEqual(answer.status_code, 206, asked)
            self.assertEqual(answer["Content-Range"], f"bytes {start}-{stop - 1}/{len(whole)}")
            self.assertEqual(b"".join(answer.streaming_content), whole[start:stop])
        answer = self.client.get(address, headers={"Range": f"bytes={len(whole)}-"})
        self.assertEqual((answer.status_code, answer["Content-Range"]), (416, f"bytes */{len(whole)}"))
        answer = self.client.get(address)
        self.assertEqual((answer.status_code, answer["Accept-Ranges"]), (200, "bytes"))
        self.assertEqual(b"".join(answer.streaming_content), whole)


class Naming(AppTestCase):
    def test_shown_names_and_titles(self):
        self.assertEqual(shown_name("a/b/../c.wav"), "c.wav")
        self.assertEqual(shown_name("\x00\x1b[31m.wav"), "[31m.wav")

    def together(self, *names: str) -> None:
        """Files that are sent together; the page numbers them as their names are sorted."""
        for rank, name in enumerate(sorted(names)):
            path = written(self.folder, speech(seconds=4, seed=len(name) + 7 * rank), name=name)
            outcome = self.upload(path, batch="one", rank=rank)
            self.assertEqual((outcome["state"], outcome["said"]), ("here", ""))

    def told(self) -> list[tuple]:
        return list(self.production.sections.values_list("role", "number", "title"))

    def test_a_book_takes_roles_numbers_titles_and_order_from_its_names_and_gives_them_back(self):
        self.together("ch 1.wav", "ch 2 - The Ford.wav", "closing credits.wav", "opening credits.wav")
        read = [
            ("opening credits", None, "Opening credits"),
            ("chapter", 1, "Chapter 1"),
            ("chapter", 2, "The Ford"),
            ("closing credits", None, "Closing credits"),
        ]
        self.assertEqual(self.told(), read)
        order = self.production.get_absolute_url()
        page = self.client.get(order)
        self.assertContains(page, "4 sections took role, number and title from their files’ names")
        sections = ",".join(map(str, page.context["read_from_names"]))
        self.client.post(f"{order}change/", {"do": "as-named", "sections": sections})
        plain = ("ch 1", "ch 2 - The Ford", "closing credits", "opening credits")
        self.assertEqual(self.told(), [("chapter", None, title) for title in plain])
        self.assertNotContains(self.client.get(order), "took role")
        self.client.post(f"{order}change/", {"do": "undo"})
        self.assertEqual(self.told(), read)

    def test_numbers_of_order_before_the_names_count_more_than_roles(self):
        self.together("01 sample.wav", "02 opening credits.wav", "03 ch 1.wav")
        self.assertEqual([role for role, *_ in self.told()], ["sample", "opening credits", "chapter"])

    def test_what_comes_in_runs_goes_on_from_the_last(self):
        self.together("ep 11 - Fog.wav")
        self.production.sections.update(treatment={"ride": "always", "noise_s": [0.5, 1.5]})
        self.upload(written(self.folder, speech(seconds=4), name="tonight.wav"))
        *_, last = self.production.sections.all()
        self.assertEqual((last.role, last.number, last.title), ("episode", 12, "tonight"))
        self.assertEqual(last.treatment, {"ride": "always"}, "where noise is learned is a place in one recording")


class ForASection(AppTestCase):
    """A recording that is sent for one section takes the place of what is there."""

    def prepare(self):
        super().prepare()
        self.one = self.bring_in(speech(seconds=4), name="one.wav")
        self.two = self.bring_in(speech(seconds=4, seed=8), name="two.wav")
        self.again = written(self.folder, speech(seconds=4, seed=21), name="again.wav")

    def names(self) -> list[str]:
        return [section.recording.name for section in self.production.sections.all()]

    def test_it_replaces_its_recording_and_one_undo_gives_it_back(self):
        self.upload(self.again, section=self.two.pk)
        self.work()
        self.assertEqual(self.names(), ["one.wav", "again.wav"])
        self.assertEqual([r.name for r in self.production.recordings.unused()], ["two.wav"])
        self.assertEqual(undo(self.production).words, "Give “two” again.wav")
        self.assertEqual(self.names(), ["one.wav", "two.wav"])

    def test_what_is_here_already_is_given_all_the_same_and_the_same_is_told(self):
        outcome = self.upload(self.folder / "one.wav", section=self.two.pk)
        self.assertEqual((outcome["said"], self.names()), ("", ["one.wav", "one.wav"]))
        outcome = self.upload(self.folder / "one.wav", section=self.two.pk)
        self.assertIn("This is the same file", outcome["said"])

    def test_a_section_that_is_gone_or_of_another_production_is_not_given_anything(self):
        theirs = Production.objects.create(owner=self.narrator, title="Other")
        section = theirs.add_section(title="Theirs")
        self.upload(self.again, section=section.pk)
        self.assertEqual(self.names(), ["one.wav", "two.wav", "again.wav"])
        self.assertIsNone(section.recording)
        later = written(self.folder, speech(seconds=4, seed=30), name="later.wav")
        begun = self.begin_upload("later.wav", later.stat().st_size, section=self.two.pk)
        remove(self.production, self.narrator, self.two)
        self.send(begun["Location"], later.read_bytes(), 0)
        self.assertEqual(self.names(), ["one.wav", "again.wav", "later.wav"])

    def test_what_is_refused_changes_nothing(self):
        bad = self.folder / "bad.wav"
        bad.write_text("Once upon a time")
        self.assertEqual(self.upload(bad, section=self.two.pk)["state"], "refused")
        self.assertEqual(self.names(), ["one.wav", "two.wav"])
