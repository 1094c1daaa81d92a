"""Where two features meet: short sequences, each of which once made a wrong file, wrong words or lost work."""

from mastering.editing.assembly import CROSSFADE, Stretch
from mastering.editing.markup import STRIKE
from mastering.tests.signals import written
from sermovox.cutting import edits
from sermovox.cutting.models import Page
from sermovox.deliveries.models import Delivery, FinishedFile
from sermovox.outlets.models import outlets_of
from sermovox.productions import order
from sermovox.productions.models import Section
from sermovox.recordings.models import Recording
from sermovox.recordings.tasks import measure_recording
from sermovox.tests.markers import heard, place_of, spoken
from sermovox.ui.tests.base import AppTestCase

MASTERS = "own-masters"


class CrossingCase(AppTestCase):
    """Recordings of marker words, and the steps that are taken with them."""

    def spoken(self, *words: int, name: str = "", **more) -> Recording:
        """Bring in a recording of these words."""
        return self.bring_in(spoken(*words, **more), name=name or f"{words}.wav").recording

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
        return list(self.production.sections.select_related("recording"))

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
        begun = Delivery.start(self.production, [known[key] for key in keys or (MASTERS,)], chosen, **more)
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

    def test_a_recording_chosen_in_the_form_of_a_cut_section_is_what_sounds(self):
        take, other = self.spoken(1, 2, 3), self.spoken(7)
        first, second, *_ = self.cut(take, 1)
        address = first.get_absolute_url()
        self.fill_in(address, title="Kept as it is cut")
        self.fill_in(second.get_absolute_url(), recording=str(other.pk))
        self.assertEqual(self.words_of(sections=self.sections()[:2]), [[1], [7]])
        self.fill_in(address, recording="")
        first.refresh_from_db()
        self.assertEqual((first.recording, first.programme), (None, []))
        order.undo(self.production)
        first.refresh_from_db()
        self.assertEqual(len(first.programme), 1)

    def test_a_join_left_on_a_first_piece_joins_nothing(self):
        one, two = self.spoken(1, 2), self.spoken(3, 4)
        second = self.sections()[1]
        half = Recording.objects.get(pk=two.pk).frames // 2
        crossed = [
            Stretch(recording=str(two.pk), start_sample=0, end_sample=half),
            Stretch(recording=str(two.pk), start_sample=half, end_sample=two.frames, join=CROSSFADE, join_s=0.4),
        ]
        second.set_programme(crossed[1:])
        second.save()
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
        order.undo(self.production)
        self.see_every_page()
        self.upload(written(self.folder, spoken(1, 2), name="again.wav"))
        self.work()
        self.assertEqual(self.words_of(), [[1], [2]])


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
