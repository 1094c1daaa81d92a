"""A data folder that was filled from a backup: nothing is sent, taken in or done by itself there until somebody says
that this one goes on. The one it was copied from may still run, and knows nothing of it.
"""

import json
import sqlite3
from contextlib import closing, suppress
from datetime import UTC, datetime
from pathlib import Path

from django.conf import settings
from django_tasks_db.models import DBTaskResult, get_date_max

from mastering.audio.placing import flush, whole
from mastering.said import Said

HELD_UNTIL = datetime(9000, 1, 1, tzinfo=UTC)
"""When what waited in the queue is due, as long as nobody has said that it goes on."""
SENDS_NOTHING = Said("copy-sends-nothing-itself-open")


def note(made_at: str, database: Path) -> None:
    """Keep that a data folder is filled from a backup of a moment, and have what waits in its database wait on."""
    with whole(_noted_in(), replace=True) as partial:
        partial.write_text(json.dumps({"made_at": made_at}))
    flush(_noted_in().parent)
    table = DBTaskResult._meta.db_table
    with closing(sqlite3.connect(database)) as rows, rows:
        if rows.execute("SELECT 1 FROM sqlite_master WHERE name = ?", (table,)).fetchone():
            held = f"UPDATE {table} SET run_after = ? WHERE status IN ('READY', 'RUNNING')"
            rows.execute(held, (f"{HELD_UNTIL:%Y-%m-%d %H:%M:%S}",))


def made_at() -> datetime | None:
    """When the backup was made that this is a copy of; None where it is none, or goes on."""
    with suppress(OSError, ValueError, KeyError, TypeError):
        return datetime.fromisoformat(json.loads(_noted_in().read_text())["made_at"])
    return None


def is_held() -> bool:
    """Whether nothing is to be done by itself here."""
    return _noted_in().exists()


def go_on() -> None:
    """This one goes on, with all that waits."""
    DBTaskResult.objects.filter(run_after=HELD_UNTIL).update(run_after=get_date_max())
    _noted_in().unlink(missing_ok=True)
    flush(_noted_in().parent)


def _noted_in() -> Path:
    return Path(settings.DATA_DIR) / "copied.json"
