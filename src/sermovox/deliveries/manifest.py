"""What a delivery holds, for people and machines: CSV, JSON, and everything in one ZIP."""

import json
import re
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

from zipstream import ZIP_STORED, ZipStream

from mastering.audio.reader import clock
from mastering.editing.tables import write_table
from mastering.meters.measurement import LEVEL_FIGURES
from mastering.naming.patterns import facts_of, read_pattern
from mastering.outlets.rules import EXTRAS, FROM_MARKS
from mastering.tagging.artwork import ArtworkRule
from mastering.tagging.inscription import Chapter
from mastering.tagging.pictures import is_png
from sermovox.deliveries.inscriptions import Inscriptions
from sermovox.deliveries.models import Delivery, FinishedFile
from sermovox.productions.naming import settled_names, shared_facts

COLUMNS = ("name", "title", "duration_s", "size_bytes", "sha256", *LEVEL_FIGURES, "verdict")


def rows(delivery: Delivery) -> list[dict]:
    """One row for each finished file, in running order."""
    return [_row(file) for file in delivery.files.made()]


def as_csv(delivery: Delivery) -> str:
    """The manifest as CSV with a header line."""
    return write_table(COLUMNS, ([row.get(column) for column in COLUMNS] for row in rows(delivery)))


def rename_map(delivery: Delivery) -> str:
    """Old and new names as CSV; the new ones are those the pattern for names gives today."""
    production = delivery.production
    sections, names, _ = settled_names(production, delivery.outlet)
    now = {section.pk: name for section, name in zip(sections, names, strict=True)}
    files = delivery.files.made()
    return write_table(("old name", "new name"), [(file.name, now.get(file.section_id, file.name)) for file in files])


def as_json(delivery: Delivery) -> str:
    """The manifest as JSON: the production, the outlet and the files."""
    document = {
        "production": delivery.production.title,
        "outlet": delivery.outlet_key,
        "made_at": delivery.created_at.isoformat(timespec="seconds"),
        "files": rows(delivery),
    }
    return json.dumps(document, indent=2, ensure_ascii=False)


def as_zip(deliveries: Sequence[Delivery]) -> Iterator[bytes]:
    """The finished files of one outlet or several with what goes beside them, streamed as a ZIP.

    Audio does not shrink, so it is stored. Each outlet of several has a folder of its own.
    """
    archive = ZipStream(compress_type=ZIP_STORED, sized=False)
    for delivery in deliveries:
        top = f"{delivery.outlet_key}/" if len(deliveries) > 1 else ""
        folder = top + folder_of(delivery)
        for file in delivery.files.made():
            archive.add_path(str(file.path), folder + file.name)
        for name, content in extras_of(delivery).items():
            archive.add(content, top + name)
    return iter(archive)


def folder_of(delivery: Delivery) -> str:
    """The folder its files lie in, with a slash at the end; empty for none."""
    pattern = delivery.outlet.folder
    if not pattern:
        return ""
    facts = shared_facts(delivery.production, delivery.outlet, delivery.files.count())
    name = read_pattern(pattern).name(facts_of([facts])[0])
    # One plain folder: nothing that climbs out of the archive.
    safe = re.sub(r"[^\w .-]", "-", name).strip(". ")
    return f"{safe}/" if safe else ""


def asked_extras(delivery: Delivery) -> set[str]:
    """Which of the files that the outlet asks beside the finished ones there are."""
    return {name for name in delivery.outlet.extra_files if name in _ALWAYS or any(_EXTRAS[name](delivery).values())}


def extras_of(delivery: Delivery) -> dict[str, bytes]:
    """The files beside the finished ones, by name: both manifests, and what else the outlet asks and there is."""
    asked = {"manifest.csv", "manifest.json", *delivery.outlet.extra_files}
    if delivery.outlet.artwork:
        asked.add(COVER)
    made: dict[str, bytes] = {}
    for name in (each for each in EXTRAS if each in asked):
        made |= _EXTRAS[name](delivery)
    return {name: content for name, content in made.items() if content}


def named(name: str, content: bytes) -> str:
    """The name of a file beside the finished ones: a cover that is asked as a PNG ends as one."""
    return "cover.png" if name == COVER and is_png(content) else name


def artwork(delivery: Delivery) -> bytes:
    """The production's picture as the outlet wants it; empty where there is none or it cannot be made to fit."""
    return delivery.production.picture_for(delivery.outlet.artwork or _ANY_ARTWORK)


def chapter_files(delivery: Delivery, kind: str) -> dict[str, bytes]:
    """The chapters as files of their own, "json" or "txt": one for each file whose chapters are marks of its page, else
    one for all sections, joined or one after the other. JSON (the open chapter format, version 1.2.0) names pictures,
    which come with it.
    """
    inscriptions = Inscriptions(delivery.production)
    files = delivery.files.made().select_related("delivery", "section__recording")
    if delivery.outlet.chapters == FROM_MARKS:
        sets = {f"{Path(file.name).stem}.": inscriptions.chapters_in(file) for file in files}
    elif delivery.outlet.joined and (whole := files.first()):
        sets = {"": inscriptions.chapters_in(whole)}
    else:
        sets = {"": inscriptions.chapters_of_sections()}
    write = _as_chapter_json if kind == "json" else _as_lines
    return {name: data for before, chapters in sets.items() if chapters for name, data in write(before, chapters)}


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


def _check_sheets(delivery: Delivery) -> bytes:
    from sermovox.deliveries.sheets import as_html

    return as_html(delivery).encode()


COVER = "cover.jpg"
CHECK_SHEETS = "check-sheets.html"
_ALWAYS = ("manifest.csv", "manifest.json", CHECK_SHEETS)
"""Can be made of any files."""
_ANY_ARTWORK = ArtworkRule(at_least_px=1, at_most_px=1400, at_most_bytes=1_000_000, source="")
_EXTRAS: dict[str, Callable[[Delivery], dict[str, bytes]]] = {
    "manifest.csv": lambda delivery: {"manifest.csv": as_csv(delivery).encode()},
    "manifest.json": lambda delivery: {"manifest.json": as_json(delivery).encode()},
    COVER: lambda delivery: {named(COVER, picture := artwork(delivery)): picture},
    "chapters.json": lambda delivery: chapter_files(delivery, "json"),
    "chapters.txt": lambda delivery: chapter_files(delivery, "txt"),
    CHECK_SHEETS: lambda delivery: {CHECK_SHEETS: _check_sheets(delivery)},
}


def _row(file: FinishedFile) -> dict:
    figures = {key: value for key, value in file.figures.items() if key in COLUMNS}
    return {"name": file.name, "title": file.title, "sha256": file.sha256, "verdict": file.state} | figures
