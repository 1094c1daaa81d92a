"""Scripts, tables and documents as people send them, and the running orders they become."""

import io
import zipfile
from unittest import TestCase

import docx

from mastering.editing.documents import is_package, read_package
from mastering.editing.scripts import Layout, entries, entry_of, recognised, table_layout
from mastering.editing.tables import read_table, separator_of, write_table
from mastering.editing.texts import UnreadableText, decoded


class Texts(TestCase):
    def test_what_was_saved_in_any_usual_encoding_is_read(self):
        # Long enough that letters can be told apart by how often they come, as in a real script.
        for encoding, text in (
            ("cp1255", "פרק ראשון: שומר המגדלור כתב חמש שורות על מזג האוויר.\n" * 4),
            ("cp1250", "Strażnik zapisał pięć wierszy o pogodzie, potem zgasił światło.\n" * 5),
            ("cp1252", "Kapitel eins: Größe und Überfluss. Der Wärter schrieb fünf Zeilen.\n" * 4),
            ("shift_jis", "第一章 灯台守は天気を五行書いて、明かりを消した。\n" * 5),
            ("utf-8", "Kapitel eins: Größe und Überfluss\n"),
            ("utf-16", "Chapter one — the “lamp”\n"),
            ("cp1252", "Señor Ibáñez said: “It’s café au lait, n’est-ce pas?” Voilà, déjà vu.\n" * 8),
            ("cp1252", "Café “déjà”"),
            ("cp1251", "Глава первая. Хранитель маяка записал погоду и погасил лампу.\n" * 8),
        ):
            with self.subTest(encoding):
                found, said = decoded(text.encode(encoding))
                self.assertEqual(found, text)
                self.assertEqual(said, encoding)

    def test_another_encoding_can_be_asked_for(self):
        data = "Розділ".encode("cp1251")
        self.assertEqual(decoded(data, "cp1251"), ("Розділ", "cp1251"))

    def test_marks_line_ends_and_unseen_signs_go(self):
        self.assertEqual(decoded(b"\xef\xbb\xbfone\r\ntwo\rthree\x0c\x00")[0], "one\ntwo\nthree")

    def test_a_picture_is_no_text(self):
        with self.assertRaisesRegex(UnreadableText, "not a text"):
            decoded(b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR")


class Tables(TestCase):
    def test_semicolons_tabs_bars_and_quotes(self):
        for text, rows in (
            ('a;b;c\n1;"x;y";2\n', [["a", "b", "c"], ["1", "x;y", "2"]]),
            ('a\tb\n1\tsaid "so"\n', [["a", "b"], ["1", 'said "so"']]),
            ("name|text\nx|“Stop, thief”\n", [["name", "text"], ["x", "Stop, thief"]]),
            ('a,b\n1,"two\nlines"\n\n\n', [["a", "b"], ["1", "two\nlines"]]),
        ):
            with self.subTest(text):
                self.assertEqual(read_table(text), rows)

    def test_prose_is_no_table(self):
        self.assertIsNone(separator_of("It was night.\nThe sea, as ever, was up.\nNobody came.\n"))

    def test_formulas_go_out_harmless_and_come_back_as_they_were(self):
        # CSV injection: cells that begin with = + - @ (common practice, after OWASP, from memory).
        rows = [["=1+2", "@x"], ["-5", "+44 20"], ["plain", None]]
        written = write_table(["a", "b"], rows)
        self.assertIn("'=1+2", written)
        for cell in (" =1+2", "\xa0=1+2", "＝1+2", "＠SUM(A1)", "\r=1+2", "\n=1", " \t-1"):  # noqa: RUF001
            with self.subTest(repr(cell)):
                self.assertIn("'" + cell, write_table(("a",), [(cell,)]))
        self.assertIn("'@x", written)
        self.assertEqual(read_table(written)[1:], [["=1+2", "@x"], ["-5", "+44 20"], ["plain", ""]])


class Headings(TestCase):
    def test_a_line_says_role_number_and_title(self):
        for line, role, number, title in (
            ("Chapter 3: Fog", "chapter", 3, "Fog"),
            ("CHAPTER XIV", "chapter", 14, "CHAPTER XIV"),
            ("Chapter Twelve – The Gale", "chapter", 12, "The Gale"),
            ("7. Salt", "chapter", 7, "Salt"),
            ("07 - Salt", "chapter", 7, "Salt"),
            ("Kapitel 2: Größe", "chapter", 2, "Größe"),
            ("Opening credits", "opening credits", None, "Opening credits"),
            ("Closing Credits", "closing credits", None, "Closing Credits"),
            ("Dedication", "dedication", None, "Dedication"),
            ("Prologue: Before", "foreword", None, "Before"),
            ("Epilogue", "afterword", None, "Epilogue"),
            ("Episode 101: Ropes", "episode", 101, "Ropes"),
            ("The Keeper’s Wife", "chapter", None, "The Keeper’s Wife"),
            ("Line dancing for sailors", "chapter", None, "Line dancing for sailors"),
            ("1984", "chapter", None, "1984"),
            ("פרק ראשון: הים", "chapter", None, "פרק ראשון: הים"),
        ):
            with self.subTest(line):
                entry = entry_of(line)
                self.assertEqual((entry.role, entry.number, entry.title), (role, number, title))


class Scripts(TestCase):
    def made(self, text: str, **options):
        return entries(text, recognised(text), **options)

    def test_a_pasted_list(self):
        made = self.made("Opening credits\n\nChapter 1: Salt\n   \nChapter 2: Cedar\nClosing credits\n")
        self.assertEqual([e.role for e in made], ["opening credits", "chapter", "chapter", "closing credits"])
        self.assertEqual([e.title for e in made][1:3], ["Salt", "Cedar"])

    def test_a_manuscript_keeps_the_text_under_its_headings(self):
        body = "The sea was up that night and the lamp, which had never failed, went out without a sound. " * 2
        text = f"Chapter One\n{body}\n{body}\n\nChapter Two\n{body}\n"
        self.assertEqual(recognised(text).kind, "headings")
        made = self.made(text)
        self.assertEqual([(e.role, e.number) for e in made], [("chapter", 1), ("chapter", 2)])
        self.assertEqual(made[0].text.count("The sea was up"), 4)

    def test_a_table_with_headings_in_any_order(self):
        made = self.made("Title;No.;Type\nSalt;1;chapter\nThanks;;afterword\n")
        self.assertEqual(
            [(e.role, e.number, e.title) for e in made], [("chapter", 1, "Salt"), ("afterword", None, "Thanks")]
        )

    def test_a_client_s_script_in_columns(self):
        text = 'File;Character;Line\nVO_001;Warden;"Halt; who goes?"\nVO_002;Guest;A friend.\n'
        made = self.made(text)
        self.assertEqual([e.name for e in made], ["VO_001", "VO_002"])
        self.assertEqual([e.text for e in made], ["Halt; who goes?", "A friend."])
        self.assertEqual({e.role for e in made}, {"line"})
        self.assertEqual(made[0].title, "Halt; who goes?")

    def test_columns_without_a_heading_are_known_by_what_they_hold(self):
        layout = recognised("gate_010.wav\tWho is there at this hour of the night?\ngate_020.wav\tOnly me.\n")
        self.assertEqual((layout.kind, layout.header, layout.columns), ("columns", False, ("name", "text")))

    def test_name_on_one_line_and_text_on_the_next(self):
        text = "intro_01\nWelcome to the harbour.\nintro_02\nMind the step.\n"
        self.assertEqual(recognised(text).kind, "pairs")
        self.assertEqual([(e.name, e.text) for e in self.made(text)][1], ("intro_02", "Mind the step."))

    def test_a_name_and_its_text_parted_by_a_colon(self):
        made = self.made("T1_A: Doors close.\nT1_B: Doors open: mind the gap.\n")
        self.assertEqual([(e.name, e.text) for e in made][1], ("T1_B", "Doors open: mind the gap."))

    def test_what_was_recognised_can_be_corrected(self):
        text = "one,two\nalpha,beta\n"
        layout = Layout(kind="columns", separator=",", header=False, columns=("title", "text"))
        self.assertEqual([(e.title, e.text) for e in entries(text, layout)], [("one", "two"), ("alpha", "beta")])
        self.assertEqual([e.title for e in entries(text, Layout(kind="lines"))], ["one,two", "alpha,beta"])
        self.assertEqual({e.role for e in entries(text, layout, role="segment")}, {"segment"})

    def test_right_to_left_blank_lines_and_duplicates(self):
        made = self.made("שלום\n\n\t\nשלום\nمرحبا\n")
        self.assertEqual([e.title for e in made], ["שלום", "שלום", "مرحبا"])

    def test_nothing_makes_nothing(self):
        self.assertEqual(self.made("\n \n"), [])

    def test_ten_thousand_lines(self):
        text = "".join(f"VO_{n:05};Line number {n}, spoken\n" for n in range(10_000))
        made = self.made(text)
        self.assertEqual((len(made), made[-1].name), (10_000, "VO_09999"))

    def test_a_running_order_s_own_csv_can_be_read_back(self):
        text = write_table(("place", "role", "number", "title", "file name"), [(1, "chapter", 4, "=Salt", "c4")])
        (entry,) = self.made(text)
        self.assertEqual((entry.role, entry.number, entry.title, entry.name), ("chapter", 4, "=Salt", "c4"))

    def test_a_table_in_another_separator(self):
        self.assertEqual(table_layout("a = b\n", "=").columns.__len__(), 2)


class Documents(TestCase):
    def docx(self) -> bytes:
        document = docx.Document()
        document.add_heading("Chapter 1: Salt", 1)
        document.add_paragraph("It was night.")
        document.add_heading("Chapter 2: Cedar", 1)
        table = document.add_table(1, 2)
        table.rows[0].cells[0].text, table.rows[0].cells[1].text = "VO_1", "Who goes there?"
        kept = io.BytesIO()
        document.save(kept)
        return kept.getvalue()

    def epub(self, *, nav: bool = True, extra: dict | None = None) -> bytes:
        contents = (
            '<html xmlns="http://www.w3.org/1999/xhtml" xmlns:epub="http://www.idpf.org/2007/ops"><body>'
            '<nav epub:type="toc"><ol><li><a href="1.xhtml">Chapter 1: Salt</a></li>'
            '<li><a href="2.xhtml">Chapter 2: <i>Cedar</i></a></li></ol></nav>'
            '<nav epub:type="landmarks"><ol><li><a href="1.xhtml">Start</a></li></ol></nav></body></html>'
        )
        ncx = (
            '<ncx xmlns="http://www.daisy.org/z3986/2005/ncx/"><navMap><navPoint><navLabel><text>Salt</text></navLabel>'
            "</navPoint><navPoint><navLabel><text>Cedar</text></navLabel></navPoint></navMap></ncx>"
        )
        item = (
            '<item id="n" href="nav%20page.xhtml" properties="nav" media-type="application/xhtml+xml"/>'
            if nav
            else '<item id="x" href="toc.ncx" media-type="application/x-dtbncx+xml"/>'
        )
        members = {
            "mimetype": "application/epub+zip",
            "META-INF/container.xml": '<container><rootfiles><rootfile full-path="OPS/p.opf"/></rootfiles></container>',
            "OPS/p.opf": f"<package><manifest>{item}</manifest></package>",
            "OPS/nav page.xhtml": contents,
            "OPS/toc.ncx": ncx,
        }
        return self.archive(members | (extra or {}))

    def archive(self, members: dict) -> bytes:
        kept = io.BytesIO()
        with zipfile.ZipFile(kept, "w", zipfile.ZIP_DEFLATED) as archive:
            for name, content in members.items():
                archive.writestr(name, content)
        return kept.getvalue()

    def refusal(self, data: bytes) -> str:
        with self.assertRaises(UnreadableText) as caught:
            read_package(data)
        return str(caught.exception)

    def test_a_docx_gives_headings_paragraphs_and_tables(self):
        text = read_package(self.docx())
        self.assertEqual(
            text.split("\n"), ["# Chapter 1: Salt", "It was night.", "# Chapter 2: Cedar", "VO_1\tWho goes there?"]
        )
        made = entries(text, recognised(text))
        self.assertEqual([(e.number, e.title) for e in made], [(1, "Salt"), (2, "Cedar")])
        self.assertEqual(made[0].text, "It was night.")

    def test_an_epub_gives_its_contents(self):
        self.assertTrue(is_package(self.epub()))
        self.assertEqual(read_package(self.epub()), "# Chapter 1: Salt\n# Chapter 2: Cedar")
        self.assertEqual(read_package(self.epub(nav=False)), "# Salt\n# Cedar")

    def book(self) -> bytes:
        """Two chapters in one document and one in another, with what books hold besides their text."""
        page = "<?xml version='1.0'?><!DOCTYPE html><html><head><title>Not read</title></head><body>{}</body></html>"
        one = (
            '<section><h1 id="a">Chapter 1</h1><h2>Salt</h2><p>It was&nbsp;night.<sup><a href="#n1">1</a></sup></p>'
            "<p>A<br/>verse, <ruby>\u6f22<rt>kan</rt></ruby> <i>here</i>.</p>"
            '<aside epub:type="footnote" id="n1"><p>A note.</p></aside></section>'
            '<p><span epub:type="pagebreak" id="p2" title="2">2</span>On the next page.</p>'
            '<h1 id="b">Chapter 2: Cedar</h1><h2>By the sea</h2><p># No heading.</p><script>no()</script>'
        )
        two = "<p>Chapter <b>three<p>Open tags &amp; all"
        nav = (
            '<html xmlns="http://www.w3.org/1999/xhtml" xmlns:epub="http://www.idpf.org/2007/ops"><body>'
            '<nav epub:type="toc"><ol><li><a href="t/1.xhtml#a">Chapter 1: Salt</a></li>'
            '<li><a href="t/1.xhtml#b">Chapter 2: Cedar</a></li><li><a href="t/2.xhtml#gone">Chapter 3: Oak</a></li>'
            "</ol></nav></body></html>"
        )
        package = (
            "<package><manifest>"
            '<item id="n" href="nav.xhtml" properties="nav"/><item id="c1" href="t/1.xhtml"/>'
            '<item id="c2" href="t/2.xhtml"/><item id="c3" href="t/3.xhtml"/></manifest>'
            '<spine><itemref idref="n"/><itemref idref="c1"/><itemref idref="c2"/><itemref idref="gone"/>'
            '<itemref idref="c3" linear="no"/></spine></package>'
        )
        return self.archive({
            "META-INF/container.xml": '<container><rootfiles><rootfile full-path="OPS/p.opf"/></rootfiles></container>',
            "OPS/p.opf": package,
            "OPS/nav.xhtml": nav,
            "OPS/t/1.xhtml": page.format(one),
            "OPS/t/2.xhtml": page.format(two),
            "OPS/t/3.xhtml": page.format("<p>Aside.</p>"),
        })  # fmt: skip

    def test_an_epub_gives_what_is_read_of_it_under_its_titles(self):
        text = read_package(self.book())
        self.assertEqual(text.split("\n"), [
            "# Chapter 1: Salt", "It was night.", "A", "verse, \u6f22 here.", "On the next page.",
            "# Chapter 2: Cedar", "By the sea", "No heading.",
            "# Chapter 3: Oak", "Chapter three", "Open tags & all",
        ])  # fmt: skip
        made = entries(text, recognised(text))
        self.assertEqual([(e.number, e.title) for e in made], [(1, "Salt"), (2, "Cedar"), (3, "Oak")])
        self.assertEqual(made[1].text, "By the sea\nNo heading.")

    def test_a_chapter_larger_than_any_book_is_refused(self):
        large = self.archive({
            "META-INF/container.xml": '<container><rootfiles><rootfile full-path="p.opf"/></rootfiles></container>',
            "p.opf": '<package><manifest><item id="c" href="c.xhtml"/></manifest>'
                     '<spine><itemref idref="c"/></spine></package>',
            "c.xhtml": "".join(f"<p>{number}</p>" for number in range(3_000_000)),
        })  # fmt: skip
        self.assertIn("larger than any book", self.refusal(large))

    def test_names_that_point_outside_are_refused(self):
        for name in ("../../evil.xml", "/etc/passwd", "a\\..\\..\\b", "C:/x"):
            self.assertIn("point outside", self.refusal(self.epub(extra={name: "x"})))

    def test_bombs_are_refused_without_being_unpacked(self):
        self.assertIn("swell", self.refusal(self.epub(extra={"OPS/big.xml": b"\0" * (30 << 20)})))
        many = self.epub(extra={f"OPS/{n}": "" for n in range(20_001)})
        self.assertIn("more than any script", self.refusal(many))

    def test_entities_are_not_expanded(self):
        bomb = (
            '<?xml version="1.0"?><!DOCTYPE x [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;">]><package>&b;</package>'
        )
        self.assertIn("damaged or not what its name says", self.refusal(self.epub(extra={"OPS/p.opf": bomb})))

    def test_broken_and_foreign_archives_are_explained(self):
        self.assertIn("damaged", self.refusal(self.docx()[:2000]))
        self.assertIn("neither a DOCX nor an EPUB", self.refusal(self.archive({"a.txt": "x"})))
        self.assertIn("damaged", self.refusal(self.archive({"word/document.xml": "<nonsense"})))
