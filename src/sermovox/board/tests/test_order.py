"""Changing the running order, and taking every change back."""

import re

from django.db import connection
from django.test.utils import CaptureQueriesContext

from mastering.tests.signals import speech, written
from sermovox.history.models import Change
from sermovox.productions.models import Production
from sermovox.recordings.intake import take_in
from sermovox.ui.tests.base import AppTestCase


class Changing(AppTestCase):
    def prepare(self):
        super().prepare()
        self.a, self.b, self.c, self.d = (self.production.add_section(title=title) for title in "abcd")
        self.address = f"/productions/{self.production.pk}/change/"

    def change(self, do: str, **values):
        answer = self.client.post(self.address, {"do": do} | values)
        self.assertIn(answer.status_code, (200, 204), answer.content)
        return answer

    def titles(self) -> str:
        return " ".join(self.production.sections.values_list("title", flat=True))

    def assert_undone_and_redone(self, after: str, before: str = "a b c d") -> None:
        self.assertEqual(self.titles(), after)
        self.change("undo")
        self.assertEqual(self.titles(), before)
        self.change("redo")
        self.assertEqual(self.titles(), after)
        self.change("undo")
        self.assertEqual(self.titles(), before)

    def test_moving_up_down_and_to_the_end(self):
        for section, before, after in (
            (self.c, self.a.pk, "c a b d"),
            (self.a, self.d.pk, "b c a d"),
            (self.a, "", "b c d a"),
        ):
            self.change("move", section=section.pk, before=before)
            self.assert_undone_and_redone(after)
        self.change("move", section=[self.a.pk, self.c.pk], before="")
        self.assert_undone_and_redone("b d a c")
        self.change("move", section=self.a.pk, before=self.b.pk)
        self.assertIsNone(Change.objects.filter(undone=False).last(), "a move to where it stands is no change")

    def test_adding_removing_merging_and_splitting(self):
        self.change("add", section=self.b.pk)
        self.assert_undone_and_redone("a b New section c d")
        self.change("remove", section=self.b.pk)
        self.assert_undone_and_redone("a c d")
        self.production.sections.filter(title="b").update(script="First.")
        self.production.sections.filter(title="c").update(script="Second.")
        self.change("merge", section=self.b.pk)
        self.assertEqual(self.production.sections.get(title="b").script, "First.\n\nSecond.")
        self.assert_undone_and_redone("a b d")
        self.assertEqual(self.production.sections.get(title="b").script, "First.")
        self.change("split", section=self.b.pk)
        self.assertEqual(list(self.production.sections.filter(title="b").values_list("part", flat=True)), [1, 2])
        self.assert_undone_and_redone("a b b c d")
        self.assertContains(self.change("merge", section=self.d.pk), "there is no next one")

    def test_a_recording_is_given_taken_away_and_comes_back_with_its_section(self):
        self.bring_in()
        recording = self.production.recordings.get()
        self.assertEqual(self.production.recordings.unused().count(), 1, "sections wait, so none is made")
        self.change("assign", section=self.b.pk, recording=recording.pk)
        self.assertEqual(self.production.sections.get(title="b").recording, recording)
        self.change("remove", section=self.b.pk)
        page = self.client.get(f"/productions/{self.production.pk}/")
        self.assertContains(page, "Used nowhere")
        self.assertContains(page, "Undo: Take out “b”")
        self.change("undo")
        self.assertEqual(self.production.sections.get(title="b").recording, recording)
        self.change("assign", section=self.b.pk, recording="")
        self.assertIsNone(self.production.sections.get(title="b").recording)

    def test_a_recording_deleted_meanwhile_does_not_come_back(self):
        self.bring_in()
        recording = self.production.recordings.get()
        self.change("assign", section=self.b.pk, recording=recording.pk)
        self.change("assign", section=self.b.pk, recording="")
        recording.delete()
        self.change("undo")
        self.assertIsNone(self.production.sections.get(title="b").recording)

    def test_many_changes_are_taken_back_one_by_one_and_a_new_one_ends_the_redoing(self):
        self.change("move", section=self.d.pk, before=self.a.pk)
        self.fill_in(f"/sections/{self.a.pk}/", title="alpha", content_kind="music")
        self.change("split", section=self.c.pk)
        self.assertEqual(self.titles(), "d alpha b c c")
        for expected in ("d alpha b c", "d a b c", "a b c d", "a b c d"):
            self.change("undo")
            self.assertEqual(self.titles(), expected)
        self.change("redo")
        self.change("remove", section=self.b.pk)
        self.assertContains(self.change("redo"), "nothing to do again")
        self.assertEqual(self.titles(), "d a c")

    def test_what_came_in_since_is_not_lost_by_undoing(self):
        self.bring_in()
        recording = self.production.recordings.get()
        for section in (self.a, self.b, self.c, self.d):
            self.change("assign", section=section.pk, recording=recording.pk)
        self.change("move", section=self.d.pk, before=self.a.pk)
        take_in(self.production, written(self.folder, speech(seconds=3, seed=9), name="late.wav"))
        self.change("undo")
        self.assertEqual(self.titles(), "a b c d late")

    def test_others_and_nonsense_change_nothing(self):
        other = Production.objects.create(owner=self.narrator, title="Another").add_section(title="x")
        self.assertEqual(self.client.post(self.address, {"do": "remove", "section": other.pk}).status_code, 404)
        self.assertEqual(self.client.post(self.address, {"do": "explode"}).status_code, 400)
        self.change("move", section=other.pk, before=self.a.pk)
        self.change("move", section="x", before="y")
        self.client.force_login(type(self.narrator).objects.create_user("stranger"))
        self.assertEqual(self.client.post(self.address, {"do": "undo"}).status_code, 404)
        self.assertEqual(self.titles(), "a b c d")

    def test_a_long_running_order_is_moved_and_shown_with_few_questions(self):
        for number in range(300):
            self.production.add_section(title=f"Part {number}")
        with CaptureQueriesContext(connection) as few:
            self.change("move", section=self.c.pk, before=self.b.pk)
        with CaptureQueriesContext(connection) as many:
            self.change("move", section=self.a.pk, before="")
        self.assertLessEqual(len(many), len(few) + 1)

    def test_pages_of_a_very_long_one_and_a_move_beyond_the_page(self):
        for number in range(300):
            self.production.add_section(title=f"Part {number}")
        first = self.client.get(f"/productions/{self.production.pk}/")
        self.assertContains(first, "1–300 of 304")
        following = self.production.sections.all()[300]
        self.assertContains(first, f'data-following="{following.pk}"')
        self.assertContains(self.client.get(f"/productions/{self.production.pk}/?page=2"), "301–304 of 304")

    def test_rows_that_the_page_has_are_not_sent_once_more(self):
        def drawn(known=()) -> dict[str, tuple[str, bool]]:
            page = self.client.get(f"/productions/{self.production.pk}/rows/", headers={"X-Drawn": ",".join(known)})
            rows = re.findall(r'data-section="(\d+)" data-drawn="(\w+)"([^>]*)>(.*?)</tr>', page.text, re.DOTALL)
            return {title: (digest, " data-known" in more) for title, digest, more, cells in named(rows)}

        def named(rows):
            titles = dict(self.production.sections.values_list("pk", "title"))
            for pk, digest, more, cells in rows:
                self.assertEqual(" data-known" in more, cells == "")
                yield titles[int(pk)], digest, more, cells

        first = drawn()
        self.assertEqual({title: known for title, (_, known) in first.items()}, dict.fromkeys("abcd", False))
        digests = [digest for digest, _ in first.values()]
        self.assertEqual(drawn(digests), {title: (digest, True) for title, (digest, _) in first.items()})
        self.change("move", section=self.c.pk, before=self.b.pk)
        # Both have another number now.
        again = drawn(digests)
        self.assertEqual({title for title, (_, known) in again.items() if not known}, {"b", "c"})
        self.assertEqual(again["a"], (first["a"][0], True))

    def test_rows_are_sent_again_only_when_they_would_look_different(self):
        rows = f"/productions/{self.production.pk}/rows/"
        stamp = self.client.get(rows).context["stamp"]
        self.assertEqual(self.client.get(f"{rows}?seen={stamp}").status_code, 204)
        self.change("move", section=self.d.pk, before=self.a.pk)
        self.assertEqual(self.client.get(f"{rows}?seen={stamp}").status_code, 200)
