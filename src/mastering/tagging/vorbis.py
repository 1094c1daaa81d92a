"""Vorbis comments in FLAC, Ogg Vorbis and Opus."""

import base64
import io
from pathlib import Path

import mutagen
from mutagen import MutagenError
from mutagen.flac import FLAC, Picture
from mutagen.oggopus import OggOpus
from mutagen.oggvorbis import OggVorbis
from PIL import Image

from mastering.clock import clock
from mastering.said import Said
from mastering.tagging.image_types import mime_of
from mastering.tagging.inscription import Inscription

_KEYS = {
    "title": "TITLE",
    "artist": "ARTIST",
    "album": "ALBUM",
    "album_artist": "ALBUMARTIST",
    "composer": "COMPOSER",
    "year": "DATE",
    "genre": "GENRE",
    "comment": "COMMENT",
    "description": "DESCRIPTION",
    "lyrics": "LYRICS",
    "copyright": "COPYRIGHT",
    "language": "LANGUAGE",
    "contact": "CONTACT",
    "kind": "KIND",
    "encoder": "ENCODER",
}
_PAIRS = {"track": ("TRACKNUMBER", "TRACKTOTAL"), "disc": ("DISCNUMBER", "DISCTOTAL")}
"""The Vorbis comment field names of Xiph.Org, and those that are common practice beside them."""
_FRONT_COVER = 3


def write(path: Path, given: Inscription) -> None:
    """Write all of it anew; nothing else that tags said before remains."""
    file = mutagen.File(path, options=[FLAC, OggVorbis, OggOpus])
    if file is None:
        raise MutagenError(Said("neither-flac-nor-ogg"))
    if file.tags is None:
        file.add_tags()
    tags = file.tags
    tags.clear()
    for name, key in _KEYS.items():
        if text := given.tags.get(name):
            tags[key] = [text]
    for name, (key, total) in _PAIRS.items():
        if text := given.tags.get(name):
            number, _, of = text.partition("/")
            tags[key] = [number]
            if of:
                tags[total] = [of]
    for place, chapter in enumerate(given.chapters, 1):
        # The chapter extension of Xiph.Org's wiki (from memory).
        tags[f"CHAPTER{place:03}"] = [clock(chapter.start_s, 3, whole=True)]
        tags[f"CHAPTER{place:03}NAME"] = [chapter.title]
        if chapter.link:
            tags[f"CHAPTER{place:03}URL"] = [chapter.link]
    if isinstance(file, FLAC):
        file.clear_pictures()
    if given.picture:
        block = _block(given.picture)
        if isinstance(file, FLAC):
            file.add_picture(block)
        else:
            tags["METADATA_BLOCK_PICTURE"] = [base64.b64encode(block.write()).decode()]
    file.save()


def _block(data: bytes) -> Picture:
    """A picture block (RFC 9639, 8.8)."""
    block = Picture()
    block.type, block.mime, block.data = _FRONT_COVER, mime_of(data), data
    with Image.open(io.BytesIO(data)) as picture:
        block.width, block.height, block.depth = picture.width, picture.height, 8 * len(picture.getbands())
    return block
