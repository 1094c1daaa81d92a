"""Bring the catalogues of the interface's words up to what stands in the code."""

from pathlib import Path

from babel.messages.catalog import Catalog
from babel.messages.mofile import write_mo
from babel.messages.pofile import read_po, write_po
from django.conf import settings
from django.core.management.base import BaseCommand

from sermovox.ui import gathered
from sermovox.ui.words import LOCALE_DIR

PACKAGES = ("mastering", "sermovox")
_MARKS = ("decimal-mark", "thousands-mark", "and-last", "or-last")
"""Keys that no sentence of the code names."""


class Command(BaseCommand):
    help = (
        "Gather the words of the interface into its catalogues, and compile them. New keys are to be written in "
        "English first, in sentences/en.po; new words of all kinds are left to translate."
    )

    def handle(self, *args, **options) -> None:
        for language, _ in settings.LANGUAGES:
            self._sentences(language)
            if language != settings.LANGUAGE_CODE:
                self._pages(language)

    def _sentences(self, language: str) -> None:
        for package in PACKAGES:
            known = catalogue_of(package, settings.LANGUAGE_CODE)
            keys = wanted_of(package, known)
            path = sentences_in(package) / f"{language}.po"
            forms = {key if not _plural(known, key) else (key, key) for key in keys}
            notes = {} if language == settings.LANGUAGE_CODE else {key: _english(known, key) for key in keys}
            catalogue = brought_up(
                path, {each if isinstance(each, tuple) else (each,) for each in forms}, language, notes
            )
            self._told(language, package, catalogue)
            compiled(path)

    def _pages(self, language: str) -> None:
        folder = LOCALE_DIR / language / "LC_MESSAGES"
        folder.mkdir(parents=True, exist_ok=True)
        scripts: set[tuple[str, ...]] = {(text,) for text in gathered.of_scripts()}
        for domain, words in (("django", gathered.of_templates()), ("djangojs", scripts)):
            self._told(language, domain, brought_up(folder / f"{domain}.po", words, language, {}))
        compiled(folder / "django.po")

    def _told(self, language: str, domain: str, catalogue: Catalog) -> None:
        left = sum(not all(forms_of(message)) for message in catalogue if message.id)
        self.stdout.write(f"{language}, {domain}: {len(catalogue)} words, {left} to translate")


def sentences_in(package: str) -> Path:
    """The folder of a package's sentences."""
    return gathered.SOURCE / package / "sentences"


def catalogue_of(package: str, language: str) -> Catalog:
    """A package's sentences in a language."""
    with (sentences_in(package) / f"{language}.po").open("rb") as file:
        return read_po(file, locale=language)


def wanted_of(package: str, english: Catalog) -> set[str]:
    """The keys that a package's catalogues are to hold: those that it says, and the words of its code, which are
    their own keys.
    """
    there = {key_of(message) for message in english if message.id}
    (other,) = (each for each in PACKAGES if each != package)
    elsewhere = {key_of(message) for message in catalogue_of(other, settings.LANGUAGE_CODE) if message.id} - there
    said, said_there = gathered.keys_of_python(package), gathered.keys_of_python(other)
    written = gathered.texts_of_python() | gathered.of_shipped()
    words = {key for key in there if forms_of(english.get(key)) == (key,) and _spellings(key) & written}
    return (said - elsewhere) | words | {key for key in there if key in said_there or key in _MARKS}


def key_of(message) -> str:
    """A message's key, of one form or of two."""
    return message.id[0] if isinstance(message.id, tuple | list) else message.id


def forms_of(message) -> tuple[str, ...]:
    """A message's translation, or its forms for one and for more."""
    return tuple(message.string) if isinstance(message.string, tuple | list) else (message.string,)


def brought_up(path: Path, words: set[tuple[str, ...]], language: str, notes: dict[str, str]) -> Catalog:
    """The catalogue at `path` with these words and no others, each with the translation it had, and what is noted of
    some.
    """
    known = Catalog(locale=language)
    if path.exists():
        with path.open("rb") as file:
            known = read_po(file, locale=language)
    fresh = Catalog(locale=language, project="Sermovox", header_comment="# The words of Sermovox.", fuzzy=False)
    fresh.revision_date = fresh.creation_date = known.creation_date
    for forms in sorted(words):
        before = known.get(forms[0])
        noted = [notes[forms[0]]] if forms[0] in notes else []
        fresh.add(forms if len(forms) > 1 else forms[0], before.string if before else "", auto_comments=noted)
    with path.open("wb") as file:
        write_po(file, fresh, width=120, sort_output=True)
    return fresh


def compiled(path: Path) -> None:
    """The catalogue beside itself as gettext reads it."""
    with path.open("rb") as file:
        catalogue = read_po(file)
    with path.with_suffix(".mo").open("wb") as file:
        write_mo(file, catalogue)


def _plural(catalogue: Catalog, key: str) -> bool:
    message = catalogue.get(key)
    return message is not None and isinstance(message.id, tuple | list)


def _english(catalogue: Catalog, key: str) -> str:
    message = catalogue.get(key)
    return " / ".join(forms_of(message)) if message else ""


def _spellings(word: str) -> set[str]:
    """How a word may stand in the code; labels of forms are made from the names of their fields."""
    plain = word.replace("{{", "{").replace("}}", "}")
    return {plain, plain.lower(), plain.lower().replace(" ", "_")}
