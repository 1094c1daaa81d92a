"""Bring the catalogues of the interface's words up to what stands in the code."""

from pathlib import Path

from babel.messages.catalog import Catalog
from babel.messages.mofile import write_mo
from babel.messages.pofile import read_po, write_po
from django.conf import settings
from django.core.management.base import BaseCommand

from sermovox.ui import gathered
from sermovox.ui.words import LOCALE_DIR


class Command(BaseCommand):
    help = "Gather the words of the interface into its catalogues, and compile them. New words are left to translate."

    def handle(self, *args, **options) -> None:
        said: set[tuple[str, ...]] = {(text,) for text in gathered.of_python()}
        scripts: set[tuple[str, ...]] = {(text,) for text in gathered.of_scripts()}
        for language, _ in settings.LANGUAGES:
            if language == settings.LANGUAGE_CODE:
                continue
            folder = LOCALE_DIR / language / "LC_MESSAGES"
            folder.mkdir(parents=True, exist_ok=True)
            for domain, words in (("django", gathered.of_templates()), ("djangojs", scripts), ("said", said)):
                catalogue = brought_up(folder / f"{domain}.po", words, language)
                left = sum(not all(forms_of(message)) for message in catalogue if message.id)
                self.stdout.write(f"{language}, {domain}: {len(catalogue)} words, {left} to translate")
            with (folder / "django.po").open("rb") as file:
                compiled = read_po(file, locale=language)
            with (folder / "django.mo").open("wb") as file:
                write_mo(file, compiled)


def forms_of(message) -> tuple[str, ...]:
    """A message's translation, or its forms for one and for more."""
    return message.string if isinstance(message.string, tuple) else (message.string,)


def brought_up(path: Path, words: set[tuple[str, ...]], language: str) -> Catalog:
    """The catalogue at `path` with these words and no others, each with the translation it had."""
    known = Catalog(locale=language)
    if path.exists():
        with path.open("rb") as file:
            known = read_po(file, locale=language)
    fresh = Catalog(locale=language, project="Sermovox", header_comment="# The words of Sermovox.", fuzzy=False)
    fresh.revision_date = fresh.creation_date = known.creation_date
    for forms in sorted(words):
        before = known.get(forms[0])
        fresh.add(forms if len(forms) > 1 else forms[0], before.string if before else "")
    with path.open("wb") as file:
        write_po(file, fresh, width=120, sort_output=True)
    return fresh
