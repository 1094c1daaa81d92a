"""What a delivery holds, for people and machines: CSV, JSON, and everything in one ZIP."""

import csv
import io
import json
from collections.abc import Iterator

from zipstream import ZIP_STORED, ZipStream

from mastering.meters.measurement import LEVEL_FIGURES
from sermovox.deliveries.models import Delivery, FinishedFile

COLUMNS = ("name", "title", "duration_s", "size_bytes", "sha256", *LEVEL_FIGURES, "verdict")


def rows(delivery: Delivery) -> list[dict]:
    """One row for each finished file, in running order."""
    return [_row(file) for file in delivery.files.made()]


def as_csv(delivery: Delivery) -> str:
    """The manifest as CSV with a header line."""
    text = io.StringIO()
    writer = csv.DictWriter(text, COLUMNS, extrasaction="ignore")
    writer.writeheader()
    writer.writerows({key: _harmless(value) for key, value in row.items()} for row in rows(delivery))
    return text.getvalue()


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
    archive.add(as_csv(delivery).encode(), "manifest.csv")
    archive.add(as_json(delivery).encode(), "manifest.json")
    return iter(archive)


def _row(file: FinishedFile) -> dict:
    figures = {key: value for key, value in file.figures.items() if key in COLUMNS}
    return {"name": file.name, "title": file.title, "sha256": file.sha256, "verdict": file.state} | figures


def _harmless(value):
    # A spreadsheet would run a cell that starts like a formula.
    return f"'{value}" if isinstance(value, str) and value[:1] in "=+-@\t\r" else value
