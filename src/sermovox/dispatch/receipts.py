"""What was sent, when and where, and how it is known that it arrived: as text, CSV and JSON."""

import json

from django.utils import timezone

from mastering.editing.tables import write_table
from sermovox.dispatch.models import Dispatch, Part

COLUMNS = ("name", "title", "size_bytes", "sha256", "state", "arrived_at", "proof", "answered", "fails")


def rows(dispatch: Dispatch) -> list[dict]:
    """One for each file."""
    return [_row(part) for part in dispatch.parts.all()]


def as_dict(dispatch: Dispatch) -> dict:
    return {
        "production": dispatch.production_title,
        "outlet": dispatch.outlet_title,
        "sent_by": dispatch.owner.called,
        "way": dispatch.way.kind.title,
        "to": dispatch.way.where,
        "state": dispatch.state,
        "message_id": dispatch.message_id,
        "begun_at": _moment(dispatch.created_at),
        "ended_at": _moment(dispatch.ended_at),
        "files": rows(dispatch),
    }


def as_json(dispatch: Dispatch) -> str:
    return json.dumps(as_dict(dispatch), ensure_ascii=False, indent=2) + "\n"


def as_csv(dispatch: Dispatch) -> str:
    """A line for each file."""
    return write_table(COLUMNS, ([row[name] for name in COLUMNS] for row in rows(dispatch)))


def _row(part: Part) -> dict:
    return {name: getattr(part, name) for name in COLUMNS} | {"arrived_at": _moment(part.arrived_at)}


def _moment(at) -> str:
    return timezone.localtime(at).isoformat(timespec="seconds") if at else ""
