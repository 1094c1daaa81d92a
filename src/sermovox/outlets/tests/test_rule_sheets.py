"""Rule sheets in the application, and files from anywhere held against them."""

import csv
import io
from datetime import timedelta

from django.contrib.auth import get_user_model
from django.core.files.uploadedfile import SimpleUploadedFile
from django.utils import timezone
from pypdf import PdfReader

from mastering.outlets.rules import RULE_KINDS
from mastering.outlets.rulesheets import parse, shipped, shipped_text
from mastering.tests.signals import speech, written
from sermovox.deliveries.runs import start_run
from sermovox.outlets.models import FileCheck, RuleSheet, outlets_of
from sermovox.ui.tests.base import AppTestCase


class Sheets(AppTestCase):
    def outlet(self, key="volunteer-archive"):
        return outlets_of(self.narrator)[key]

    def change(self, key="volunteer-archive", name="bit_rate_kbps", **fields):
        posted = {"source": "client’s mail", "dated": "2026-03-03"} | {
            k.replace("__", "-"): v for k, v in fields.items()
        }
        return self.submit(f"/outlets/{key}/rules/{name}/", posted)

    def test_every_shipped_outlet_is_listed_and_reads_as_a_specification(self):
        page = self.client.get("/outlets/")
        for key, outlet in shipped().items():
            self.assertContains(page, f"/outlets/{key}/")
            sheet = self.client.get(f"/outlets/{key}/")
            for rule in outlet.rules:
                self.assertContains(sheet, rule.kind.label)
            self.assertContains(sheet, "add a rule")

    def test_the_form_of_every_kind_of_rule_is_shown_and_can_be_saved_as_it_is(self):
        for name in RULE_KINDS:
            self.assertContains(self.client.get(f"/outlets/podcast-host/rules/{name}/"), "Source")
        self.assertEqual(self.client.get("/outlets/podcast-host/rules/colour/").status_code, 404)

    def test_a_rule_is_changed_in_its_place_with_source_and_date(self):
        answer = self.change(all__exactly="96")
        self.assertContains(answer, "Bitrate changed")
        rule = self.outlet().rule("bit_rate_kbps")
        self.assertEqual((rule.demands[None].first, rule.source, str(rule.dated)), (96, "client’s mail", "2026-03-03"))
        self.assertContains(self.client.get("/outlets/volunteer-archive/"), "client’s mail, 3 Mar 2026")
        self.assertEqual(shipped()["volunteer-archive"].rule("bit_rate_kbps").demands[None].first, 128)

    def test_what_cannot_be_is_said_with_the_nearest_value_and_nothing_is_kept(self):
        for fields, said in (
            ({"all__exactly": "100"}, "no 100 kbit/s at 44100 Hz in mono; the nearest is 96 kbit/s"),
            ({"all__at_least": "200", "all__at_most": "100"}, "at least 200 and at most 100"),
            ({"all__exactly": "many"}, "“many” is no number"),
            ({"all__exactly": "inf"}, "takes numbers from 6 to 512"),
            ({"all__at_least": "nan"}, "takes numbers from 6 to 512"),
            ({"all__exactly": "96", "dated": "3 March"}, "“3 March” is no day"),
            ({"all__exactly": "96", "source": ""}, "does not say where its value comes from"),
            ({}, "asks for nothing"),
        ):
            with self.subTest(said):
                self.assertContains(self.change(**fields), said)
        self.assertEqual(self.outlet(), shipped()["volunteer-archive"])
        self.assertFalse(RuleSheet.objects.exists())

    def test_every_shape_of_demand_can_be_written(self):
        for name, fields, check in (
            (
                "bit_rate_kbps",
                {"mono__exactly": "96, 64", "stereo__exactly": "128"},
                lambda d: d["mono"].values == (96, 64),
            ),
            ("integrated_lufs", {"all__target": "−20", "all__tolerance": "0.5"}, lambda d: d[None].low == -20.5),
            ("duration_s", {"all__at_most": "600"}, lambda d: d[None].high == 600),
            ("extra_files", {"all__list": ["manifest.csv", "cover.jpg"]}, lambda d: d[None].values[1] == "cover.jpg"),
            ("tag_title", {"all__pattern": "{place}. {title}"}, lambda d: d[None].first == "{place}. {title}"),
            ("container", {"all__choice": "mp3"}, lambda d: d[None].first == "mp3"),
            ("order", {"all__choice": "as the running order"}, lambda d: d[None].first),
        ):
            with self.subTest(name):
                self.assertContains(self.change(name=name, **fields), "changed.")
                self.assertTrue(check(self.outlet().rule(name).demands))
        self.submit("/outlets/volunteer-archive/rules/duration_s/", {"remove": "yes"})
        self.assertIsNone(self.outlet().rule("duration_s"))

    def test_a_rule_of_three_values_keeps_them_when_it_is_saved_as_it_is_shown(self):
        values = ["mp3", "wma", "ogg"]
        self.assertContains(self.change("pocket-device", "container", all__choice=values), "Container changed")
        form = self.client.get("/outlets/pocket-device/rules/container/")
        for value in values:
            self.assertContains(form, f'<option value="{value}" selected>{value}</option>', html=True)
        self.assertEqual(self.outlet("pocket-device").rule("container").demands[None].values, tuple(values))

    def test_versions_are_kept_and_any_is_taken_again(self):
        self.change(all__exactly="96")
        self.change(all__exactly="64")
        page = self.client.get("/outlets/volunteer-archive/versions/")
        for text in ("As it was shipped", "96 kbit/s", "64 kbit/s"):
            self.assertContains(page, text)
        self.client.post("/outlets/volunteer-archive/restore/", {"version": "2"})
        self.assertEqual(self.outlet().rule("bit_rate_kbps").demands[None].first, 96)
        self.client.post("/outlets/volunteer-archive/restore/")
        self.assertEqual(self.outlet(), shipped()["volunteer-archive"])
        self.assertEqual(RuleSheet.objects.get().versions.count(), 5)

    def test_a_delivery_remembers_the_rules_it_was_made_under(self):
        self.bring_in()
        (delivery,) = start_run(self.production, [self.outlet()], list(self.production.sections.all()))
        self.change(all__exactly="64")
        delivery.refresh_from_db()
        self.assertEqual(delivery.outlet.rule("bit_rate_kbps").demands[None].first, 128)
        self.work()
        self.assertAlmostEqual(delivery.files.get().figures["bit_rate_kbps"], 128, delta=0.5)
        (later,) = start_run(self.production, [self.outlet()], list(self.production.sections.all()))
        self.work()
        self.assertAlmostEqual(later.files.get().figures["bit_rate_kbps"], 64, delta=0.5)

    def test_a_copy_is_one_s_own_and_can_be_put_away(self):
        self.assertRedirects(self.client.post("/outlets/broadcast/copy/"), "/outlets/broadcaster-own/")
        told = {"title": "Skerrow Sound", "summary": "The island’s station."}
        self.submit("/outlets/broadcaster-own/head/", told, shown="/outlets/broadcaster-own/")
        self.assertContains(self.client.get("/outlets/"), "Skerrow Sound")
        self.client.post("/outlets/broadcaster-own/remove/", follow=True)
        self.assertNotContains(self.client.get("/outlets/"), "Skerrow Sound")
        self.assertEqual(self.client.post("/outlets/broadcast/remove/").status_code, 404)

    def test_sheets_go_out_and_come_in_as_toml(self):
        self.change(all__exactly="96")
        text = self.client.get("/outlets/volunteer-archive.toml").content.decode()
        self.assertEqual(parse(text), self.outlet())
        other = get_user_model().objects.create_user("other")
        self.client.force_login(other)
        self.client.post("/outlets/bring-in/", {"file": SimpleUploadedFile("sheet.toml", text.encode())})
        # The shipped one stays what it is; what came in stands beside it.
        self.assertEqual(outlets_of(other)["volunteer-archive"], shipped()["volunteer-archive"])
        self.assertEqual(outlets_of(other)["volunteer-reading-archive"].rule("bit_rate_kbps").demands[None].first, 96)

    def test_bad_sheets_are_refused_with_a_sentence_and_nothing_is_kept(self):
        good = shipped_text("volunteer-archive")
        crossed = good.replace("exactly = 128", "at_least = 90\nat_most = 10")
        for name, content, said in (
            ("a.toml", b"\x00\xff\xfe", "Nothing was taken in"),
            ("a.toml", b"rules = [", "This is not TOML"),
            ("a.toml", good.replace("format = 2", "format = 7").encode(), "newer Sermovox (format 7)"),
            ("a.toml", crossed.encode(), "at least 90 and at most 10"),
            ("a.toml", b"x" * 300_000, "too large to be a rule sheet"),
        ):
            with self.subTest(said):
                answer = self.client.post(
                    "/outlets/bring-in/", {"file": SimpleUploadedFile(name, content)}, follow=True
                )
                self.assertContains(answer, said)
        self.assertContains(self.client.post("/outlets/bring-in/", follow=True), "Choose a rule sheet first")
        self.assertFalse(RuleSheet.objects.exists())

    def test_two_are_compared(self):
        page = self.client.get("/outlets/compare/?a=podcast-host&b=internet-station")
        self.assertContains(page, "joint stereo")
        self.assertContains(page, "not asked")
        self.assertContains(self.client.get("/outlets/compare/?a=nowhere&b="), "Choose two outlets")

    def test_what_is_another_person_s_is_not_seen(self):
        self.client.post("/outlets/broadcast/copy/")
        self.client.force_login(get_user_model().objects.create_user("other"))
        self.assertEqual(self.client.get("/outlets/broadcaster-own/").status_code, 404)

    def test_any_file_is_held_against_any_outlet_and_nothing_of_it_is_kept(self):
        path = written(self.folder, speech(seconds=4), name="01-mine.wav")
        files = [SimpleUploadedFile(path.name, path.read_bytes()), SimpleUploadedFile("b.mp3", b"no sound at all")]
        answer = self.client.post("/outlets/radio-playout/check/", {"file": files, "content": "speech"})
        self.assertContains(answer, "waits for its turn")
        self.work()
        answer = self.client.get("/outlets/radio-playout/checked/")
        self.assertContains(answer, "01-mine.wav")
        self.assertContains(answer, "Sample peak")
        self.assertContains(answer, "This is not a sound file")
        self.client.post("/outlets/podcast-host/check/", {"file": SimpleUploadedFile(path.name, path.read_bytes())})
        self.work()
        self.assertContains(self.client.get("/outlets/podcast-host/"), "Tag: title")
        self.assertEqual(list((self.folder / "data" / "checking").iterdir()), [])
        self.assertContains(self.client.post("/outlets/podcast-host/check/"), "Choose at least one file")

    def test_checking_files_can_be_cancelled_and_is_seen_by_nobody_else(self):
        path = written(self.folder, speech(seconds=4), name="01-mine.wav")
        self.client.post("/outlets/radio-playout/check/", {"file": SimpleUploadedFile(path.name, path.read_bytes())})
        self.assertContains(self.client.post("/outlets/radio-playout/checked/cancel/"), "Cancelled before")
        self.assertEqual(list((self.folder / "data" / "checking").iterdir()), [])
        self.work()
        self.assertContains(self.client.get("/outlets/radio-playout/checked/"), "Cancelled before")
        self.client.force_login(get_user_model().objects.create_user("other"))
        self.assertNotContains(self.client.get("/outlets/radio-playout/checked/"), "01-mine.wav")

    def test_one_that_is_cancelled_as_a_worker_takes_it_stays_cancelled(self):
        path = written(self.folder, speech(seconds=4), name="01-mine.wav")
        self.client.post("/outlets/radio-playout/check/", {"file": SimpleUploadedFile(path.name, path.read_bytes())})
        taken = FileCheck.objects.get()
        self.client.post("/outlets/radio-playout/checked/cancel/")
        self.assertFalse(taken.start())
        self.assertEqual(FileCheck.objects.get().state, FileCheck.State.CANCELLED)

    def test_a_file_that_ends_its_worker_is_not_tried_for_ever(self):
        path = written(self.folder, speech(seconds=4), name="01-mine.wav")
        self.client.post("/outlets/radio-playout/check/", {"file": SimpleUploadedFile(path.name, path.read_bytes())})
        FileCheck.objects.update(state="checking", starts=3)
        self.work()
        self.assertContains(self.client.get("/outlets/radio-playout/checked/"), "broken off 3 times")
        self.assertEqual(list((self.folder / "data" / "checking").iterdir()), [])

    def test_what_was_found_is_summed_up_worst_first_kept_and_reported_until_it_is_deleted(self):
        path = written(self.folder, speech(seconds=4), name="01-mine.wav")
        good = SimpleUploadedFile("<b>good.wav", path.read_bytes())
        files = [good, SimpleUploadedFile("b.mp3", b"no sound at all")]
        self.client.post("/outlets/radio-playout/check/", {"file": files})
        self.work()
        FileCheck.objects.update(created_at=timezone.now() - timedelta(days=40))
        page = self.client.get("/outlets/radio-playout/")
        self.assertContains(page, "2 files: 1 fails, 1 cannot be checked.")
        self.assertEqual([each.name for each in page.context["checks"]], ["b.mp3", "<b>good.wav"])
        batch = page.context["batch"]
        report = f"/outlets/radio-playout/checked/{batch}/report"
        html = self.client.get(f"{report}.html")
        self.assertContains(html, "&lt;b&gt;good.wav")
        self.assertIn("attachment", html["Content-Disposition"])
        self.assertContains(self.client.get(f"{report}.txt"), "<b>good.wav fails:\n- ")
        lines = list(csv.DictReader(io.StringIO(self.client.get(f"{report}.csv").content.decode())))
        self.assertEqual({line["file"] for line in lines}, {"<b>good.wav", "b.mp3"})
        told = self.client.get(f"{report}.json").json()
        self.assertEqual(told["outlet"], "radio-playout")
        self.assertEqual(len(told["files"][0]["findings"]), len(shipped()["radio-playout"].rules))

        # One for each who sent some: of those that are ticked alone.
        alone = f"?file={page.context['checks'][0].pk}"
        self.assertEqual([each["name"] for each in self.client.get(f"{report}.json{alone}").json()["files"]], ["b.mp3"])
        self.assertEqual(len(self.client.get(f"{report}.json?file=nonsense").json()["files"]), 2)
        for chosen, shown in (("", True), (alone, False)):
            paper = PdfReader(io.BytesIO(self.client.get(f"{report}.pdf{chosen}").content))
            words = " ".join("".join(page.extract_text() for page in paper.pages).split())
            self.assertIn("b.mp3: cannot be checked", words)
            self.assertEqual("<b>good.wav: fails" in words, shown)

        self.client.post("/outlets/radio-playout/check/", {"file": SimpleUploadedFile(path.name, path.read_bytes())})
        self.work()
        page = self.client.get("/outlets/radio-playout/")
        self.assertContains(page, f"?batch={batch}")
        self.assertContains(self.client.get(f"/outlets/radio-playout/?batch={batch}"), "b.mp3")
        self.assertEqual(self.client.get("/outlets/radio-playout/?batch=nonsense").status_code, 200)
        self.client.force_login(get_user_model().objects.create_user("other"))
        self.assertEqual(self.client.get(f"{report}.html").status_code, 404)
        self.client.post(f"/outlets/radio-playout/checked/{batch}/delete/")
        self.assertEqual(FileCheck.objects.filter(batch=batch).count(), 2, "what is somebody else's stays")
        self.client.force_login(self.narrator)
        self.client.post(f"/outlets/radio-playout/checked/{batch}/delete/")
        self.assertFalse(FileCheck.objects.filter(batch=batch).exists())
