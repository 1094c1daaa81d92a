"""How files are called: patterns, names a client dictates, and their checks."""

from mastering.outlets.rulesheets import shipped
from sermovox.deliveries.models import Delivery
from sermovox.deliveries.runs import start_run
from sermovox.productions.models import Section
from sermovox.ui.tests.base import AppTestCase


class Names(AppTestCase):
    def prepare(self):
        super().prepare()
        self.production.author, self.production.code = "Renée Ó Sé", "SC7"
        self.production.save()
        for number in range(1, 13):
            self.production.add_section(title=f"The Ford no. {number}", number=number)
        self.address = f"/productions/{self.production.pk}/names/"

    def names(self, what="preview/", **values) -> list[str]:
        page = self.client.post(self.address + what, {"outlet": "podcast-host"} | values)
        return [row["name"] for row in page.context["rows"]]

    def save(self, pattern: str, **values):
        data = {"outlet": "podcast-host", "pattern": pattern, "existing": ""} | values
        return self.submit(self.address + "save/", data, shown=f"{self.address}?outlet={data['outlet']}")

    def test_a_pattern_is_shown_over_all_sections_while_it_is_written(self):
        found = self.names(pattern="{code}_{number|pad}_{author|plain|lower|join:_}")
        self.assertEqual(found[0], "SC7_01_renee_o_se.mp3")
        self.assertEqual(found[11], "SC7_12_renee_o_se.mp3")
        page = self.client.post(self.address + "preview/", {"pattern": "{title"})
        self.assertContains(page, "no partner")

    def test_what_would_go_wrong_is_told_with_what_mends_it(self):
        self.assertContains(
            self.client.post(self.address + "preview/", {"pattern": "{number} {title}"}), "Pad", msg_prefix="2 after 10"
        )
        same = self.client.post(self.address + "preview/", {"pattern": "{author|plain}"})
        self.assertContains(same, "11 names cannot be used")
        self.assertContains(self.client.post(self.address + "preview/", {"pattern": "a:{number}"}), "Windows")

    def parts(self, **values) -> dict:
        """Two parts as a form says them: the place, and the title after a hyphen."""
        said = {"part-0-field": "place", "part-0-digits": "3", "part-1-field": "title", "part-1-before": "-"}
        said |= {"part-1-letters": "upper", "part-1-join": "_", "part-1-optional": "on", "part-1-most": "12"}
        return {"outlet": "podcast-host", "by": "parts", "part": ["0", "1"], "pattern": "not this"} | said | values

    def test_a_pattern_is_put_together_of_parts_in_their_order(self):
        page = self.client.post(self.address + "preview/", self.parts())
        self.assertEqual(page.context["pattern"], "{place|pad:3}[-{title|upper|join:_|most:12}]")
        self.assertEqual(page.context["rows"][0]["name"], "001-THE_FORD_NO.mp3")
        page = self.client.post(self.address + "preview/", self.parts(part=["1", "0"], add="code"))
        self.assertEqual(page.context["pattern"], "[-{title|upper|join:_|most:12}]{place|pad:3}-{code}")
        self.assertContains(page, 'name="part-2-field" value="code"')
        self.assertContains(
            self.client.post(self.address + "preview/", self.parts(**{"part-1-most": "x"})), "wants a number"
        )
        self.assertContains(self.client.post(self.address + "preview/", self.parts(add="tilte")), "no field")
        data = self.parts(existing="")
        self.submit(self.address + "save/", data, shown=f"{self.address}?outlet=podcast-host")
        self.assertEqual(self.production.namings.get().pattern, "{place|pad:3}[-{title|upper|join:_|most:12}]")
        written = self.client.post(
            self.address + "preview/", {"outlet": "podcast-host", "by": "pattern", "pattern": "[{title} {number}]"}
        )
        self.assertContains(written, "says more than parts can")

    def test_patterns_to_start_from_are_shown_as_names(self):
        page = self.client.get(self.address + "examples/?outlet=podcast-host")
        self.assertContains(page, "03-the-ford-no-3.mp3")
        self.assertContains(page, "SC7_003.mp3")
        self.production.code = ""
        self.production.save()
        self.assertNotContains(self.client.get(self.address + "examples/?outlet=podcast-host"), "_003.mp3")

    def test_a_saved_pattern_names_the_files_that_are_made_and_only_for_its_outlet(self):
        self.save("{number|pad:3}-ford")
        self.assertContains(self.client.get(self.address + "?outlet=podcast-host"), "{number|pad:3}-ford")
        self.assertNotContains(self.client.get(self.address + "?outlet=radio-playout"), "{number|pad:3}-ford")
        self.production.sections.filter(number__gt=3).delete()
        self.bring_in()
        self.give_all(self.production.recordings.get())
        (delivery,) = start_run(self.production, [shipped()["podcast-host"]], list(self.production.sections.all()))
        self.assertEqual([f.name for f in delivery.files.all()], ["001-ford.mp3", "002-ford.mp3", "003-ford.mp3"])

    def test_a_pattern_that_cannot_be_read_is_not_saved(self):
        self.assertContains(self.save("[{title}"), "was not saved")
        self.assertFalse(self.production.namings.exists())

    def test_names_that_cannot_be_used_stop_the_run_before_anything_is_made(self):
        self.bring_in()
        self.give_all(self.production.recordings.get())
        self.save("same")
        keys = list(self.production.sections.values_list("pk", flat=True))
        page = self.client.post(f"/deliveries/start/{self.production.pk}/", {"outlet": "podcast-host", "section": keys})
        self.assertContains(page, "Some names cannot be used")
        self.assertFalse(Delivery.objects.exists())

    def exact(self, what: str, names: str, **values):
        said = {"outlet": "podcast-host", "names": names} | values
        shown = self.client.post(self.address + "exact/preview/", said)
        return self.client.post(self.address + "exact/" + what, said | {"seen": shown.context["seen"]}, follow=True)

    def test_dictated_names_are_paired_shown_set_and_taken_back(self):
        listed = "\n".join(f"VO_{n:03}_ford" for n in range(1, 13))
        shown = self.exact("preview/", listed, way="order")
        self.assertContains(shown, "12 names for 12 sections")
        self.assertFalse(self.production.sections.exclude(exact_name="").exists())
        self.exact("", listed, way="order")
        self.assertEqual(self.production.sections.last().exact_name, "VO_012_ford")
        page = self.client.get(self.address + "?outlet=podcast-host")
        self.assertContains(page, "VO_012_ford.mp3")
        self.client.post(f"/productions/{self.production.pk}/change/", {"do": "undo"})
        self.assertFalse(self.production.sections.exclude(exact_name="").exists())

    def test_a_dictated_name_with_a_sound_s_ending_fits_every_format(self):
        self.exact("", "\n".join(f"VO_{n:03}.mp3" for n in range(1, 13)), way="order")
        for outlet, name in (("podcast-host", "VO_001.mp3"), ("booked-job", "VO_001.wav")):
            page = self.client.get(f"{self.address}?outlet={outlet}")
            self.assertContains(page, name)
            self.assertContains(page, "All names can be used")

    def test_dictated_names_are_no_obstacle_to_one_file_of_all(self):
        self.exact("", "\n".join(f"VO_{n:03}" for n in range(1, 13)), way="order")
        page = self.client.get(f"{self.address}?outlet=single-file-audiobook")
        self.assertContains(page, ".m4b")
        self.assertContains(page, "All names can be used")

    def test_a_table_pairs_by_number_or_title_and_says_what_is_left(self):
        table = "number;name\n3;three\n1;one\n99;nobody\n"
        shown = self.exact("preview/", table)
        self.assertEqual([(s.number, name) for s, name in shown.context["pairs"]], [(1, "one"), (3, "three")])
        self.assertEqual(shown.context["left_names"], ["nobody"])
        self.assertContains(shown, "10 sections left without")
        titled = self.exact("preview/", "title\tname\nThe Ford no. 2\ttwo\n")
        self.assertEqual([(s.number, name) for s, name in titled.context["pairs"]], [(2, "two")])
        self.assertContains(self.exact("preview/", "title;length\na;1\nb;2\n"), "no column of file names")

    def test_a_thousand_names_at_once(self):
        Section.objects.bulk_create(
            Section(production=self.production, position=n, title=f"Line {n}", role="line") for n in range(13, 1001)
        )
        listed = "\n".join(f"LINE_{n:04}" for n in range(1000))
        self.assertContains(self.exact("preview/", listed, way="order"), "1000 names for 1000 sections")
        self.exact("", listed, way="order")
        self.assertEqual(self.production.sections.last().exact_name, "LINE_0999")
