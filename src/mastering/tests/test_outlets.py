"""Outlets as data, level plans, check sheets and names."""

import hashlib
import json
from dataclasses import replace
from unittest import TestCase

from mastering.audio.facts import FileFacts
from mastering.errors import CannotMake
from mastering.meters.measurement import Measurement
from mastering.meters.meter import Meter
from mastering.outlets.checksheet import check
from mastering.outlets.demands import Range
from mastering.outlets.findings import FAIL, PASS, REMARK
from mastering.outlets.outlet import CONTENT_KINDS, BadOutlet
from mastering.outlets.planning import corrected, plan_levels
from mastering.outlets.rules import RULE_KINDS
from mastering.outlets.rules.holding import by_figure
from mastering.outlets.rules.kind import Asked
from mastering.outlets.rulesheets import parse, shipped, shipped_text, written
from mastering.tests.signals import noise, silence, speech


def levels_of(samples):
    meter = Meter(44100, ("FC",))
    meter.add(samples)
    return meter.levels()


def facts(**changes) -> FileFacts:
    plain = FileFacts(
        container="wav",
        codec="pcm_s16le",
        channels=1,
        channel_names=("FC",),
        sample_rate_hz=44100,
        bit_depth=16,
        floating_point=False,
        lossy=False,
        bit_rate_kbps=705.6,
        constant_bit_rate=None,
        frames=44100 * 12,
        size_bytes=1000,
        has_video=False,
        damaged_packets=0,
    )
    return replace(plain, **changes)


class Shipped(TestCase):
    def test_the_outlets_ask_what_their_families_ask(self):
        # Figures: the table of outlet families this project keeps; common practice and from memory.
        asked = {key: outlet.demands(channels=1, content_kind="speech") for key, outlet in shipped().items()}
        joined = {key for key, outlet in shipped().items() if outlet.joined}
        self.assertEqual(joined, {"loan-player", "single-file-audiobook"})
        archive = asked["volunteer-archive"]
        self.assertEqual((archive["channels"].first, archive["bit_rate_kbps"].first), ("mono", 128))
        retail = asked["audiobook-retail"]
        self.assertEqual((retail["rms_dbfs"].low, retail["rms_dbfs"].high), (-23, -18))
        self.assertEqual((retail["sample_peak_dbfs"].high, retail["noise_floor_dbfs"].high), (-3, -60))
        self.assertEqual(asked["radio-playout"]["sample_peak_dbfs"].target, -3)
        music = shipped()["radio-playout"].demands(channels=2, content_kind="music")
        self.assertEqual(music["sample_peak_dbfs"].target, -5)
        self.assertEqual(asked["podcast-host"]["integrated_lufs"].target, -19)
        stereo = shipped()["podcast-host"].demands(channels=2, content_kind="speech")
        self.assertEqual(stereo["integrated_lufs"].target, -16)

    def test_every_value_names_its_source(self):
        for outlet in shipped().values():
            for rule in outlet.rules:
                self.assertTrue(rule.source.strip(), f"{outlet.key}: {rule.name}")

    def test_bad_rules_are_named(self):
        good = shipped_text("radio-playout")
        for change, said in (
            (('name = "codec"', 'name = "colour"'), "colour"),
            (('exactly = "wav"', ""), "asks for nothing"),
            (('exactly = "wav"', 'exactly = "tape"'), "does not write tape"),
            (("exactly = 44100", "about = 44100"), "about"),
            (('source = "common practice, no source"', 'source = ""'), "where its value comes from"),
            (("key = ", "kee = "), "no place for “kee”"),
            (("[[rules]]", "[[rules"), "not TOML"),
            (("summary =", 'names = "{titel}"\nsummary ='), "no field {titel}"),
            (("format = 2", "format = 4"), "written by a newer Sermovox"),
            (("summary =", "artwork = { side = 5 }\nsummary ="), "Artwork wants at_least_px"),
        ):
            with self.subTest(said), self.assertRaises(BadOutlet) as caught:
                parse(good.replace(*change))
            self.assertIn(said, str(caught.exception))


_DEMANDED = {
    "audiobook-retail": "23c77ca925464d18",
    "booked-job": "e10448be2f9d1376",
    "broadcast": "809be2e586707210",
    "radio-playout": "4b3c3f4090e21e49",
    "radio-programme": "b45755d673e2d245",
    "pocket-device": "0ddef828441ef0f7",
    "internet-station": "dcc897d4f47b11ca",
    "loan-player": "738528aaaf216ef2",
    "line-set": "1210e9e33ef247c5",
    "own-masters": "005b72a09e776d19",
    "podcast-host": "890f5977456bc12b",
    "single-file-audiobook": "7f2fd0c5412c242c",
    "slow-connections": "1d0fd0e2fc7e15bd",
    "voice-audition": "be47585a81d2b1d5",
    "volunteer-archive": "da61822212d312ff",
}
"""What the shipped sheets demand: where one of these changes, every file that was made by it is changed since."""


class Demanded(TestCase):
    def test_what_the_shipped_sheets_demand_changes_only_where_that_is_meant(self):
        found = {}
        for key, each in shipped().items():
            asked = [
                [channels, kind, each.demanded(channels=channels, content_kind=kind)]
                for channels in (1, 2)
                for kind in ("speech", "music", "mixed")
            ]
            told = json.dumps([asked, each.demanded_of_tags], sort_keys=True)
            found[key] = hashlib.sha256(told.encode()).hexdigest()[:16]
        self.assertEqual(found, _DEMANDED)


class Contradictions(TestCase):
    def objection(self, key: str, *changes: tuple[str, str]) -> str:
        text = shipped_text(key)
        for old, new in changes:
            self.assertIn(old, text)
            text = text.replace(old, new)
        with self.assertRaises(BadOutlet) as caught:
            parse(text)
        return str(caught.exception)

    def added(self, key: str, rule: str) -> str:
        with self.assertRaises(BadOutlet) as caught:
            parse(shipped_text(key) + f'\n[[rules]]\n{rule}\nsource = "a test"\n')
        return str(caught.exception)

    def test_what_cannot_be_at_once_is_said_while_the_sheet_is_written(self):
        mono = ('exactly = "mono"', 'exactly = "joint stereo"')
        self.assertIn(
            "at least 60 and at most 56", self.objection("slow-connections", ("at_least = 16", "at_least = 60"))
        )
        self.assertIn("no 16 kbit/s as the lowest", self.objection("slow-connections", ("22050", "44100")))
        said = self.objection("volunteer-archive", ("44100", "22050"), ("exactly = 128", "exactly = 320"))
        self.assertIn("no 320 kbit/s at 22050 Hz in mono; the nearest is 160 kbit/s", said)
        self.assertIn("Files in mono are asked to be in joint stereo", self.objection("podcast-host", mono))
        self.assertIn("leaves none to choose", self.added("volunteer-archive", 'name = "quality"\nexactly = 4'))
        self.assertIn(
            "has no bit depth", self.added("podcast-host", 'name = "sample_format"\nexactly = "16-bit integer"')
        )
        self.assertIn("follows from its sound", self.added("booked-job", 'name = "bit_rate_kbps"\nexactly = 64'))
        self.assertIn("no place for the lyrics", self.added("booked-job", 'name = "tag_lyrics"\nexactly = "{notes}"'))
        self.assertIn(
            "one file of all sections", self.added("podcast-host", 'name = "chapters"\nexactly = "from sections"')
        )
        self.assertIn("hold no chapter marks", self.added("booked-job", 'name = "chapters"\nexactly = "from marks"'))
        self.assertIn("stands there twice", self.added("booked-job", 'name = "container"\nexactly = "wav"'))
        self.assertIn("same for all files", self.added("booked-job", 'name = "names"\nspeech = { exactly = "a" }'))

    def test_values_that_are_none_are_refused(self):
        for rule, said in (
            ('name = "duration_s"\nat_most = "long"', "takes numbers"),
            ('name = "duration_s"\nat_most = inf', "takes numbers"),
            ('name = "duration_s"\nexactly = 5', "takes a range"),
            ('name = "duration_s"\nat_most = 5\ndated = "today"', "dated by a day"),
            ('name = "extra_files"\nexactly = ["notes.doc"]', "takes a list of these"),
            ('name = "tag_title"\nexactly = "{titel}"', "no field {titel}"),
            ('name = "order"\nexactly = "random"', "cannot be “random”"),
            ("name = 7\nexactly = 7", "no rule called “7”"),
        ):
            with self.subTest(said):
                self.assertIn(said, self.added("booked-job", rule))
        for text, said in (
            ("x" * 300_000, "longer than any rule sheet"),
            ("a = " + "[" * 5000, "not TOML"),
            ('format = 2\nkey = "A b"\ntitle = "T"\nsummary = "S"\nrules = []', "small letters"),
            ('format = 2\nkey = "a"\ntitle = "T"\nsummary = "S"\nrules = 5', "does not state its rules"),
        ):
            with self.assertRaises(BadOutlet) as caught:
                parse(text)
            self.assertIn(said, str(caught.exception))

    def test_a_sheet_of_the_first_form_is_still_read(self):
        old = """
            key = "old"
            title = "Old"
            summary = "Kept with a delivery of last year."
            names = "{place|pad:2}"
            joined = true
            artwork = { at_least_px = 600, at_most_px = 1200, at_most_bytes = 500000, source = "then" }
            rules = [
              { name = "container", exactly = "mp3", source = "then" },
              { name = "channels", exactly = "mono", source = "then" },
              { name = "sample_rate_hz", exactly = 44100, source = "then" },
              { name = "bit_rate_kbps", exactly = 128, source = "then" },
            ]
        """
        outlet = parse(old)
        self.assertTrue(outlet.joined)
        self.assertEqual((outlet.names, outlet.artwork.at_most_bytes), ("{place|pad:2}", 500000))
        self.assertEqual(parse(written(outlet)), outlet)

    def test_a_sheet_written_out_is_the_sheet_read_in(self):
        for outlet in shipped().values():
            self.assertEqual(parse(written(outlet)), outlet)


class Planning(TestCase):
    def plan(self, samples, key: str, content_kind="speech"):
        outlet = shipped()[key]
        demands = outlet.demands(channels=1, content_kind=content_kind)
        lossy = outlet.encoding(channels=1, content_kind=content_kind).lossy
        return plan_levels(levels_of(samples), demands, lossy=lossy)

    def test_gain_brings_loudness_to_the_target(self):
        plan = self.plan(speech(peak=0.1), "podcast-host")
        self.assertAlmostEqual(plan.predicted["integrated_lufs"], -19, delta=0.05)
        self.assertEqual(plan.collisions, ())

    def test_what_is_in_range_already_is_left_alone(self):
        samples = speech()
        rms = levels_of(samples).rms_dbfs
        inside = samples * 10 ** ((-20.5 - rms) / 20)
        self.assertEqual(self.plan(inside, "audiobook-retail").gain_db, 0)

    def test_the_limiter_s_loss_is_made_up_for(self):
        samples = speech(peak=0.2, seconds=20)
        for start in range(44100, 18 * 44100, 44100):
            samples[start : start + 40] = 0.9
        plan = self.plan(samples, "volunteer-archive")
        self.assertGreater(plan.gain_db, -18 - levels_of(samples).integrated_lufs)
        self.assertAlmostEqual(plan.predicted["integrated_lufs"], -18, delta=0.1)
        self.assertIn("limiter takes up to", plan.remarks[0])

    def test_a_voice_is_not_flattened_to_reach_a_level(self):
        # Clicks over hiss: however much gain, the limiter takes it back.
        samples = noise(-50, 12)
        samples[::4000] = 0.9
        plan = self.plan(samples, "volunteer-archive")
        self.assertEqual(plan.gain_db, plan.highest_gain_db)
        self.assertRegex(plan.collisions[0], r"this take reaches -\d+\.\d LUFS; the outlet asks for -19 or more")

    def test_a_noisy_room_is_said_to_collide_with_the_level(self):
        samples = speech(peak=0.05) + noise(-58, 6)
        (said,) = self.plan(samples, "audiobook-retail").collisions
        self.assertRegex(said, r"After the \d+\.\d dB this take needs, its noise floor is at -\d+\.\d dBFS.*allows -60")

    def test_speech_and_music_go_to_their_own_peaks(self):
        samples = speech(peak=0.25)
        peak = levels_of(samples).sample_peak_dbfs
        self.assertAlmostEqual(self.plan(samples, "radio-playout").gain_db, -3 - peak, places=6)
        self.assertAlmostEqual(self.plan(samples, "radio-playout", "music").gain_db, -5 - peak, places=6)

    def test_silence_and_a_blip_are_refused_with_a_reason(self):
        with self.assertRaisesRegex(CannotMake, "silent throughout"):
            self.plan(silence(3, rate_hz=44100, channels=1), "podcast-host")
        with self.assertRaisesRegex(CannotMake, "silent throughout"):
            self.plan(noise(-96, 3), "radio-playout")  # dither alone
        with self.assertRaisesRegex(CannotMake, "too short or too quiet"):
            self.plan(noise(-20, 0.2), "podcast-host")

    def test_a_peak_pushed_over_lowers_the_ceiling_by_as_much(self):
        demands = shipped()["podcast-host"].demands(channels=1, content_kind="speech")
        plan = self.plan(speech(peak=0.1), "podcast-host")
        found = levels_of(speech() * 0.0 + noise(-8, 6))
        better = corrected(plan, replace(found, integrated_lufs=-19.0, true_peak_dbtp=-0.4), demands)
        before = min(plan.ceiling_dbtp, plan.source_peak_dbtp + plan.gain_db)
        self.assertAlmostEqual(better.ceiling_dbtp, before - 0.6 - 0.1, places=6)
        self.assertIsNone(corrected(plan, replace(found, integrated_lufs=-19.2, true_peak_dbtp=-1.2), demands))


class Checking(TestCase):
    def sheet(self, key: str, *, samples=None, content_kind="speech", **changes):
        measurement = Measurement(facts(**changes), levels_of(speech(peak=0.7) if samples is None else samples))
        return check(measurement, shipped()[key], content_kind=content_kind)

    def verdict(self, sheet, rule: str) -> str:
        return next(finding.verdict for finding in sheet.findings if finding.rule == rule)

    def test_a_float_wav_never_reaches_playout(self):
        sheet = self.sheet("radio-playout", bit_depth=32, floating_point=True, codec="pcm_f32le")
        self.assertEqual(sheet.verdict, FAIL)
        self.assertEqual(self.verdict(sheet, "sample_format"), FAIL)
        self.assertEqual(self.verdict(sheet, "codec"), FAIL)

    def test_another_rate_never_reaches_playout(self):
        sheet = self.sheet("radio-playout", sample_rate_hz=48000)
        self.assertEqual(self.verdict(sheet, "sample_rate_hz"), FAIL)

    def test_a_right_file_passes_every_rule(self):
        sheet = self.sheet("radio-playout", samples=speech(peak=10 ** (-3 / 20)))
        self.assertEqual(sheet.verdict, PASS)
        self.assertEqual(len(sheet.findings), len(shipped()["radio-playout"].rules))

    def test_a_failure_says_what_was_asked_what_was_found_and_what_to_do(self):
        sheet = self.sheet("audiobook-retail", samples=noise(-40, 12))
        finding = next(f for f in sheet.findings if f.rule == "noise_floor_dbfs")
        self.assertEqual((finding.asked, finding.verdict), ("at most -60 dBFS", FAIL))
        self.assertRegex(finding.found, r"-40\.\d dBFS")
        # As bare numbers too, to be drawn: open below, and 20 dB beyond.
        self.assertEqual((finding.scale.low, finding.scale.high), (None, -60.0))
        self.assertAlmostEqual(finding.scale.figures[0], -40.0, delta=0.5)
        self.assertIn("quieter room", finding.advice)
        self.assertIsNone(next(f for f in sheet.findings if f.rule == "container").scale)

    def test_lengths_are_told_as_hours_minutes_and_seconds(self):
        kind = RULE_KINDS["duration_s"]
        asked = Asked(kind=kind, demand=Range(high=7200.0), source="")
        told = [by_figure(asked, length) for length in (18.1, 7200.0, 7261.4, 7200.6)]
        self.assertEqual({finding.asked for finding in told}, {"at most 2:00:00"})
        self.assertEqual([finding.found for finding in told], ["0:18", "2:00:00", "2:01:01", "2:00:00"])
        self.assertEqual(
            [finding.margin for finding in told],
            ["1:59:41 to spare", "nothing to spare", "1:01 too high", "0.6 s too high"],
        )

    def test_a_variable_bitrate_is_found_out(self):
        sheet = self.sheet("podcast-host", container="mp3", codec="mp3", constant_bit_rate=False, bit_rate_kbps=96.2)
        self.assertEqual(self.verdict(sheet, "bit_rate_mode"), FAIL)
        self.assertEqual(self.verdict(sheet, "bit_rate_kbps"), PASS)

    def test_silence_fails_a_loudness_rule_and_passes_a_noise_rule_with_a_remark(self):
        nothing = silence(12, rate_hz=44100, channels=1)
        sheet = self.sheet("audiobook-retail", samples=nothing)
        self.assertEqual(self.verdict(sheet, "rms_dbfs"), FAIL)
        self.assertEqual(self.verdict(sheet, "noise_floor_dbfs"), REMARK)

    def test_rules_for_another_kind_of_file_are_left_out_of_account(self):
        for kind in CONTENT_KINDS:
            self.assertTrue(self.sheet("radio-playout", content_kind=kind).findings)
