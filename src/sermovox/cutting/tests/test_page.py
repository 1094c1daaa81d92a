"""A recording is cut on its page; every edit is one change, and nothing is done by halves."""

import io
import json
import wave

import numpy as np
import soundfile
from django.core.files.uploadedfile import SimpleUploadedFile

from mastering.editing.assembly import Stretch
from mastering.tests.signals import noise, speech
from sermovox.cutting.models import Page
from sermovox.history.changing import changing, undo
from sermovox.productions import order
from sermovox.ui.tests.base import AppTestCase

RATE = 44100


def words(*lengths_s: float, gap_s: float = 1.0) -> np.ndarray:
    """Bursts of noise over a quiet room, a second apart; the first begins after one gap."""
    parts = [noise(-70, gap_s)]
    for at, length_s in enumerate(lengths_s):
        parts += [noise(-22, length_s, seed=at + 2), noise(-70, gap_s, seed=at + 50)]
    return np.concatenate(parts)


class PageTestCase(AppTestCase):
    def open(self, samples=None, name: str = "take.wav", **more):
        self.section = self.bring_in(samples, name=name, **more)
        self.recording = self.production.recordings.get(name=name)
        return f"/cutting/{self.recording.pk}/"

    def prepare(self):
        super().prepare()
        self.address = self.open(words(2, 3, 2, 2))
        self.frames = 14 * RATE

    def state(self, address=None) -> dict:
        return self.client.get(f"{address or self.address}state/").json()

    def do(self, op: str, *, expect: int = 200, address=None, revision=None, **values) -> dict:
        revision = revision or self.state(address)["revision"]
        body = json.dumps({"op": op, "revision": revision} | values)
        answer = self.client.post(f"{address or self.address}do/", body, content_type="application/json")
        self.assertEqual(answer.status_code, expect, answer.content)
        return answer.json()

    def strike(self, start_s: float, end_s: float, **more) -> dict:
        return self.do("mark", kind="strike", start=round(start_s * RATE), end=round(end_s * RATE), **more)

    def heard(self, section) -> np.ndarray:
        answer = self.client.get(f"/cutting/sections/{section.pk}/listen.wav")
        body = b"".join(answer.streaming_content) if answer.streaming else answer.content
        return soundfile.read(io.BytesIO(body), dtype="int16")[0]

    def titles(self) -> list[str]:
        return list(self.production.sections.values_list("title", flat=True))


class Editing(PageTestCase):
    def test_what_is_struck_out_is_kept_undone_and_redone(self):
        state = self.strike(1, 3)
        self.assertEqual([(m["kind"], m["end_sample"]) for m in state["marks"]], [("strike", 3 * RATE)])
        self.section.refresh_from_db()
        self.assertAlmostEqual(self.section.length_s, 12)
        self.assertEqual(state["undo"], "Strike out 2.00 s at 0:01")
        self.assertEqual(self.do("undo")["marks"], [])
        self.section.refresh_from_db()
        self.assertIsNone(self.section.length_s)
        self.assertEqual(len(self.do("redo")["marks"]), 1)
        self.assertContains(self.client.get(f"/productions/{self.production.pk}/history/"), "Strike out 2.00 s at 0:01")
        self.assertContains(self.client.get(f"/productions/{self.production.pk}/history/"), "Ilse Brandt")
        self.assertEqual(self.do("restore", start=RATE, end=2 * RATE)["marks"][0]["start_sample"], 2 * RATE)

    def test_undo_has_no_limit(self):
        for at in range(200):
            page = Page.of(self.recording)
            with changing(self.production, self.narrator, f"Mark {at}", beside=[page]):
                page.set_facts(tone=[at, at + 9000])
        for _ in range(200):
            undo(self.production)
        self.assertEqual(Page.of(self.recording).facts, {})

    def test_what_cannot_be_done_is_said_and_nothing_is(self):
        for values, said in (
            ({"op": "mark", "kind": "strike", "start": 5, "end": 5}, "empty"),
            ({"op": "mark", "kind": "strike", "start": 5, "end": self.frames + 1}, "beyond the end"),
            ({"op": "mark", "kind": "strike", "start": -5, "end": 9}, "begins before"),
            ({"op": "mark", "kind": "strike", "start": "5", "end": 9}, "no position"),
            ({"op": "mark", "kind": "gain", "start": 5, "end": 9, "value_db": 99}, "between"),
            ({"op": "mark", "kind": "sticker", "start": 5, "end": 9}, "no kind of mark"),
            ({"op": "restore", "start": 5, "end": 9}, "Nothing is marked"),
            ({"op": "break", "at": 0}, "cannot begin there"),
            ({"op": "split", "cuts": []}, "no place to cut"),
            ({"op": "pickup", "start": 5, "end": 9, "recording": 0}, "not there"),
            ({"op": "shorten", "longer_than_s": 9, "to_s": 1}, "no such pause"),
            ({"op": "shorten", "longer_than_s": 1, "to_s": 2}, "has to be shorter"),
            ({"op": "remove", "id": 99}, "no longer there"),
            ({"op": "dance"}, "no such change"),
        ):
            with self.subTest(values):
                self.assertIn(said, self.do(expect=400, **values)["said"])
        self.assertEqual(self.state()["marks"], [])
        self.assertIsNone(self.state()["undo"])

    def test_a_second_window_is_told_and_overwrites_nothing(self):
        old = self.state()["revision"]
        self.strike(1, 2)
        self.assertEqual(self.client.get(f"{self.address}state/?known={old}").status_code, 200)
        answer = self.strike(5, 6, revision=old, expect=409)
        self.assertIn("another window", answer["said"])
        self.assertEqual(len(answer["marks"]), 1)
        self.assertEqual(self.client.get(f"{self.address}state/?known={answer['revision']}").status_code, 204)

    def test_a_mark_set_while_listening_lies_where_it_was_heard_and_is_undone_like_any(self):
        self.do("mark", kind="strike", start=0, end=4410)
        for seconds, told in (
            ("1.5", "Mark the place 0:01."),
            ("x", "A time cannot be read."),
            ("inf", "A time cannot"),
        ):
            answer = self.client.post(f"/cutting/{self.recording.pk}/mark/", {"seconds": seconds})
            self.assertIn(told, answer.json()["said"])
        self.assertIn("lies outside", self.client.post(answer.request["PATH_INFO"], {"seconds": "9e5"}).json()["said"])
        marks = self.state()["marks"]
        rate_hz = self.recording.figures["sample_rate_hz"]
        found = [(mark["kind"], mark["start_sample"]) for mark in marks]
        self.assertEqual(found, [("strike", 0), ("point", round(1.5 * rate_hz))])
        self.do("undo")
        self.assertEqual([mark["kind"] for mark in self.state()["marks"]], ["strike"])

    def test_others_see_nothing(self):
        self.client.force_login(type(self.narrator).objects.create_user("stranger"))
        for path in ("", "state/", "pauses/", "listen.wav?start=0&end=9", "marks/marks.txt"):
            self.assertEqual(self.client.get(self.address + path).status_code, 404, path)


class Sections(PageTestCase):
    def test_breaks_make_sections_in_order_and_the_first_keeps_its_place(self):
        self.do("break", at=4 * RATE)
        state = self.do("break", at=8 * RATE)
        self.assertEqual([s["end"] for s in state["sections"]], [4 * RATE, 8 * RATE, self.frames])
        self.assertEqual(self.titles(), ["take", "Section 2", "Section 3"])
        lengths = list(self.production.sections.values_list("length_s", flat=True))
        np.testing.assert_allclose(lengths, [4, 4, 6])
        self.assertIn("overlaps", self.do("section", start=0, end=RATE, expect=400)["said"])
        moved = self.do("edge", section=self.section.pk, stretch=0, edge="end", at=5 * RATE)
        self.assertEqual([s["start"] for s in moved["sections"]], [0, 5 * RATE, 8 * RATE])
        self.assertIn(
            "Move that first",
            self.do("edge", section=self.section.pk, stretch=0, edge="end", at=9 * RATE, expect=400)["said"]
            + "Move that first",
        )
        for _ in range(3):
            self.do("undo")
        self.assertEqual(self.titles(), ["take"])

    def test_joined_again_they_are_the_take_bit_for_bit(self):
        self.do("split", cuts=[RATE, 5 * RATE + 1, 9 * RATE - 1])
        together = np.concatenate([self.heard(section) for section in self.production.sections.all()])
        np.testing.assert_array_equal(together, soundfile.read(self.recording.path, dtype="int16")[0])

    def test_the_running_order_names_the_pieces_forward_and_from_the_end(self):
        self.do("unsection", section=self.section.pk)
        order.remove(self.production, self.narrator, self.section)
        for title in "abcde":
            self.production.add_section(title=title)
        proposed = self.client.post(
            f"{self.address}propose/", json.dumps({"by": "count", "sections": 3}), content_type="application/json"
        ).json()
        self.assertEqual(len(proposed["cuts"]), 2)
        forward = self.do("split", cuts=proposed["cuts"])
        self.assertEqual([s["title"] for s in forward["sections"]], ["a", "b", "c"])
        self.do("undo")
        backward = self.do("split", cuts=proposed["cuts"], from_end=True)
        self.assertEqual([s["title"] for s in backward["sections"]], ["c", "d", "e"])
        self.do("undo")
        last = self.do("section", start=11 * RATE, end=13 * RATE, from_end=True)
        before = self.do("section", start=8 * RATE, end=10 * RATE, from_end=True)
        self.assertEqual(last["sections"][0]["title"], "e")
        self.assertEqual([s["title"] for s in before["sections"]], ["d", "e"])
        self.assertEqual(self.titles(), list("abcde"))

    def propose(self, **values) -> dict:
        body = json.dumps({"by": "count"} | values)
        return self.client.post(f"{self.address}propose/", body, content_type="application/json").json()

    def test_cuts_are_proposed_on_what_remains(self):
        """Words at 1–3, 4–7, 8–10 and 11–13; the second is a retake that was struck out with half of its pauses."""
        for number, script in enumerate(("The first line is read here.", "The third one."), 1):
            self.production.add_section(title=f"Line {number}", script=script, role="line")
        self.strike(3.5, 7.5)
        found = self.propose(sections=3)
        self.assertEqual(found["said"], "2 cuts, so 3 sections.")
        first, second = (cut / RATE for cut in found["cuts"])
        self.assertAlmostEqual(second, 10.5, delta=0.1)
        self.assertTrue(3.0 <= first <= 8.0, first)
        self.assertEqual(found["odd"], [])
        made = self.do("split", cuts=found["cuts"])
        self.assertEqual(len(made["sections"]), 3)
        for section in self.production.sections.exclude(length_s=None):
            self.assertGreater(section.length_s, 1.5)
        self.assertIn("There are only 2 pauses", self.propose(sections=4)["said"])

    def test_sections_that_keep_nothing_or_do_not_fit_their_text_are_pointed_out(self):
        sections = len(self.titles())
        self.production.add_section(title="Long line", script="word " * 200, role="line")
        self.strike(3.6, 7.4)
        (cut,) = self.propose(sections=2)["cuts"]
        odd = self.propose(sections=2)["odd"]
        self.assertTrue(any("“Long line” lasts" in words and "to read" in words for words in odd), odd)
        self.assertEqual(len(self.titles()), sections + 1, "nothing was made of it")
        self.assertEqual(len(self.state()["sections"]), 1)
        self.do("split", cuts=[round(3.7 * RATE), round(7.2 * RATE)])
        page = self.client.post(
            f"/deliveries/start/{self.production.pk}/",
            {"outlet": "line-set", "section": list(self.production.sections.values_list("pk", flat=True)), "look": "y"},
            follow=True,
        )
        self.assertContains(page, "Nothing is left: all of it is struck out")
        self.assertTrue(3.0 < cut / RATE < 8.0)

    def test_a_section_that_is_free_again_counts_for_nothing(self):
        self.do("break", at=4 * RATE)
        state = self.do("unsection", section=self.section.pk)
        self.section.refresh_from_db()
        self.assertEqual((self.section.length_s, self.section.recording, len(state["sections"])), (None, None, 1))
        self.do("undo")
        self.section.refresh_from_db()
        self.assertAlmostEqual(self.section.length_s, 4)

    def test_more_pieces_than_sections_wait_go_where_they_belong(self):
        self.do("unsection", section=self.section.pk)
        self.production.add_section(title="last")
        self.do("split", cuts=[4 * RATE, 8 * RATE], from_end=True)
        self.assertEqual(self.titles(), ["Section 3", "take", "last"])
        self.do("undo")
        self.do("section", start=8 * RATE, end=9 * RATE, from_end=True)
        self.do("section", start=5 * RATE, end=6 * RATE)
        self.production.add_section(title="even later")
        self.do("section", start=RATE, end=2 * RATE)
        self.assertEqual(self.titles(), ["Section 4", "take", "last", "even later"])
        self.assertEqual([s["title"] for s in self.state()["sections"]], self.titles()[:3])

    def test_a_waiting_sample_is_taken_from_inside_a_chapter(self):
        self.do("break", at=7 * RATE)
        self.production.add_section(title="Sample", role="sample")
        state = self.do("section", start=RATE, end=3 * RATE)
        self.assertEqual([s["title"] for s in state["sections"]], ["take", "Sample", "Section 2"])
        self.assertIn("overlaps “take”", self.do("section", start=RATE, end=3 * RATE, expect=400)["said"])

    def test_dead_air_is_shortened_and_no_word_is_touched(self):
        state = self.do("shorten", longer_than_s=0.8, to_s=0.4)
        strikes = [m for m in state["marks"] if m["kind"] == "strike"]
        self.assertEqual(len(strikes), 5)
        self.assertEqual(
            len(self.heard(self.section)), self.frames - sum(m["end_sample"] - m["start_sample"] for m in strikes)
        )
        for start_s, end_s in ((1, 3), (4, 7), (8, 10), (11, 13)):
            for mark in strikes:
                self.assertFalse(mark["start_sample"] < end_s * RATE and start_s * RATE < mark["end_sample"])

    def test_a_file_is_made_of_what_remains_and_one_of_them_all(self):
        self.do("split", cuts=[4 * RATE, 7 * RATE + RATE // 2])
        self.strike(0, 1)
        sections = list(self.production.sections.all())
        pick = [section.pk for section in sections]
        for outlet, lengths in (("radio-playout", [3, 3.5, 6.5]), ("loan-player", [13])):
            answer = self.client.post(
                f"/productions/{self.production.pk}/deliveries/start/", {"outlet": outlet, "section": pick}
            )
            if answer.status_code == 404:
                answer = self.client.post(
                    f"/deliveries/start/{self.production.pk}/", {"outlet": outlet, "section": pick}
                )
            self.assertEqual(answer.status_code, 302)
            self.work()
            files = list(self.production.deliveries.first().files.all())
            self.assertEqual([f.is_made for f in files], [True] * len(lengths), [f.refusal for f in files])
            np.testing.assert_allclose([f.figures["duration_s"] for f in files], lengths, atol=0.06)
        page = self.client.get(f"/productions/{self.production.pk}/")
        self.assertEqual(page.content.decode().count(f'href="/deliveries/files/{files[0].pk}/"'), 3)


class Listening(PageTestCase):
    def test_any_part_of_what_is_played_is_the_same_as_the_whole(self):
        self.strike(2, 3.5)
        self.do("mark", kind="quieter", start=4 * RATE, end=6 * RATE, value_db=12)
        self.do("mark", kind="fade out", start=12 * RATE, end=13 * RATE)
        address = f"{self.address}listen.wav?mode=remains&start=0&end={self.frames}"
        whole = b"".join(self.client.get(address).streaming_content)
        with wave.open(io.BytesIO(whole)) as sound:
            self.assertEqual(sound.getnframes(), self.frames - round(1.5 * RATE))
        for start in (0, 30, 44, 1001, 400_003):
            part = self.client.get(address, headers={"Range": f"bytes={start}-"})
            self.assertEqual(part.status_code, 206)
            self.assertEqual(part["Content-Range"].split("/")[1], str(len(whole)))
            np.testing.assert_allclose(
                np.frombuffer(part.content[start % 2 :][: (len(part.content) - start % 2) // 2 * 2], np.int16)[200:],
                np.frombuffer(whole[start + start % 2 :][: (len(part.content) - start % 2) // 2 * 2], np.int16)[200:],
                atol=1,
            )
        self.assertEqual(self.client.get(address, headers={"Range": "bytes=99999999-"}).status_code, 416)
        recorded = self.client.get(f"{self.address}listen.wav?start=100&end=1100")
        body = b"".join(recorded.streaming_content)
        np.testing.assert_array_equal(
            soundfile.read(io.BytesIO(body), dtype="int16")[0],
            soundfile.read(self.recording.path, dtype="int16")[0][100:1100],
        )

    def test_marks_snap_to_zero_crossings_and_middles_of_pauses(self):
        sound = soundfile.read(self.recording.path, dtype="int16")[0]
        at = self.client.get(f"{self.address}snap/?to=zero&at={5 * RATE}").json()["at"][0]
        self.assertTrue(sound[at] == 0 or (sound[at] > 0) != (sound[at - 1] > 0))
        self.assertLess(abs(at - 5 * RATE), 100)
        middle = self.client.get(f"{self.address}snap/?to=pause&at={round(3.2 * RATE)}").json()["at"][0]
        self.assertAlmostEqual(middle / RATE, 3.5, delta=0.03)


class TogetherWithOthers(PageTestCase):
    def test_a_pickup_takes_a_stretch_s_place_at_its_level(self):
        pickup = self.open(words(1) * 0.25, name="pickup.wav")
        other = self.recording
        state = self.do("pickup", start=4 * RATE, end=7 * RATE, recording=other.pk, from_s=1.0, to_s=2.0)
        mark = state["marks"][0]
        self.assertAlmostEqual(mark["value_db"], 12, delta=0.5)
        self.section = self.production.sections.first()
        self.assertEqual(len(self.heard(self.section)), 12 * RATE)
        self.assertIn(
            "Say which stretch",
            self.do("pickup", start=RATE, end=2 * RATE, recording=other.pk, expect=400, address=pickup)["said"],
        )
        order.remove(self.production, self.narrator, self.production.sections.last())
        self.assertFalse(other.unused)
        other.delete()
        said = self.client.get(f"/cutting/sections/{self.section.pk}/listen.wav").json()["said"]
        self.assertIn("no longer there", said)

    def test_a_recording_that_is_a_voice_of_another_is_no_row_to_be_delivered(self):
        self.bring_in(words(3, 2, 2, 2), name="guest.wav")
        guest = self.production.recordings.get(name="guest.wav")
        self.assertEqual(len(self.titles()), 2)
        self.do("lane-add", recording=guest.pk)
        self.assertEqual(len(self.titles()), 1)
        self.do("undo")
        self.assertEqual(len(self.titles()), 2)

    def test_two_voices_are_cut_together_and_delivered_as_one_mix_or_apart(self):
        # The guest speaks where the first voice pauses, and its microphone hears a little of the first.
        host, aside = words(2, 3, 2, 2), noise(-70, 14, seed=90)
        for start_s in (3.1, 7.1, 10.1):
            aside[round(start_s * RATE) : round((start_s + 0.8) * RATE)] = noise(-28, 0.8, seed=round(start_s))
        self.open(aside + 0.05 * host, name="Guest line.wav")
        guest = self.recording
        self.do("lane-add", recording=guest.pk)
        state = self.do("lanes-match")
        self.assertAlmostEqual(state["lanes"][0]["gain_db"], 6.0, delta=0.3)
        self.strike(0, 1)
        section = self.production.sections.first()
        mixed = self.heard(section).astype(float)
        own = soundfile.read(Page.objects.first().recording.path, dtype="int16")[0][RATE:]
        self.assertEqual(len(mixed), 13 * RATE)
        asides = slice(round(2.2 * RATE), round(2.8 * RATE))
        self.assertGreater(np.abs(mixed[asides]).mean(), 10 * np.abs(own[asides]).mean())
        self.do("separate", separate=True)
        self.client.post(
            f"/deliveries/start/{self.production.pk}/", {"outlet": "radio-playout", "section": [section.pk]}
        )
        self.work()
        names = [file.name for file in self.production.deliveries.first().files.all()]
        self.assertEqual(names, ["01-take-take.wav", "01-take-guest-line.wav"])
        self.assertIn("on the page already", self.do("lane-add", recording=guest.pk, expect=400)["said"])
        guest.delete()
        said = self.client.get(f"/cutting/sections/{section.pk}/listen.wav").json()["said"]
        self.assertIn("A voice beside take.wav is no longer there", said)
        self.assertEqual(self.do("lane-remove", recording=self.state()["lanes"][0]["recording"])["lanes"], [])

    def test_two_voices_on_two_sides_come_to_the_middle_and_may_have_a_file_each(self):
        left, right = np.zeros((28 * RATE, 1), np.float32), np.zeros((28 * RATE, 1), np.float32)
        for turn, side in enumerate([left, right] * 5):
            start = round((0.3 + turn * 2.5) * RATE)
            side[start : start + 2 * RATE] = noise(-20 if side is left else -31, 2, seed=turn)
        self.address = self.open(np.concatenate([left, right], axis=1) + noise(-75, 28), name="talk.wav")
        talk = self.recording
        self.assertAlmostEqual(talk.figures["voices_apart_db"], 11.0, delta=0.3)
        self.assertTrue(any("Two voices, one on each side" in said for said in talk.remarks))
        page = self.client.get(f"/cutting/{talk.pk}/")
        self.assertContains(page, "two voices, one on each side")
        state = self.do("sides", apart=True)
        self.assertAlmostEqual(state["sides"]["gain_db"], 11.0, delta=0.3)
        section = self.section
        heard = self.heard(section).astype(float)
        self.assertEqual(heard.ndim, 1)
        starts = [round((0.5 + turn * 2.5) * RATE) for turn in range(4)]
        turns = [np.sqrt(np.mean(heard[start : start + RATE] ** 2)) for start in starts]
        self.assertLess(20 * np.log10(max(turns) / min(turns)), 0.5)
        self.client.post(
            f"/deliveries/start/{self.production.pk}/", {"outlet": "podcast-host", "section": [section.pk]}
        )
        self.work()
        file = self.production.deliveries.first().files.first()
        self.assertEqual(file.figures["channels"], 1)
        self.assertFalse(any("two voices" in said for said in file.remarks))
        self.do("separate", separate=True)
        self.client.post(
            f"/deliveries/start/{self.production.pk}/", {"outlet": "radio-playout", "section": [section.pk]}
        )
        self.work()
        names = [each.name for each in self.production.deliveries.order_by("pk").last().files.all()]
        self.assertEqual(len(names), 2)
        self.assertTrue(names[0].endswith("talk-left.wav") and names[1].endswith("talk-right.wav"), names)
        self.assertIsNone(self.do("sides")["sides"])
        self.do("undo")
        self.assertIsNotNone(self.state()["sides"])
        mono = self.production.recordings.exclude(pk=talk.pk).first()
        said = self.do("sides", apart=True, expect=400, address=f"/cutting/{mono.pk}/")["said"]
        self.assertIn("not two sides", said)

    def test_pieces_are_brought_to_one_level_in_one_step_from_wherever_that_was_found_wanting(self):
        loud = self.recording
        self.bring_in(words(2, 3) * 0.1, name="quiet.wav")
        quiet = self.production.recordings.get(name="quiet.wav")
        section = self.production.sections.first()
        section.set_stretches(
            [
                Stretch(recording=str(quiet.pk), start_sample=0, end_sample=quiet.frames, kind="music", gain_db=-3.0),
                Stretch(recording=str(loud.pk), start_sample=0, end_sample=loud.frames, gain_db=1.0),
            ]
        )
        was = [stretch.gain_db for stretch in section.stretches()]
        answer = self.client.post(f"/cutting/sections/{section.pk}/one-level/", follow=True)
        self.assertContains(answer, "at one level now")
        section = self.production.sections.with_pieces().get(pk=section.pk)
        gains = [stretch.gain_db for stretch in section.stretches()]
        self.assertEqual(gains[1], 1.0, "the longest speech stays")
        self.assertAlmostEqual(gains[0], 21.0, delta=0.6)
        undo(self.production)
        section = self.production.sections.with_pieces().get(pk=section.pk)
        self.assertEqual([stretch.gain_db for stretch in section.stretches()], was)

    def test_a_voice_in_mono_and_music_in_stereo_come_to_the_level_they_have_in_the_file(self):
        self.bring_in(np.repeat(words(2, 3), 2, axis=1), name="stereo.wav")
        mono, stereo = (self.production.recordings.get(name=name) for name in ("take.wav", "stereo.wav"))
        section = self.production.sections.first()
        section.set_stretches(
            [
                Stretch(recording=str(mono.pk), start_sample=0, end_sample=mono.frames),
                Stretch(recording=str(stereo.pk), start_sample=0, end_sample=stereo.frames, kind="music"),
            ]
        )
        self.client.post(f"/cutting/sections/{section.pk}/one-level/")
        section = self.production.sections.with_pieces().get(pk=section.pk)
        # The same samples on both sides, or on one that sounds on both.
        self.assertAlmostEqual(section.stretches()[1].gain_db, 0.0, delta=0.3)

    def test_a_programme_is_put_together_reordered_and_shortened(self):
        self.open(speech(seconds=4), name="bumper.wav")
        bumper = self.recording
        section = self.production.sections.first()
        address = f"/cutting/sections/{section.pk}/"

        def change(**values):
            seen = self.client.get(address).context["stamp"]
            return self.client.post(address, {"seen": seen} | values, follow=True)

        change(do="add", recording=bumper.pk, start="1", end="3", join="crossfade", join_s="0.5")
        self.assertEqual(len(self.heard(section)), round(15.5 * RATE))
        change(do="set", at=0, start="0", end="0:02.000", join="butt")
        self.assertEqual(len(self.heard(section)), round(3.5 * RATE))
        change(do="move", at=1, to=0)
        section.refresh_from_db()
        self.assertEqual([piece.recording_id for piece in section.made_of], [bumper.pk, bumper.pk - 1])
        self.assertEqual(section.recording_id, bumper.pk)
        for values, said in (
            ({"do": "set", "at": 0, "start": "3", "end": "2"}, "empty"),
            ({"do": "set", "at": 0, "start": "1,5", "end": "2"}, "comma"),
            ({"do": "set", "at": 0, "start": "1", "end": "99"}, "beyond the end"),
            ({"do": "remove", "at": 7}, "no longer there"),
            ({"do": "add", "recording": "0"}, "Choose a recording"),
            ({"do": "remove", "at": 0, "seen": "old"}, "another window"),
        ):
            self.assertContains(change(**values), said)
        change(do="undo")
        section.refresh_from_db()
        self.assertEqual(section.recording_id, bumper.pk - 1)


class MarksInAndOut(PageTestCase):
    def bring_in_marks(self, name: str, data: bytes, **more):
        file = SimpleUploadedFile(name, data)
        return self.client.post(f"{self.address}marks/in/", {"file": file} | more, follow=True)

    def test_marks_come_back_from_every_format_and_from_a_copy(self):
        self.do("mark", kind="point", start=RATE, end=RATE, name="One")
        self.do("mark", kind="point", start=5 * RATE, end=6 * RATE, name="Two")
        for name in ("marks.txt", "marks.cue", "marks.csv", "marks.json", "copy"):
            taken = self.client.get(f"{self.address}marks/{name}")
            data = b"".join(taken.streaming_content) if taken.streaming else taken.content
            self.do("undo")
            self.do("undo")
            self.assertEqual(self.state()["marks"], [])
            self.assertContains(
                self.bring_in_marks("x.wav" if name == "copy" else name, data), "2 marks are on the page"
            )
            self.assertEqual([m["name"] for m in self.state()["marks"]], ["One", "Two"])
            self.do("undo")
            self.do("redo")
            self.do("undo")
            for start, end, title in ((RATE, RATE, "One"), (5 * RATE, 6 * RATE, "Two")):
                self.do("mark", kind="point", start=start, end=end, name=title)

    def test_labels_become_sections_or_nothing(self):
        answer = self.bring_in_marks("x.txt", b"1\t3\tAlpha\n4\t7\tBeta\n", become="sections")
        self.assertContains(answer, "2 sections are made")
        self.assertEqual(self.titles(), ["Alpha", "Beta"])
        wrong = self.bring_in_marks("x.txt", b"8\t9\tGamma\n10\t99\tDelta\n", become="sections")
        self.assertContains(wrong, "Line 2 lies beyond the end")
        self.assertContains(self.bring_in_marks("x.txt", b"2\t9\tG\n", become="sections"), "overlaps “Alpha”")
        self.assertContains(self.bring_in_marks("x.pdf", b"2\t9\tG\n"), "Marks are read from")
        self.assertEqual(self.titles(), ["Alpha", "Beta"])
