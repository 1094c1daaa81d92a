"""Handing a production over: what can go, what is owed, what waits for somebody to listen."""

from datetime import timedelta
from unittest.mock import patch

from django.utils import timezone

from sermovox.deliveries.models import Delivery
from sermovox.deliveries.runs import start_run
from sermovox.dispatch.handing import AFTER_HEARING
from sermovox.dispatch.models import Dispatch, Heard
from sermovox.dispatch.tests.test_sending import OUTLET, MadeTestCase
from sermovox.outlets.models import outlets_of
from sermovox.work.recovery import look_after

OTHER = "volunteer-archive"


class HandingOver(MadeTestCase):
    def prepare(self):
        super().prepare()
        self.page = f"/sent/productions/{self.production.pk}/"
        self.elsewhere = self.there.parent / "elsewhere"
        self.elsewhere.mkdir()

    def rows(self) -> dict:
        return {row.outlet.key: row for row in self.client.get(self.page).context["rows"]}

    def make(self, *keys: str) -> list[Delivery]:
        known = outlets_of(self.narrator)
        sections = list(self.production.sections.all())
        deliveries = start_run(
            self.production, [known[key] for key in keys], sections, existing=dict.fromkeys(keys, "replace")
        )
        self.work()
        return deliveries

    def hand_over(self, *keys: str):
        answer = self.client.post(self.page, {"outlet": keys}, follow=True)
        self.work()
        return answer

    def test_what_was_sent_of_one_production_stays_with_it_from_page_to_page(self):
        self.state()
        self.state(outlet=OTHER, address=str(self.elsewhere))
        self.make(OTHER)
        self.hand_over(OUTLET, OTHER)
        of_it = f"/sent/?production={self.production.pk}"
        with patch("sermovox.dispatch.views._A_PAGE", 1):
            self.assertContains(self.client.get(of_it), f'href="?production={self.production.pk}&amp;page=2"')
            self.assertContains(self.client.get("/sent/"), 'href="?page=2"')

    def test_several_outlets_get_what_can_go_and_afterwards_what_has_changed_alone(self):
        self.state(folder="{outlet|plain}")
        self.state(outlet=OTHER, address=str(self.elsewhere))
        self.make(OTHER)
        row = self.rows()[OUTLET]
        self.assertEqual((row.wanted, len(row.to_send), row.behind, len(row.there)), (2, 2, 0, 0))
        self.assertContains(self.hand_over(OUTLET, OTHER), "on their way to 2 outlets")
        self.assertEqual({(each.state, each.said) for each in Dispatch.objects.all()}, {("arrived", "")})
        self.assertEqual(len(list((self.there / "Podcast host").iterdir())), 2)
        self.assertEqual(len(list(self.elsewhere.iterdir())), 2)
        self.assertEqual([row.is_done for row in self.rows().values()], [True, True])

    def test_a_chapter_made_anew_replaces_itself_after_one_question(self):
        self.state()
        self.hand_over(OUTLET)
        for turn in range(2):
            section = self.production.sections.first()
            section.treatment = {"rumble_hz": (90.0, 110.0)[turn]}
            section.save()
            self.assertEqual(self.rows()[OUTLET].behind, 1)
            self.make(OUTLET)
            self.assertEqual(len(self.rows()[OUTLET].to_send), 1)
            self.hand_over(OUTLET)
            dispatch = Dispatch.objects.first()
            self.assertEqual(dispatch.parts.exclude(file=None).count(), 1)
            if turn == 0:
                self.assertEqual((dispatch.state, dispatch.name_taken), ("stuck", True))
                self.client.post(f"/sent/{dispatch.pk}/go-on/", {"replacing": "yes"})
                self.work()
                dispatch.refresh_from_db()
            self.assertEqual((dispatch.state, dispatch.said), ("arrived", ""))
            self.assertTrue(self.rows()[OUTLET].is_done)

    def test_what_somebody_else_put_there_is_asked_about_every_time(self):
        self.state()
        self.hand_over(OUTLET)
        Dispatch.objects.update(replacing=True)
        section = self.production.sections.first()
        section.treatment = {"rumble_hz": 90.0}
        section.save()
        self.make(OUTLET)
        name = self.rows()[OUTLET].to_send[0].name
        (self.there / name).write_bytes(b"somebody else's")
        self.hand_over(OUTLET)
        self.assertEqual(Dispatch.objects.first().state, "stuck")
        self.assertEqual((self.there / name).read_bytes(), b"somebody else's")

    def test_what_is_owed_stands_above_what_was_sent_until_it_is_there(self):
        self.state()
        yesterday, due = timezone.localdate() - timedelta(days=1), f"{self.page}{OUTLET}/due/"
        self.assertEqual(self.client.post(due, {"due_on": "soon"}).status_code, 400)
        self.client.post(due, {"due_on": yesterday.isoformat()})
        owed = self.client.get("/sent/").context["owed"]
        self.assertEqual(
            [(row.production, row.promise.due_on, row.is_late) for row in owed], [(self.production, yesterday, True)]
        )
        self.hand_over(OUTLET)
        self.assertEqual(self.client.get("/sent/").context["owed"], [])
        self.assertFalse(self.rows()[OUTLET].is_late)
        self.client.post(due, {"due_on": ""})
        self.assertIsNone(self.rows()[OUTLET].promise)
        of_one = self.client.get(f"/sent/?production={self.production.pk}")
        self.assertEqual(len(of_one.context["page"].object_list), 1)
        self.assertEqual(self.client.get("/sent/?production=999999").status_code, 404)

    def test_it_waits_until_somebody_has_listened(self):
        self.state()
        self.client.post(f"{self.page}{OUTLET}/by-itself/", {"wish": AFTER_HEARING})
        section = self.production.sections.first()
        section.treatment = {"rumble_hz": 90.0}
        section.save()
        (delivery,) = self.make(OUTLET)
        look_after()
        self.assertFalse(Dispatch.objects.exists())
        file = delivery.files.standing().first()
        self.assertContains(
            self.client.post(f"/sent/files/{file.pk}/heard/", follow=True), "Listened to by Ilse Brandt"
        )
        self.client.post(f"/sent/files/{file.pk}/heard/")
        self.assertFalse(Heard.objects.exists())
        self.client.post(f"/sent/deliveries/{delivery.pk}/heard/")
        look_after()
        self.work()
        self.assertEqual([each.state for each in Dispatch.objects.all()], ["arrived"])

    def test_made_and_sent_in_one_go(self):
        sections = list(self.production.sections.values_list("pk", flat=True))
        asked = {"outlet": OTHER, "section": sections}
        page = self.client.post(f"{self.page}make/", asked, follow=True)
        self.assertContains(
            page, "It is not stated yet how Volunteer reading archive receives. It is sent once that is."
        )
        self.state()
        Delivery.objects.update(deleted_at=timezone.now())
        self.client.post(f"{self.page}make/", {"outlet": OUTLET, "section": sections})
        self.work()
        look_after()
        self.work()
        self.assertEqual([each.state for each in Dispatch.objects.all()], ["arrived"])
        self.assertEqual(len(list(self.there.iterdir())), 2)

    def test_somebody_elses_is_not_there(self):
        self.client.logout()
        for address in (self.page, f"{self.page}{OUTLET}/due/"):
            self.assertEqual(self.client.post(address).status_code, 302)
