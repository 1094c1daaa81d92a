"""Where things lie on disk, all below the data folder and none below a static or media address."""

from pathlib import Path

from django.conf import settings

from mastering import VERSION


def incoming() -> Path:
    """Where uploads lie while they arrive."""
    return _made(Path(settings.DATA_DIR) / "incoming")


def stored(sha256: str) -> Path:
    """Where a recording lies, by the hash of its bytes."""
    return _made(Path(settings.DATA_DIR) / "recordings" / sha256[:2]) / sha256


def cached(sha256: str, kind: str) -> Path:
    """Where something worked out from a recording lies; may be deleted at any time."""
    return _made(Path(settings.DATA_DIR) / "cache" / sha256[:2]) / f"{sha256}.{VERSION}.{kind}"


def finished(delivery_id: int, file_id: int) -> Path:
    """The folder of one finished file."""
    return Path(settings.DATA_DIR) / "deliveries" / str(delivery_id) / str(file_id)


def _made(folder: Path) -> Path:
    folder.mkdir(parents=True, exist_ok=True)
    return folder
