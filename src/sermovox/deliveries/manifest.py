"""What a delivery holds, for people and machines: CSV, JSON, and everything in one ZIP."""

import json
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any

from mastering.certain import certain
from mastering.clock import clock
from mastering.editing.tables import write_table
from mastering.meters.measurement import LEVEL_FIGURES
from mastering.naming.checks import numbered
from mastering.outlets.rules.artwork import FROM_MARKS
from mastering.tagging.artwork import ArtworkRule
from mastering.tagging.image_types import is_png
from mastering.tagging.inscription import Chapter
from sermovox.deliveries.bundles import Bundle, chapters_in
from sermovox.deliveries.models import Delivery, FinishedFile, names_of_others
from sermovox.keeping import storage
from sermovox.sources.names import WantedFiles

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


def asked_extras(bundle: Bundle) -> set[str]:
    """Which of the files that the outlet asks beside the finished ones there are."""
    return {name for name in bundle.outlet.extra_files if name in _ALWAYS or any(MADE[name](bundle).values())}


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
            first_of.setdefault(file.section.pk, file)
    chapters, at_s = [], 0.0
    for file in first_of.values():
        section = certain(file.section)
        end_s = at_s + (file.figures.get("duration_s") or 0.0)
        chapters.append(
            Chapter(
                start_s=at_s,
                end_s=end_s,
                title=section.title if file.voice else file.title,
                link=section.link,
                picture=storage.picture(section.picture),
            )
        )
        at_s = end_s
    return chapters


def _as_chapter_json(before: str, chapters: Sequence[Chapter]) -> Iterator[tuple[str, bytes]]:
    rows = []
    for number, chapter in enumerate(chapters, 1):
        row: dict[str, Any] = {"startTime": round(chapter.start_s, 3), "title": chapter.title}
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


COVER = "cover.jpg"
CHECK_SHEETS = "check-sheets.html"
_ALWAYS = ("manifest.csv", "manifest.json", CHECK_SHEETS)
"""Can be made of any files."""
_ANY_ARTWORK = ArtworkRule(at_least_px=1, at_most_px=1400, at_most_bytes=1_000_000, source="")
MADE: dict[str, Callable[[Bundle], dict[str, bytes]]] = {
    "manifest.csv": lambda bundle: {"manifest.csv": as_csv(bundle).encode()},
    "manifest.json": lambda bundle: {"manifest.json": as_json(bundle).encode()},
    COVER: lambda bundle: {named(COVER, picture := artwork(bundle)): picture},
    "chapters.json": lambda bundle: chapter_files(bundle, "json"),
    "chapters.txt": lambda bundle: chapter_files(bundle, "txt"),
}


def _row(file: FinishedFile) -> dict:
    figures = {key: value for key, value in file.figures.items() if key in COLUMNS}
    return {"name": file.name, "title": file.title, "sha256": file.sha256, "verdict": file.state} | figures
