"""Tags of finished files compared with what the production says now, and written without touching their sound."""

import hashlib
from collections.abc import Collection, Sequence
from dataclasses import asdict, dataclass, replace

from mastering.audio.reader import Reader
from mastering.errors import MasteringError
from mastering.outlets.checksheet import check_beside_sound
from mastering.tagging.carried import Carried, read_carried
from mastering.tagging.inscribing import reinscribe_all
from mastering.tagging.inscription import TAGS, Chapter, Inscription, differing
from mastering.tagging.mp4_chapters import MP4S, has_links_and_pictures
from sermovox.deliveries.inscriptions import Inscriptions
from sermovox.deliveries.models import Delivery, FinishedFile

_MOST_SHOWN = 200


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
    inscriptions = Inscriptions(delivery.production)
    rows = [_row(file, inscriptions) for file in _files(delivery)]
    return sorted(rows, key=lambda row: not (row.lines or row.wrong))


def write(delivery: Delivery, chosen: Collection[int]) -> tuple[int, list[tuple[str, str]]]:
    """Write what the production says now into chosen files and check them again.

    Returns how many were written, and the name of each that could not be with the reason.
    """
    inscriptions, wanted, refused = Inscriptions(delivery.production), [], []
    for file in _files(delivery):
        if file.pk not in chosen:
            continue
        try:
            has = read_carried(file.path)
            given, texts = _given(file, inscriptions, has)
            wanted.append((file, texts, (file.path, has.container, given)))
        except MasteringError as error:
            refused.append((file.name, str(error)))
    written = 0
    for (file, texts, _), wrong in zip(wanted, reinscribe_all([each for *_, each in wanted]), strict=True):
        if wrong is None:
            _check_again(file, texts)
            written += 1
        elif isinstance(wrong, MasteringError):
            refused.append((file.name, str(wrong)))
        else:
            refused.append((file.name, f"The disk would not take it ({wrong.strerror}). The file is as it was."))
    return written, refused


def _files(delivery: Delivery) -> list[FinishedFile]:
    return list(delivery.files.made().select_related("delivery__production", "section", "recording"))


def _given(file: FinishedFile, inscriptions: Inscriptions, has: Carried) -> tuple[Inscription, dict[str, str]]:
    return inscriptions.of(file, container=has.container, has=has.chapters)


def _row(file: FinishedFile, inscriptions: Inscriptions) -> Row:
    has = read_carried(file.path)
    try:
        given, _ = _given(file, inscriptions, has)
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
        lines.append(Line("chapter marks", *(_shown(", ".join(each)) for each in titles)))
    elif not _links_and_pictures_alike(file, has, given):
        lines.append(Line("links and pictures of chapter marks", "not as they are now", _told(given.chapters)))
    return Row(file, lines)


def _links_and_pictures_alike(file: FinishedFile, has: Carried, given: Inscription) -> bool:
    if has.container in MP4S:
        return has_links_and_pictures(file.path, given.chapters, cover=given.picture)
    told = [[(each.link, each.picture) for each in chapters] for chapters in (has.chapters, given.chapters)]
    # Only ID3 is read back with both.
    return has.container != "mp3" or told[0] == told[1]


def _told(chapters: Sequence[Chapter]) -> str:
    links, pictures = sum(bool(each.link) for each in chapters), sum(bool(each.picture) for each in chapters)
    return f"{links} with a link, {pictures} with a picture"


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
