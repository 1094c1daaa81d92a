"""Productions, sections and who may see them."""

from django.contrib.auth import get_user_model

from sermovox.productions.models import Production
from sermovox.ui.tests.base import AppTestCase


class Productions(AppTestCase):
    def test_a_production_is_begun_with_its_facts(self):
        facts = {"title": "Low Tide", "author": "R. Ames", "narrator": "I. Brandt", "year": 2026, "language": "Dutch"}
        answer = self.client.post("/productions/new/", facts, follow=True)
        self.assertContains(answer, "Low Tide")
        self.assertContains(answer, "by R. Ames, read by I. Brandt")
        self.assertContains(answer, "Bring in recordings")
        self.assertEqual(Production.objects.get(title="Low Tide").owner, self.narrator)

    def test_an_impossible_year_is_said_and_nothing_is_made(self):
        answer = self.client.post("/productions/new/", {"title": "Low Tide", "year": 26})
        self.assertContains(answer, "four digits")
        self.assertFalse(Production.objects.filter(title="Low Tide").exists())

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
