"""How a command says what is wrong."""

import sys
from pathlib import Path


def complain(error: Exception, path: Path | None = None) -> int:
    """Say what is wrong. Returns the exit status for it."""
    print(f"sermovox: {path}: {error}" if path else f"sermovox: {error}", file=sys.stderr)
    return 1
