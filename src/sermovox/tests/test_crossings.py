"""Where two features meet: short sequences, each of which once made a wrong file, wrong words or lost work."""

import re

from mastering.editing.assembly import CROSSFADE, Stretch
from mastering.editing.markkinds import POINT, STRIKE
from mastering.naming.renaming import CannotRename
from mastering.outlets.rulesheets import parse, shipped_text, without_rule
from mastering.outlets.rulesheets import written as written_toml
from mastering.shaping.treatment import Treatment
from mastering.tagging.carried import read_carried
from mastering.tests.signals import speech, written
from sermovox.cutting import edits
from sermovox.cutting.chapters import Chapters
from sermovox.cutting.models import Page
from sermovox.cutting.programmes import Assembly
from sermovox.cutting.verification import verify_lengths
from sermovox.deliveries.crossings import CHANGED, Board
from sermovox.deliveries.models import FinishedFile, current_files
from sermovox.deliveries.runs import run_again, start_run
from sermovox.deliveries.tasks import make_files
from sermovox.history.changing import changing, undo
from sermovox.outlets.models import RuleSheet, outlets_of
from sermovox.productions import order
from sermovox.productions.models import Naming, Production, Section
from sermovox.recordings.models import Recording
from sermovox.recordings.tasks import measure_recording
from sermovox.ui.revisions import ELSEWHERE
from sermovox.ui.tests.base import AppTestCase
from sermovox.walks.markers import heard, place_of, spoken

MASTERS = "own-masters"


class CrossingCase(AppTestCase):
    """Recordings of marker words, and the steps that are taken with them."""

    def spoken(self, *words: int, name: str = "", **more) -> Recording:
        """Bring in a recording of these words."""
        rate_hz = more.get("rate_hz", 44100)
        return self.bring_in(spoken(*words, **more), name=name or f"{words}.wav", rate_hz=rate_hz).recording

    def page(self, recording: Recording) -> Page:
        return Page.of(Recording.objects.get(pk=recording.pk))

    def do(self, on: Recording, op: str, **values) -> str:
        return edits.do(self.page(on), self.narrator, op, values)

    def strike(self, recording: Recording, *at: int) -> None:
        """Strike out words by their places."""
        for each in at:
            start, end = place_of(each)
            self.do(recording, "mark", kind=STRIKE, start=start, end=end)

    def sections(self) -> list[Section]:
        return list(self.production.sections.with_pieces())

    def cut(self, recording: Recording, *words: int) -> list[Section]:
        """Cut a recording before some of its words."""
        self.do(recording, "split", cuts=[place_of(at)[0] - 8820 for at in words])
        return self.sections()

    def change(self, do: str, **values):
        return self.client.post(f"/productions/{self.production.pk}/change/", {"do": do} | values)

    def make(self, *keys: str, sections=None, work: bool = True, **more) -> list[FinishedFile]:
        """Begin a run, and have it made; its files."""
        known = outlets_of(self.narrator)
        chosen = [section for section in sections or self.sections() if section.recording_id]
        begun = start_run(self.production, [known[key] for key in keys or (MASTERS,)], chosen, **more)
        if work:
            self.work()
        return list(FinishedFile.objects.filter(delivery__in=begun).order_by("pk"))

    def words_of(self, *keys: str, **more) -> list[list[int]]:
        """The words in each file that is made."""
        files = self.make(*keys, **more)
        for file in files:
            self.assertTrue(file.is_made, file.refusal)
        return [heard(file.path) for file in files]


class WrongSound(CrossingCase):
    def test_a_pickup_whose_first_sample_is_struck_out_is_heard_all_the_same(self):
        take, pickup = self.spoken(1, 2, 3), self.spoken(9)
        start, end = place_of(1)
        self.do(take, "pickup", start=start - 4410, end=end, recording=pickup.pk)
        self.do(take, "mark", kind=STRIKE, start=start - 8820, end=start - 2205)
        self.assertEqual(self.words_of(sections=self.sections()[:1]), [[1, 9, 3]])

    def test_a_pickup_for_the_only_word_is_as_loud_as_the_word_was(self):
        take, pickup = self.spoken(1), self.spoken(9)
        start, end = place_of(0)
        self.do(take, "pickup", start=start, end=end, recording=pickup.pk)
        self.assertAlmostEqual(self.page(take).mark_list[0].value_db, 0.0, delta=2.0)

    def test_a_recording_chosen_in_the_form_of_a_cut_section_is_what_sounds(self):
        take, other = self.spoken(1, 2, 3), self.spoken(7)
        first, second, *_ = self.cut(take, 1)
        address = first.get_absolute_url()
        self.fill_in(address, title="Kept as it is cut")
        self.fill_in(second.get_absolute_url(), recording=str(other.pk))
        self.assertEqual(self.words_of(sections=self.sections()[:2]), [[1], [7]])
        self.fill_in(address, recording="")
        first.refresh_from_db()
        self.assertEqual((first.recording, first.made_of), (None, []))
        undo(self.production)
        first.refresh_from_db()
        self.assertEqual([piece.is_whole for piece in first.made_of], [False])

    def test_a_join_left_on_a_first_piece_joins_nothing(self):
        one, two = self.spoken(1, 2), self.spoken(3, 4)
        second = self.sections()[1]
        half = Recording.objects.get(pk=two.pk).frames // 2
        crossed = [
            Stretch(recording=str(two.pk), start_sample=0, end_sample=half),
            Stretch(recording=str(two.pk), start_sample=half, end_sample=two.frames, join=CROSSFADE, join_s=0.4),
        ]
        second.set_stretches(crossed[1:])
        (whole,) = self.make("single-file-audiobook")
        self.assertAlmostEqual(whole.figures["duration_s"], (one.frames + two.frames - half) / 44100, delta=0.06)
        self.change("merge", section=self.sections()[0].pk)
        (merged,) = self.sections()
        self.assertAlmostEqual(merged.length_s, (one.frames + two.frames - half) / 44100)

    def test_what_is_still_being_measured_is_not_merged_away(self):
        self.spoken(1)
        self.upload(written(self.folder, spoken(2), name="late.wav"))
        answer = self.change("merge", section=self.sections()[0].pk)
        self.assertContains(answer, "late.wav is still being measured. Nothing was changed.")
        self.assertEqual(len(self.sections()), 2)
        self.work()
        self.assertContains(self.change("merge", section=self.sections()[0].pk), "Their recordings are put together.")
        self.assertEqual(self.words_of(), [[1, 2]])

    def test_an_empty_section_takes_over_what_the_next_is_made_of(self):
        take = self.spoken(1, 2, 3)
        empty = order.add(self.production, self.narrator, None, title="Empty")
        order.move(self.production, self.narrator, [empty.pk], self.sections()[0].pk)
        self.strike(take, 0)
        self.cut(take, 2)
        order.merge(self.production, self.narrator, self.sections()[0])
        self.assertEqual(self.words_of(), [[2], [3]])

    def test_voices_stay_apart_where_a_section_begins_with_a_pickup(self):
        host, guest, pickup = self.spoken(1, 2), self.spoken(5, 6, name="guest.wav"), self.spoken(9)
        self.do(host, "lane-add", recording=guest.pk)
        self.do(host, "separate", separate=True)
        start, end = place_of(0)
        self.do(host, "pickup", start=0, end=end, recording=pickup.pk)
        self.assertEqual(self.words_of(sections=self.sections()[:1]), [[9, 2], [9, 6]])


class Lengths(CrossingCase):
    """How long a section sounds is kept, and is never what it was before."""

    def length(self, section: Section | None = None) -> float:
        found = Section.objects.with_duration().get(pk=(section or self.sections()[0]).pk)
        return round(found.duration_s, 3)

    def right(self, section: Section | None = None) -> float:
        section = section or self.sections()[0]
        return round(Assembly(self.production).seconds(section.stretches()), 3)

    def test_a_piece_that_is_saved_unchanged_keeps_its_length(self):
        take = self.spoken(1, 2, 3)
        first = self.cut(take, 2)[0]
        right = self.right()
        self.assertLess(right, take.figures["duration_s"] - 0.5)
        with changing(self.production, self.narrator, "Nothing"):
            first.set_stretches(first.stretches())
        self.assertEqual((self.length(), self.right()), (right, right))

    def test_undo_while_a_recording_lies_in_the_bin_and_it_comes_back(self):
        take = self.spoken(1, 2, 3)
        self.cut(take, 2)
        right = self.right()
        self.do(take, "unsection", section=self.sections()[0].pk)
        self.client.post(f"/recordings/{take.pk}/delete/", {"sure": "yes"})
        undo(self.production)
        Recording.with_deleted.get(pk=take.pk).take_back()
        self.assertEqual((self.length(), self.right()), (right, right))

    def test_what_is_kept_wrong_is_found_and_mended(self):
        take = self.spoken(1, 2, 3)
        first, second = self.cut(take, 2)
        right = self.right()
        self.assertEqual([right for _, right in verify_lengths()], [True, True])
        Section.objects.filter(pk=first.pk).update(length_s=None)
        self.assertEqual([right for _, right in verify_lengths()], [False, True])
        self.assertEqual((self.length(), [right for _, right in verify_lengths()]), (right, [True, True]))

    def test_nothing_is_said_of_what_lies_in_the_bin(self):
        take = self.spoken(1, 2, 3)
        self.strike(take, 0)
        right = self.length()
        self.client.post(f"/recordings/{take.pk}/delete/", {"sure": "yes"})
        self.assertEqual(list(verify_lengths()), [])
        self.assertEqual(Section.objects.get().length_s and round(Section.objects.get().length_s, 3), right)


class BesideEachOther(CrossingCase):
    """Which files count where an outlet holds all of them against each other."""

    def prepare(self):
        super().prepare()
        self.host, self.guest = self.spoken(1, 2), self.spoken(5, 6, name="guest.wav")
        self.do(self.host, "lane-add", recording=self.guest.pk)
        self.do(self.host, "separate", separate=True)
        rule = '\n[[rules]]\nname = "consistency_lu"\nat_most = 1.5\nsource = "a test"\n'
        RuleSheet.change(self.narrator, parse(shipped_text(MASTERS) + rule), "Alike")
        self.make()
        self.spoken(3, name="three.wav")

    def states(self) -> list[tuple[str, str, bool]]:
        """Of each file that stands: its voice, its state and whether it is told how it lies beside the others."""
        return [
            (file.voice, file.state, any(each["rule"] == "consistency_lu" for each in file.findings))
            for file in FinishedFile.objects.current().order_by("pk")
        ]

    def loud(self, voice: str, lufs: float) -> None:
        for file in FinishedFile.objects.filter(voice=voice):
            file.figures["integrated_lufs"] = lufs
            file.save()

    def test_a_voice_that_is_wanted_no_more_counts_no_more(self):
        for voice in ("guest.wav", self.host.name):
            self.loud(voice, -3.0)
        self.do(self.host, "separate", separate=False)
        self.make()
        last = FinishedFile.objects.current().order_by("pk").last()
        (found,) = (each for each in last.findings if each["rule"] == "consistency_lu")
        self.assertEqual(found["verdict"], "passes")

    def test_files_of_earlier_runs_are_looked_at_again(self):
        for at, (voice, lufs) in enumerate((("guest.wav", -20.0), (self.host.name, -20.0))):
            with self.subTest(at):
                self.loud(voice, lufs)
        self.make(sections=self.sections()[1:])
        newest = FinishedFile.objects.order_by("pk").last()
        self.loud("", -30.0)
        newest.refresh_from_db()
        newest.delivery.hold_together()
        self.assertEqual([state for _, state, _ in self.states()], ["passes", "passes", "fails"])
        # The two that were wanted first are two no more: what is right is told by those that stand.
        for file in FinishedFile.objects.exclude(pk=newest.pk):
            file.figures["integrated_lufs"] = -30.0 if file.voice else file.figures["integrated_lufs"]
            file.save()
        newest.delivery.hold_together()
        self.assertNotIn("fails", [state for _, state, _ in self.states()])


class InUse(CrossingCase):
    def delete(self, recording: Recording, **more):
        return self.client.post(f"/recordings/{recording.pk}/delete/", more, follow=True)

    def see_every_page(self) -> None:
        """Everything that shows a section, a recording or a file is there."""
        production = self.production.get_absolute_url()
        addresses = [production, *(f"{production}{page}/" for page in ("pairing", "names", "sheet", "history"))]
        addresses += [f"/levels/{self.production.pk}/", "/", "/deliveries/", "/recordings/storage/"]
        for section in self.sections():
            addresses += [section.get_absolute_url(), f"/levels/sections/{section.pk}/"]
            addresses += [f"/cutting/sections/{section.pk}/", f"/cutting/sections/{section.pk}/chapters/"]
        for recording in self.production.recordings.all():
            addresses += [recording.get_absolute_url(), f"/cutting/{recording.pk}/"]
        for file in FinishedFile.objects.made():
            addresses += [file.get_absolute_url(), file.delivery.get_absolute_url()]
            addresses.append(f"/deliveries/current/{self.production.pk}/{file.delivery.outlet_key}/")
        for address in addresses:
            self.assertEqual(self.client.get(address).status_code, 200, address)

    def test_a_recording_in_use_is_named_before_it_goes_and_comes_back_to_its_places(self):
        take, other = self.spoken(1, 2, 3, name="take.wav"), self.spoken(7, name="other.wav")
        pickup = self.spoken(9, name="pickup.wav")
        self.strike(take, 1)
        start, end = place_of(0)
        self.do(take, "pickup", start=start, end=end, recording=pickup.pk)
        self.cut(take, 2)
        before = self.words_of()
        self.assertEqual(before, [[9], [3], [7], [9]])
        asked = self.delete(take)
        for words in ("(1 piece)", "2 finished files were made from it"):
            self.assertContains(asked, words)
        self.assertTrue(Recording.objects.get(pk=take.pk).ready, "nothing is done yet")
        self.assertContains(self.delete(pickup), "1 pickup on the page of take.wav")
        for recording in (take, pickup):
            self.assertContains(self.delete(recording, sure="yes"), "is deleted")
        for recording in Recording.with_deleted.filter(pk__in=[take.pk, pickup.pk]):
            self.assertTrue(recording.path.exists(), "it lies in the bin")
            recording.empty_bin()
        self.assertFalse(take.path.exists())
        self.see_every_page()
        self.assertContains(self.client.get(self.production.get_absolute_url()), "take.wav was deleted")
        self.assertContains(self.client.get(f"/cutting/sections/{self.sections()[0].pk}/"), "take.wav was deleted")
        self.change("merge", section=self.sections()[0].pk)
        self.change("undo")
        for words, name in (((1, 2, 3), "take.wav"), ((9,), "pickup.wav")):
            self.upload(written(self.folder, spoken(*words), name=name))
        self.work()
        self.assertEqual(len(self.sections()), 4, "no row of its own")
        self.assertEqual(self.words_of(again=True), before)
        self.assertEqual(self.page(take).recording.pk, take.pk)
        self.assertEqual(other.pk, self.sections()[2].recording_id)

    def test_a_section_whose_whole_recording_was_deleted_waits_for_one(self):
        take = self.spoken(1, name="take.wav")
        self.delete(take, sure="yes")
        page = self.client.get(self.production.get_absolute_url())
        self.assertContains(page, "1 section without a recording")
        self.spoken(2, name="take two.wav")
        self.assertEqual(len(self.sections()), 1)
        self.assertContains(self.client.get(f"/productions/{self.production.pk}/pairing/"), "take two.wav")

    def test_what_was_deleted_is_not_measured_to_its_end(self):
        self.upload(written(self.folder, spoken(1), name="take.wav"))
        take = self.production.recordings.get()
        measured = Recording.objects.get(pk=take.pk)
        take.put_away()
        measured.refuse("It does not matter any more.")
        measure_recording.func(take.pk)
        self.assertEqual(Recording.with_deleted.get(pk=take.pk).state, "deleted")

    def test_undo_brings_back_a_piece_of_what_was_deleted_since(self):
        take = self.spoken(1, 2)
        self.cut(take, 1)
        order.remove(self.production, self.narrator, self.sections()[1])
        self.delete(take, sure="yes")
        undo(self.production)
        self.see_every_page()
        self.upload(written(self.folder, spoken(1, 2), name="again.wav"))
        self.work()
        self.assertEqual(self.words_of(), [[1], [2]])

    def test_undo_gives_a_section_back_what_was_deleted_since(self):
        take = self.spoken(1)
        self.change("assign", section=self.sections()[0].pk, recording="")
        self.delete(take, sure="yes")
        undo(self.production)
        self.assertEqual(self.sections()[0].recording_id, take.pk)
        self.see_every_page()


class LostWork(CrossingCase):
    def test_strikes_count_for_whatever_a_recording_is_given_to(self):
        take = self.spoken(1, 2, 3)
        self.strike(take, 1)
        kept_s = self.sections()[0].length_s
        self.assertAlmostEqual(kept_s, take.frames / 44100 - 0.3, places=3)
        empty = order.add(self.production, self.narrator, None)
        form = order.add(self.production, self.narrator, None)
        self.change("assign", section=empty.pk, recording=take.pk)
        self.fill_in(form.get_absolute_url(), recording=str(take.pk))
        order.merge(self.production, self.narrator, form) or order.remove(
            self.production, self.narrator, self.sections()[0]
        )
        self.client.post(f"/recordings/{take.pk}/use/")
        self.assertEqual([round(section.length_s, 3) for section in self.sections()], [round(kept_s, 3)] * 3)

    def test_a_saved_form_takes_nothing_back(self):
        one, two = self.spoken(1, name="one.wav"), self.spoken(2, name="two.wav")
        section = self.sections()[0]
        address = section.get_absolute_url()
        stale = self.client.get(address).context["form"]
        shown = {field.name: field.value() for field in stale if field.value() is not None}
        self.fill_in(address, notes="From the other window", recording=str(two.pk))
        answer = self.client.post(address, shown | {"title": "Renamed"}, follow=True)
        self.assertContains(
            answer, "What was changed in another window meanwhile stays: recording, notes for listeners."
        )
        section.refresh_from_db()
        told = section.title, section.notes, section.recording_id
        self.assertEqual(told, ("Renamed", "From the other window", two.pk))
        answer = self.client.post(address, shown | {"notes": "Mine"}, follow=True)
        self.assertContains(answer, "notes for listeners is now “From the other window”")
        self.assertContains(answer, "Mine", msg_prefix="what was typed is still there")
        section.refresh_from_db()
        self.assertEqual(section.notes, "From the other window")
        again = {field.name: field.value() for field in answer.context["form"] if field.value() is not None}
        self.client.post(address, again)
        section.refresh_from_db()
        self.assertEqual((section.notes, section.recording_id), ("Mine", two.pk))
        self.assertContains(self.client.post(address, {"title": "x"}), "Load the page anew")
        self.assertEqual(one.pk, self.production.recordings.get(name="one.wav").pk)

    def test_facts_saved_in_two_windows_are_both_kept(self):
        address = f"/productions/{self.production.pk}/edit/"
        shown = {f.name: f.value() for f in self.client.get(address).context["form"] if f.value() is not None}
        self.fill_in(address, author="R. Ames")
        self.client.post(address, shown | {"narrator": "Ilse Brandt"})
        self.production.refresh_from_db()
        self.assertEqual((self.production.author, self.production.narrator), ("R. Ames", "Ilse Brandt"))


class TwoWindows(CrossingCase):
    """What was shown before somebody else changed it is not written over that."""

    def prepare(self):
        super().prepare()
        self.take = self.spoken(1, 2, name="take.wav")
        self.section = self.sections()[0]

    def assert_refused(self, address: str, values: dict, change, *, shown: str = "", said: str = ELSEWHERE) -> None:
        """Show a form, change what it is about elsewhere, and send it: it is told so, and changes nothing."""
        page = self.client.get(shown or address).content.decode()
        seen = re.search(r'name="seen"\s+value="(\w+)"', page)[1]
        change()
        before = [list(model.objects.values()) for model in (Section, Naming, RuleSheet, Production)]
        answer = self.client.post(address, {"seen": seen} | values, follow=True)
        self.assertContains(answer, said)
        self.assertEqual(before, [list(model.objects.values()) for model in (Section, Naming, RuleSheet, Production)])

    def test_names(self):
        names = f"/productions/{self.production.pk}/names/"
        theirs = {"outlet": "podcast-host", "pattern": "{title}", "existing": "skip"}
        shown = f"{names}?outlet=podcast-host"
        self.assert_refused(
            f"{names}save/",
            {"outlet": "podcast-host", "pattern": "{number}-{title}", "existing": ""},
            lambda: self.submit(f"{names}save/", theirs, shown=shown),
            shown=shown,
        )
        said = {"outlet": "podcast-host", "names": "a.wav", "way": "order"}
        seen = self.client.post(f"{names}exact/preview/", said).context["seen"]
        order.dictate(self.production, self.narrator, {self.section.pk: "theirs.wav"})
        self.assertContains(self.client.post(f"{names}exact/", said | {"seen": seen}, follow=True), ELSEWHERE)
        self.section.refresh_from_db()
        self.assertEqual(self.section.exact_name, "theirs.wav")

    def test_outlets_of_a_production(self):
        address = f"/productions/{self.production.pk}/outlets/"
        theirs = {"outlet": ["broadcast"]}
        self.assert_refused(address, {"outlet": ["line-set"]}, lambda: self.submit(address, theirs))

    def test_pairing(self):
        address = f"/productions/{self.production.pk}/pairing/?anew"
        chosen = {f"recording-{self.section.pk}": ""}
        other = self.spoken(3, name="other.wav")
        assign = {self.section.pk: other.pk}
        self.assert_refused(address, chosen, lambda: order.assign(self.production, self.narrator, assign, "Other"))

    def test_chapter_marks(self):
        address = f"/cutting/sections/{self.section.pk}/chapters/"
        rows = {"form-TOTAL_FORMS": 1, "form-INITIAL_FORMS": 1, "form-0-key": "section", "form-0-title": "Mine"}
        theirs = {"title": "Theirs"}
        self.assert_refused(address, rows, lambda: self.fill_in(self.section.get_absolute_url(), **theirs))

    def test_treatment(self):
        shown = f"/levels/sections/{self.section.pk}/plan/?outlet=podcast-host"
        values = {"do": "treat", "outlet": "podcast-host", "section": self.section.pk, "shown": self.section.pk}
        wishes = {self.section.pk: Treatment(ride="if needed")}
        change = f"/levels/{self.production.pk}/change/"
        theirs = lambda: order.treat(self.production, self.narrator, wishes, "Ride")  # noqa: E731
        self.assert_refused(change, values | {"hush": "always", "ride": "never"}, theirs, shown=shown)

    def test_a_rule_and_the_title_of_a_sheet(self):
        rule = "/outlets/podcast-host/rules/bit_rate_kbps/"
        mine, theirs = ({"source": "a mail", "all-exactly": kbps} for kbps in ("64", "96"))
        self.assert_refused(rule, mine, lambda: self.submit(rule, theirs))
        head = "/outlets/podcast-host/head/"
        told = [{"title": title, "summary": "For a test."} for title in ("Mine", "Theirs")]
        sheet = "/outlets/podcast-host/"
        self.assert_refused(head, told[0], lambda: self.submit(head, told[1], shown=sheet), shown=sheet)

    def test_a_script_that_takes_the_place_of_all(self):
        script, said = f"/productions/{self.production.pk}/script/", {"text": "Chapter 1", "instead": "on"}
        seen = self.client.post(f"{script}preview/", said).context["seen"]
        order.add(self.production, self.narrator, None, title="Theirs")
        self.assertContains(self.client.post(f"{script}make/", said | {"seen": seen}, follow=True), ELSEWHERE)
        self.assertEqual(len(self.sections()), 2)

    def test_tags(self):
        (file,) = self.make("podcast-host")
        address = f"/deliveries/{file.delivery_id}/tags/"
        before = file.path.read_bytes()
        self.assert_refused(
            address, {"file": [file.pk]}, lambda: self.fill_in(self.section.get_absolute_url(), title="Theirs")
        )
        self.assertEqual(file.path.read_bytes(), before)


class WrongWords(CrossingCase):
    def asked(self, key: str, *rules: str) -> None:
        """Change an outlet of this person's by more rules."""
        lines = "".join(f'\n[[rules]]\nsource = "a test"\n{rule}\n' for rule in rules)
        names = [rule.split('"')[1] for rule in rules]
        outlet = outlets_of(self.narrator)[key]
        for name in names:
            outlet = without_rule(outlet, name) if outlet.rule(name) else outlet
        RuleSheet.change(self.narrator, parse(written_toml(outlet) + lines), "Asked")

    def chapters(self, file: FinishedFile) -> list[tuple[str, float]]:
        """What the chapters in a file are called, and where they are."""
        return [
            (c.title, round(c.start_s, 1)) for c in read_carried(FinishedFile.objects.get(pk=file.pk).path).chapters
        ]

    def write_tags(self, *files: FinishedFile) -> None:
        for file in files:
            self.submit(f"/deliveries/{file.delivery_id}/tags/", {"file": [file.pk]})

    def test_titles_stay_with_their_sound_when_tags_are_written_again(self):
        for word in (1, 2, 3):
            self.spoken(word, name=f"{word}.wav", gap_s=1.0)
        one, two, three = self.sections()
        (whole,) = self.make("single-file-audiobook")
        self.assertEqual(self.chapters(whole), [("1", 0.0), ("2", 2.3), ("3", 4.6)])
        order.move(self.production, self.narrator, [three.pk], one.pk)
        self.fill_in(two.get_absolute_url(), title="The Second")
        self.write_tags(whole)
        self.assertEqual(self.chapters(whole), [("1", 0.0), ("The Second", 2.3), ("3", 4.6)])
        whole.refresh_from_db()
        board = Board(self.production, [outlets_of(self.narrator)["single-file-audiobook"]])
        self.assertIn("its sections (in another order)", board.at(one.pk, "single-file-audiobook").changes.words)
        undo(self.production)
        undo(self.production)
        board = Board(self.production, [outlets_of(self.narrator)["single-file-audiobook"]])
        self.assertEqual(board.at(one.pk, "single-file-audiobook").changes.words, ("its chapter marks",))

    def test_points_are_paired_by_where_they_are(self):
        self.asked("internet-station", 'name = "chapters"\nexactly = "from marks"')
        take = self.spoken(1, 2, 3, gap_s=1.0)
        first, second, third = (place_of(at, gap_s=1.0)[0] for at in range(3))
        for at, name in ((second, "Two"), (third, "Three")):
            self.do(take, "mark", kind=POINT, start=at, end=at, name=name)
        (file,) = self.make("internet-station")
        self.assertEqual(self.chapters(file), [("(1, 2, 3)", 0.0), ("Two", 2.3), ("Three", 3.6)])
        last = self.page(take).marks[-1]
        self.do(take, "remove", id=last["id"])
        self.do(take, "mark", kind=POINT, start=first, end=first, name="One")
        self.write_tags(file)
        self.assertEqual(self.chapters(file), [("(1, 2, 3)", 0.0), ("One", 1.0), ("Two", 2.3)])
        self.assertTrue(
            self.board_of("internet-station").at(file.section_id, "internet-station").state.startswith("pass")
        )
        # Where it sounds otherwise by now, marks stay where they are and are called as they are now.
        self.strike(take, 2)
        self.do(take, "move", id=self.page(take).marks[0]["id"], start=third, end=third)
        self.write_tags(file)
        self.assertEqual(self.chapters(file), [("(1, 2, 3)", 0.0), ("One", 1.0), ("Two", 2.3)])

    def board_of(self, key: str) -> Board:
        return Board(self.production, [outlets_of(self.narrator)[key]])

    def test_a_point_that_moved_or_came_is_seen(self):
        self.asked("internet-station", 'name = "chapters"\nexactly = "from marks"')
        take = self.spoken(1, 2, 3)
        self.do(take, "mark", kind=POINT, start=place_of(1)[0], end=place_of(1)[0], name="Two")
        (file,) = self.make("internet-station")
        self.do(take, "move", id=1, start=place_of(2)[0], end=place_of(2)[0])
        found = self.board_of("internet-station").at(file.section_id, "internet-station")
        self.assertEqual(found.changes.words, ("where its chapter marks are",))
        self.assertTrue(found.changes.rewritable)

    def test_a_joined_file_has_the_chapters_of_when_its_run_began(self):
        for word in (1, 2, 3):
            self.spoken(word, name=f"{word}.wav", gap_s=1.0)
        one, two, three = self.sections()
        (whole,) = self.make("single-file-audiobook", work=False)
        whole.delivery.cancel()
        order.move(self.production, self.narrator, [three.pk], one.pk)
        order.remove(self.production, self.narrator, two)
        self.fill_in(one.get_absolute_url(), title="Another")
        run_again(whole.delivery)
        self.work()
        whole.refresh_from_db()
        self.assertEqual(self.chapters(whole), [("1", 0.0), ("2", 2.3), ("3", 4.6)])
        self.assertEqual(self.board_of("single-file-audiobook").at(one.pk, "single-file-audiobook").state, CHANGED)

    def test_one_gain_for_a_set_is_that_of_the_set_when_the_run_began(self):
        for seed, peak in ((3, 0.4), (8, 0.1)):
            self.bring_in(speech(seconds=6, seed=seed, peak=peak), name=f"{seed}.wav")
        loud, soft = self.sections()
        together = {section.pk: Treatment(together=True) for section in (loud, soft)}
        order.treat(self.production, self.narrator, together, "One gain for the set")
        gains_db = []
        for edited in (False, True):
            (file,) = self.make("radio-playout", sections=[soft], again=True, work=False)
            if edited:
                order.remove(self.production, self.narrator, loud)
            self.work()
            file.refresh_from_db()
            gains_db.append(file.gain_db)
        self.assertEqual(gains_db[0], gains_db[1])
        (alone,) = self.make("radio-playout", sections=[soft], again=True)
        alone.refresh_from_db()
        self.assertGreater(alone.gain_db, gains_db[0] + 3, "the set is another now")

    def test_a_new_title_is_written_and_what_was_taken_out_keeps_its_tags(self):
        self.spoken(1, name="one.wav")
        self.spoken(2, name="two.wav")
        one, two = self.sections()
        files = self.make("podcast-host")
        self.fill_in(two.get_absolute_url(), title="The Ford")
        order.remove(self.production, self.narrator, one)
        before = read_carried(files[0].path).tags
        self.write_tags(*files)
        self.assertEqual(read_carried(files[0].path).tags, before)
        files[1].refresh_from_db()
        self.assertEqual(read_carried(files[1].path).tags["title"], "The Ford")
        page = self.client.get(f"/deliveries/{files[0].delivery_id}/tags/")
        self.assertContains(page, "no longer in the running order")

    def test_a_broadcast_wave_says_the_same_as_the_production(self):
        self.spoken(1, name="one.wav")
        files = self.make("broadcast", MASTERS)
        for file in files:
            self.assertContains(self.client.get(f"/deliveries/{file.delivery_id}/tags/"), "says the same")
        with files[0].path.open("ab") as made:
            made.write(b"LIST" + (20).to_bytes(4, "little") + b"INFOICMT" + (8).to_bytes(4, "little") + b"As said\0")
        self.assertEqual(read_carried(files[0].path).tags["comment"], "As said")

    def test_points_lie_right_after_a_crossfade_between_two_rates(self):
        fast, slow = self.spoken(1, 2), self.spoken(3, 4, rate_hz=22050)
        at = place_of(1, rate_hz=22050)[0]
        self.do(slow, "mark", kind=POINT, start=at, end=at, name="Four")
        section = self.sections()[0]
        section.set_stretches(
            [
                Stretch(recording=str(fast.pk), start_sample=0, end_sample=fast.frames),
                Stretch(recording=str(slow.pk), start_sample=0, end_sample=slow.frames, join=CROSSFADE, join_s=0.4),
            ]
        )
        section.save()
        (place,) = Chapters(self.production).places(section)
        self.assertAlmostEqual(place.start_s, fast.frames / 44100 - 0.4 + at / 22050, places=3)

    def test_chapters_beside_some_sections_are_those_of_the_files(self):
        self.asked("podcast-host", 'name = "extra_files"\nexactly = ["chapters.txt"]')
        for word in (1, 2, 3):
            self.spoken(word, name=f"{word}.wav", gap_s=1.0)
        one, two, three = self.sections()
        files = self.make("podcast-host", sections=[one, three])
        self.fill_in(two.get_absolute_url(), title="No part of it")
        self.strike(Recording.objects.get(pk=one.recording_id), 0)
        text = self.client.get(f"/deliveries/{files[0].delivery_id}/chapters.txt").content.decode()
        files[0].refresh_from_db()
        self.assertEqual(text, f"0:00 1\n0:0{files[0].figures['duration_s']:.0f} 3\n")


class OneName(CrossingCase):
    def prepare(self):
        super().prepare()
        self.spoken(1, name="one.wav")
        self.spoken(2, name="two.wav")

    def names(self) -> list[str]:
        """The names of the files that stand for sections now, each told once."""
        files = current_files(self.production, "podcast-host").values()
        names = [file.name for file in files]
        self.assertEqual(len(set(map(str.casefold, names))), len(names), names)
        for file in FinishedFile.objects.standing():
            self.assertTrue(file.path.exists(), file.name)
        return sorted(names)

    def test_a_name_given_away_while_its_file_was_cancelled_is_numbered(self):
        one, two = self.sections()
        (file,) = self.make("podcast-host", sections=[one])
        (later,) = self.make("podcast-host", sections=[two], work=False)
        later.delivery.cancel()
        name = later.name
        self.assertEqual(file.delivery.rename([(file.name, name)]), 1)
        run_again(later.delivery)
        self.work()
        self.assertEqual(self.names(), sorted([name, name.replace(".mp3", "-2.mp3")]))
        both = {"podcast-host": "keep-both"}
        (waiting,) = self.make("podcast-host", sections=[one], work=False, again=True, existing=both)
        later.refresh_from_db()
        with self.assertRaisesRegex(CannotRename, "or will be once it is made"):
            later.delivery.rename([(later.name, waiting.name)])

    def test_a_second_run_before_the_first_is_made_is_asked(self):
        sections = self.sections()
        self.make("podcast-host", work=False)
        keys = [section.pk for section in sections]
        asked = self.client.post(
            f"/deliveries/start/{self.production.pk}/", {"outlet": "podcast-host", "section": keys, "again": "yes"}
        )
        self.assertEqual(asked.status_code, 200, "which of them stands is asked first")
        self.assertContains(asked, "2 files of these names are there already, or about to be made")
        for choice in ("replace", "keep-both"):
            self.make("podcast-host", work=False, again=True, existing={"podcast-host": choice})
        self.work()
        self.assertEqual(FinishedFile.objects.standing().count(), 4)
        self.assertEqual(self.names(), ["01-one-2.mp3", "02-two-2.mp3"])
        standing = [file.name for file in FinishedFile.objects.standing()]
        self.assertEqual(len(set(standing)), 4, standing)

    def test_whichever_of_two_is_made_first_the_later_one_stands(self):
        one = self.sections()[0]
        (first,) = self.make("podcast-host", sections=[one])
        runs = [
            self.make("podcast-host", sections=[one], work=False, again=True, existing={"podcast-host": "replace"})[0]
            for _ in range(3)
        ]
        runs[1].delivery.cancel()
        for file in (runs[2], runs[0]):
            make_files.func([file.pk])
        standing = FinishedFile.objects.standing().get()
        self.assertEqual(standing.pk, runs[2].pk)
        for file, by in ((first, runs[0]), (runs[0], runs[2])):
            file.refresh_from_db()
            self.assertEqual((file.in_bin, file.replaced_by.pk), (True, by.pk))
            self.assertTrue(file.path.exists())
        self.assertEqual(self.names(), ["01-one.mp3"])

    def test_the_rename_map_proposes_what_can_be_taken(self):
        host, guest = (section.recording for section in self.sections())
        self.do(host, "lane-add", recording=guest.pk)
        self.do(host, "separate", separate=True)
        first = self.make("podcast-host")[0].delivery
        second = self.make("podcast-host", again=True, existing={"podcast-host": "keep-both"})[0].delivery
        self.assertEqual(first.files.count(), 2)
        for delivery in (first, second):
            with self.subTest(delivery=delivery.pk):
                text = self.client.get(f"/deliveries/{delivery.pk}/rename.csv").content.decode()
                pairs = [line.split(",") for line in text.splitlines()[1:]]
                self.assertEqual(*map(list, zip(*pairs, strict=True)))
                self.assertEqual(delivery.rename([tuple(pair) for pair in pairs]), 0)

    def test_dictated_names_and_a_joined_outlet_go_together(self):
        names = f"/productions/{self.production.pk}/names/"

        def dictate(text: str):
            said = {"outlet": "single-file-audiobook", "names": text, "way": "order"}
            shown = self.client.post(f"{names}exact/preview/", said)
            return self.client.post(f"{names}exact/", said | {"seen": shown.context["seen"]}, follow=True)

        self.assertContains(dictate("A 01.wav\nA 02.wav"), "dictate one name alone for that")
        # As an earlier version kept it, where the whole had no name to be dictated.
        Naming.objects.create(production=self.production, outlet_key="single-file-audiobook", pattern="{exact}")
        self.assertEqual([file.name for file in self.make("single-file-audiobook")], ["salt-and-cedar.m4b"])
        self.assertEqual([file.name for file in self.make("podcast-host")], ["A 01.mp3", "A 02.mp3"])
        self.assertContains(dictate("The whole book.wav"), "is called so")
        board = Board(self.production, [outlets_of(self.narrator)["single-file-audiobook"]])
        crossing = board.at(self.sections()[0].pk, "single-file-audiobook")
        self.assertEqual(crossing.changes.words, ("its name",))
        (whole,) = self.make("single-file-audiobook", again=True)
        self.assertEqual(whole.name, "The whole book.m4b")

    def test_no_refusal_tells_a_folder_of_the_server(self):
        (file,) = self.make("podcast-host", sections=self.sections()[:1], work=False)
        recording = self.sections()[0].recording
        recording.path.unlink()
        self.work()
        file.refresh_from_db()
        self.assertEqual(file.state, "cannot be made")
        page = self.client.get(f"/deliveries/{file.delivery_id}/").content.decode()
        for text in (file.refusal, page):
            self.assertNotIn(str(self.folder), text)
            self.assertNotIn(recording.sha256, text)
