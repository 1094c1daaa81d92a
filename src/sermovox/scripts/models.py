"""The texts that were read, and where they are heard in recordings."""

import hashlib
import json
from collections.abc import Sequence
from functools import lru_cache

from babel import Locale, UnknownLocaleError
from django.conf.locale import LANG_INFO
from django.db import models
from django.utils import timezone

from mastering.said import Said
from mastering.words.hearing import HeardScript
from mastering.words.kept import as_bytes, from_bytes
from mastering.words.spoken import languages
from sermovox.keeping import caches, storage
from sermovox.keeping.sentences import SaidField
from sermovox.productions.models import Production
from sermovox.recordings.models import Recording
from sermovox.work.jobs import MOST_STARTS, Job
from sermovox.work.progress import seconds_left


class Script(models.Model):
    """A text that was given to recordings of a production; never changed, another takes its place. `language` is a tag
    such as "en". `timed` are the times of its words where they were brought in, as `mastering.words.kept` writes them.
    """

    production = models.ForeignKey(Production, on_delete=models.CASCADE, related_name="scripts")
    name = models.CharField(max_length=200, blank=True)
    text = models.TextField()
    language = models.CharField(max_length=20)
    timed = models.TextField(blank=True)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["pk"]

    def __str__(self) -> str:
        return self.name or " ".join(self.text[:60].replace("#", " ").split())


class HearingQuerySet(models.QuerySet):
    def under_way(self) -> "HearingQuerySet":
        """Those that wait for a worker, or that one is at."""
        return self.filter(state__in=[Hearing.State.WAITING, Hearing.State.LISTENING])


class Hearing(Job):
    """How far a recording is heard for the words of a text. `lines` are what is looked for; `key` tells them, and the
    language, from others. What was heard lies in the cache.
    """

    class State(models.TextChoices):
        WAITING = "waiting"
        LISTENING = "listening"
        HEARD = "heard"
        LEFT = "left"
        REFUSED = "refused"

    recording = models.OneToOneField(Recording, on_delete=models.CASCADE, related_name="hearing")
    key = models.CharField(max_length=32)
    lines = models.JSONField(default=list)
    language = models.CharField(max_length=20)
    state = models.CharField(max_length=10, choices=State, default=State.WAITING)
    share = models.FloatField(default=0.0)
    said = SaidField(blank=True)
    started_at = models.DateTimeField(null=True)

    objects = HearingQuerySet.as_manager()

    def __str__(self) -> str:
        return f"{self.recording}: {self.state}"

    @classmethod
    def of(cls, recording: Recording, lines: Sequence[str], language: str) -> "Hearing":
        """That of these lines in a recording, which takes the place of one of others; one that is new, or whose words
        were freed from the cache, waits.
        """
        key = key_of(lines, language)
        found = cls.objects.filter(recording=recording).defer("lines").first()
        kept = caches.is_kept(heard_path(recording, key))
        if found is None or found.key != key or (found.state == cls.State.HEARD and not kept):
            facts = {"key": key, "lines": list(lines), "language": language, "share": 0.0, "said": ""}
            facts |= {"state": cls.State.HEARD if kept else cls.State.WAITING, "started_at": None, "starts": 0}
            found, _ = cls.objects.update_or_create(recording=recording, defaults=facts)
        found.recording = recording
        return found

    @property
    def path(self):
        return heard_path(self.recording, self.key)

    @property
    def is_under_way(self) -> bool:
        return self.state in (self.State.WAITING, self.State.LISTENING)

    @property
    def seconds_left(self) -> float | None:
        return seconds_left(self.started_at, self.share)

    def heard(self) -> HeardScript | None:
        """What was heard; None where it is not known, or no longer."""
        return read(self.recording, self.key) if self.state == self.State.HEARD else None

    def start(self) -> bool:
        """Claim it for a worker. False where it was given up or is another by now, and for one that has ended its
        worker several times.
        """
        own = Hearing.objects.under_way().filter(key=self.key)
        return self.claimed(own, state=self.State.LISTENING, share=0.0, started_at=timezone.now())

    def give_up(self) -> None:
        self.settle(self.State.REFUSED, said=Said("looking-words-broken-off-times", most_starts=MOST_STARTS))

    def tell_progress(self, share: float) -> bool:
        """Note how far it is; True when it is no longer wanted."""
        own = Hearing.objects.filter(pk=self.pk, key=self.key, state=self.State.LISTENING)
        return not own.update(share=share)

    def leave(self) -> None:
        """Do not listen for the words, or no further."""
        Hearing.objects.under_way().filter(pk=self.pk).update(state=self.State.LEFT)

    def again(self) -> None:
        """Listen once more, after it was given up or failed."""
        stopped = [self.State.LEFT, self.State.REFUSED]
        Hearing.objects.filter(pk=self.pk, state__in=stopped).update(state=self.State.WAITING, said="", starts=0)

    def settle(self, state: str, said: str = "") -> None:
        """Note what came of it, unless that is settled, or another text is looked for by now."""
        Hearing.objects.under_way().filter(pk=self.pk, key=self.key).update(state=state, said=said)

    def keep(self, heard: HeardScript) -> None:
        """Keep what was heard, and note that it is. Raises OSError where the disk does not take it."""
        with caches.making(self.path) as partial:
            partial.write_bytes(as_bytes(heard))
        self.settle(self.State.HEARD)
        caches.forget(so_far_path(self.recording, self.key))

    def keep_so_far(self, heard: HeardScript) -> None:
        """Keep what was heard from the beginning on, to be looked at meanwhile."""
        caches.keep(so_far_path(self.recording, self.key), as_bytes(heard))

    def heard_so_far(self) -> HeardScript | None:
        """What was heard from the beginning on, while the rest is listened for; None where that is nothing yet."""
        return _kept(so_far_path(self.recording, self.key)) if self.state == self.State.LISTENING else None


def key_of(lines: Sequence[str], language: str) -> str:
    """Tells what is looked for from anything else."""
    told = json.dumps([language, list(lines)]).encode()
    return hashlib.sha256(told).hexdigest()[:32]


def heard_path(recording: Recording, key: str):
    """Where the words of a text that were heard in a recording lie."""
    return storage.cached(recording.sha256, f"words-{key}.json")


def so_far_path(recording: Recording, key: str):
    """Where the first of them lie while the rest is listened for."""
    return storage.cached(recording.sha256, f"words-{key}-so-far.json")


def read(recording: Recording, key: str) -> HeardScript | None:
    """What was heard; None where it is not kept."""
    return _kept(heard_path(recording, key))


def _kept(path) -> HeardScript | None:
    try:
        caches.judged(path)
        return _read(path, path.stat().st_mtime_ns)
    except (FileNotFoundError, ValueError):
        return None


@lru_cache(maxsize=4)
def _read(path, written_ns: int) -> HeardScript:
    return from_bytes(path.read_bytes())


def tag_of(language: str) -> str:
    """The tag of a language by its tag, its English name or its own: "de" for "German" and "Deutsch"; empty for one
    that is not spoken here.
    """
    told = language.strip().casefold()
    named = [tag for tag, name in languages().items() if name.casefold() == told]
    own = [tag for tag, info in LANG_INFO.items() if told in (info.get("name", "").casefold(), info.get("name_local"))]
    own += [tag for tag, info in LANG_INFO.items() if info.get("name_local", "").casefold() == told]
    return next((tag for tag in [told, *named, *own, told.partition("-")[0]] if tag in languages()), "")


@lru_cache(maxsize=8)
def languages_to_choose(reader: str) -> list[tuple[str, str]]:
    """Tags of the languages whose words can be found, with their names in the reader's language, sorted by these; those
    that have no name in it are left out.
    """
    known = Locale.parse(reader, sep="-")
    named = {}
    for tag in languages():
        try:
            name = Locale.parse(tag, sep="-").get_display_name(known)
        except (UnknownLocaleError, ValueError):
            continue
        if name:
            named[tag] = name
    return sorted(named.items(), key=lambda each: each[1].casefold())
