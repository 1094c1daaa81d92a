"""The guide: one page for each task, written in Markdown beside this module and linked from docs/guide."""

import re
from dataclasses import dataclass
from functools import cache
from pathlib import Path

import markdown
from django.http import Http404
from django.shortcuts import render
from django.urls import reverse
from django.utils.safestring import SafeString, mark_safe
from django.utils.translation import get_language

_FOLDER = Path(__file__).parent / "guide"
_HEADING = re.compile(r"^# (.+)\n")
_LINK = re.compile(r'href="([\w-]+)\.md"')


@dataclass(frozen=True)
class Page:
    """One task: its name in addresses, its heading, and how it is done, as HTML."""

    name: str
    title: str
    html: SafeString


@cache
def pages(language: str = "en") -> dict[str, Page]:
    """All of the guide, in its order; in English where it is not in the reader's language."""
    translated = _FOLDER / language.split("-")[0]
    found = {}
    for path in sorted((translated if translated.is_dir() else _FOLDER).glob("*.md")):
        text = path.read_text(encoding="utf-8")
        title = _HEADING.match(text)
        if title is None:
            raise ValueError(f"{path.name} has no heading.")
        html = markdown.markdown(text[title.end() :])
        html = _LINK.sub(lambda link: f'href="{reverse("guide", args=[link[1]])}"', html)
        # The guide is written by whoever writes the screens.
        found[path.stem] = Page(path.stem, title[1], mark_safe(html))  # noqa: S308
    return found


def guide(request, name: str = ""):
    """One page of the guide, the first where none is asked for."""
    known = pages(get_language() or "en")
    page = known.get(name or next(iter(known)))
    if page is None:
        raise Http404
    return render(request, "guide.html", {"page": page, "pages": known.values()})
