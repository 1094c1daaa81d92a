"""Productions, sections and who may see them."""

from django.contrib.auth import get_user_model

from mastering.tests.signals import picture, speech, written
from sermovox.productions.models import Production
from sermovox.ui.tests.base import AppTestCase


class Productions(AppTestCase):
    def test_a_production_is_begun_with_its_title_and_given_its_facts_later(self):
        answer = self.client.post("/productions/new/", {"title": "Low Tide"}, follow=True)
        self.assertContains(answer, "Low Tide")
        self.assertContains(answer, "read by Ilse Brandt")
        self.assertContains(answer, "Bring in recordings: each becomes a section.")
        begun = Production.objects.get(title="Low Tide")
        self.assertEqual(begun.owner, self.narrator)
        answer = self.fill_in(f"/productions/{begun.pk}/edit/", author="R. Ames", narrator="I. Brandt", year=2026)
        self.assertContains(answer, '<p class="byline">by R. Ames, read by I. Brandt</p>', html=True)

    def test_what_was_dropped_begins_a_production_of_its_own(self):
        answer = self.client.post("/productions/begin/", {"title": "Low Tide"}).json()
        begun = Production.objects.get(title="Low Tide")
        self.assertEqual(answer["address"], begun.get_absolute_url())
        self.assertEqual(self.begin_upload("one.wav", 10, production=begun)["Location"][:4], "http")
        self.assertTrue(answer["uploads"].endswith(f"/into/{begun.pk}/"))
        wrong = self.client.post("/productions/begin/", {"title": " "})
        self.assertEqual((wrong.status_code, Production.objects.count()), (400, 2))
        self.assertIn("required", wrong.json()["problem"])

    def test_an_impossible_year_is_said_and_nothing_is_kept(self):
        answer = self.fill_in(f"/productions/{self.production.pk}/edit/", title="Low Tide", year=26)
        self.assertContains(answer, "four digits")
        self.assertFalse(Production.objects.filter(title="Low Tide").exists())

    def test_facts_that_outlets_ask_for_are_listed_until_they_are_given(self):
        self.production.outlet_keys = ["podcast-host"]
        self.production.artwork_sha256 = ""
        self.production.save()
        edit = f"/productions/{self.production.pk}/edit/"
        asked = "Podcast host asks for artwork, which is not known yet."
        self.assertContains(self.client.get(edit), asked)
        self.assertContains(self.client.get(edit), "author, description, narrator or narrators and year")
        self.production.set_artwork(picture())
        self.assertNotContains(self.fill_in(edit, author="R. Ames"), asked)
        self.assertContains(self.client.get(edit), "would tell description, narrator or narrators and year")

    def test_another_like_this_has_all_but_what_was_said_of_the_one_alone(self):
        facts = {"title": "Salt Hour 9", "author": "R. Ames", "code": "SH-009", "year": 2019, "description": "Fog."}
        Production.objects.filter(pk=self.production.pk).update(
            **facts, outlet_keys=["podcast-host", "own-masters"], last_outlets=["podcast-host"]
        )
        self.production.namings.create(
            outlet_key="podcast-host", pattern="{number}", whole_name="x.mp3", existing="skip"
        )
        self.production.add_section(title="Fog", role="episode", number=9, treatment={"ride": "always"})
        answer = self.client.post(f"/productions/{self.production.pk}/another/", follow=True)
        self.assertContains(answer, "Begun like “Salt Hour 9”")
        begun = Production.objects.get(title="Salt Hour 10")
        self.production.refresh_from_db()
        self.assertEqual((begun.code, begun.author, begun.description), ("SH-010", "R. Ames", ""))
        self.assertEqual(begun.artwork_sha256, self.production.artwork_sha256)
        self.assertEqual((list(begun.outlets), begun.last_outlets), (["own-masters", "podcast-host"], ["podcast-host"]))
        naming = begun.namings.get()
        self.assertEqual((naming.pattern, naming.existing, naming.whole_name), ("{number}", "skip", ""))
        self.upload(written(self.folder, speech(seconds=4), name="tonight.wav"), production=begun)
        section = begun.sections.get()
        self.assertEqual((section.role, section.number, section.treatment), ("episode", 10, {"ride": "always"}))

    def test_one_of_somebody_else_is_no_model(self):
        self.client.force_login(get_user_model().objects.create_user("stranger"))
        self.assertEqual(self.client.post(f"/productions/{self.production.pk}/another/").status_code, 404)

    def test_titles_are_shown_as_they_are_written(self):
        self.client.post("/productions/new/", {"title": "<script>alert(1)</script>"})
        self.assertContains(self.client.get("/"), "&lt;script&gt;alert(1)&lt;/script&gt;")

    def test_what_belongs_to_somebody_else_is_not_there(self):
        section = self.bring_in()
        self.client.force_login(get_user_model().objects.create_user("stranger"))
        recording = section.recording_id
        for address in (
            f"/productions/{self.production.pk}/",
            f"/productions/{self.production.pk}/rows/",
            f"/productions/{self.production.pk}/edit/",
            f"/sections/{section.pk}/",
            f"/recordings/{recording}/",
            f"/recordings/{recording}/audio/",
            f"/recordings/{recording}/waveform/",
        ):
            self.assertEqual(self.client.get(address).status_code, 404, address)
        self.assertEqual(self.client.post(f"/deliveries/start/{self.production.pk}/").status_code, 404)
        self.assertEqual(self.client.post(f"/recordings/{recording}/delete/").status_code, 404)
        self.assertNotContains(self.client.get("/"), "Salt and Cedar")

    def test_nothing_is_seen_without_signing_in(self):
        self.client.logout()
        for address in ("/", "/outlets/", "/deliveries/", f"/productions/{self.production.pk}/"):
            self.assertRedirects(self.client.get(address), f"/account/sign-in/?next={address}")

    def test_a_section_is_changed_and_taken_out(self):
        section = self.bring_in()
        answer = self.fill_in(f"/sections/{section.pk}/", title="The Ford", number=3, content_kind="mixed")
        self.assertContains(answer, "The Ford")
        self.assertContains(answer, "chapter 3, mixed")
        self.client.post(f"/sections/{section.pk}/delete/")
        self.assertFalse(self.production.sections.exists())
        page = self.client.get(f"/productions/{self.production.pk}/")
        self.assertContains(page, "Used nowhere")
        self.client.post(f"/recordings/{self.production.recordings.get().pk}/use/")
        self.assertEqual(self.production.sections.get().title, "take")

    def test_the_running_order_asks_the_database_no_more_for_more_sections(self):
        for number in range(3):
            self.production.add_section(title=f"Part {number}")
        few = self.queries()
        for number in range(40):
            self.production.add_section(title=f"Part {number}")
        self.assertEqual(self.queries(), few)

    def queries(self) -> int:
        from django.db import connection
        from django.test.utils import CaptureQueriesContext

        with CaptureQueriesContext(connection) as captured:
            self.assertEqual(self.client.get(f"/productions/{self.production.pk}/").status_code, 200)
        return len(captured)

    def test_addresses_that_lead_nowhere_say_so_in_the_page_s_own_words(self):
        answer = self.client.get("/productions/999/")
        self.assertContains(answer, "nothing at this address", status_code=404)
