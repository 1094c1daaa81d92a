"""What a running order says comes next, from nothing at all until everything is handed over."""

from mastering.shaping.treatment import Treatment
from mastering.tests.signals import noise, speech, written
from sermovox.dispatch.models import Dispatch
from sermovox.productions.models import Production, Section
from sermovox.recordings.intake import take_in
from sermovox.ui.tests.base import AppTestCase

HOST = "volunteer-archive"


class Next(AppTestCase):
    def prepare(self):
        super().prepare()
        Production.objects.filter(pk=self.production.pk).update(outlet_keys=[HOST], last_outlets=[HOST])
        self.production.refresh_from_db()

    def next(self):
        return self.client.get(self.production.get_absolute_url()).context["next"]

    def make(self):
        sections = list(self.production.sections.values_list("pk", flat=True))
        self.client.post(f"/deliveries/start/{self.production.pk}/", {"outlet": HOST, "section": sections})
        self.work()

    def take(self, name: str, seed: int, seconds: float = 4):
        recording = take_in(
            self.production, written(self.folder, speech(seconds=seconds, seed=seed), name=name)
        ).recording
        self.work()
        return recording

    def test_from_nothing_to_handed_over(self):
        self.assertEqual((self.next().said[:19], self.next().does), ("Bring in recordings", "bring"))
        self.upload(written(self.folder, speech(seconds=4), name="one.wav"))
        self.assertIn("1 recording is being measured", self.next().said)
        self.work()
        self.assertEqual(self.next().said, "All is there: make the files for Volunteer reading archive.")
        self.make()
        self.assertEqual(self.next().said, "1 file passes and is to be handed over.")
        for address in ("/", self.production.get_absolute_url()):
            self.assertIn("no-store", self.client.get(address)["Cache-Control"], "going back shows how it stands now")
        self.assertEqual(self.next().address, f"/sent/productions/{self.production.pk}/")
        file = self.production.deliveries.get().files.get()
        told = {"owner": self.narrator, "production": self.production, "delivery": file.delivery, "receiving": {}}
        dispatch = Dispatch.objects.create(outlet_key=HOST, state="arrived", **told)
        part = dispatch.parts.create(file=file, place=1, name=file.name, size_bytes=1, state="arrived")
        self.assertEqual(self.next().said, "Everything that passes is on its way or has arrived.")
        part.delete()
        stuck = Dispatch.objects.create(outlet_key=HOST, state="stuck", **told)
        stuck.parts.create(file=file, place=1, name=file.name, size_bytes=1, state="waiting")
        self.assertEqual(self.next().said, "1 file is stuck on the way.")
        self.production.sections.update(title="Another")
        self.assertIn("1 file has changed since it was made", self.next().said)

    def test_one_long_take_for_many_lines_is_to_be_cut_and_many_are_to_be_paired(self):
        for number in range(40):
            self.production.add_section(title=f"Line {number}", role="line")
        self.assertEqual(self.next().said, "40 sections wait for a recording.")
        take = self.take("session.wav", 3)
        found = self.next()
        self.assertIn("“session.wav” is used nowhere: cut it on its page", found.said)
        self.assertEqual(found.address, f"/cutting/{take.pk}/")
        page = self.client.get(self.production.get_absolute_url())
        self.assertContains(page, f'href="/cutting/{take.pk}/" data-pair')
        self.production.sections.filter(position__gt=2).delete()
        self.assertEqual(self.next().label, "Pair recordings with sections")

    def test_rows_that_are_asked_for_again_tell_when_what_comes_next_has_changed(self):
        for number in range(9):
            self.production.add_section(title=f"Line {number}", role="line")
        take_in(self.production, written(self.folder, speech(seconds=4), name="session.wav"))
        page = self.client.get(self.production.get_absolute_url())
        rows = f"{self.production.get_absolute_url()}rows/?seen={page.context['stamp']}"
        self.assertIn("being measured", page.context["next"].said)
        self.assertEqual(self.client.get(rows).status_code, 204)
        self.work()
        self.assertContains(self.client.get(rows), "cut it on its page")

    def test_what_fails_comes_before_what_is_to_be_made_and_leads_to_what_mends_it(self):
        Production.objects.filter(pk=self.production.pk).update(last_outlets=["audiobook-retail"])
        Production.objects.filter(pk=self.production.pk).update(outlet_keys=["audiobook-retail"])
        self.bring_in(speech(seconds=12, peak=0.3) + noise(-52, 12))
        section = self.production.sections.get()
        self.client.post(
            f"/deliveries/start/{self.production.pk}/", {"outlet": "audiobook-retail", "section": section.pk}
        )
        self.work()
        file = self.production.deliveries.get().files.get()
        self.assertEqual(file.state, "fails")
        self.assertIn("1 file fails for Audiobook retail", self.next().said)
        self.assertEqual(self.next().address, file.get_absolute_url())

    def test_what_a_plan_says_will_fail_is_said_before_anything_is_made(self):
        retail = {"outlet_keys": ["audiobook-retail"], "last_outlets": ["audiobook-retail"]}
        Production.objects.filter(pk=self.production.pk).update(**retail)
        section = self.bring_in(speech(seconds=12, peak=0.3) + noise(-52, 12))
        self.assertEqual(self.next().does, "make", "nothing is planned yet, and nothing is for this")
        levels = f"/levels/{self.production.pk}/?outlet=audiobook-retail"
        self.client.get(levels)
        self.work()
        self.client.get(levels)
        self.assertIn("1 file would miss a level rule of Audiobook retail", self.next().said)
        self.assertEqual(self.next().address, levels)
        # With what helps allowed it would not.
        Section.objects.filter(pk=section.pk).update(treatment=Treatment(hush="if needed", hush_db=12).as_dict())
        self.client.get(levels)
        self.work()
        self.client.get(levels)
        self.assertEqual(self.next().does, "make")

    def test_a_fact_that_is_asked_for_comes_before_making(self):
        Production.objects.filter(pk=self.production.pk).update(
            outlet_keys=["podcast-host"], last_outlets=["podcast-host"], artwork_sha256=""
        )
        self.bring_in(speech(seconds=4))
        self.assertEqual(self.next().said, "Podcast host asks for artwork, which is not known yet.")
