"""Artwork: is it a picture, what is it like, and what becomes of it for an outlet."""

import io
import warnings
from dataclasses import dataclass
from functools import lru_cache

from PIL import Image, UnidentifiedImageError

from mastering.certain import certain
from mastering.errors import MasteringError
from mastering.said import Said

FORMATS = {"JPEG": "jpg", "PNG": "png"}
LARGEST_BYTES = 32 << 20
_MOST_PIXELS = 64_000_000
_COLOURS = {
    "RGB": "colour",
    "L": "grey",
    "CMYK": "CMYK",
    "P": Said("colour-indexed"),
    "RGBA": Said("colour-see-through"),
    "1": Said("black-white"),
    "LA": Said("grey-see-through"),
    "I;16": Said("grey-16-bit"),
}
_SMALL_SIDE_PX = 600
_CHAPTER_SIDE_PX = 600
_CHAPTER_BYTES = 100_000
"""A chapter's picture is shown small, and there may be many in one file (common practice, no source)."""
_LOWEST_QUALITY, _HIGHEST_QUALITY = 40, 92


class BadArtwork(MasteringError):
    """This picture cannot be used; the text says why."""


@dataclass(frozen=True, kw_only=True)
class ArtworkFacts:
    """What a picture is like. `colour` is in words."""

    format: str
    width_px: int
    height_px: int
    colour: str
    size_bytes: int


@dataclass(frozen=True, kw_only=True)
class ArtworkRule:
    """What an outlet asks of a square picture: its side in pixels, its weight, and JPEG or PNG."""

    at_least_px: int
    at_most_px: int
    at_most_bytes: int
    source: str
    format: str = "JPEG"


def pixels_of(data: bytes) -> int:
    """How many pixels a picture says it has, without reading them; 0 for what is none."""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", Image.DecompressionBombWarning)
            with Image.open(io.BytesIO(data), formats=list(FORMATS)) as picture:
                return picture.width * picture.height
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, Image.DecompressionBombError):
        return 0


@lru_cache(maxsize=2)
def inspect(data: bytes) -> ArtworkFacts:
    """Look at a picture without trusting it. Raises BadArtwork. Files made one after the other carry the same one."""
    with _opened(data) as picture:
        return ArtworkFacts(
            format=certain(picture.format),
            width_px=picture.width,
            height_px=picture.height,
            colour=_COLOURS.get(picture.mode, picture.mode),
            size_bytes=len(data),
        )


def remarks(facts: ArtworkFacts) -> tuple[str, ...]:
    """What a producer should know of a picture, gravest first."""
    found = []
    if facts.width_px != facts.height_px:
        found.append(Said("not-square-pixels-outlets-ask", width_px=facts.width_px, height_px=facts.height_px))
    if min(facts.width_px, facts.height_px) < _SMALL_SIDE_PX:
        found.append(Said("small-most-outlets-ask-pixels", small_side_px=_SMALL_SIDE_PX))
    if facts.colour == "CMYK":
        found.append(Said("printing-colours-cmyk-changed-rgb"))
    if "see-through" in facts.colour:
        found.append(Said("partly-see-through-what-shows"))
    return tuple(found)


def obstacles(facts: ArtworkFacts, rule: ArtworkRule) -> str:
    """Why a picture cannot be made to fit a rule; empty when it can."""
    if facts.width_px != facts.height_px:
        return Said("not-square-pixels-crop-first", width_px=facts.width_px, height_px=facts.height_px)
    if facts.width_px < rule.at_least_px:
        return Said("pixels-wide-asked-not-enlarged", width_px=facts.width_px, at_least_px=rule.at_least_px)
    return ""


def fitted(data: bytes, rule: ArtworkRule) -> bytes:
    """Bring a picture to an outlet's rule: never larger than it is, no heavier than allowed.

    Scaled with Lanczos, in RGB, without what a camera wrote into it. Raises BadArtwork where it cannot be done.
    """
    if obstacle := obstacles(inspect(data), rule):
        raise BadArtwork(obstacle)
    with _opened(data) as picture:
        side = min(rule.at_most_px, picture.width)
        plain = _as_rgb(picture)
        if plain.width != side:
            plain = plain.resize((side, side), Image.Resampling.LANCZOS, reducing_gap=3.0)
    return _as_png(plain, rule) if rule.format == "PNG" else _lightest(plain, rule.at_most_bytes)


def picture_for(rule: ArtworkRule | None, data: bytes) -> bytes:
    """A picture as `fitted` makes it; empty where none is asked or there is none that could be made to fit."""
    if rule is None or not data:
        return b""
    try:
        return fitted(data, rule)
    except BadArtwork:
        # The check sheet says that it is missing and what to do.
        return b""


def for_chapter(data: bytes) -> bytes:
    """Bring a picture of any shape to what one chapter mark carries: a JPEG, scaled down, light. Raises BadArtwork."""
    with _opened(data) as picture:
        plain = _as_rgb(picture)
        plain.thumbnail((_CHAPTER_SIDE_PX, _CHAPTER_SIDE_PX), Image.Resampling.LANCZOS, reducing_gap=3.0)
    return _lightest(plain, _CHAPTER_BYTES)


def _as_png(picture: Image.Image, rule: ArtworkRule) -> bytes:
    """A PNG, made smaller until it keeps within its weight: it has no quality to give."""
    side = picture.width
    while True:
        made = io.BytesIO()
        picture.save(made, "PNG", optimize=True)
        if len(made.getvalue()) <= rule.at_most_bytes:
            return made.getvalue()
        side = round(side * 0.9)
        if side < rule.at_least_px:
            raise BadArtwork(
                Said(
                    "png-pixels-weighs-kb-kb",
                    width=picture.width,
                    count=len(made.getvalue()) / 1000,
                    at_most_bytes=rule.at_most_bytes / 1000,
                )
            )
        picture = picture.resize((side, side), Image.Resampling.LANCZOS)


def _lightest(picture: Image.Image, at_most_bytes: int) -> bytes:
    """A JPEG of the highest quality that keeps within a weight."""
    made = _jpeg(picture, _HIGHEST_QUALITY)
    if len(made) <= at_most_bytes:
        return made
    low, high, best = _LOWEST_QUALITY, _HIGHEST_QUALITY - 1, b""
    while low <= high:
        middle = (low + high) // 2
        made = _jpeg(picture, middle)
        if len(made) <= at_most_bytes:
            best, low = made, middle + 1
        else:
            high = middle - 1
    if not best:
        raise BadArtwork(
            Said(
                "pixels-weighs-least-kb-kb",
                width=picture.width,
                count=len(made) / 1000,
                at_most_bytes=at_most_bytes / 1000,
            )
        )
    return best


def _jpeg(picture: Image.Image, quality: int) -> bytes:
    made = io.BytesIO()
    picture.save(made, "JPEG", quality=quality, optimize=True)
    return made.getvalue()


def _as_rgb(picture: Image.Image) -> Image.Image:
    if "A" in picture.getbands() or "transparency" in picture.info:
        seen = picture.convert("RGBA")
        ground = Image.new("RGB", seen.size, "white")
        ground.paste(seen, mask=seen.getchannel("A"))
        return ground
    return picture.convert("RGB")


def _opened(data: bytes) -> Image.Image:
    if len(data) > LARGEST_BYTES:
        raise BadArtwork(Said("picture-weighs-more-than-mib", largest_bytes=LARGEST_BYTES >> 20))
    try:
        with warnings.catch_warnings():
            # Pillow warns of very large pictures; the limit below decides.
            warnings.simplefilter("ignore", Image.DecompressionBombWarning)
            picture = Image.open(io.BytesIO(data), formats=list(FORMATS))
    except Image.DecompressionBombError as error:
        raise BadArtwork(Said("picture-more-pixels-than-any")) from error
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError) as error:
        raise BadArtwork(Said("not-picture-jpeg-png-damaged")) from error
    if picture.width * picture.height > _MOST_PIXELS:
        raise BadArtwork(Said("pixels-more-than-any-outlet", width=picture.width, height=picture.height))
    if getattr(picture, "n_frames", 1) > 1:
        raise BadArtwork(Said("picture-moves-save-one-frame"))
    try:
        picture.load()
    except (OSError, ValueError, SyntaxError) as error:
        raise BadArtwork(Said("picture-damaged-stops-middle-save")) from error
    return picture
