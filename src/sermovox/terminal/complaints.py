"""How a command says what is wrong."""

import sys
from pathlib import Path

from sermovox.running.speaking import spoken


def complain(error: Exception, path: Path | None = None) -> int:
    """Say what is wrong. Returns the exit status for it."""
    said = spoken(str(error))
    print(f"sermovox: {path}: {said}" if path else f"sermovox: {said}", file=sys.stderr)
    return 1
