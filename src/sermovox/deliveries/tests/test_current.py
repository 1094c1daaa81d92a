"""What a production holds and what has become of it: the file that stands for each section, and what changed since."""

import hashlib
import io
import json
import re
import zipfile
from datetime import timedelta
from importlib import import_module

from django.apps import apps
from django.db import connection
from django.test.utils import CaptureQueriesContext
from django.utils import timezone

from mastering.editing.markkinds import STRIKE
from mastering.outlets.rulesheets import parse, shipped, shipped_text, without_rule, written
from mastering.tagging.carried import read_carried
from mastering.tagging.writing import sound_sha256
from mastering.tests.signals import speech
from sermovox.cutting.models import Page
from sermovox.deliveries.crossings import CHANGED, Board
from sermovox.deliveries.models import Delivery, FinishedFile
from sermovox.history.changing import changing, undo
from sermovox.keeping import storage
from sermovox.outlets.models import RuleSheet
from sermovox.productions import order
from sermovox.productions.models import Section
from sermovox.sources.soundings import digest
from sermovox.ui.tests.base import AppTestCase
from sermovox.work.recovery import look_after

BOOK = ("audiobook-retail", "single-file-audiobook", "own-masters")


class Standing(AppTestCase):
    OUTLETS = ("volunteer-archive",)

    def prepare(self):
        super().prepare()
        for name, seed in (("one.wav", 3), ("two.wav", 8), ("three.wav", 5)):
            self.bring_in(speech(seconds=4, seed=seed), name=name)
        self.production.outlet_keys = list(self.OUTLETS)
        self.production.save()
        self.one, self.two, self.three = self.production.sections.all()

    def begin(self, *sections, outlets=None, **more):
        keys = [section.pk for section in sections or self.production.sections.all()]
        fields = {"outlet": outlets or self.OUTLETS, "section": keys} | more
        return self.client.post(f"/deliveries/start/{self.production.pk}/", fields)

    def make(self, *sections, **more) -> list[Delivery]:
        before = set(Delivery.objects.values_list("pk", flat=True))
        self.begin(*sections, **more)
        self.work()
        return list(Delivery.objects.exclude(pk__in=before).order_by("pk"))

    def board(self) -> Board:
        return Board(self.production, list(self.production.outlets.values()))

    def words(self, section=None, outlet=None) -> tuple[str, ...]:
        """What has changed since the file of a section was made; nothing while it is up to date."""
        found = self.board().at((section or self.one).pk, outlet or self.OUTLETS[0])
        self.assertEqual(found.state == CHANGED, bool(found.changes), found)
        return found.changes.words


class Asked(Standing):
    OUTLETS = ("volunteer-archive", "podcast-host")

    def test_what_a_board_asks_of_the_database_does_not_grow_with_outlets_and_files(self):
        self.make(self.one)
        self.board()
        with CaptureQueriesContext(connection) as few:
            self.board()
        self.OUTLETS = (*self.OUTLETS, *BOOK)
        self.production.outlet_keys = list(self.OUTLETS)
        self.production.save()
        self.make()
        self.board()
        with CaptureQueriesContext(connection) as many:
            board = self.board()
        self.assertLessEqual(len(many), len(few))
        states = [board.at(self.two.pk, key).state for key in self.OUTLETS]
        self.assertLessEqual(set(states), {"passes", "passes with a remark"})


class Changed(Standing):
    """Every change that makes another file is told by its name, and by undoing it all is up to date again."""

    def prepare(self):
        super().prepare()
        self.make()
        self.assertEqual(self.words(), ())

    def test_another_recording(self):
        other = self.bring_in(speech(seconds=4, seed=21), name="again.wav").recording
        order.assign(self.production, self.narrator, {self.one.pk: other.pk}, "Give it another")
        self.assertIn("its recording", self.words())

    def test_a_strike_and_its_undoing(self):
        page = Page.of(self.one.recording)
        with changing(self.production, self.narrator, "Strike", beside=[page]):
            page.marks = [{"id": 1, "kind": STRIKE, "start_sample": 9000, "end_sample": 30000}]
            page.save()
            Page.objects.filter(pk=page.pk).update(revision=page.revision + 1)
        self.assertIn("what is cut or marked", self.words())
        self.assertEqual(self.words(self.two), ())
        undo(self.production)
        self.assertEqual(self.words(), ())

    def test_a_point_on_the_page_changes_nothing_that_is_heard(self):
        page = Page.of(self.one.recording)
        page.marks = [{"id": 1, "kind": "point", "start_sample": 9000, "end_sample": 9000, "name": "here"}]
        page.save()
        self.assertEqual(self.words(), ())

    def test_a_treatment(self):
        self.one.treatment = {"ride": "always"}
        self.one.save()
        self.assertEqual(self.words(), ("its treatment",))

    def test_rules(self):
        text = written(shipped()["volunteer-archive"]).replace("96", "97", 1)
        changed = parse(text + '\n[[rules]]\nname = "duration_s"\nat_most = 600\nsource = "a test"\n')
        RuleSheet.change(self.narrator, changed, "Shorter")
        (words,) = self.words()
        self.assertIn("the outlet’s rules", words)
        self.assertIn("Length", words)

    def test_a_title_in_the_tags_and_the_name(self):
        self.one.title = "The Ford"
        self.one.save()
        found = self.board().at(self.one.pk, "volunteer-archive").changes
        self.assertEqual(found.words, ("its name", "tags (title)"))
        self.assertTrue(found.rewritable)

    def test_a_fact_of_the_production(self):
        self.production.author = "Ada Fenn"
        self.production.save()
        for section in (self.one, self.two, self.three):
            self.assertRegex(self.words(section)[0], "^tags ")

    def test_what_no_file_follows_from_changes_nothing(self):
        self.production.contact = "somebody@example.org"
        self.production.save()
        self.one.link = "https://example.org"
        self.one.save()
        self.assertEqual(self.words(), ())

    def test_moving_the_running_order(self):
        order.move(self.production, self.narrator, [self.three.pk], self.one.pk)
        self.assertEqual(self.words(self.three)[0], "its name")
        undo(self.production)
        self.assertEqual(self.words(self.three), ())

    def test_the_day_changes_nothing(self):
        naming = {"outlet": "volunteer-archive", "pattern": "{date}-{place}", "existing": ""}
        names = f"/productions/{self.production.pk}/names/"
        self.submit(f"{names}save/", naming, shown=f"{names}?outlet=volunteer-archive")
        self.make(again="yes")
        self.assertEqual(self.words(), ())
        past = timezone.now() - timedelta(days=9)
        Delivery.objects.update(created_at=past)
        self.assertEqual(self.words(), ())

    def test_the_pages_show_it(self):
        self.one.treatment = {"ride": "always"}
        self.one.save()
        page = self.client.get(f"/productions/{self.production.pk}/")
        self.assertContains(page, 'aria-label="changed since: its treatment, one, Volunteer reading archive"')
        self.assertContains(page, "1 has changed since it was made")
        listed = self.client.get("/").content.decode()
        self.assertRegex(listed, r'aria-label="changed since".*?</svg>\s+1\s*</td>')
        file = FinishedFile.objects.get(section=self.one)
        self.assertContains(self.client.get(file.get_absolute_url()), "Changed since it was made: its treatment")

    def test_what_is_ticked_at_first_is_what_is_new_changed_or_failed(self):
        self.one.treatment = {"ride": "always"}
        self.one.save()
        four = self.bring_in(speech(seconds=4, seed=31), name="four.wav")
        rows = {
            row["section"].pk: row for row in self.client.get(f"/productions/{self.production.pk}/").context["rows"]
        }
        ticked = {pk for pk, row in rows.items() if row["to_make"]}
        self.assertEqual(ticked, {self.one.pk, four.pk})

    def test_only_those_are_made_and_the_rest_is_left_alone(self):
        self.one.treatment = {"ride": "always"}
        self.one.save()
        page = self.begin()
        self.assertContains(page, "1 file of this name is there already")
        self.assertContains(page, 'value="replace" checked')
        self.assertContains(page, "(2 are up to date)")
        (delivery,) = self.make(existing="replace")
        self.assertEqual([file.section for file in delivery.files.all()], [self.one])
        self.assertContains(self.begin(), "All 3 files are up to date")
        (delivery,) = self.make(existing="replace", again="yes")
        self.assertEqual(delivery.files.count(), 3)

    def test_a_file_made_before_this_was_kept_says_so(self):
        FinishedFile.objects.filter(section=self.one).update(follows={}, fingerprint="")
        self.assertEqual(self.words(), ("made before this was kept",))

    def test_what_can_be_told_of_files_made_before_is_told(self):
        """The migration of existing data."""
        FinishedFile.objects.update(follows={}, fingerprint="")
        FinishedFile.objects.filter(section=self.three).update(recording=None)
        import_module("sermovox.deliveries.migrations.0009_what_files_followed_from").tell(apps, None)
        import_module("sermovox.deliveries.migrations.0012_demands_as_values").carry_over(apps, None)
        self.assertEqual([self.words(each) for each in (self.one, self.two)], [(), ()])
        self.assertEqual(self.words(self.three), ("made before this was kept",))
        self.two.treatment = {"ride": "always"}
        self.two.save()
        self.assertEqual(self.words(self.two), ("its treatment",))

    def test_words_and_sources_of_rules_change_no_file(self):
        sheet = shipped_text(self.OUTLETS[0])
        sources = re.sub(r'source = "[^"]*"', 'source = "its letter of Monday"', sheet)
        for told in (sources, sheet.replace("at_most = -1\n", "at_most = -1.0\n")):
            self.assertNotEqual(told, sheet)
            RuleSheet.change(self.narrator, parse(told), "Said better")
            self.assertEqual(self.words(), ())
        RuleSheet.change(self.narrator, parse(sheet.replace("at_most = -1\n", "at_most = -1.5\n")), "Lower")
        self.assertEqual(self.words(), ("the outlet’s rules (True peak)",))

    def test_what_earlier_versions_kept_in_words_is_carried_over(self):
        file = FinishedFile.objects.get(section=self.one)
        outlet = file.delivery.outlet
        follows = dict(file.follows)
        del follows["demands"], follows["tag demands"]
        asked = [outlet.tag_patterns, outlet.tag_form, outlet.names_encoder, outlet.artwork]
        for tag_rules in (digest(repr(asked)), "of another sheet"):
            file.set_followed(follows | {"rules": {"container": "mp3, as it was worded once"}, "tag rules": tag_rules})
            file.save()
            import_module("sermovox.deliveries.migrations.0012_demands_as_values").carry_over(apps, None)
            file.refresh_from_db()
            self.assertNotIn("rules", file.follows)
            self.assertEqual(self.words(), ())
        # What is kept of it still tells a rule that is changed.
        RuleSheet.change(self.narrator, without_rule(outlet, "true_peak_dbtp"), "Any peak")
        self.assertEqual(self.words(), ("the outlet’s rules (True peak)",))


class Rewritten(Standing):
    def test_where_name_and_tags_alone_differ_they_are_written_again(self):
        (delivery,) = self.make()
        before = {file.pk: sound_sha256(file.path) for file in delivery.files.all()}
        self.one.title, self.two.treatment = "The Ford", {"ride": "always"}
        self.one.save(), self.two.save()
        at = f"/deliveries/current/{self.production.pk}/volunteer-archive/"
        self.assertContains(self.client.get(at), "Write name and tags of 1 again")
        self.client.post(f"{at}rewrite/")
        file = FinishedFile.objects.get(section=self.one)
        self.assertEqual((file.name, read_carried(file.path).tags["title"]), ("01-the-ford.mp3", "The Ford"))
        for name in ("manifest.csv", "manifest.json", "chapters.txt", "chapters.json"):
            self.assertContains(self.client.get(f"/deliveries/{delivery.pk}/{name}"), "The Ford")
        self.assertEqual({each.pk: sound_sha256(each.path) for each in delivery.files.all()}, before)
        self.assertEqual(hashlib.sha256(file.path.read_bytes()).hexdigest(), file.sha256)
        self.assertEqual(self.words(), ())
        self.assertEqual(self.words(self.two), ("its treatment",))


class Replaced(Standing):
    def prepare(self):
        super().prepare()
        (self.first,) = self.make()
        self.one.treatment = {"ride": "always"}
        self.one.save()
        self.was = self.first.files.get(section=self.one)
        self.bytes_before = self.was.path.read_bytes()
        (self.second,) = self.make(existing="replace")
        self.was.refresh_from_db()

    def test_its_record_and_sheet_stay_and_its_bytes_lie_in_the_bin(self):
        page = self.client.get(self.first.get_absolute_url())
        self.assertContains(page, "replaced by")
        self.assertContains(page, "Not in the ZIP: 01-one.mp3")
        self.assertEqual(self.was.path.read_bytes(), self.bytes_before)
        self.assertTrue(self.was.in_bin)
        sheet = self.client.get(self.was.get_absolute_url())
        self.assertContains(sheet, self.was.sha256)
        self.assertContains(sheet, "Integrated loudness")

    def test_the_archive_of_the_earlier_run_says_what_it_lacks(self):
        answer = self.client.get(f"/deliveries/{self.first.pk}/files.zip")
        archive = zipfile.ZipFile(io.BytesIO(b"".join(answer)))
        self.assertEqual(sum(name.endswith(".mp3") for name in archive.namelist()), 2)
        self.assertIn("01-one.mp3 (one) was replaced", archive.read("read first.txt").decode())

    def test_the_files_as_they_stand_are_whole(self):
        at = f"/deliveries/current/{self.production.pk}/volunteer-archive/"
        self.assertContains(self.client.get(at), "Every file is here, is up to date and passes.")
        archive = zipfile.ZipFile(io.BytesIO(b"".join(self.client.get(f"{at}files.zip"))))
        self.assertNotIn("read first.txt", archive.namelist())

    def test_an_archive_says_which_of_its_files_fail(self):
        at = f"/deliveries/current/{self.production.pk}/volunteer-archive/"
        two = FinishedFile.objects.current().get(name="02-two.mp3", delivery=self.first)
        two.state = FinishedFile.State.FAILS
        two.save()
        archive = zipfile.ZipFile(io.BytesIO(b"".join(self.client.get(f"{at}files.zip"))))
        self.assertEqual(archive.read("read first.txt").decode(), "02-two.mp3 (two) fails; its check sheet says why\n")
        rows = {row["name"]: row for row in json.loads(self.client.get(f"{at}manifest.json").content)["files"]}
        self.assertEqual(len(rows), 3)
        for name, row in rows.items():
            self.assertEqual(hashlib.sha256(archive.read(name)).hexdigest(), row["sha256"])
        self.assertNotEqual(rows["01-one.mp3"]["sha256"], self.was.sha256)
        for name in ("check-sheets.html", "check-sheets.pdf", "check-sheets.csv", "check-sheets.json", "manifest.csv"):
            self.assertEqual(self.client.get(at + name).status_code, 200, name)

    def test_it_can_be_taken_back(self):
        self.client.post(f"/deliveries/files/{self.was.pk}/take-back/")
        self.was.refresh_from_db()
        self.assertEqual((self.was.replaced_at, self.was.path.read_bytes()), (None, self.bytes_before))
        newer = self.second.files.get()
        self.assertTrue(newer.in_bin and newer.is_there)
        self.assertEqual(self.words(), ("its treatment",))

    def test_the_bin_lets_go_after_its_time(self):
        FinishedFile.objects.filter(pk=self.was.pk).update(replaced_at=timezone.now() - timedelta(days=29))
        look_after()
        self.was.refresh_from_db()
        self.assertTrue(self.was.is_there)
        FinishedFile.objects.filter(pk=self.was.pk).update(replaced_at=timezone.now() - timedelta(days=31))
        look_after()
        self.was.refresh_from_db()
        self.assertFalse(self.was.in_bin or self.was.is_there)
        self.assertContains(self.client.get(self.was.get_absolute_url()), "no longer here")
        self.assertEqual(self.client.get(f"/deliveries/files/{self.was.pk}/download/").status_code, 404)


class Joined(Standing):
    OUTLETS = BOOK

    def test_replacing_one_chapter_leaves_the_book_whole(self):
        self.make()
        length_s = FinishedFile.objects.get(section=None).figures["duration_s"]
        self.assertGreaterEqual(length_s, 12)
        self.one.treatment = {"room_tone": False}
        self.one.save()
        self.make(self.one, existing="replace")
        whole = FinishedFile.objects.standing().get(section=None)
        self.assertEqual(whole.section_keys, [self.one.pk, self.two.pk, self.three.pk])
        self.assertAlmostEqual(whole.figures["duration_s"], length_s, delta=1.0)
        for section in (self.one, self.two, self.three):
            for outlet in BOOK:
                self.assertNotIn(self.board().at(section.pk, outlet).state, (CHANGED, "to do"), (section, outlet))

    def test_a_chosen_few_are_joined_only_when_asked_in_so_many_words_and_under_another_name(self):
        joined = ("single-file-audiobook",)
        page = self.begin(self.two, outlets=joined, look="yes")
        self.assertContains(page, "every section that is ready, whichever are ticked")
        self.make(self.two, outlets=joined)
        (delivery,) = self.make(self.two, outlets=joined, some="yes")
        file = delivery.files.get()
        self.assertEqual((file.name, file.excerpt), ("salt-and-cedar-some-sections.m4b", True))
        self.assertEqual(file.section_keys, [self.two.pk])
        at = f"/deliveries/current/{self.production.pk}/single-file-audiobook/"
        self.assertNotContains(self.client.get(at), "some-sections")
        self.assertEqual(self.words(self.two, "single-file-audiobook"), ())

    def test_another_order_and_another_section_are_told(self):
        self.make(outlets=("single-file-audiobook",))
        order.move(self.production, self.narrator, [self.three.pk], self.one.pk)
        self.assertEqual(self.words(self.two, "single-file-audiobook"), ("its sections (in another order)",))
        undo(self.production)
        self.bring_in(speech(seconds=4, seed=41), name="four.wav")
        self.assertIn("its sections (1 section more)", self.words(self.two, "single-file-audiobook"))

    def test_a_sample_is_no_part_of_the_book_unless_that_is_said(self):
        book = ("single-file-audiobook",)
        Section.objects.filter(pk=self.three.pk).update(role="sample", title="A taste")
        page = self.begin(outlets=book, look="yes")
        self.assertContains(page, "It holds 2 sections: one, two.")
        self.assertContains(page, "Not in it, as a sample is heard by itself: A taste.")
        (delivery,) = self.make(outlets=book)
        file = delivery.files.get()
        self.assertEqual(file.section_keys, [self.one.pk, self.two.pk])
        self.assertEqual([chapter.title for chapter in read_carried(file.path).chapters], ["one", "two"])
        self.assertContains(self.client.get(delivery.get_absolute_url()), "as a sample is heard by itself: A taste.")
        self.assertEqual(self.words(self.one, book[0]), ())
        (some,) = self.make(self.two, self.three, outlets=book, some="yes")
        self.assertEqual(some.files.get().section_keys, [self.two.pk, self.three.pk])
        (alone,) = self.make(self.three, outlets=book, some="yes", existing="keep-both")
        self.assertEqual(alone.files.get().section_keys, [self.three.pk])

    def test_what_has_no_recording_yet_is_named(self):
        self.production.add_section(title="Afterword")
        page = self.begin(outlets=("single-file-audiobook",), look="yes")
        self.assertContains(page, "has no recording yet: Afterword")
        (delivery,) = self.make(self.one, outlets=("single-file-audiobook",))
        self.assertContains(self.client.get(delivery.get_absolute_url()), "had no recording: Afterword")

    def test_a_run_of_one_file_is_not_told_that_the_book_lacks_its_credits(self):
        (delivery,) = self.make(self.one, outlets=("audiobook-retail",))
        self.assertNotContains(self.client.get(delivery.get_absolute_url()), "without opening credits")
        self.make(outlets=("audiobook-retail",))
        at = f"/deliveries/current/{self.production.pk}/audiobook-retail/"
        self.assertContains(self.client.get(at), "without opening credits, closing credits")

    def test_a_run_is_done_when_all_its_outlets_are(self):
        first, *_, last = self.make()
        FinishedFile.objects.filter(delivery=last, section=self.two).update(state="waiting")
        page = self.client.get(f"/deliveries/{first.pk}/progress/").content.decode()
        self.assertIn('data-running="yes"', page)
        self.assertNotIn("✓ done", page)
        self.assertIn("Own masters", page.partition("as one ZIP once")[2])
        self.assertNotIn("files.zip?run", page)
        FinishedFile.objects.filter(delivery=last, section=self.two).update(state="passes")
        page = self.client.get(f"/deliveries/{first.pk}/progress/").content.decode()
        self.assertIn('data-running="no"', page)
        self.assertIn("files.zip?run", page)


class Voices(Standing):
    def test_the_mark_of_a_section_tells_the_worst_of_its_voices(self):
        page = Page.of(self.one.recording)
        lane = {"recording": self.two.recording.pk, "offset_samples": 0, "gain_db": 0.0}
        page.set_facts(lanes=[lane], separate=True)
        self.two.pieces.all().delete()
        self.make(self.one)
        self.assertEqual({file.voice for file in FinishedFile.objects.all()}, {"one.wav", "two.wav"})
        self.assertEqual(self.words(), ())
        FinishedFile.objects.filter(voice="two.wav").update(state="cancelled")
        self.assertEqual(self.board().at(self.one.pk, "volunteer-archive").state, "to do")
        FinishedFile.objects.filter(voice="two.wav").update(state="fails")
        self.assertEqual(self.board().at(self.one.pk, "volunteer-archive").state, "fails")


class Damaged(Standing):
    def test_nothing_is_made_of_a_recording_that_is_no_longer_what_came_in(self):
        path = self.one.recording.path
        path.chmod(0o644)
        raw = bytearray(path.read_bytes())
        raw[len(raw) // 2] ^= 1
        path.write_bytes(raw)
        (delivery,) = self.make()
        states = {file.section_id: (file.state, file.refusal) for file in delivery.files.all()}
        state, reason = states.pop(self.one.pk)
        self.assertEqual(state, "cannot be made")
        self.assertIn("one.wav is damaged on the server’s disk", reason)
        self.assertEqual({state for state, _ in states.values()}, {"passes"})
        self.assertEqual(list(delivery.files.get(section=self.one).folder.glob("*")), [])

    def test_damage_that_leaves_size_and_date_alone_is_found_by_the_next_run(self):
        self.make()
        path = self.one.recording.path
        found = path.stat()
        note = storage.cached(self.one.recording.sha256, "whole")
        self.assertTrue(note.exists())
        path.chmod(0o644)
        with path.open("r+b") as file:
            file.seek(found.st_size // 2)
            file.write(b"\x55\xaa")
        import os

        os.utime(path, ns=(found.st_atime_ns, found.st_mtime_ns))
        (delivery,) = self.make(self.one, again="yes", existing="replace")
        self.assertEqual(delivery.files.get().state, "cannot be made")
        self.assertTrue(FinishedFile.objects.filter(section=self.one).standing().exists(), "the earlier one stays")


class OneEncoding(Standing):
    """A sheet whose container differs for mono and stereo."""

    OUTLETS = ("mixed-house",)

    def prepare(self):
        super().prepare()
        head = 'format = 2\nkey = "mixed-house"\ntitle = "Mixed house"\nsummary = "Two containers."\n'
        RuleSheet.change(self.narrator, parse(head + self.RULES), "A house of its own")

    RULES = """
[[rules]]
name = "container"
source = "a test"
[rules.mono]
exactly = "mp3"
[rules.stereo]
exactly = "wav"
[[rules]]
name = "channels"
exactly = "as recorded"
source = "a test"
[[rules]]
name = "sample_rate_hz"
exactly = 44100
source = "a test"
[[rules]]
name = "bit_rate_kbps"
source = "a test"
[rules.mono]
exactly = 128
[[rules]]
name = "sample_format"
source = "a test"
[rules.stereo]
exactly = "16-bit integer"
"""

    def test_name_estimate_plan_file_and_check_agree_on_what_a_stereo_section_becomes(self):
        self.bring_in(speech(seconds=4, seed=5).repeat(2, axis=1), name="st.wav")
        names = self.client.get(f"/productions/{self.production.pk}/names/?outlet=mixed-house")
        self.assertContains(names, "04-st.wav")
        self.assertContains(names, "01-one.mp3")
        proposed = self.begin(look="yes").context["proposed"][0]
        estimate = proposed.files[3]
        (delivery,) = self.make()
        file = delivery.files.get(name="04-st.wav")
        self.assertAlmostEqual(file.figures["size_bytes"] / estimate.high_bytes, 1, delta=0.01)
        self.assertEqual(file.path.read_bytes()[:4], b"RIFF")
        self.assertEqual({f.state for f in delivery.files.all()}, {"passes"})
        for each in delivery.files.exclude(pk=file.pk):
            self.assertNotEqual(each.path.read_bytes()[:4], b"RIFF")


class Guards(Standing):
    def test_a_file_that_fails_beside_the_others_is_not_called_passing(self):
        text = shipped_text("radio-playout")
        RuleSheet.change(
            self.narrator,
            parse(text + '\n[[rules]]\nname = "consistency_lu"\nat_most = 0.5\nsource = "a test"\n'),
            "Near each other",
        )
        (delivery,) = self.make(outlets=("radio-playout",))
        files = list(delivery.files.all())
        for file, loudness in zip(files, (-20.0, -20.0, -26.0), strict=True):
            file.figures["integrated_lufs"] = loudness
            file.state = "passes"
            file.save()
        delivery.hold_together()
        states = [file.state for file in delivery.files.all()]
        self.assertEqual(states, ["passes", "passes", "fails"])

    def test_a_task_that_waits_already_is_not_queued_again(self):
        from django_tasks_db.models import DBTaskResult

        from sermovox.levelling.tasks import measure_sections
        from sermovox.work.queue import enqueue_once

        before = DBTaskResult.objects.count()
        for _ in range(3):
            enqueue_once(measure_sections, self.production.pk, "radio-playout")
        self.assertEqual(DBTaskResult.objects.count(), before + 1)
        enqueue_once(measure_sections, self.production.pk, "podcast-host")
        self.assertEqual(DBTaskResult.objects.count(), before + 2)
