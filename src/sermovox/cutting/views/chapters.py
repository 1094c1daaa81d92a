"""The chapter marks of a section: its own, and one for each point that is heard in it."""

from dataclasses import replace

from django.contrib import messages
from django.core.paginator import Paginator
from django.db import transaction
from django.http import Http404, HttpResponse
from django.shortcuts import redirect, render

from mastering.editing import markkinds
from mastering.outlets.rules.artwork import FROM_MARKS
from mastering.said import Said
from sermovox.cutting.chapters import Chapters, Place
from sermovox.cutting.forms import ChapterForms
from sermovox.history.changing import changing
from sermovox.keeping import storage
from sermovox.productions.models import Section
from sermovox.ui.bodies import takes_up_to
from sermovox.ui.owned import owned
from sermovox.ui.revisions import ELSEWHERE, is_as_seen, revision_of

_MOST_PICTURES_BYTES = 512 << 20
_OF_SECTION = "section"
_SECTIONS = Section.objects.select_related("production").with_pieces()
_MARKS_A_PAGE = 50


@takes_up_to(_MOST_PICTURES_BYTES)
def chapters(request, pk: int):
    """Show what each mark is called, where it leads and what it shows, or change it as one change."""
    section = owned(request, _SECTIONS, pk=pk)
    places: dict[str, Place] = {}
    for place in Chapters(section.production).places(section):
        places.setdefault(f"{place.page.pk}.{place.mark.id}", place)
    marks = {_OF_SECTION: section} | {key: place.mark for key, place in places.items()}
    shown = Paginator(list(marks), _MARKS_A_PAGE).get_page(request.GET.get("page"))
    initial = [
        {"key": key, "title": mark.title if mark is section else mark.name, "link": mark.link}
        for key, mark in ((key, marks[key]) for key in shown)
    ]
    pictures = [marks[key].picture for key in shown]
    seen = revision_of(initial, pictures)
    forms = ChapterForms(request.POST or None, request.FILES or None, initial=initial)
    if request.method == "POST" and forms.is_valid():
        said = {form.cleaned_data["key"]: form.cleaned_data for form in forms}
        if list(said) != list(shown) or not is_as_seen(request, seen):
            messages.error(request, ELSEWHERE)
        else:
            _keep(section, places, said, request.user)
            messages.success(request, Said("chapter-marks-saved-undo-running"))
        return redirect(f"{request.path}?page={shown.number}")
    context = {
        "seen": seen,
        "section": section,
        "production": section.production,
        "forms": forms,
        "page": shown,
        "choose_again": bool(request.FILES),
        "rows": [
            {"form": form, "start_s": places[key].start_s if key in places else 0.0, "picture": marks[key].picture}
            for form, key in zip(forms, shown, strict=False)
        ],
        "outlets": [
            {"outlet": outlet, "from_marks": outlet.chapters == FROM_MARKS}
            for outlet in section.production.outlets.values()
            if outlet.chapters
        ],
    }
    return render(request, "cutting/chapters.html", context)


def picture(request, pk: int, sha256: str):
    """A picture that the section's own chapter mark shows, or a point on a page of its production."""
    section = owned(request, _SECTIONS, pk=pk)
    pages = section.production.pages.values_list("marks", flat=True)
    shown = sha256 == section.picture or any(row.get("picture") == sha256 for marks in pages for row in marks)
    if not shown or not (data := storage.picture(sha256)):
        raise Http404
    return HttpResponse(data, content_type="image/jpeg", headers={"Cache-Control": "private, max-age=86400"})


def _keep(section: Section, places: dict[str, Place], said: dict[str, dict], user) -> None:
    words = Said("change-chapter-marks", title=section.title)
    pages = {place.page.pk: place.page for place in places.values()}
    with transaction.atomic():
        # As they are by now, so that nobody else's change becomes a part of this one.
        seen = [page.looked_at_again() for page in pages.values()]
        with changing(section.production, user, words, beside=seen):
            if own := said.get(_OF_SECTION):
                section.title = own["title"] or section.title
                section.link, section.picture = own["link"], _picture(own, section.picture)
                section.save(update_fields=["title", "link", "picture"])
            for page in seen:
                on_page = {place.mark.id: said.get(key) for key, place in places.items() if place.page.pk == page.pk}
                marks = tuple(_said(mark, on_page.get(mark.id)) for mark in page.mark_list)
                if marks != page.mark_list:
                    page.set_marks(marks)


def _said(mark: markkinds.Mark, own: dict | None) -> markkinds.Mark:
    if own is None:
        return mark
    return replace(mark, name=own["title"], link=own["link"], picture=_picture(own, mark.picture))


def _picture(own: dict, was: str) -> str:
    if own["picture"]:
        return storage.keep_picture(own["picture"])
    return "" if own["without"] else was
