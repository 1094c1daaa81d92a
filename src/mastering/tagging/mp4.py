"""Tags of MP4: the "ilst" atom. Its chapter marks are written by the encoder or by copying (see `markers`)."""

from pathlib import Path
from typing import Any

from mutagen.mp4 import MP4, MP4Cover, MP4FreeForm

from mastering.tagging.image_types import is_png
from mastering.tagging.inscription import Inscription
from mastering.tagging.mp4_chapters import add_links_and_pictures

_TEXTS = {
    "title": "\xa9nam",
    "artist": "\xa9ART",
    "album": "\xa9alb",
    "album_artist": "aART",
    "composer": "\xa9wrt",
    "year": "\xa9day",
    "genre": "\xa9gen",
    "comment": "\xa9cmt",
    "description": "desc",
    "lyrics": "\xa9lyr",
    "copyright": "cprt",
    "encoder": "\xa9too",
}
_PAIRS = {"track": "trkn", "disc": "disk"}
_FREE = {"language": "LANGUAGE", "contact": "CONTACT"}
_MEDIA_KINDS = {"audiobook": 2, "podcast": 21}
"""Atom names and the media kind are common practice, no source: the container's standard leaves them open."""


def write(path: Path, given: Inscription) -> None:
    """Write all of it anew; nothing else that tags said before remains."""
    file = MP4(path)
    if file.tags is None:
        file.add_tags()
    tags: Any = file.tags
    tags.clear()
    for name, atom in _TEXTS.items():
        if text := given.tags.get(name):
            tags[atom] = [text]
    for name, atom in _PAIRS.items():
        if text := given.tags.get(name):
            number, _, of = text.partition("/")
            tags[atom] = [(int(number), int(of or 0))]
    for name, key in _FREE.items():
        if text := given.tags.get(name):
            tags[f"----:com.apple.iTunes:{key}"] = [MP4FreeForm(text.encode())]
    if kind := given.tags.get("kind"):
        tags["stik"] = [_MEDIA_KINDS[kind]]
        tags["pcst"] = kind == "podcast"
    if given.picture:
        form = MP4Cover.FORMAT_PNG if is_png(given.picture) else MP4Cover.FORMAT_JPEG
        tags["covr"] = [MP4Cover(given.picture, form)]
    file.save()
    add_links_and_pictures(path, given.chapters, cover=given.picture)
