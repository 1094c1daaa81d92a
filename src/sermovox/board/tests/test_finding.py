"""Finding work: by words, by what is due, on the shelf, page by page."""

from datetime import timedelta

from django.utils import timezone

from mastering.outlets.rulesheets import shipped_text
from mastering.tests.signals import speech
from sermovox.deliveries.models import Delivery
from sermovox.dispatch.models import Promise
from sermovox.productions.models import Production
from sermovox.ui.tests.base import AppTestCase


class Finding(AppTestCase):
    def prepare(self):
        super().prepare()
        facts = {"owner": self.narrator}
        self.tern = Production.objects.create(title="The Tern", author="Émile Okafor", code="TRN-4", **facts)
        self.mill = Production.objects.create(title="Mill and Weir", narrator="Ada Fenn", **facts)
        self.mill.add_section(title="The Otter’s Bridge", exact_name="MW_017.wav")
        self.bring_in(speech(seconds=4), name="attic session 9.wav")

    def titles(self, **asked) -> list[str]:
        return [row["production"].title for row in self.client.get("/", asked).context["rows"]]

    def test_words_are_looked_for_in_titles_people_sections_names_clients_and_files(self):
        Promise.objects.create(production=self.tern, outlet_key="podcast-host", client="Harbour Books")
        for words, found in {
            "tern": ["The Tern"],
            "émile": ["The Tern"],
            "ÉMILE okafor": ["The Tern"],
            "trn-4": ["The Tern"],
            "harbour": ["The Tern"],
            "fenn": ["Mill and Weir"],
            "otter bridge": ["Mill and Weir"],
            "mw_017": ["Mill and Weir"],
            "attic": ["Salt and Cedar"],
            "tern otter": [],
            "100%": [],
            "_": ["Mill and Weir"],
        }.items():
            self.assertEqual(self.titles(q=words), found, words)
        page = self.client.get("/", {"q": "otter"})
        self.assertContains(page, self.mill.sections.get().get_absolute_url())
        self.assertContains(self.client.get("/", {"q": "<i>"}), "holds “&lt;i&gt;”")

    def test_what_is_late_or_due_this_week_comes_first_and_the_chosen_order_is_kept(self):
        newest = ["Mill and Weir", "The Tern", "Salt and Cedar"]
        self.assertEqual(self.titles(), newest)
        for production, key, days in (
            (self.production, "podcast-host", -2),
            (self.tern, "podcast-host", 3),
            (self.tern, "own-masters", 60),
            (self.mill, "own-masters", 40),
        ):
            due = timezone.localdate() + timedelta(days=days)
            Promise.objects.create(production=production, outlet_key=key, due_on=due, client="Harbour Books")
        self.assertEqual(self.titles(), ["Salt and Cedar", "The Tern", "Mill and Weir"])
        self.assertContains(self.client.get("/"), "late")
        self.assertContains(self.client.get("/"), "for Harbour Books")
        Promise.objects.filter(production=self.production).update(kept_at=timezone.now())
        self.assertEqual(self.titles(), ["The Tern", "Mill and Weir", "Salt and Cedar"])
        self.assertEqual(self.titles(order="title"), ["Mill and Weir", "Salt and Cedar", "The Tern"])
        self.assertEqual(self.titles(), ["Mill and Weir", "Salt and Cedar", "The Tern"])
        self.assertEqual(self.titles(order="nonsense"), ["The Tern", "Mill and Weir", "Salt and Cedar"])

    def test_for_whom_and_by_when_is_kept_and_a_client_alone_is_no_debt(self):
        due = f"/sent/productions/{self.tern.pk}/podcast-host/due/"
        self.client.post(due, {"due_on": "", "client": "Harbour Books"})
        promise = self.tern.promises.get()
        self.assertEqual((promise.client, promise.due_on, promise.is_late), ("Harbour Books", None, False))
        self.assertEqual(self.client.get("/sent/").context["owed"], [])
        self.assertContains(self.client.get(f"/sent/productions/{self.tern.pk}/"), "Harbour Books")
        self.client.post(due, {"due_on": "2026-03-01", "client": "Harbour Books"})
        self.assertContains(self.client.get("/sent/"), "for Harbour Books")
        self.client.post(due, {"due_on": "", "client": ""})
        self.assertFalse(self.tern.promises.exists())

    def test_what_is_on_the_shelf_is_out_of_the_way_and_comes_back_as_it_was(self):
        self.client.post(f"/productions/{self.tern.pk}/shelve/")
        self.assertEqual(self.titles(), ["Mill and Weir", "Salt and Cedar"])
        self.assertEqual(self.titles(shelf=""), ["The Tern"])
        self.assertContains(self.client.get("/", {"q": "tern"}), "search the archive")
        self.assertEqual(self.client.get(self.tern.get_absolute_url()).status_code, 200)
        self.client.post(f"/productions/{self.tern.pk}/shelve/")
        self.assertIn("The Tern", self.titles())

    def test_many_come_in_pages_that_keep_what_was_looked_for(self):
        for number in range(60):
            Production.objects.create(owner=self.narrator, title=f"Fog {number}")
        page = self.client.get("/", {"q": "fog", "order": "title"})
        self.assertEqual(len(page.context["rows"]), 50)
        self.assertContains(page, "?q=fog&amp;order=title&amp;page=2")
        self.assertEqual(len(self.titles(q="fog", page=2)), 10)
        toml = shipped_text("podcast-host")
        for _ in range(101):
            Delivery.objects.create(production=self.production, outlet_key="podcast-host", outlet_toml=toml)
        self.assertContains(self.client.get("/deliveries/"), "1–100 of 101")
        self.assertEqual(len(self.client.get("/deliveries/?page=2").context["page"]), 1)

    def test_artwork_is_small_beside_the_title(self):
        address = f"/productions/{self.production.pk}/artwork/"
        small, whole = (self.client.get(address + asked).content for asked in ("?small", ""))
        self.assertLess(len(small), 40_000)
        self.assertNotEqual(small, whole)
