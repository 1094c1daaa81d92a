"""Finding productions: by words in what they hold, what is due first, those on the shelf apart."""

from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import timedelta

from django.db.models import Case, Count, Exists, F, Min, OuterRef, Q, QuerySet, Subquery, When
from django.utils import timezone

from mastering.said import Said
from sermovox.dispatch.models import Promise
from sermovox.outlets.models import outlets_of
from sermovox.productions.models import Production, Section
from sermovox.recordings.models import Recording

ORDERS = {"due": Said("what-due-first"), "newest": Said("newest-first"), "title": Said("by-title")}
_SOON = timedelta(days=7)
_OWN = ("title", "subtitle", "author", "narrator", "publisher", "code", "contact", "key")
_MOST_HITS = 3


@dataclass
class Found:
    """One production, what is promised of it, and the sections that hold what was looked for."""

    production: Production
    promises: list[Promise] = field(default_factory=list)
    hits: list[Section] = field(default_factory=list)


def productions_found(user, words: str = "", order: str = "due", *, shelved: bool = False) -> QuerySet:
    """The productions of a person that hold every one of some words, in an order of ORDERS."""
    found = Production.objects.of(user).filter(shelved_at__isnull=not shelved)
    for word in words.split():
        sections = Section.objects.filter(_like(word, "title", "exact_name"), production=OuterRef("pk"))
        recordings = Recording.objects.filter(_like(word, "name"), production=OuterRef("pk"))
        promises = Promise.objects.filter(_like(word, "client"), production=OuterRef("pk"))
        found = found.filter(_like(word, *_OWN) | Exists(sections) | Exists(recordings) | Exists(promises))
    found = found.annotate(section_count=Count("sections", filter=Q(sections__removed=False)))
    if order == "title":
        return found.order_by("title", "pk")
    if order == "newest":
        return found.order_by("-created_at", "-pk")
    open_ones = Promise.objects.filter(production=OuterRef("pk"), kept_at=None).exclude(due_on=None)
    first = Subquery(open_ones.values("production").annotate(first=Min("due_on")).values("first"))
    soon = Case(When(first_due__lte=timezone.localdate() + _SOON, then=F("first_due")))
    found = found.annotate(first_due=first).annotate(soon=soon)
    return found.order_by(F("soon").asc(nulls_last=True), "-created_at", "-pk")


def with_hits(productions: Iterable[Production], user, words: str) -> list[Found]:
    """These productions with what is promised of each, and where in their sections the words are."""
    rows = {production.pk: Found(production) for production in productions}
    known = outlets_of(user)
    for promise in Promise.objects.filter(production__in=rows, kept_at=None).order_by(F("due_on").asc(nulls_last=True)):
        if outlet := known.get(promise.outlet_key):
            promise.outlet_title = outlet.title  # type: ignore[attr-defined]
            rows[promise.production_id].promises.append(promise)
    if words.split():
        hit = Q()
        for word in words.split():
            hit |= _like(word, "title", "exact_name", "pieces__recording__name")
        for section in Section.objects.filter(hit, production__in=rows).distinct():
            of = rows[section.production_id].hits
            if len(of) < _MOST_HITS:
                of.append(section)
    return list(rows.values())


def _like(word: str, *names: str) -> Q:
    """Whether one of these fields holds a word. SQLite knows capitals of plain letters only, so it gets each way."""
    either = Q()
    for name in names:
        for way in {word, word.lower(), word.upper(), word.capitalize()}:
            either |= Q(**{f"{name}__icontains": way})
    return either
