"""What a delivery holds, for people and machines: CSV, JSON, and everything in one ZIP."""

import json
from collections.abc import Iterator

from zipstream import ZIP_STORED, ZipStream

from mastering.editing.tables import write_table
from mastering.meters.measurement import LEVEL_FIGURES
from mastering.tagging.artwork import BadArtwork, fitted
from sermovox import storage
from sermovox.deliveries.models import Delivery, FinishedFile
from sermovox.productions.naming import settled_names

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


def as_zip(delivery: Delivery) -> Iterator[bytes]:
    """The finished files and both manifests as a ZIP, streamed: audio does not shrink, so it is stored."""
    archive = ZipStream(compress_type=ZIP_STORED, sized=False)
    for file in delivery.files.made():
        archive.add_path(str(file.path), file.name)
    if picture := artwork(delivery):
        archive.add(picture, "cover.jpg")
    archive.add(as_csv(delivery).encode(), "manifest.csv")
    archive.add(as_json(delivery).encode(), "manifest.json")
    return iter(archive)


def artwork(delivery: Delivery) -> bytes:
    """The production's picture as the outlet wants it; empty where it wants none or none fits."""
    production, rule = delivery.production, delivery.outlet.artwork
    if not (rule and production.artwork_sha256):
        return b""
    try:
        return fitted(storage.artwork(production.artwork_sha256).read_bytes(), rule)
    except (BadArtwork, OSError):
        return b""


def _row(file: FinishedFile) -> dict:
    figures = {key: value for key, value in file.figures.items() if key in COLUMNS}
    return {"name": file.name, "title": file.title, "sha256": file.sha256, "verdict": file.state} | figures
