"""The words of the interface in other languages: all of them are there, they fit, and a reader gets hers."""

import html
import re
from collections import Counter
from html.parser import HTMLParser
from string import Formatter
from unittest.mock import patch

from babel.messages.mofile import read_mo
from babel.messages.pofile import read_po
from django.conf import settings
from django.contrib.auth import get_user_model
from django.test import RequestFactory, SimpleTestCase
from django.utils import translation
from playwright.sync_api import expect

from mastering import said
from mastering.naming.patterns import FIELDS, FUNCTIONS
from mastering.outlets.demands import Range
from mastering.outlets.rulesheets import shipped
from mastering.tests.signals import noise, speech
from sermovox.deliveries.models import Delivery
from sermovox.history.changing import undo
from sermovox.productions import order
from sermovox.productions.models import Section
from sermovox.scripts.models import languages_to_choose
from sermovox.ui import gathered, words
from sermovox.ui.guide import pages
from sermovox.ui.management.commands.words import (
    PACKAGES,
    catalogue_of,
    forms_of,
    key_of,
    sentences_in,
    wanted_of,
)
from sermovox.ui.templatetags import figures
from sermovox.ui.tests.base import AppTestCase
from sermovox.ui.tests.running import BrowserTestCase
from sermovox.ui.views import words_of_pages

LANGUAGES = [code for code, _ in settings.LANGUAGES if code != "en"]
_NAMES_OF_LANGUAGES = {name for _, name in settings.LANGUAGES}
_FOR_SCRIPTS = re.compile(
    r"^(d|points|x|y|x1|x2|y1|y2|width|height|viewbox|style|value|min|max|step|href|src|data-.*)$"
)
_FOR_PEOPLE = {"data-key-does", "data-label", "data-said", "data-title", "data-play", "data-pause"}
_FOR_PEOPLE |= {"data-stop", "data-put-away"}
_FOLLOWS = {"data-drawn"}
"""Digests of what is written."""


def catalogue(domain: str, language: str):
    with (words.LOCALE_DIR / language / "LC_MESSAGES" / f"{domain}.po").open("rb") as file:
        return [message for message in read_po(file, locale=language) if message.id]


def _names(text: str) -> set[str]:
    return {name for _, name, *_ in Formatter().parse(text) if name}


def _figures(text: str) -> set[tuple[str, str]]:
    return {(name, digits) for _, name, digits, _ in Formatter().parse(text) if name and digits}


def forms(text) -> tuple[str, ...]:
    return tuple(text) if isinstance(text, tuple | list) else (text,)


class Shown(HTMLParser):
    """What a reader gets of a page: its texts and what is read out; and what its scripts read of it."""

    def __init__(self, text: str):
        super().__init__()
        self.texts, self.attributes, self._hidden = [], [], 0
        self.feed(text)

    def handle_starttag(self, tag, attrs):
        self._hidden += tag in ("script", "style")
        for name, value in attrs:
            if name in ("title", "aria-label", "placeholder", "alt") or name in _FOR_PEOPLE:
                self.texts.append(value or "")
            elif _FOR_SCRIPTS.match(name) and tag != "option" and name not in _FOLLOWS:
                self.attributes.append((tag, name, value))

    def handle_endtag(self, tag):
        self._hidden -= tag in ("script", "style")

    def handle_data(self, data):
        if not self._hidden:
            self.texts.append(data)


class Catalogues(SimpleTestCase):
    def test_they_hold_every_word_of_the_interface_and_no_other(self):
        wanted = {
            "django": {each[0]: each for each in sorted(gathered.of_templates())},
            "djangojs": {text: (text,) for text in gathered.of_scripts()},
        }
        for language in LANGUAGES:
            for domain, texts in wanted.items():
                known = {forms(message.id)[0]: forms(message.id) for message in catalogue(domain, language)}
                self.assertEqual(known, texts, f"{language}, {domain}: run python manage.py words")
                untold = [message.id for message in catalogue(domain, language) if not all(forms(message.string))]
                self.assertEqual(untold, [], f"{language}, {domain}: to be translated")

    def test_every_sentence_stands_in_each_language_and_none_that_nobody_says(self):
        for package in PACKAGES:
            english = catalogue_of(package, "en")
            wanted = sorted(wanted_of(package, english))
            for language in ("en", *LANGUAGES):
                known = catalogue_of(package, language)
                with self.subTest(f"{language}, {package}"):
                    self.assertEqual(
                        sorted(key_of(each) for each in known if each.id), wanted, "python manage.py words"
                    )
                    untold = [key_of(each) for each in known if each.id and not all(forms_of(each))]
                    self.assertEqual(untold, [], "to be translated")

    def test_every_sentence_is_given_what_it_tells_of_and_tells_it_in_each_language(self):
        for package in PACKAGES:
            names = {
                language: {
                    key_of(each): {name for form in forms_of(each) for name in _names(form)}
                    for own in PACKAGES
                    for each in catalogue_of(own, language)
                    if each.id
                }
                for language in ("en", *LANGUAGES)
            }
            for key, places in gathered.parameters_of_python(package).items():
                for where, given in places:
                    self.assertEqual(names["en"][key] - {"count"}, given - {"count"}, f"{where}: {key}")
                    self.assertLessEqual(names["en"][key], given, f"{where}: {key}")
            for language in LANGUAGES:
                self.assertEqual(names[language], names["en"], language)

    def test_no_key_says_two_things(self):
        ours, theirs = (
            {key_of(each): forms_of(each) for each in catalogue_of(package, "en") if each.id} for package in PACKAGES
        )
        self.assertEqual([key for key in ours.keys() & theirs.keys() if ours[key] != theirs[key]], [])

    def test_figures_are_written_with_as_many_digits_in_each_language(self):
        for package in PACKAGES:
            english = catalogue_of(package, "en")
            for language in LANGUAGES:
                for message in catalogue_of(package, language):
                    if message.id:
                        wanted = {each for form in forms_of(english.get(key_of(message))) for each in _figures(form)}
                        has = {each for form in forms_of(message) for each in _figures(form)}
                        self.assertEqual(has, wanted, f"{language}, {key_of(message)}")

    def test_sentences_are_compiled_as_they_are_written(self):
        for package in PACKAGES:
            for language in ("en", *LANGUAGES):
                with (sentences_in(package) / f"{language}.mo").open("rb") as file:
                    compiled = {key_of(each): forms_of(each) for each in read_mo(file) if each.id}
                written = {key_of(each): forms_of(each) for each in catalogue_of(package, language) if each.id}
                self.assertEqual(compiled, written, f"{language}, {package}: run python manage.py words")

    def test_what_varies_stands_in_each_translation(self):
        for language in LANGUAGES:
            for message in catalogue("djangojs", language):
                names = [
                    {name for _, name, *_ in Formatter().parse(text) if name} for text in (message.id, message.string)
                ]
                self.assertEqual(*names, f"{language}: {message.string}")
            for message in catalogue("django", language):
                wanted = {name for form in forms(message.id) for name in re.findall(r"%\((\w+)\)s", form)}
                for form in forms(message.string):
                    self.assertEqual(set(re.findall(r"%\((\w+)\)s", form)) - wanted, set(), form)
                    tags = [sorted(re.findall(r"</?\w+", text)) for text in (forms(message.id)[0], form)]
                    self.assertEqual(*tags, form)

    def test_what_was_compiled_is_what_was_written(self):
        for language in LANGUAGES:
            with (words.LOCALE_DIR / language / "LC_MESSAGES" / "django.mo").open("rb") as file:
                compiled = {forms(message.id): forms(message.string) for message in read_mo(file) if message.id}
            written = {forms(message.id): forms(message.string) for message in catalogue("django", language)}
            self.assertEqual(compiled, written, f"{language}: run python manage.py words")

    def test_scripts_say_nothing_but_words_that_are_gathered(self):
        sentence = re.compile(r"""(?<!word\()(["`])([A-Z][a-z]+ (?:[a-z]+|\$\{)[^"`]*)\1""")
        for path in gathered.SOURCE.glob("sermovox/**/static/js/**/*.js"):
            said = [match[2] for match in sentence.finditer(path.read_text()) if match[2] not in gathered.of_scripts()]
            self.assertEqual(said, [], path.name)

    def test_the_guide_is_there_in_each_language_and_calls_things_as_its_screens_do(self):
        own = re.compile(r"\*\*([^*]+?)\s?:\*\*")
        for language in LANGUAGES:
            self.assertEqual(list(pages(language)), list(pages()))
            told = {form for message in catalogue("django", language) for form in forms(message.string)}
            told |= {form for own in PACKAGES for each in catalogue_of(own, language) for form in forms_of(each)}
            keys = {}
            for folder in ("", language):
                for path in sorted((words.LOCALE_DIR.parent / "guide" / folder).glob("*.md")):
                    text = path.read_text()
                    keys.setdefault(path.name, []).append(sorted(set(re.findall(r"`(.)`", text))))
                    if folder:
                        named = set(re.findall(r"\*\*([^*]+)\*\*", text)) - {f"{each}:" for each in own.findall(text)}
                        named = {" ".join(each.split()) for each in named if not each.endswith(":")}
                        self.assertEqual(named - told, set(), f"{language}/{path.name}")
            for name, (english, other) in keys.items():
                self.assertEqual(english, other, f"keys of {language}/{name}")


class Spoken(SimpleTestCase):
    def test_figures_are_written_as_the_language_does(self):
        with translation.override("de"):
            self.assertEqual(figures.level(-23.04, "LUFS"), "−23,0 LUFS")
            self.assertEqual(figures.size(1_240_000_000), "1,24 GB")
            asked = Range(low=-23.5, high=-18).words("dBFS")
            self.assertEqual(figures.proper(asked), "−23,5 bis −18 dBFS")
            self.assertEqual(figures.roughly(125), "noch etwa 2 min")
        self.assertEqual(figures.level(-23.04, "LUFS"), "−23.0 LUFS")

    def test_scripts_get_their_words_in_the_language_of_the_page(self):
        request = RequestFactory().get("/")
        self.assertEqual(words_of_pages(request)["page_words"], {})
        with translation.override("es"):
            self.assertEqual(words_of_pages(request)["page_words"]["Stop"], "Parar")


_template = said._template


def _in_brackets(language: str, key: str, count: int | None) -> str:
    template = _template("en", key, count)
    return template if language == "en" or key.endswith("-mark") else f"⟦{template}⟧"


class Screens(AppTestCase):
    def prepare(self):
        super().prepare()
        self.section = self.bring_in(speech(seconds=5), name="chapter 1.wav")
        made = {"section": [self.section.pk], "outlet": ["podcast-host"]}
        self.client.post(f"/deliveries/start/{self.production.pk}/", made)
        self.work()
        self.delivery = Delivery.objects.get()

    def addresses(self) -> list[str]:
        production, section = self.production.pk, self.section.pk
        recording, file = self.section.made_of[0].recording_id, self.delivery.files.get().pk
        own = (
            f"/productions/{production}/{page}" for page in ("", "edit/", "names/", "script/", "pairing/", "history/")
        )
        return [
            *("/", "/productions/new/", "/outlets/", "/outlets/podcast-host/", "/outlets/podcast-host/versions/"),
            *("/deliveries/", "/sent/", "/recordings/storage/", "/recordings/storage/bin/", "/nowhere/"),
            *own,
            f"/productions/{production}/sheet/",
            f"/productions/{production}/outlets/",
            f"/sections/{section}/",
            f"/recordings/{recording}/",
            f"/cutting/{recording}/",
            f"/proof/{recording}/",
            f"/proof/{recording}/listen/",
            f"/proof/productions/{production}/pickups/",
            f"/proof/productions/{production}/pickups/take/{recording}/",
            f"/cutting/sections/{section}/",
            f"/cutting/sections/{section}/chapters/",
            f"/levels/{production}/?outlet=podcast-host",
            f"/levels/sections/{section}/?outlet=podcast-host",
            f"/listening/sections/{section}/?outlet=podcast-host",
            f"/deliveries/{self.delivery.pk}/",
            f"/deliveries/files/{file}/",
            f"/deliveries/{self.delivery.pk}/tags/",
            f"/deliveries/{self.delivery.pk}/rename/",
            f"/deliveries/current/{production}/podcast-host/",
            f"/sent/productions/{production}/",
            f"/sent/deliveries/{self.delivery.pk}/",
            "/sent/outlets/podcast-host/",
        ]

    def shown(self, address: str, language: str = "en") -> Shown:
        return Shown(self.client.get(address, headers={"Accept-Language": language}).content.decode())

    def test_no_key_means_two_things_on_one_screen(self):
        for address in self.addresses():
            keys = re.findall(r'data-key="([^"]+)"', self.client.get(address).content.decode())
            self.assertEqual([key for key, count in Counter(keys).items() if count > 1], [], address)

    def test_no_word_of_a_screen_is_left_untranslated(self):
        """Whatever passes through translation is set in brackets here; what stands outside of them is a word left out,
        or data, and the data of this test are known.
        """
        catalogue = translation._trans
        data = {outlet.title for outlet in shipped().values()} | {
            "Salt and Cedar",
            "Ilse",
            "Brandt",
            "Podcast host",
            "chapter",
            "salt-and-cedar",
            "Podcast",
            "podcast",
            *_NAMES_OF_LANGUAGES,
            *(name for _, name in languages_to_choose("en")),
        }
        outside = {}
        with (
            patch.object(catalogue, "gettext", lambda text: f"⟦{text}⟧"),
            patch.object(catalogue, "ngettext", lambda one, more, count: f"⟦{one if count == 1 else more}⟧"),
            patch.object(said, "_template", _in_brackets),
            patch.object(words, "get_language", lambda: "de"),
        ):
            figures._mark.cache_clear()
            figures._crossings.cache_clear()
            for address in self.addresses():
                text = " ".join(self.shown(address).texts)
                while "⟦" in text and (shorter := re.sub(r"⟦[^⟦⟧]*⟧", " ", text)) != text:
                    text = shorter
                for name in sorted(data, key=len, reverse=True):
                    text = text.replace(name, " ")
                left = re.findall(r"(?<![\w./{|:-])[A-Za-z][a-z]{3,}(?![\w./}|:@-])", html.unescape(text))
                outside[address] = sorted(set(left) - _NO_WORDS)
        figures._mark.cache_clear()
        figures._crossings.cache_clear()
        self.maxDiff = None
        self.assertEqual([(address, left) for address, left in outside.items() if left], [])

    def test_a_reader_gets_the_language_of_the_browser_and_what_was_chosen_after(self):
        for asked, given in (("de-AT,en;q=0.5", "de"), ("es", "es"), ("fr-CA", "fr"), ("nl", "en"), ("", "en")):
            answer = self.client.get("/", headers={"Accept-Language": asked})
            self.assertContains(answer, f'<html lang="{given}"')
        self.client.post("/language/", {"language": "fr"}, headers={"Accept-Language": "de"})
        self.assertContains(self.client.get("/", headers={"Accept-Language": "de"}), "Commencer une production nommée")

    def test_who_is_not_signed_in_can_choose_as_well(self):
        self.client.logout()
        self.client.post("/language/", {"language": "es"})
        self.assertContains(self.client.get("/account/sign-in/"), "Contraseña")

    def test_scripts_and_pictures_read_the_same_in_every_language(self):
        for address in self.addresses():
            english = self.shown(address).attributes
            for language in LANGUAGES:
                other = self.shown(address, language).attributes
                self.assertEqual(_unseen(other), _unseen(english), f"{address} in {language}")

    def test_what_was_written_in_english_long_ago_is_read_in_the_reader_s_language(self):
        file = self.delivery.files.get()
        answer = self.client.get(f"/deliveries/files/{file.pk}/", headers={"Accept-Language": "de"})
        self.assertContains(answer, "Integrierte Lautheit")
        self.assertNotContains(answer, "Integrated loudness")
        self.assertIn("Integrated loudness", [finding["label"] for finding in file.findings])

    def test_choices_keep_their_values(self):
        answer = self.client.get(f"/sections/{self.section.pk}/", headers={"Accept-Language": "de"})
        self.assertContains(answer, '<option value="chapter" selected>Kapitel</option>', html=True)


def _unseen(attributes: list) -> list:
    # The token of a form is another each time, and the database grows meanwhile.
    return [each for each in attributes if not re.fullmatch(r"\w{64}|(flex-grow|width): [\d.%]+", str(each[2]))]


_NO_WORDS = {"Sermovox", "manifest", "Chapter", *FIELDS, *FUNCTIONS}
"""Names of formats, of files and of what is typed, which read the same in every language."""


class InABrowser(BrowserTestCase):
    def test_the_way_to_a_file_in_german(self):
        page = self.new_page(locale="de-DE")
        page.goto("/")
        page.get_by_role("link", name="The Lamp and the Barometer", exact=True).click()
        expect(page.locator(".next-step")).to_contain_text("Als Nächstes")
        expect(page.locator("#make")).to_contain_text(re.compile("erzeugen|aktuell|wählen"))
        page.keyboard.press("?")
        expect(page.get_by_role("dialog")).to_contain_text("Diese Liste zeigen")

    def test_right_to_left_does_not_break_a_screen(self):
        for width, height in ((1280, 800), (360, 780)):
            page = self.new_page(viewport={"width": width, "height": height})
            for address in (
                "/",
                "/productions/2/",
                "/levels/2/",
                "/outlets/podcast-host/",
                "/cutting/1/",
                "/deliveries/",
            ):
                page.goto(address)
                page.evaluate(_TURNED)
                expect(page.locator("link[href*='bootstrap.rtl']")).to_be_attached()
                self.assertLessEqual(page.evaluate("document.documentElement.scrollWidth"), width, address)
                title = page.locator("h1").first.bounding_box()
                self.assertTrue(title["x"] >= 0 and title["x"] + title["width"] <= width, address)


_TURNED = """() => {
  document.documentElement.dir = "rtl";
  const sheet = document.querySelector("link[href*='bootstrap']");
  sheet.href = sheet.href.replace("bootstrap.min", "bootstrap.rtl.min");
}"""


class Accounts(AppTestCase):
    def test_another_person_s_language_is_her_own(self):
        other = get_user_model().objects.create_user("other")
        self.client.post("/language/", {"language": "de"})
        self.client.cookies.clear()
        self.client.force_login(other)
        self.assertContains(self.client.get("/"), '<html lang="en"')


class NamesOfPeople(AppTestCase):
    """What people call their things is shown as they wrote it, whatever it may mean in a language."""

    TITLE, NUMBERED = "Speech beside music", "Version 2.5"

    def test_titles_and_names_are_not_translated_on_any_page(self):
        self.addCleanup(translation.activate, "en")
        production = self.production
        production.title, production.narrator, production.author = self.NUMBERED, self.TITLE, "Silence 1.5"
        production.save()
        self.bring_in(name=f"{self.TITLE}.wav")
        self.bring_in(noise(-30, 5), name=f"{self.NUMBERED}.wav")
        for section, title in zip(production.sections.all(), (self.TITLE, self.NUMBERED), strict=True):
            Section.objects.filter(pk=section.pk).update(title=title)
        sections = list(production.sections.with_pieces())
        order.remove(production, self.narrator, sections[1])
        undo(production)
        fields = {"outlet": ["volunteer-archive"], "section": [section.pk for section in sections]}
        self.client.post(f"/deliveries/start/{production.pk}/", fields)
        self.work()
        delivery = production.deliveries.get()
        file = delivery.files.first()
        recording = production.recordings.first()
        recording.delete()
        pages = [
            "/", production.get_absolute_url(), f"/productions/{production.pk}/history/", "/recordings/storage/",
            "/recordings/storage/bin/", f"/productions/{production.pk}/names/", f"/productions/{production.pk}/edit/",
            f"/productions/{production.pk}/sheet/", f"/productions/{production.pk}/outlets/",
            f"/levels/{production.pk}/", f"/levels/sections/{sections[0].pk}/plan/?outlet=volunteer-archive",
            f"/cutting/sections/{sections[0].pk}/", f"/cutting/{production.recordings.first().pk}/",
            delivery.get_absolute_url(), file.get_absolute_url(), f"/deliveries/{delivery.pk}/tags/",
        ]  # fmt: skip
        seen = 0
        for page in pages:
            answer = self.client.get(page, headers={"accept-language": "de"}, follow=True)
            with self.subTest(page):
                text = html.unescape(answer.content.decode())
                seen += self.TITLE in text or self.NUMBERED in text
                for wrong in ("Sprache neben Musik", "Version 2,5", "Silence 1,5"):
                    self.assertNotIn(wrong, text, text[max(0, text.find(wrong) - 200) :][:300])
        self.assertGreater(seen, 9)

    def test_tags_that_read_like_a_word_of_ours_stay_as_they_were_written(self):
        self.production.title, self.production.genre = "Music", "Speech"
        self.production.save()
        self.bring_in(name="Opening.wav")
        section = self.production.sections.get()
        made = {"section": [section.pk], "outlet": ["podcast-host"]}
        self.client.post(f"/deliveries/start/{self.production.pk}/", made)
        self.work()
        delivery = self.production.deliveries.get()
        german = {"accept-language": "de"}
        sheet = self.client.get(delivery.files.get().get_absolute_url(), headers=german)
        self.assertContains(sheet, ">Music<")
        self.production.title = "Music, again"
        self.production.save()
        tags = self.client.get(f"/deliveries/{delivery.pk}/tags/", headers=german)
        self.assertContains(tags, ">Music<")
        self.assertNotContains(tags, ">Musik<")
