"""Levels of a production: rows, treatments with undo, hearing, and files that are made as planned."""

import dataclasses
import io
from unittest.mock import patch

import numpy as np
import soundfile
from django.contrib.auth import get_user_model

from mastering.editing.assembly import Stretch
from mastering.making.survey import measured_for
from mastering.meters.meter import Levels, Meter
from mastering.outlets.rulesheets import shipped, shipped_text
from mastering.shaping.mends import MENDS
from mastering.tests.signals import noise, speech
from sermovox.deliveries.models import Delivery
from sermovox.deliveries.runs import start_run
from sermovox.history.changing import undo
from sermovox.keeping import storage
from sermovox.levelling.members import beside, members_of
from sermovox.productions import order
from sermovox.productions.models import Section
from sermovox.sources.soundings import Soundings
from sermovox.ui.tests.base import AppTestCase

RETAIL = "audiobook-retail"


def loudness_of(samples: np.ndarray, rate_hz: int) -> float:
    meter = Meter(rate_hz, ("FC",))
    meter.add(samples.astype(np.float32))
    return meter.levels().integrated_lufs


class LevelsTestCase(AppTestCase):
    def rows(self, outlet: str = RETAIL, **asked) -> list[dict]:
        while True:
            answer = self.client.get(f"/levels/{self.production.pk}/", {"outlet": outlet} | asked)
            self.assertEqual(answer.status_code, 200)
            # What is not planned in time is asked for again, as the page does.
            if answer.context["look_again"] != "50ms":
                return answer.context["rows"]

    def treat(self, *sections: Section, expect: str = "", **wishes):
        said = {"do": "treat", "outlet": RETAIL, "section": [section.pk for section in sections]} | wishes
        answer = self.client.post(f"/levels/{self.production.pk}/change/", said)
        self.assertContains(answer, expect)
        return answer

    def plan(self, section: Section, outlet: str = RETAIL):
        answer = self.client.get(f"/levels/sections/{section.pk}/plan/", {"outlet": outlet})
        return answer.context

    def deliver(self, outlet: str = "radio-playout", toml: str = "") -> Delivery:
        sections = list(self.production.sections.all())
        (delivery,) = start_run(self.production, [shipped()[outlet]], sections, again=True)
        if toml:
            Delivery.objects.filter(pk=delivery.pk).update(outlet_toml=toml)
        self.work()
        return delivery


class Rows(LevelsTestCase):
    def test_rows_that_want_no_more_than_another_look_are_asked_for_at_once(self):
        self.bring_in(speech(peak=0.3), name="measured.wav")
        with patch("sermovox.levelling.rows._WITHIN_S", 0.0):
            answer = self.client.get(f"/levels/{self.production.pk}/", {"outlet": RETAIL})
        self.assertContains(answer, "1 of 1 being worked out")
        self.assertContains(answer, "load delay:50ms")
        self.assertNotContains(self.client.get(f"/levels/{self.production.pk}/", {"outlet": RETAIL}), "load delay")
        (section,) = self.production.sections.all()
        self.treat(section, rumble_hz="70", expect="load delay:1s")

    def test_each_section_stands_against_the_band_and_the_worst_come_first(self):
        self.bring_in(speech(peak=0.3), name="good.wav")
        self.bring_in(speech(peak=0.2) + noise(-50, 6), name="noisy.wav")
        self.bring_in(np.zeros((44100, 1)), name="silent.wav")
        good, noisy, silent = self.rows()
        self.assertEqual([row["state"] for row in (good, noisy, silent)], ["passes", "fails", "cannot be made"])
        self.assertRegex(noisy["missed"][0], r"^Noise floor by \d+\.\d dB$")
        self.assertIn("silent throughout", silent["said"])
        self.assertIsNotNone(good["before"]["median"])
        self.assertLess(good["band"]["start"], good["after"]["peak"])
        self.assertEqual([row["title"] for row in self.rows(by="worst")], ["silent", "noisy", "good"])

    def test_a_section_that_was_put_together_is_measured_by_a_worker(self):
        section = self.bring_in(speech(seconds=10))
        stretch = Stretch(recording=str(section.recording_id), start_sample=44100, end_sample=7 * 44100)
        section.set_stretches([stretch])
        self.assertEqual(self.rows()[0]["state"], "waiting")
        self.assertTrue(self.plan(section)["waiting"])
        self.work()
        self.assertNotEqual(self.rows()[0]["state"], "waiting")
        self.assertAlmostEqual(self.plan(section)["duration_s"], 6.0, delta=0.01)

    def test_mono_of_two_sides_is_known_as_soon_as_a_recording_is(self):
        sides = np.concatenate([speech(seconds=8, peak=0.3), speech(seconds=8, peak=0.3) * 0.8], axis=1)
        sides += noise(-70, 8, seed=4)
        for name, samples, known in (
            ("two.wav", sides, True),
            ("alike.wav", np.repeat(sides[:, :1], 2, axis=1), True),
            ("dead.wav", sides * [1, 0], False),
            ("turned.wav", sides[:, :1] * [1, -1], False),
        ):
            with self.subTest(name):
                section = self.bring_in(samples, name=name)
                (member,) = members_of(Soundings(self.production), [section], shipped()["volunteer-archive"])
                self.assertEqual((member.channels, member.is_measured), (1, known))
                kept = member.measure()
                again = measured_for(member.source, channels=1)
                self.assertEqual(kept.levels.envelope.weighted.tolist(), again.levels.envelope.weighted.tolist())
                for field in dataclasses.fields(Levels):
                    if field.name not in ("steps", "envelope"):
                        self.assertEqual(
                            getattr(kept.levels, field.name), getattr(again.levels, field.name), field.name
                        )
        self.assertEqual([row["state"] for row in self.rows()].count("waiting"), 0)

    def test_what_cannot_be_measured_is_said_and_not_tried_for_ever(self):
        section = self.bring_in(speech(seconds=6))
        stretch = Stretch(recording=str(section.recording_id), start_sample=0, end_sample=5 * 44100)
        section.set_stretches([stretch])
        stored = storage.stored(section.recording.sha256)
        stored.chmod(0o644)
        stored.write_bytes(stored.read_bytes()[:60000])
        self.rows()
        self.work()
        (row,) = self.rows()
        self.assertEqual(row["state"], "cannot be made")
        self.assertIn("Bring it in again", row["said"])

    def test_more_channels_than_two_are_told_whole_or_cut(self):
        section = self.bring_in(np.repeat(speech(seconds=4), 6, axis=1), name="six.wav")
        for end_sample in (4 * 44100, 3 * 44100):
            whole_or_cut = Stretch(recording=str(section.recording_id), start_sample=0, end_sample=end_sample)
            section.set_stretches([whole_or_cut])
            section.treatment = {"together": True}
            section.save()
            (row,) = self.rows()
            self.assertIn("has 6 channels", row["said"])
            self.assertEqual(self.deliver().files.get().state, "cannot be made")

    def test_one_file_of_all_sections_is_one_row(self):
        self.bring_in(speech(), name="one.wav")
        section = self.bring_in(speech(seed=8), name="two.wav")
        self.rows("loan-player")
        self.work()
        (row,) = self.rows("loan-player")
        self.assertEqual((row["title"], row["state"]), ("Salt and Cedar", "passes"))
        self.assertTrue(self.plan(section, "loan-player")["joined"])

    def test_empty_productions_and_other_people_s(self):
        self.assertContains(self.client.get(f"/levels/{self.production.pk}/"), "No section has a recording yet")
        section = self.bring_in()
        self.client.force_login(get_user_model().objects.create_user("somebody"))
        for address in (
            f"/levels/{self.production.pk}/",
            f"/levels/sections/{section.pk}/",
            f"/levels/sections/{section.pk}/heard.wav?outlet={RETAIL}",
        ):
            self.assertEqual(self.client.get(address).status_code, 404)


class Treating(LevelsTestCase):
    def test_one_several_or_all_are_treated_and_undone(self):
        sections = [self.bring_in(speech(seed=seed), name=f"{seed}.wav") for seed in (1, 2, 3)]
        self.treat(sections[0], hush="always", hush_db="6")
        self.treat(sections[0], sections[1], ride="if needed", expect="2 sections are treated: ride if needed")
        self.treat(everywhere="yes", room_tone="no")
        wishes = [section.wishes for section in self.production.sections.all()]
        self.assertEqual([each.hush for each in wishes], ["always", "never", "never"])
        self.assertEqual([each.ride for each in wishes], ["if needed", "if needed", "never"])
        self.assertEqual({each.room_tone for each in wishes}, {False})
        self.assertEqual(self.production.changes.last().words, "Treat 3 sections: head and tail as recorded")
        for _ in range(3):
            self.client.post(f"/levels/{self.production.pk}/change/", {"do": "undo", "outlet": RETAIL})
        self.assertEqual({str(section.treatment) for section in self.production.sections.all()}, {"{}"})
        answer = self.client.post(f"/levels/{self.production.pk}/change/", {"do": "redo", "outlet": RETAIL})
        self.assertContains(answer, "Done again: Treat “1”: hush always, hush of 6 dB")

    def test_what_cannot_be_is_said_and_changes_nothing(self):
        section = self.bring_in()
        self.treat(section, expect="Nothing is changed")
        self.treat(hush="always", expect="Tick the sections")
        self.treat(section, hush_db="90", expect="Hush lowers noise by 1 to 18 dB")
        self.treat(section, rumble_hz="voice", expect="cannot be read")
        self.treat(section, noise_start="4", noise_end="3", expect="The noise is learned from")
        self.assertEqual(Section.objects.get(pk=section.pk).treatment, {})
        self.assertFalse(self.production.changes.filter(words__startswith="Treat").exists())

    def test_the_plan_answers_at_once(self):
        section = self.bring_in(speech(peak=0.3) + noise(-62, 6))
        self.assertRegex(self.plan(section)["plan"].collisions[0], r"Hush of \d+ dB or a quieter room would do")
        answer = self.submit(
            f"/levels/{self.production.pk}/change/",
            {"do": "treat", "outlet": RETAIL, "section": section.pk, "shown": section.pk, "hush": "if needed"},
            shown=f"/levels/sections/{section.pk}/plan/?outlet={RETAIL}",
        )
        self.assertContains(answer, "Meets every level rule of Audiobook retail")
        self.assertContains(answer, "steady noise")

    def test_a_treatment_is_tried_without_being_kept(self):
        section = self.bring_in(speech(peak=0.3) + noise(-62, 6))
        asked = {"outlet": RETAIL, "tried": "", "hush": "if needed", "hush_db": "18"}
        tried = self.client.get(f"/levels/sections/{section.pk}/plan/", asked)
        self.assertContains(tried, "Meets every level rule of Audiobook retail")
        self.assertContains(tried, '<option value="if needed" selected>')
        self.assertNotContains(tried, "after loud")
        as_it_is = self.client.get(f"/levels/sections/{section.pk}/plan/", {"outlet": RETAIL})
        self.assertContains(as_it_is, "after loud")
        heard = [
            self.client.get(f"/levels/sections/{section.pk}/heard.wav", each | {"side": "after"}).content
            for each in (asked, {"outlet": RETAIL})
        ]
        self.assertNotEqual(*heard)
        self.assertEqual(Section.objects.get(pk=section.pk).treatment, {})
        refused = self.client.get(f"/levels/sections/{section.pk}/plan/", asked | {"hush_db": "90"})
        self.assertContains(refused, "Hush lowers noise by 1 to 18 dB", status_code=422)
        # What would have to be measured anew first is not guessed.
        mended = self.client.get(f"/levels/sections/{section.pk}/plan/", asked | {f"mend-{next(iter(MENDS))}": "yes"})
        self.assertNotContains(mended, 'id="picture"')

    def test_a_rumble_filter_is_heard_while_it_is_still_being_measured(self):
        section = self.bring_in(speech())
        self.treat(section, rumble_hz="70")
        context = self.plan(section)
        self.assertTrue(context["waiting"])
        self.assertEqual(context["plan"].rumble_hz, 70)
        heard = self.client.get(f"/levels/sections/{section.pk}/heard.wav", {"outlet": RETAIL, "side": "after"})
        self.assertEqual(heard.status_code, 200)
        self.work()
        self.assertFalse(self.plan(section)["waiting"])

    def test_a_treatment_stays_when_its_section_is_split_or_comes_back(self):
        section = self.bring_in()
        self.treat(section, ride="always")
        section.refresh_from_db()
        second = order.split(self.production, self.narrator, section)
        self.assertEqual(second.wishes.ride, "always")


class Hearing(LevelsTestCase):
    def heard(self, section: Section, **asked) -> tuple[np.ndarray, int]:
        answer = self.client.get(f"/levels/sections/{section.pk}/heard.wav", {"outlet": RETAIL} | asked)
        self.assertEqual(answer.status_code, 200, answer.content)
        return soundfile.read(io.BytesIO(answer.content), always_2d=True)

    def test_before_and_after_are_equally_loud_and_in_step(self):
        section = self.bring_in(speech(peak=0.1) + noise(-60, 6))
        self.treat(section, hush="always", hush_db="12", ride="always")
        (before, rate_hz), (after, _) = (
            self.heard(section, side=side, start="1", length="4") for side in ("before", "after")
        )
        self.assertEqual((len(before), len(after)), (4 * rate_hz, 4 * rate_hz))
        self.assertAlmostEqual(loudness_of(before, rate_hz), loudness_of(after, rate_hz), delta=0.1)
        # The voice repeats itself every 390 samples: less than half of that to either side.
        near = np.correlate(before[:, 0], after[150:-150, 0], "valid")
        self.assertEqual(int(near.argmax()), 150)

    def test_beyond_either_end_there_is_nothing_and_nonsense_is_refused(self):
        section = self.bring_in(speech(seconds=5))
        self.assertLessEqual(len(self.heard(section, side="before", start="4.5", length="30")[0]), 44100)
        self.heard(section, side="after", start="400", length="3")
        address = f"/levels/sections/{section.pk}/heard.wav"
        self.assertEqual(self.client.get(address, {"outlet": RETAIL, "start": "soon"}).status_code, 400)
        self.assertEqual(self.client.get(address, {"outlet": "nowhere"}).status_code, 404)
        self.assertEqual(self.client.get(address, {"outlet": RETAIL, "start": "nan"}).status_code, 400)


class Making(LevelsTestCase):
    def test_files_are_made_as_their_section_was_treated(self):
        section = self.bring_in(speech(peak=0.3) + noise(-62, 6))
        self.treat(section, hush="if needed", hush_db="18")
        plan = self.plan(section)["plan"]
        file = self.deliver(RETAIL).files.get()
        self.assertIn(file.state, ("passes", "passes with a remark"))
        self.assertEqual(dict(file.steps)["Hush"].split(",")[0], f"steady noise {plan.hush_db:.1f} dB lower")
        self.assertAlmostEqual(file.figures["noise_floor_dbfs"], plan.predicted["noise_floor_dbfs"], delta=1.5)
        self.treat(section, hush="never")
        file.refresh_from_db()
        self.assertEqual(file.treatment["hush"], "if needed", "a finished file remembers how it was treated")
        self.assertContains(self.client.get(file.get_absolute_url()), "steady noise")

    def test_what_is_mended_for_speech_is_measured_anew_for_music(self):
        sound = speech(seconds=6, peak=0.05)
        # Clicks that stand far out: without them the peak is another.
        for at in range(40000, 200000, 20000):
            sound[at : at + 20] += 0.5
        section = self.bring_in(sound)
        self.treat(section, **{"mend-de-click": "yes"})
        self.rows("radio-playout")
        self.work()
        before = self.plan(section, "radio-playout")["plan"].source_peak_dbtp
        Section.objects.filter(pk=section.pk).update(content_kind="music")
        self.rows("radio-playout")
        self.work()
        self.assertGreater(self.plan(section, "radio-playout")["plan"].source_peak_dbtp, before + 6)

    def test_one_recording_in_sections_of_two_kinds_is_two_of_a_set(self):
        first = self.bring_in(speech(seconds=6, peak=0.2), name="a.wav")
        second = order.add(self.production, self.narrator, None, title="Again")
        order.assign(self.production, self.narrator, {second.pk: first.recording_id}, "Again")
        Section.objects.filter(pk=second.pk).update(content_kind="music")
        self.treat(first, Section.objects.get(pk=second.pk), together="yes")
        soundings, outlet = Soundings(self.production), shipped()["radio-playout"]
        members = members_of(soundings, soundings.sections, outlet)
        for member in members:
            found = beside(member, soundings.of(soundings.sections, outlet))
            self.assertEqual(sorted(each.content_kind for each in found), ["music", "speech"])
            self.assertEqual(found[0].content_kind, member.content_kind)
        files = list(self.deliver().files.all())
        self.assertEqual(len(files), 2)
        self.assertEqual(files[0].gain_db, files[1].gain_db)

    def test_a_set_keeps_its_relation_even_when_one_of_it_is_made_alone(self):
        loud, quiet = self.bring_in(speech(peak=0.3), name="a.wav"), self.bring_in(speech(peak=0.1), name="b.wav")
        self.treat(loud, quiet, together="yes")
        files = list(self.deliver().files.all())
        self.assertEqual(files[0].gain_db, files[1].gain_db)
        (alone,) = start_run(self.production, [shipped()["radio-playout"]], [self.production.sections.get(pk=quiet.pk)])
        self.work()
        self.assertEqual(alone.files.get().gain_db, files[0].gain_db)
        self.assertIn("the same for all of its set", dict(alone.files.get().steps)["Gain"])

    def test_files_of_a_delivery_are_held_against_each_other(self):
        for at, peak in enumerate((0.3, 0.29, 0.12)):
            self.bring_in(speech(peak=peak, seed=3) + noise(-75, 6, seed=at), name=f"{at}.wav")
        wav = shipped_text("radio-playout").partition('[[rules]]\nname = "sample_peak_dbfs"')[0]
        within = '[[rules]]\nname = "consistency_lu"\nat_most = {}\nsource = "a test"\n'
        rms = '[[rules]]\nname = "rms_dbfs"\nat_least = -40\nat_most = -6\nsource = "a test"\n'
        for most_lu in (1.5, 3):
            files = list(self.deliver(toml=wav + rms + within.format(most_lu)).files.all())
            found = [{finding["rule"]: finding for finding in file.findings}["consistency_lu"] for file in files]
            self.assertNotIn("fails", {finding["verdict"] for finding in found})
            loudness = [file.figures["integrated_lufs"] for file in files]
            self.assertLess(max(loudness) - min(loudness), most_lu + 0.1)

    def test_what_several_sections_agree_on_holds_for_one_file_of_them(self):
        one, two = self.bring_in(name="one.wav"), self.bring_in(speech(seed=9), name="two.wav")
        self.treat(one, two, ride="always")
        self.treat(one, hush="always")
        sounding = Soundings(self.production).of(list(self.production.sections.all()), shipped()["loan-player"])[0]
        self.assertEqual((sounding.treatment.ride, sounding.treatment.hush), ("always", "never"))


class Mending(LevelsTestCase):
    """A check sheet's own button: what has to be allowed, heard first, and the file made again in its place."""

    def prepare(self):
        super().prepare()
        self.section = self.bring_in(speech(peak=0.3) + noise(-62, 6))
        self.file = self.deliver(RETAIL).files.get()
        self.address = f"/deliveries/files/{self.file.pk}/"

    def press(self):
        return self.submit(f"{self.address}mend/", {}, shown=self.address)

    def test_it_says_what_it_allows_is_heard_first_and_makes_a_file_that_passes(self):
        self.assertEqual(self.file.state, "fails")
        page = self.client.get(self.address)
        remedy = page.context["remedy"]
        self.assertRegex(remedy.words, r"^hush of \d+ dB$")
        self.assertContains(page, f"Allow {remedy.words} and make it again")
        heard = f"/levels/sections/{self.section.pk}/heard.wav?outlet={RETAIL}&mended"
        sides = [
            soundfile.read(io.BytesIO(self.client.get(f"{heard}&side={s}").content))[0] for s in ("before", "after")
        ]
        self.assertLess(np.sqrt(np.mean(sides[1][:20000] ** 2)), np.sqrt(np.mean(sides[0][:20000] ** 2)))
        self.assertEqual(self.section.wishes.hush, "never", "nothing is allowed by listening")

        self.press()
        self.work()
        section = Section.objects.get()
        self.assertEqual((section.wishes.hush, section.wishes.hush_db), ("if needed", remedy.treatment.hush_db))
        made = Delivery.objects.latest("pk").files.get()
        self.assertIn(made.state, ("passes", "passes with a remark"))
        self.file.refresh_from_db()
        self.assertEqual(self.file.replaced_by, made)
        self.assertNotContains(self.client.get(self.address), "and make it again")

        undo(self.production)
        self.assertEqual(Section.objects.get().wishes.hush, "never")

    def test_it_is_offered_where_it_helps_alone(self):
        quiet = self.bring_in(speech(peak=0.3, seed=9), name="quiet.wav")
        passing = self.deliver(RETAIL).files.get(section=quiet)
        self.assertIsNone(self.client.get(f"/deliveries/files/{passing.pk}/").context["remedy"])
        loud = self.bring_in(speech(peak=0.3) + noise(-28, 6), name="loud.wav")
        beyond = Delivery.objects.filter(pk=self.deliver(RETAIL).pk).get().files.get(section=loud)
        self.assertEqual(beyond.state, "fails")
        self.assertIsNone(self.client.get(f"/deliveries/files/{beyond.pk}/").context["remedy"])

    def test_what_another_window_has_treated_meanwhile_is_not_treated_over(self):
        page = self.client.get(self.address)
        self.treat(self.section, hush="if needed", hush_db="18")
        answer = self.client.post(f"{self.address}mend/", {"seen": page.context["seen"]}, follow=True)
        self.assertContains(answer, "in another window")
        self.assertEqual(Delivery.objects.count(), 1)


class SpeechAndMusic(AppTestCase):
    """A programme put together of a tune and a talk, for an outlet that asks another peak of each."""

    def prepare(self):
        super().prepare()
        self.section = self.bring_in(speech(seconds=8, peak=0.2), name="talk.wav")
        tune = noise(-20, 5) * np.linspace(1, 0.3, 5 * 44100)[:, None]
        self.bring_in(tune, name="tune.wav")
        self.tune = self.production.recordings.get(name="tune.wav")
        self.production.sections.whole_of(self.tune).delete()
        self.address = f"/cutting/sections/{self.section.pk}/"

    def post(self, do: str, **values):
        seen = self.client.get(self.address).context["stamp"]
        return self.client.post(self.address, {"do": do, "seen": seen} | values, follow=True)

    def test_each_passage_is_planned_and_made_to_its_own_demand(self):
        self.post("add", recording=self.tune.pk, kind="music", join="butt")
        self.section.refresh_from_db()
        self.assertEqual([piece.kind for piece in self.section.made_of], ["", "music"])
        levels = f"/levels/sections/{self.section.pk}/?outlet=radio-playout"
        self.client.get(levels)
        self.client.get(f"/levels/{self.production.pk}/?outlet=radio-playout")
        self.work()
        page = self.client.get(levels)
        self.assertContains(page, "speech from 0:00.0 to 0:08.0")
        (delivery,) = start_run(self.production, [shipped()["radio-playout"]], [self.section])
        self.work()
        file = delivery.files.get()
        samples = soundfile.read(file.path, always_2d=True)[0]
        peaks = [20 * np.log10(np.abs(part).max()) for part in (samples[: 8 * 44100], samples[8 * 44100 :])]
        np.testing.assert_allclose(peaks, [-3, -5], atol=0.3)
        peak = next(finding for finding in file.findings if finding["rule"].endswith("peak_dbfs"))
        self.assertIn("speech", peak["asked"])
        self.assertIn("music", peak["found"])

    def test_gain_and_fades_of_a_piece_are_kept_and_undone(self):
        self.post("set", at=0, kind="", gain_db="-3,5", fade_in_s="0.5", fade_out_s="1", start="", end="")
        self.section.refresh_from_db()
        (piece,) = self.section.made_of
        self.assertEqual((piece.gain_db, piece.fade_in_s, piece.fade_out_s), (-3.5, 0.5, 1.0))
        self.assertContains(self.post("set", at=0, gain_db="loud"), "is no gain")
        self.post("undo")
        self.section.refresh_from_db()
        self.assertFalse(self.section.is_cut)
