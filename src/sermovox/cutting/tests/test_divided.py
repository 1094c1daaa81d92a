"""What is cut apart or put together keeps all that it had: gain, fades, what it holds, how it is treated."""

from mastering.editing.assembly import Stretch
from mastering.shaping.treatment import NEEDED, Treatment
from mastering.tests.signals import noise
from sermovox.cutting.tests.test_page import RATE, PageTestCase, words
from sermovox.history.changing import undo
from sermovox.productions import order
from sermovox.productions.models import Section

HUSHED = Treatment(hush=NEEDED, hush_db=12.0, mends=("de-click",))


class Divided(PageTestCase):
    def sections(self) -> list[Section]:
        return list(self.production.sections.with_pieces())

    def made(self, **facts) -> None:
        """The section that is there, as it was made: louder, with fades, music, treated."""
        stretch = {"gain_db": -6.0, "fade_in_s": 0.5, "fade_out_s": 0.7} | facts
        section = self.sections()[0]
        section.set_stretches(
            [Stretch(recording=str(self.recording.pk), start_sample=0, end_sample=self.frames - 1, **stretch)]
        )
        section.content_kind = "music"
        section.treatment = (HUSHED.as_dict()) | {"noise_s": [0.1, 0.9]}
        section.save()

    def kept(self, section: Section) -> tuple:
        (stretch,) = section.stretches()
        return stretch.gain_db, stretch.kind, stretch.fade_in_s, stretch.fade_out_s

    def test_a_cut_leaves_gain_and_kind_to_both_and_fades_at_their_ends(self):
        for from_end in (False, True):
            with self.subTest(from_end=from_end):
                self.made(kind="speech")
                self.do("split", cuts=[5 * RATE, 9 * RATE], from_end=from_end)
                found = [self.kept(section) for section in self.sections()]
                first, middle, last = (-6.0, "speech", 0.5, 0.0), (-6.0, "speech", 0.0, 0.0), (-6.0, "speech", 0.0, 0.7)
                self.assertEqual(found, [first, middle, last])
                undo(self.production)
                self.assertEqual([self.kept(section) for section in self.sections()], [(-6.0, "speech", 0.5, 0.7)])

    def test_every_part_holds_what_all_of_it_held_and_is_treated_alike(self):
        self.made()
        self.do("break", at=5 * RATE)
        first, second = self.sections()
        self.assertEqual((first.content_kind, second.content_kind), ("music", "music"))
        self.assertEqual(second.wishes, HUSHED)
        self.assertEqual(first.wishes.noise_s, (0.1, 0.9), "the place where noise is learned lies in the first part")
        undo(self.production)
        self.do("break", at=5 * RATE, from_end=True)
        self.assertEqual([section.wishes for section in self.sections()], [HUSHED, HUSHED])

    def test_a_section_that_waits_keeps_what_it_has_of_its_own(self):
        own = Treatment(ride="always")
        waiting = order.add(self.production, self.narrator, None, title="Two")
        plain = order.add(self.production, self.narrator, None, title="Three")
        order.treat(self.production, self.narrator, {waiting.pk: own}, "Treat")
        self.made()
        self.do("split", cuts=[5 * RATE, 9 * RATE])
        for section in (waiting, plain):
            section.refresh_from_db()
        self.assertEqual((waiting.wishes, waiting.content_kind), (own, "speech"))
        self.assertEqual((plain.wishes, plain.content_kind), (HUSHED, "music"))

    def test_sections_of_labels_and_a_sample_come_of_what_they_lie_in(self):
        section = self.sections()[0]
        section.content_kind, section.treatment = "music", HUSHED.as_dict()
        section.save()
        self.do("section", start=1 * RATE, end=4 * RATE)
        self.do("section", start=6 * RATE, end=9 * RATE)
        self.assertEqual([each.content_kind for each in self.sections()], ["music", "speech"])
        self.production.sections.all().delete()
        self.section = self.bring_in(words(2, 3), name="two.wav")
        self.recording = self.production.recordings.get(name="two.wav")
        self.address, self.frames = f"/cutting/{self.recording.pk}/", self.recording.frames
        self.made(kind="speech")
        sample = order.add(self.production, self.narrator, None, title="Sample")
        Section.objects.filter(pk=sample.pk).update(role="sample")
        self.do("section", start=1 * RATE, end=4 * RATE)
        sample.refresh_from_db()
        self.assertEqual((self.kept(sample), sample.content_kind), ((-6.0, "speech", 0.0, 0.0), "music"))
        self.assertEqual(sample.wishes, HUSHED)


class Together(PageTestCase):
    def prepare(self):
        super().prepare()
        self.bring_in(noise(-20, 4), name="tune.wav")

    def sections(self) -> list[Section]:
        return list(self.production.sections.with_pieces())

    def merge(self, **more):
        asked = {"do": "merge", "section": self.sections()[0].pk} | more
        return self.client.post(f"/productions/{self.production.pk}/change/", asked)

    def test_pieces_hold_what_their_sections_held(self):
        Section.objects.filter(pk=self.sections()[1].pk).update(content_kind="music")
        self.merge()
        (merged,) = self.sections()
        self.assertEqual(merged.content_kind, "mixed")
        self.assertEqual([stretch.kind for stretch in merged.stretches()], ["speech", "music"])
        undo(self.production)
        self.assertEqual([section.content_kind for section in self.sections()], ["speech", "music"])

    def test_where_they_are_treated_otherwise_it_is_asked(self):
        second = self.sections()[1]
        second.treatment = HUSHED.as_dict() | {"noise_s": [0.1, 0.9]}
        second.save()
        answer = self.merge()
        self.assertContains(answer, "treated otherwise. Choose how they are together.")
        self.assertContains(answer, f'data-as_treated="{second.pk}"')
        self.assertContains(answer, "hush if needed")
        self.assertEqual(len(self.sections()), 2)
        self.assertNotContains(self.merge(as_treated=second.pk), "data-as_treated")
        (merged,) = self.sections()
        self.assertEqual(merged.wishes, HUSHED)
        undo(self.production)
        first = self.sections()[0]
        self.merge(as_treated=first.pk)
        self.assertEqual(self.sections()[0].wishes, Treatment())

    def test_what_is_all_of_an_empty_section_is_so_with_its_treatment(self):
        tune = self.sections()[1]
        order.treat(self.production, self.narrator, {tune.pk: HUSHED}, "Treat")
        Section.objects.filter(pk=tune.pk).update(content_kind="music")
        order.assign(self.production, self.narrator, {self.sections()[0].pk: None}, "None")
        self.merge()
        (merged,) = self.sections()
        self.assertEqual((merged.content_kind, merged.wishes), ("music", HUSHED))
