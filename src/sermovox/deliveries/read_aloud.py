"""A finished file with its text, as a book that is followed while it sounds."""

from collections.abc import Iterator, Sequence
from pathlib import Path
from zipfile import ZIP_DEFLATED, ZIP_STORED

from zipstream import ZipStream

from mastering.certain import certain
from mastering.words.readalong import AUDIO_FOLDER, AUDIO_TYPES, MIME_NAME, read_along
from mastering.words.readalong import MIME_TYPE as EPUB_TYPE
from mastering.words.timed import TimedText
from sermovox.deliveries.models import FinishedFile
from sermovox.scripts.models import tag_of

_CHUNK_BYTES = 1 << 20
_UNKNOWN_LANGUAGE = "und"


def can_be_read_along(file: FinishedFile) -> bool:
    """Whether it is of a kind that readers of EPUB have to play."""
    return file.is_there and not file.voice and Path(file.name).suffix.lower() in AUDIO_TYPES


def as_epub(file: FinishedFile, said: Sequence[Sequence[TimedText]]) -> Iterator[bytes]:
    """The book, streamed."""
    production = file.delivery.production
    audio_name = f"sound{Path(file.name).suffix.lower()}"
    parts = read_along(
        said,
        title=file.title or production.title,
        author=production.author,
        narrator=production.narrator,
        language=tag_of(production.language) or _UNKNOWN_LANGUAGE,
        audio_name=audio_name,
        changed_at=certain(file.finished_at),
    )
    archive = ZipStream(compress_type=ZIP_STORED, sized=False)
    archive.add(EPUB_TYPE.encode(), MIME_NAME)
    for name, content in parts.items():
        archive.add(content, name, compress_type=ZIP_DEFLATED)
    archive.add(_bytes(file.path), AUDIO_FOLDER + audio_name)
    yield from archive


def _bytes(path: Path) -> Iterator[bytes]:
    with path.open("rb") as content:
        while chunk := content.read(_CHUNK_BYTES):
            yield chunk
