"""A production and its running order."""

import re
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import asdict
from typing import Any, cast

from django.conf import settings
from django.db import models, transaction
from django.db.models import Exists, FloatField, OuterRef, Q, Subquery
from django.db.models.fields.json import KeyTextTransform
from django.db.models.functions import Cast, Coalesce
from django.urls import reverse
from django.utils import timezone
from django.utils.functional import cached_property
from django.utils.text import slugify

from mastering.certain import certain
from mastering.editing.assembly import BUTT, Stretch
from mastering.errors import MasteringError
from mastering.naming.patterns import plain
from mastering.outlets.outlet import Outlet
from mastering.said import Said, together, word
from mastering.shaping.treatment import Treatment, treatment_of
from mastering.tagging.artwork import ArtworkRule
from sermovox.keeping import caches, storage
from sermovox.keeping.apart import artwork_for, picture_facts
from sermovox.outlets.models import outlets_of
from sermovox.ui.numerals import whole_number, whole_numbers

_LONGEST_KEY = 60
_DELETED = "deleted"
"""The state of a recording of which only the row is left; recordings lie above."""
_LAST_NUMBER = re.compile(r"[0-9]{1,9}$")
_YEAR = re.compile(r"(19|20)[0-9]{2}")
_SAME_FOR_ANOTHER = (
    "owner",
    "subtitle",
    "author",
    "narrator",
    "publisher",
    "language",
    "genre",
    "contact",
    "copyright_line",
    "artwork_sha256",
    "artwork",
    "outlet_keys",
    "last_outlets",
)
USUAL_OUTLETS = ("audiobook-retail", "radio-playout", "loan-player", "podcast-host", "volunteer-archive")
"""Shown while none were chosen."""


class ProductionQuerySet(models.QuerySet):
    def of(self, user) -> "ProductionQuerySet":
        """Those that belong to a person."""
        return self.filter(owner=user)

    def outdated(self) -> "ProductionQuerySet":
        """Those that have lain in the bin for as long as it keeps them."""
        return self.filter(deleted_at__lt=storage.binned_before())


_Productions = models.Manager.from_queryset(ProductionQuerySet)


class ProductionManager(_Productions):
    """Productions that do not lie in the bin."""

    def get_queryset(self):
        return super().get_queryset().filter(deleted_at=None)


class Production(models.Model):
    """One book, series or set of lines. One that is done with stands on the shelf since `shelved_at`; a deleted one
    lies in the bin, with all that is its, since `deleted_at`.
    """

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="productions")
    key = models.SlugField(max_length=80, unique=True, editable=False)
    title = models.CharField(max_length=200)
    subtitle = models.CharField(max_length=200, blank=True)
    author = models.CharField(max_length=200, blank=True)
    narrator = models.CharField("narrator or narrators", max_length=200, blank=True)
    publisher = models.CharField(max_length=200, blank=True)
    year = models.PositiveSmallIntegerField(null=True, blank=True)
    language = models.CharField(max_length=40, blank=True, default="English")
    genre = models.CharField(max_length=100, blank=True)
    description = models.TextField(blank=True)
    contact = models.CharField(max_length=200, blank=True)
    copyright_line = models.CharField(max_length=200, blank=True)
    code = models.CharField("client’s code", max_length=60, blank=True)
    artwork_sha256 = models.CharField(max_length=64, blank=True, editable=False)
    artwork = models.JSONField(default=dict, editable=False)
    outlet_keys = models.JSONField(default=list, editable=False)
    last_outlets = models.JSONField(default=list, editable=False)
    begun_like = models.ForeignKey("self", on_delete=models.SET_NULL, null=True, editable=False, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)
    shelved_at = models.DateTimeField(null=True, editable=False)
    deleted_at = models.DateTimeField(null=True, editable=False)

    objects = ProductionManager()
    with_deleted = ProductionQuerySet.as_manager()

    class Meta:
        ordering = ["-created_at", "-pk"]

    def __str__(self) -> str:
        return self.title

    def get_absolute_url(self) -> str:
        return reverse("productions:running-order", args=[self.pk])

    def save(self, *args, **kwargs):
        if not self.key:
            self.key = self._free_key()
            if kwargs.get("update_fields"):
                kwargs["update_fields"] = {*kwargs["update_fields"], "key"}
        super().save(*args, **kwargs)

    @property
    def outlets(self) -> dict[str, Outlet]:
        """The outlets it is made for, by key: those that were chosen, else the most usual ones."""
        known = outlets_of(self.owner)
        chosen = [key for key in self.outlet_keys if key in known] or [key for key in USUAL_OUTLETS if key in known]
        return {key: outlet for key, outlet in known.items() if key in chosen}

    @property
    def outlet(self) -> Outlet:
        """The one it was last made for, else the first."""
        known = self.outlets
        return next((known[key] for key in self.last_outlets if key in known), next(iter(known.values())))

    def picture_for(self, rule: ArtworkRule | None) -> bytes:
        """The artwork as a rule asks for it; empty where none is asked or none can be made to fit. Made once."""
        return fitted_artwork(self.artwork_sha256, rule)

    def set_artwork(self, data: bytes) -> None:
        """Keep a picture and what it is like. Raises BadArtwork."""
        facts = picture_facts(data)
        self.artwork_sha256, self.artwork = storage.keep_picture(data), asdict(facts)
        self.save(update_fields=["artwork_sha256", "artwork"])

    def _free_key(self) -> str:
        """A name for the terminal and the watched folder: the title in plain letters, numbered where it is taken."""
        base = slugify(plain(self.title))[:_LONGEST_KEY].strip("-") or "production"
        taken = set(Production.with_deleted.filter(key__startswith=base).values_list("key", flat=True))
        key, number = base, 1
        while key in taken:
            number += 1
            key = f"{base}-{number}"
        return key

    def put_away(self) -> None:
        """Put it in the bin, with all that is its; nothing more is made for it."""
        with transaction.atomic():
            self.deleted_at = timezone.now()
            self.deliveries.filter(cancelled_at=None).update(cancelled_at=self.deleted_at)
            self.save(update_fields=["deleted_at"])

    def take_back(self) -> None:
        """Out of the bin again. Raises MasteringError where it is not there any more."""
        with transaction.atomic():
            since = self._binned.values_list("deleted_at", flat=True).first()
            if since is None:
                raise MasteringError(Said("no-longer-bin"))
            # What nobody had cancelled before goes on.
            self.deliveries.filter(cancelled_at=since).update(cancelled_at=None)
            self._binned.update(deleted_at=None)
        self.deleted_at = None

    def empty_bin(self) -> None:
        """Delete it for good, with all that is its, unless it was taken back meanwhile."""
        with transaction.atomic():
            if self._binned.exists():
                self.delete()

    @property
    def _binned(self) -> "ProductionQuerySet":
        """Itself, if it lies in the bin now, whatever another window has done to it since it was read."""
        return Production.with_deleted.filter(pk=self.pk, deleted_at__isnull=False)

    def name_facts(self) -> dict[str, str | int | None]:
        """The fields of name patterns that are the same for all its sections."""
        return {
            "production": self.title,
            "subtitle": self.subtitle,
            "author": self.author,
            "narrator": self.narrator,
            "publisher": self.publisher,
            "year": self.year,
            "language": self.language,
            "genre": self.genre,
            "code": self.code,
            "contact": self.contact,
            "copyright": self.copyright_line,
            "description": self.description,
        }

    def begin_another(self) -> "Production":
        """Begin another one like this: the same facts, artwork, outlets and names, numbers at the end of title and code
        and one. What was said of this one alone is left out: its description, and the names a client dictated.
        """
        facts = {name: getattr(self, name) for name in _SAME_FOR_ANOTHER}
        facts |= {"title": _next_of(self.title)[:200], "code": _next_of(self.code)[:60]}
        with transaction.atomic():
            another = Production.objects.create(**facts, year=self.year and timezone.now().year, begun_like=self)
            for naming in self.namings.all():
                another.namings.create(outlet_key=naming.outlet_key, pattern=naming.pattern, existing=naming.existing)
        return another

    @property
    def last_of_run(self) -> "Section | None":
        """What the next section follows, where that comes in runs: the last one here, or of what it was begun like."""
        last = self.sections.last() or (self.begun_like and self.begun_like.sections.last())
        return last if last and last.is_of_a_run else None

    def add_section(self, recording=None, **facts) -> "Section":
        """Put a section at the end of the running order, made of the whole of a recording where there is one."""
        with transaction.atomic():
            last = self.sections.aggregate(last=models.Max("position"))["last"] or 0
            section = self.sections.create(position=last + 1, **facts)
            if recording:
                section.pieces.create(recording=recording)
            return section


def _next_of(text: str) -> str:
    """A text whose last number, if it ends with one that is no year, is one higher and as wide as before.

    >>> _next_of("The Lamp Hour 9"), _next_of("LH-012"), _next_of("Winter 2026")
    ('The Lamp Hour 10', 'LH-013', 'Winter 2026')
    """
    found = _LAST_NUMBER.search(text)
    if found is None or _YEAR.fullmatch(found[0]):
        return text
    return text[: found.start()] + str(int(found[0]) + 1).zfill(len(found[0]))


def fitted_artwork(sha256: str, rule: ArtworkRule | None) -> bytes:
    """A kept picture as a rule asks for it; empty where none is asked or none can be made to fit. Made once."""
    if rule is None or not sha256:
        return b""
    asked = f"{rule.at_least_px}-{rule.at_most_px}px-{rule.at_most_bytes}.{rule.format.lower()}"
    kept = storage.cached(sha256, asked)
    with suppress(FileNotFoundError):
        return caches.read(kept)
    picture = artwork_for(rule, storage.picture(sha256))
    caches.keep(kept, picture)
    return picture


class SectionQuerySet(models.QuerySet):
    def of(self, user) -> "SectionQuerySet":
        """Those of a person's productions."""
        return self.filter(production__owner=user, production__deleted_at=None)

    def waiting(self) -> "SectionQuerySet":
        """Those that have no recording, or that of which was deleted as a whole."""
        here = Q(recording__isnull=False) & ~Q(recording__state=_DELETED)
        return self.filter(~Exists(Piece.of_each().filter(here | Q(end_sample__isnull=False))))

    def whole_of(self, recording) -> "SectionQuerySet":
        """Those that are the whole of a recording."""
        return self.filter(pieces__recording=recording, pieces__end_sample=None)

    def with_pieces(self, *left_out: str) -> "SectionQuerySet":
        """Each with its pieces and their recordings, but for these fields of the recordings."""
        pieces = Piece.objects.select_related("recording")
        pieces = pieces.defer(*(f"recording__{name}" for name in left_out))
        return self.prefetch_related(models.Prefetch("pieces", pieces, to_attr="read_pieces"))

    def with_duration(self) -> "SectionQuerySet":
        """Each with its `duration_s`, how long it sounds as far as that is known."""
        recorded_s = Cast(KeyTextTransform("duration_s", "recording__figures"), FloatField())
        first_s = Subquery(Piece.of_each().filter(place=0).values_list(recorded_s))
        return self.annotate(duration_s=Coalesce("length_s", first_s))


_Sections = models.Manager.from_queryset(SectionQuerySet)


class SectionManager(_Sections):
    """Sections of the running order; those taken out of it are kept for undoing."""

    def get_queryset(self):
        return super().get_queryset().filter(removed=False)


class Section(models.Model):
    """One unit that becomes one file.

    `exact_name` is the file name a client dictates, `script` what is spoken, `notes` what listeners may read beside
    it, `link` where they find more and `picture` what they see, by the hash of its bytes. It is made of its `pieces`.
    `length_s` is how long they sound where that is not the length of a recording; it follows from them and the pages of
    their recordings, and only `order.refresh_lengths` finds it. `treatment` is what `mastering.shaping.treatment`
    reads. A section that was taken out of the running order stays with `removed` set, so that it can come back with its
    files.
    """

    class Role(models.TextChoices):
        OPENING = "opening credits"
        DEDICATION = "dedication"
        FOREWORD = "foreword"
        CHAPTER = "chapter"
        INTERLUDE = "interlude"
        AFTERWORD = "afterword"
        CLOSING = "closing credits"
        SAMPLE = "sample"
        EPISODE = "episode"
        SEGMENT = "segment"
        LINE = "line"

    class Content(models.TextChoices):
        SPEECH = "speech"
        MUSIC = "music"
        MIXED = "mixed"

    production = models.ForeignKey(Production, on_delete=models.CASCADE, related_name="sections")
    position = models.PositiveIntegerField()
    role = models.CharField(max_length=20, choices=Role, default=Role.CHAPTER)
    number = models.PositiveIntegerField(null=True, blank=True)
    title = models.CharField(max_length=200)
    content_kind = models.CharField(max_length=10, choices=Content, default=Content.SPEECH)
    length_s = models.FloatField(null=True, editable=False)
    treatment = models.JSONField(default=dict, editable=False)
    part = models.PositiveSmallIntegerField(null=True, blank=True)
    exact_name = models.CharField("exact file name", max_length=255, blank=True)
    script = models.TextField(blank=True)
    notes = models.TextField(blank=True)
    link = models.URLField(blank=True)
    picture = models.CharField(max_length=64, blank=True, editable=False)
    removed = models.BooleanField(default=False, editable=False)

    objects = SectionManager()
    with_removed = models.Manager()

    class Meta:
        ordering = ["position", "pk"]

    def __str__(self) -> str:
        return self.title

    def get_absolute_url(self) -> str:
        return reverse("productions:section", args=[self.pk])

    @cached_property
    def made_of(self) -> list["Piece"]:
        """Its pieces in order; none of the whole of a recording that is no longer there."""
        read = getattr(self, "read_pieces", None)
        pieces = self.pieces.select_related("recording") if read is None else read
        return [piece for piece in pieces if piece.recording_id or not piece.is_whole]

    @property
    def is_cut(self) -> bool:
        """Whether it is made of something else than the whole of one recording."""
        return any(not piece.is_whole for piece in self.made_of)

    @property
    def is_of_a_run(self) -> bool:
        """Whether what comes after it is likely to be another of the kind."""
        return self.role in (self.Role.EPISODE, self.Role.SEGMENT, self.Role.LINE)

    @property
    def recording(self):
        """That of its first piece."""
        return next((piece.recording for piece in self.made_of), None)

    @property
    def recording_id(self) -> int | None:
        return next((piece.recording_id for piece in self.made_of), None)

    def stretches(self) -> tuple[Stretch, ...]:
        """What it is made of, in order; nothing while there is no recording that can be used."""
        if not self.is_cut and not (self.recording and self.recording.ready):
            return ()
        return tuple(piece.stretch() for piece in self.made_of)

    def set_stretches(self, stretches: Sequence[Stretch]) -> None:
        """Make it of these stretches. How long it sounds has to be found anew."""
        recordings = self.production.recordings(manager="with_deleted")
        known = recordings.in_bulk(whole_numbers({stretch.recording for stretch in stretches}))
        write_pieces(self.production_id, {self.pk: plain_pieces(stretches, known)})
        self.forget_pieces()
        self.length_s = None
        self.save(update_fields=["length_s"])

    def forget_pieces(self) -> None:
        """Read its pieces again when they are next asked for."""
        for name in ("made_of", "read_pieces"):
            self.__dict__.pop(name, None)

    def refresh_from_db(self, using=None, fields=None, from_queryset=None) -> None:
        super().refresh_from_db(using, fields, from_queryset)
        if fields is None:
            self.forget_pieces()

    @property
    def wishes(self) -> Treatment:
        """How it may be shaped before its level."""
        return treatment_of(self.treatment)

    @property
    def in_words(self) -> str:
        """What it is: "chapter 7, part 2, music"."""
        told: list[str] = [together([word(self.role), *([] if self.number is None else [str(self.number)])])]
        told += [Said("part-2", part=self.part)] if self.part else []
        told += [word(self.content_kind)] if self.content_kind != self.Content.SPEECH else []
        return together(told, ", ")


class Piece(models.Model):
    """A stretch of a recording as a part of a section, in samples of the recording's own rate.

    Without an end it is the whole of it, and all its section is made of. What joins it to the one before, and the rest,
    are those of `mastering.editing.assembly.Stretch`.
    """

    section = models.ForeignKey(Section, on_delete=models.CASCADE, related_name="pieces")
    place = models.PositiveIntegerField(default=0)
    recording = models.ForeignKey(
        "recordings.Recording", on_delete=models.SET_NULL, null=True, blank=True, related_name="pieces"
    )
    start_sample = models.PositiveBigIntegerField(default=0)
    end_sample = models.PositiveBigIntegerField(null=True)
    join = models.CharField(max_length=10, default=BUTT)
    join_s = models.FloatField(default=0.0)
    kind = models.CharField(max_length=10, blank=True)
    gain_db = models.FloatField(default=0.0)
    fade_in_s = models.FloatField(default=0.0)
    fade_out_s = models.FloatField(default=0.0)

    class Meta:
        ordering = ["section", "place"]
        constraints = [models.UniqueConstraint(fields=["section", "place"], name="one_piece_at_a_place")]

    def __str__(self) -> str:
        return Said("piece", place=self.place + 1, section=self.section)

    @classmethod
    def of_each(cls) -> "models.QuerySet[Piece]":
        """Those of each section that a query is about."""
        return cls.objects.filter(section=OuterRef("pk"))

    @property
    def is_whole(self) -> bool:
        return self.end_sample is None

    def stretch(self) -> Stretch:
        """What the core makes sound; a recording that is no longer there has no name."""
        recording = str(self.recording_id or "")
        if self.end_sample is None:
            return Stretch(recording=recording, start_sample=0, end_sample=certain(self.recording).frames)
        own: dict[str, Any] = {name: getattr(self, name) for name in _OF_STRETCHES}
        return Stretch(recording=recording, end_sample=self.end_sample, **own)


def content_of(sections: Sequence[Section]) -> str:
    """What sections hold together: what all of them hold, or a mixture."""
    kinds = {section.content_kind for section in sections}
    return kinds.pop() if len(kinds) == 1 else Section.Content.MIXED


_OF_STRETCHES = ("start_sample", "join", "join_s", "kind", "gain_db", "fade_in_s", "fade_out_s")
_DEFAULTS = {"recording_id": None, "end_sample": None} | {
    name: cast(models.Field, Piece._meta.get_field(name)).get_default() for name in _OF_STRETCHES
}


def piece_rows(production: Production) -> dict[int, list[tuple]]:
    """The pieces of each section as bare rows, in order."""
    found: dict[int, list[tuple]] = {}
    for section, *row in Piece.objects.filter(section__production=production).values_list("section_id", *_DEFAULTS):
        found.setdefault(section, []).append(tuple(row))
    return found


def plain_rows(rows: Sequence[tuple]) -> list[dict]:
    """Bare rows of one section as plain values; what is left at its default is left out."""
    return [
        {name: value for (name, usual), value in zip(_DEFAULTS.items(), row, strict=True) if value != usual}
        for row in rows
    ]


def pieces_of(production: Production) -> dict[int, list[dict]]:
    """The pieces of each section as plain values, in order."""
    return {section: plain_rows(rows) for section, rows in piece_rows(production).items()}


def plain_pieces(stretches: Sequence[Stretch], known: Mapping[int, Any]) -> list[dict]:
    """Stretches as `pieces_of` gives them; `known` are the recordings by their keys."""
    rows = []
    for stretch in stretches:
        key = whole_number(stretch.recording)
        own = {name: value for name in _OF_STRETCHES if (value := getattr(stretch, name)) != _DEFAULTS[name]}
        rows.append({"recording_id": key if key in known else None, "end_sample": stretch.end_sample} | own)
    if len(rows) == 1 and (recording := known.get(rows[0]["recording_id"])) and recording.ready:
        whole = {"recording_id": recording.pk, "end_sample": recording.frames}
        return [{"recording_id": recording.pk}] if rows[0] == whole else rows
    return rows


def write_pieces(production_id: int, pieces: Mapping[int, Sequence[dict]]) -> None:
    """Make sections of a production, by their keys, of plain pieces; those that are no longer there stay away."""
    with transaction.atomic():
        there = Section.with_removed.filter(production=production_id, pk__in=pieces).values_list("pk", flat=True)
        Piece.objects.filter(section__in=there).delete()
        Piece.objects.bulk_create(
            Piece(section_id=section, place=place, **row)
            for section in there
            for place, row in enumerate(pieces[section])
        )


class Naming(models.Model):
    """How files of a production are named for one outlet, and what is done about files of the same names.

    `whole_name` is what the client calls the one file of all sections.
    """

    class Existing(models.TextChoices):
        ASK = "", Said("ask-each-time")
        KEEP_BOTH = "keep-both", Said("keep-both-new-ones-numbered")
        REPLACE = "replace", Said("replace-earlier-ones-once-new")
        SKIP = "skip", Said("skip-do-not-make-these")

    production = models.ForeignKey(Production, on_delete=models.CASCADE, related_name="namings")
    outlet_key = models.CharField(max_length=60)
    pattern = models.CharField(max_length=500, blank=True)
    whole_name = models.CharField(max_length=255, blank=True)
    existing = models.CharField(max_length=10, choices=Existing, default=Existing.ASK, blank=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["production", "outlet_key"], name="one_naming_for_an_outlet")]

    def __str__(self) -> str:
        return self.pattern
