"""Tags of Windows Media."""

from pathlib import Path
from typing import Any

from mutagen.asf import ASF

from mastering.tagging.inscription import Inscription

_NAMES = {
    "title": "Title",
    "artist": "Author",
    "album": "WM/AlbumTitle",
    "album_artist": "WM/AlbumArtist",
    "composer": "WM/Composer",
    "track": "WM/TrackNumber",
    "disc": "WM/PartOfSet",
    "year": "WM/Year",
    "genre": "WM/Genre",
    "comment": "Description",
    "description": "WM/SubTitleDescription",
    "lyrics": "WM/Lyrics",
    "copyright": "Copyright",
    "language": "WM/Language",
    "contact": "WM/AuthorURL",
    "encoder": "WM/EncodingSettings",
}
"""Attribute names of the Windows Media format's developers' guide (from memory)."""
HELD = frozenset(_NAMES)


def write(path: Path, given: Inscription) -> None:
    """Write all of it anew; nothing else that tags said before remains."""
    file = ASF(path)
    tags: Any = file.tags
    tags.clear()
    for name, key in _NAMES.items():
        if text := given.tags.get(name):
            tags[key] = [text]
    file.save()
