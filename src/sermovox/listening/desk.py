"""What lies on the listening desk for a section, and its sound."""

from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

import numpy as np
from django.db.models import Q

from mastering.audio.encodings import Encoding, objections, size_range_bytes
from mastering.before_after import sides
from mastering.comparing import CHANNELS, Version, encoded, gains_db, in_step, of_file, of_samples
from mastering.errors import MasteringError
from mastering.outlets.levelplan import LevelPlan
from mastering.outlets.outlet import Outlet
from mastering.said import Said, together
from sermovox.cutting.chapters import key_of_section
from sermovox.deliveries.inscriptions import Inscriptions, chapters_of, in_place
from sermovox.deliveries.models import FinishedFile
from sermovox.levelling.members import Member
from sermovox.levelling.rows import rows_of_section
from sermovox.listening.models import Trial
from sermovox.productions.models import Section

LONGEST_S = 20.0
USUAL_S = 8.0
_AT_ONCE = 2
_FIRST_VOICE = 0
RECORDED, PLANNED = "recorded", "planned"


class CannotCompare(MasteringError):
    """There is nothing to be heard at the desk; the text says why, and what to do."""


class NotYet(CannotCompare):
    """There will be something to be heard in a moment."""


@dataclass(frozen=True)
class Laid:
    """One version on the desk: `key` tells it from the others there, `called` is its name in every section."""

    key: str
    called: str
    label: str
    size_bytes: float | None = None
    file: FinishedFile | None = None
    trial: Trial | None = None
    encoding: Encoding | None = None
    start_s: float = 0.0
    """Where the section begins in it."""


class Desk:
    """All versions of a section that can be heard beside each other, as an outlet asks for it.

    Raises CannotCompare where the section has no recording, or is not measured yet.
    """

    def __init__(self, section: Section, outlet: Outlet):
        self.section, self.outlet = section, outlet
        self._member, self._plan = _planned(section, outlet)
        self.duration_s = self._member.levels.duration_s

    @property
    def encoding(self) -> Encoding:
        """What a file for the outlet is made of."""
        return self._member.sounding.encoding(self.outlet)

    def tried(self, kbps: int) -> Encoding:
        """The same at another bitrate. Raises CannotCompare for one that the format does not have."""
        if not self.encoding.lossy:
            raise CannotCompare(Said("files-outlet-not-packed-loss"))
        mode = self.encoding.mode if self.encoding.bit_rate_kbps is not None else None
        wanted = replace(
            self.encoding, mode=mode, bit_rate_kbps=kbps, lowest_kbps=None, highest_kbps=None, quality=None
        )
        if told := objections(wanted):
            raise CannotCompare(together(told))
        return wanted

    @property
    def versions(self) -> list[Laid]:
        """Those that there are: as planned, as recorded, the files that stand, and what is tried."""
        return [
            Laid(PLANNED, PLANNED, Said("planned-not-encoded")),
            Laid(RECORDED, RECORDED, Said("as-recorded")),
            *self._files(),
            *self._trials(),
        ]

    def _files(self) -> Iterator[Laid]:
        production = self.section.production
        titles = {key: outlet.title for key, outlet in production.outlets.items()}
        files = FinishedFile.objects.standing().filter(
            Q(section=self.section) | Q(section=None),
            delivery__production=production,
            excerpt=False,
            voice=self._member.sounding.voice,
        )
        seen: set[str] = set()
        for file in files.select_related("delivery").order_by("-pk"):
            outlet_key = file.delivery.outlet_key
            if outlet_key in seen or outlet_key not in titles or not file.is_there:
                continue
            starts_s = file.later_s if file.section_id else _start_in(file, self.section)
            if starts_s is None:
                continue
            seen.add(outlet_key)
            label = f"{titles[outlet_key]}: {file.name}"
            yield Laid(f"file-{file.pk}", outlet_key, label, file.figures.get("size_bytes"), file, start_s=starts_s)

    def _trials(self) -> Iterator[Laid]:
        for trial in self.section.production.trials.filter(outlet_key=self.outlet.key):
            try:
                encoding = self.tried(trial.kbps)
            except CannotCompare:
                continue
            called = f"{self.outlet.key} {trial.kbps}"
            label = Said("kbit-s-tried", kbps=trial.kbps, title=self.outlet.title)
            size_bytes = size_range_bytes(encoding, self.duration_s)[1]
            yield Laid(f"trial-{trial.pk}", called, label, size_bytes, trial=trial, encoding=encoding)

    def sounds(self, start_s: float, length_s: float) -> list[tuple[Laid, Version, float]]:
        """A stretch of each version in step with the first, and what makes it as loud as the quietest, dB.

        Raises UnreadableRecording.
        """
        member = self._member
        start_s = min(max(0.0, start_s), max(0.0, self.duration_s - length_s))
        length_s = min(length_s, self.duration_s)
        before, after, rate_hz = sides(
            member.recorded, member.source, self._plan, member.levels, start_s=start_s, length_s=length_s
        )
        laid = self.versions
        # Encoders and decoders let go of Python's lock.
        with ThreadPoolExecutor(_AT_ONCE) as threads:
            given = list(threads.map(lambda each: self._sound(each, before, after, rate_hz, start_s, length_s), laid))
        versions = in_step(given, length_s)
        return list(zip(laid, versions, gains_db(versions), strict=True))

    def _sound(
        self, laid: Laid, before: np.ndarray, after: np.ndarray, rate_hz: int, start_s: float, length_s: float
    ) -> np.ndarray:
        if laid.file:
            return of_file(laid.file.path, laid.start_s + start_s, length_s)
        if laid.encoding:
            return encoded(after, rate_hz, laid.encoding, length_s)
        return of_samples(after if laid.key == PLANNED else before, rate_hz, length_s)


def as_bytes(versions: Sequence[Version]) -> tuple[int, bytes]:
    """The samples of all, one version after the other, as float32, and how many channels they are: two only where the
    sides of one differ.
    """
    alike = all(np.array_equal(each.samples[:, 0], each.samples[:, 1]) for each in versions)
    channels = 1 if alike else CHANNELS
    return channels, b"".join(np.ascontiguousarray(each.samples[:, :channels].T, "<f4").tobytes() for each in versions)


def _planned(section: Section, outlet: Outlet) -> tuple[Member, LevelPlan]:
    _, row = rows_of_section(section, outlet, _FIRST_VOICE)
    if row is None:
        raise CannotCompare(Said("section-no-recording-yet-give"))
    if row.planned is None:
        raise NotYet(Said("section-being-measured-takes-moment"))
    if row.planned.plan is None:
        raise CannotCompare(row.planned.refusal)
    return row.member, row.planned.plan


def _start_in(file: FinishedFile, section: Section) -> float | None:
    """Where a section begins in a file of several; None where it is not in it, or nothing tells."""
    given = chapters_of(file.said or {}) or Inscriptions(section.production).chapters_of_sections(file.section_keys)
    placed = in_place(given, (), file.later_s)
    # The chapter that begins a file begins with it, whatever stands before its first word.
    starts_s = {each.key: each.start_s if number else file.later_s for number, each in enumerate(placed)}
    return starts_s.get(key_of_section(section.pk))
