"""Tags of finished files compared with what the production says now, and written without touching their sound."""

import hashlib
import uuid
from collections.abc import Collection, Sequence
from dataclasses import asdict, dataclass, replace

from django.utils import timezone

from mastering.audio.formats import CONTAINERS
from mastering.audio.reader import Reader
from mastering.errors import MasteringError
from mastering.outlets.checksheet import check_beside_sound
from mastering.said import Said
from mastering.tagging.carried import Carried, read_carried
from mastering.tagging.inscription import TAGS, Chapter, Inscription, differing
from mastering.tagging.mp4_chapters import has_links_and_pictures
from mastering.tagging.writing import reinscribe_all
from sermovox.deliveries.fingerprints import NO_DATE, chapters_said, followed_by
from sermovox.deliveries.inscriptions import (
    Inscriptions,
    chapters_of,
    in_place,
    plain_chapter,
    renamed,
    restored,
    shifted,
)
from sermovox.deliveries.models import Delivery, FinishedFile
from sermovox.keeping import storage
from sermovox.sources.names import WantedFiles
from sermovox.sources.soundings import Soundings

_MOST_SHOWN = 200
_GONE = Said("file-no-longer-there-make")


@dataclass(frozen=True)
class Line:
    """One thing that differs: what it is called, what the file has and what the production says."""

    label: str
    has: str
    says: str


@dataclass(frozen=True)
class Row:
    """One finished file and what differs in it."""

    file: FinishedFile
    lines: list[Line]
    wrong: str = ""


def compared(delivery: Delivery) -> list[Row]:
    """Every finished file of a delivery, those that differ first."""
    says = _Says(delivery)
    rows = [_row(file, says) for file in _files(delivery)]
    return sorted(rows, key=lambda row: not (row.lines or row.wrong))


def write(delivery: Delivery, chosen: Collection[int]) -> tuple[int, list[tuple[str, str]]]:
    """Write what the production says now into chosen files and check them again.

    Returns how many were written, and the name of each that could not be with the reason.
    """
    says, wanted, refused = _Says(delivery), [], list[tuple[str, str]]()
    for file in _files(delivery):
        if file.pk not in chosen:
            continue
        try:
            has = read_carried(file.path)
            said, given, texts = says.of(file, has)
            again = file.folder / f"{uuid.uuid4().hex}{file.path.suffix}"
            wanted.append((file, said, texts, (file.path, has.container, given, again)))
        except FileNotFoundError:
            refused.append((file.name, _GONE))
        except OSError as error:
            refused.append((file.name, Said("could-not-read", strerror=error.strerror)))
        except MasteringError as error:
            refused.append((file.name, str(error)))
    written = 0
    for (file, said, texts, (before, *_, again)), wrong in zip(
        wanted, reinscribe_all([each for *_, each in wanted]), strict=True
    ):
        if wrong is None:
            file.said, file.title = said, says.title_of(file)
            file.set_followed(says.followed(file, said))
            file.stored_as = again.name
            try:
                _check_again(file, texts)
            except BaseException:
                again.unlink(missing_ok=True)
                raise
            storage.forget_file(before)
            written += 1
        elif isinstance(wrong, OSError):
            refused.append((file.name, Said("disk-would-not-take-file", strerror=wrong.strerror)))
        else:
            refused.append((file.name, str(wrong)))
    return written, refused


def bring_up_to_date(files: Sequence[FinishedFile]) -> tuple[int, list[tuple[str, str]]]:
    """Give files the names and tags that their production asks for now.

    Returns how many, and the name of each that could not be with the reason.
    """
    done, refused = 0, []
    for delivery in {file.delivery for file in files}:
        own = [file for file in files if file.delivery == delivery]
        date = timezone.localdate(delivery.created_at).isoformat()
        now = {each.key: each.name for each in WantedFiles(delivery.production, delivery.outlet, date=date).files}
        names = {file: now.get((file.section_id, file.voice), file.name) for file in own}
        try:
            delivery.rename([(file.name, name) for file, name in names.items() if file.name != name])
        except MasteringError as error:
            refused += [(file.name, str(error)) for file, name in names.items() if file.name != name]
            own = [file for file, name in names.items() if file.name == name]
        written, wrong = write(delivery, {file.pk for file in own})
        done, refused = done + written, refused + wrong
    return done, refused


class _Says:
    """What a production says now of the files of a delivery, read once."""

    def __init__(self, delivery: Delivery):
        self._outlet, self._date = delivery.outlet, timezone.localdate(delivery.created_at).isoformat()
        production, soundings = delivery.production, Soundings(delivery.production)
        self._inscriptions = Inscriptions(production, soundings)
        self._wanted = {file.key: file for file in WantedFiles(production, self._outlet, soundings=soundings).files}
        undated = WantedFiles(production, self._outlet, soundings=soundings, date=NO_DATE)
        self._follows = followed_by(undated, self._inscriptions)

    def of(self, file: FinishedFile, has: Carried) -> tuple[dict, Inscription, dict[str, str]]:
        """What one file is to say: as plain values, as it is written, and what its check expects.

        Its sound is as it was: whatever was moved since, the chapter marks stay where they are in it.
        """
        wanted = self._wanted.get((file.section_id, file.voice))
        if wanted is None:
            raise MasteringError(Said("section-no-longer-running-order"))
        if wanted.sounding.section is None and file.section_keys:
            wanted = replace(wanted, sounding=replace(wanted.sounding, parts=tuple(file.section_keys)))
        said = self._inscriptions.settled(wanted, self._outlet, date=self._date, container=has.container)
        given, texts, _ = restored(said, self._outlet)
        if self._outlet.chapters:
            now, was = given.chapters, chapters_of(file.said) or has.chapters
            stand = in_place(was, has.chapters, file.later_s)
            if self._sounds_alike(file):
                end_s = stand[-1].end_s if stand else file.figures.get("duration_s") or 0.0
                placed = _one_after_another(shifted(now, file.later_s), end_s)
            else:
                placed = renamed(stand, now)
                said = said | {"chapters": [plain_chapter(chapter) for chapter in renamed(was, now)]}
            given = replace(given, chapters=placed)
            texts = texts | {"chapters": "\n".join(chapter.title for chapter in given.chapters)}
        return said, given, texts

    def title_of(self, file: FinishedFile) -> str:
        """What one file is called beside its name: in manifests, chapters and receipts."""
        return self._wanted[file.section_id, file.voice].sounding.title[:200]

    def _sounds_alike(self, file: FinishedFile) -> bool:
        """Whether it would sound from the same now, so that every mark can be put where it belongs."""
        now = self._follows.get((file.section_id, file.voice))
        if now is None or "sound" not in file.follows:
            return False
        return all(now.values.get(kind) == file.follows.get(kind) for kind in ("sound", "sections"))

    def followed(self, file: FinishedFile, said: dict) -> dict:
        """What a file follows from once these tags are written."""
        now = self._follows.get((file.section_id, file.voice))
        if now is None or not file.follows:
            return file.follows
        return file.follows | {kind: now.values[kind] for kind in ("tags", "artwork")} | chapters_said(said)


def _one_after_another(chapters: Sequence[Chapter], end_s: float) -> tuple[Chapter, ...]:
    """Chapters that each last until the next one; the last to the end of the file."""
    starts_s = [max(0.0, each.start_s) for each in chapters]
    lasting = zip(chapters, starts_s, [*starts_s[1:], end_s], strict=True)
    return tuple(replace(each, start_s=start, end_s=end) for each, start, end in lasting if end > start)


def _files(delivery: Delivery) -> list[FinishedFile]:
    return list(delivery.files.standing().select_related("delivery__production", "section", "recording"))


def _row(file: FinishedFile, says: _Says) -> Row:
    try:
        has = read_carried(file.path)
        _, given, _ = says.of(file, has)
    except FileNotFoundError:
        return Row(file, [], _GONE)
    except MasteringError as error:
        return Row(file, [], str(error))
    lines = [
        Line(TAGS[name], _shown(has.tags.get(name, "")), _shown(given.tags.get(name, "")))
        for name in differing(has.tags, given.tags)
    ]
    if has.picture != given.picture:
        lines.append(Line("picture", _weight(has.picture), _weight(given.picture)))
    titles = [[chapter.title for chapter in chapters] for chapters in (has.chapters, given.chapters)]
    if titles[0] != titles[1]:
        lines.append(Line(Said("chapter-marks-2"), *(_shown(", ".join(each)) for each in titles)))
    elif not _links_and_pictures_alike(file, has, given):
        lines.append(Line(Said("links-pictures-chapter-marks"), Said("not-they-now"), _told(given.chapters)))
    return Row(file, lines)


def _links_and_pictures_alike(file: FinishedFile, has: Carried, given: Inscription) -> bool:
    if CONTAINERS[has.container].is_mp4:
        return has_links_and_pictures(file.path, given.chapters, cover=given.picture)
    told = [[(each.link, each.picture) for each in chapters] for chapters in (has.chapters, given.chapters)]
    # Only ID3 is read back with both.
    return has.container != "mp3" or told[0] == told[1]


def _told(chapters: Sequence[Chapter]) -> str:
    links, pictures = sum(bool(each.link) for each in chapters), sum(bool(each.picture) for each in chapters)
    return Said("link-picture", links=links, pictures=pictures)


def _check_again(file: FinishedFile, texts: dict[str, str]) -> None:
    """Its sheet after its tags were written. The sound is as it was, so what was found of it holds."""
    with file.path.open("rb") as content:
        file.sha256 = hashlib.file_digest(content, "sha256").hexdigest()
    with Reader(file.path) as reader:
        frames = round((file.figures.get("duration_s") or 0) * reader.sample_rate_hz)
        facts = replace(reader.format_facts(), frames=frames)
    anew = check_beside_sound(
        facts,
        file.delivery.outlet,
        content_kind=file.content_kind,
        carried=read_carried(file.path),
        texts=texts,
    )
    by_rule = {finding.rule: asdict(finding) for finding in anew}
    file.set_checked(
        file.figures | {"size_bytes": facts.size_bytes},
        [by_rule.get(finding["rule"], finding) for finding in file.findings],
    )


def _shown(text: str) -> str:
    line = " ".join(text.split())
    return line if len(line) <= _MOST_SHOWN else f"{line[:_MOST_SHOWN]}…"


def _weight(picture: bytes) -> str:
    return f"{len(picture) / 1000:.0f} kB" if picture else ""
