"""What a delivery holds, for people and machines: CSV, JSON, and everything in one ZIP."""

import hashlib
import json
import re
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import BinaryIO

from django.utils import timezone
from zipstream import ZIP_STORED, ZipStream

from mastering.audio.reader import clock
from mastering.editing.tables import write_table
from mastering.meters.measurement import LEVEL_FIGURES
from mastering.naming.checks import numbered
from mastering.naming.patterns import facts_of, read_pattern
from mastering.outlets.rules import EXTRAS, FROM_MARKS
from mastering.tagging.artwork import ArtworkRule
from mastering.tagging.inscription import Chapter
from mastering.tagging.pictures import is_png
from sermovox import storage
from sermovox.deliveries.bundles import Bundle, chapters_in
from sermovox.deliveries.models import Delivery, FinishedFile, names_of_others
from sermovox.sources.names import WantedFiles, shared_facts

_CHUNK_BYTES = 1 << 20
COLUMNS = ("name", "title", "duration_s", "size_bytes", "sha256", *LEVEL_FIGURES, "verdict")


def rows(bundle: Bundle) -> list[dict]:
    """One row for each finished file, in running order."""
    return [_row(file) for file in bundle.files]


def as_csv(bundle: Bundle) -> str:
    """The manifest as CSV with a header line."""
    return write_table(COLUMNS, ([row.get(column) for column in COLUMNS] for row in rows(bundle)))


def rename_map(delivery: Delivery) -> str:
    """Old and new names as CSV; the new ones are those the pattern for names gives today, numbered where a file that is
    not in this map has the name.
    """
    now = {file.key: file.name for file in WantedFiles(delivery.production, delivery.outlet).files}
    files = list(delivery.files.standing())
    taken, rows = names_of_others(delivery.production, delivery.outlet_key, files), []
    for file in files:
        name = numbered(now.get((file.section_id, file.voice), file.name), taken)
        taken.add(name.casefold())
        rows.append((file.name, name))
    return write_table(("old name", "new name"), rows)


def as_json(bundle: Bundle) -> str:
    """The manifest as JSON: the production, the outlet and the files."""
    document = {
        "production": bundle.production.title,
        "outlet": bundle.outlet_key,
        "made_at": bundle.made_at.isoformat(timespec="seconds"),
        "files": rows(bundle),
    }
    return json.dumps(document, indent=2, ensure_ascii=False)


def as_zip(bundles: Sequence[Bundle]) -> Iterator[bytes]:
    """The finished files of one outlet or several with what goes beside them, streamed as a ZIP.

    Audio does not shrink, so it is stored. Each outlet of several has a folder of its own. What is missing
    or fails is named in a text beside the files.
    """
    archive = ZipStream(compress_type=ZIP_STORED, sized=False)
    for bundle in bundles:
        top = f"{bundle.outlet_key}/" if len(bundles) > 1 else ""
        folder, wrong = top + folder_of(bundle), []
        for file in bundle.files:
            # Looked at again, as its tags may have been written anew while others were sent.
            file.refresh_from_db(fields=["stored_as", "sha256"])
            try:
                content = file.path.open("rb")
            except OSError:
                wrong.append(f"{file.name} ({file.title}): its file is gone")
                continue
            archive.add(_proven(file, content, wrong), folder + file.name)
            yield from archive.all_files()
        for name, content in extras_of(bundle).items():
            archive.add(content, top + name)
        if to_be_known := [*bundle.to_be_known, *wrong]:
            archive.add("".join(f"{line}\n" for line in to_be_known).encode(), top + READ_FIRST)
        yield from archive.all_files()
    yield from archive.finalize()


def _proven(file: FinishedFile, content: BinaryIO, wrong: list[str]) -> Iterator[bytes]:
    """The bytes of a finished file; adds to `wrong` where they are not those that were checked."""
    digest = hashlib.sha256()
    with content:
        while chunk := content.read(_CHUNK_BYTES):
            digest.update(chunk)
            yield chunk
    if digest.hexdigest() != file.sha256:
        wrong.append(f"{file.name} ({file.title}) is damaged: it is not the file that was checked. Make it again")


def folder_of(bundle: Bundle) -> str:
    """The folder its files lie in, with a slash at the end; empty for none."""
    pattern = bundle.outlet.folder
    if not pattern:
        return ""
    date = timezone.localdate(bundle.made_at).isoformat()
    facts = shared_facts(bundle.production, bundle.outlet, len(bundle.files), date)
    name = read_pattern(pattern).name(facts_of([facts])[0])
    # One plain folder: nothing that climbs out of the archive.
    safe = re.sub(r"[^\w .-]", "-", name).strip(". ")
    return f"{safe}/" if safe else ""


def asked_extras(bundle: Bundle) -> set[str]:
    """Which of the files that the outlet asks beside the finished ones there are."""
    return {name for name in bundle.outlet.extra_files if name in _ALWAYS or any(_EXTRAS[name](bundle).values())}


def extras_of(bundle: Bundle) -> dict[str, bytes]:
    """The files beside the finished ones, by name: both manifests, and what else the outlet asks and there is."""
    asked = {"manifest.csv", "manifest.json", *bundle.outlet.extra_files}
    if bundle.outlet.artwork:
        asked.add(COVER)
    made: dict[str, bytes] = {}
    for name in (each for each in EXTRAS if each in asked):
        made |= _EXTRAS[name](bundle)
    return {name: content for name, content in made.items() if content}


def named(name: str, content: bytes) -> str:
    """The name of a file beside the finished ones: a cover that is asked as a PNG ends as one."""
    return "cover.png" if name == COVER and is_png(content) else name


def artwork(bundle: Bundle) -> bytes:
    """The production's picture as the outlet wants it; empty where there is none or it cannot be made to fit."""
    return bundle.production.picture_for(bundle.outlet.artwork or _ANY_ARTWORK)


def chapter_files(bundle: Bundle, kind: str) -> dict[str, bytes]:
    """The chapters as files of their own, "json" or "txt": one for each file whose chapters are marks of its page, else
    one for all sections, joined or one after the other. JSON (the open chapter format, version 1.2.0) names pictures,
    which come with it.
    """
    if bundle.outlet.chapters == FROM_MARKS:
        sets = {f"{Path(file.name).stem}.": chapters_in(file) for file in bundle.files}
    elif bundle.outlet.joined and bundle.files:
        sets = {"": chapters_in(bundle.files[0])}
    else:
        sets = {"": _one_after_another(bundle.files)}
    write = _as_chapter_json if kind == "json" else _as_lines
    return {name: data for before, chapters in sets.items() if chapters for name, data in write(before, chapters)}


def _one_after_another(files: Sequence[FinishedFile]) -> list[Chapter]:
    """A chapter for each section that has a file here, as if the files were played one after the other."""
    first_of: dict[int, FinishedFile] = {}
    for file in files:
        if file.section:
            first_of.setdefault(file.section_id, file)
    chapters, at_s = [], 0.0
    for file in first_of.values():
        end_s = at_s + (file.figures.get("duration_s") or 0.0)
        chapters.append(
            Chapter(
                start_s=at_s,
                end_s=end_s,
                title=file.section.title if file.voice else file.title,
                link=file.section.link,
                picture=storage.picture(file.section.picture),
            )
        )
        at_s = end_s
    return chapters


def _as_chapter_json(before: str, chapters: Sequence[Chapter]) -> Iterator[tuple[str, bytes]]:
    rows = []
    for number, chapter in enumerate(chapters, 1):
        row = {"startTime": round(chapter.start_s, 3), "title": chapter.title}
        if chapter.link:
            row["url"] = chapter.link
        if chapter.picture:
            row["img"] = f"{before}chapter-{number:02}.jpg"
            yield row["img"], chapter.picture
        rows.append(row)
    document = {"version": "1.2.0", "chapters": rows}
    yield f"{before}chapters.json", json.dumps(document, indent=2, ensure_ascii=False).encode()


def _as_lines(before: str, chapters: Sequence[Chapter]) -> Iterator[tuple[str, bytes]]:
    lines = "".join(f"{clock(chapter.start_s)} {chapter.title}\n" for chapter in chapters)
    yield f"{before}chapters.txt", lines.encode()


def _check_sheets(bundle: Bundle) -> bytes:
    from sermovox.deliveries.sheets import as_html

    return as_html(bundle).encode()


COVER = "cover.jpg"
READ_FIRST = "read first.txt"
"""Names what an archive lacks, or what in it is out of date, so that nobody takes it for all there is."""
CHECK_SHEETS = "check-sheets.html"
_ALWAYS = ("manifest.csv", "manifest.json", CHECK_SHEETS)
"""Can be made of any files."""
_ANY_ARTWORK = ArtworkRule(at_least_px=1, at_most_px=1400, at_most_bytes=1_000_000, source="")
_EXTRAS: dict[str, Callable[[Bundle], dict[str, bytes]]] = {
    "manifest.csv": lambda bundle: {"manifest.csv": as_csv(bundle).encode()},
    "manifest.json": lambda bundle: {"manifest.json": as_json(bundle).encode()},
    COVER: lambda bundle: {named(COVER, picture := artwork(bundle)): picture},
    "chapters.json": lambda bundle: chapter_files(bundle, "json"),
    "chapters.txt": lambda bundle: chapter_files(bundle, "txt"),
    CHECK_SHEETS: lambda bundle: {CHECK_SHEETS: _check_sheets(bundle)},
}


def _row(file: FinishedFile) -> dict:
    figures = {key: value for key, value in file.figures.items() if key in COLUMNS}
    return {"name": file.name, "title": file.title, "sha256": file.sha256, "verdict": file.state} | figures
