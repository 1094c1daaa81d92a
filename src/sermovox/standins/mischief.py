"""What a stand-in can be told to do wrong, kept in a file beside what it receives."""

import json
import time
from contextlib import suppress
from dataclasses import asdict, dataclass
from pathlib import Path

from mastering.audio.placing import whole

SLOW_BYTES_A_SECOND = 100_000


@dataclass
class Mischief:
    """`drops` is in how many files more the line is to break; `size_off_by` by how many bytes a size is told wrong;
    `secretive` whether nothing that was left there is given back.
    """

    drops: int = 0
    full: bool = False
    refuses: bool = False
    slow: bool = False
    size_off_by: int = 0
    secretive: bool = False

    @classmethod
    def read(cls, path: Path) -> "Mischief":
        """As it is kept; none where nothing is."""
        with suppress(OSError, ValueError, TypeError):
            kept = json.loads(path.read_text())
            return cls(**{name: kept[name] for name in asdict(cls()) if name in kept})
        return cls()

    def keep(self, path: Path) -> None:
        with whole(path, replace=True) as partial:
            partial.write_text(json.dumps(asdict(self)))


def received_in(top: Path) -> Path:
    """Where what was received lies, below the folder of a stand-in."""
    return top / "received"


def mischief_of(top: Path) -> Path:
    """The file that says what a stand-in is to do wrong."""
    return top / "mischief.json"


class Slow:
    """What is read of it takes its time."""

    def __init__(self, source):
        self._source = source

    def read(self, count: int = -1) -> bytes:
        chunk = self._source.read(count)
        time.sleep(len(chunk) / SLOW_BYTES_A_SECOND)
        return chunk
