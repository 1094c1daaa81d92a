"""Rules about artwork and chapter marks."""

from collections.abc import Mapping
from dataclasses import replace

from mastering.audio.encodings import Encoding
from mastering.outlets.demands import OPEN, Demand, Items, Range
from mastering.outlets.findings import Finding
from mastering.outlets.rules.delivery import COVER, JOINED
from mastering.outlets.rules.holding import by_figure
from mastering.outlets.rules.kind import (
    ASKED,
    BESIDE_SOUND,
    CHOICE,
    PICTURES,
    RANGE,
    Advice,
    Asked,
    Examined,
    RuleKind,
)
from mastering.said import Said
from mastering.tagging.artwork import ArtworkRule
from mastering.tagging.writing import holds

FROM_SECTIONS, FROM_MARKS = "from sections", "from marks"
_FIRST_CHAPTER_S = 0.5
"""A chapter that begins later leaves the start of the file without one."""
_PICTURE = Said("give-production-square-picture-under")
_MOST_PX, _MOST_KB = 8000, 32000


def artwork_asked(asked: Mapping[str, tuple[Demand, str]]) -> ArtworkRule | None:
    """What is asked of the picture, from demands and sources by rule; None where nothing is."""
    own = {name: each for name, each in asked.items() if name in ("artwork_px", "artwork_kb", "artwork_format")}
    if not own:
        return None
    side, weight = (_range(own.get(name)) for name in ("artwork_px", "artwork_kb"))
    form = own.get("artwork_format")
    return ArtworkRule(
        at_least_px=int(max(1, side.low)),
        at_most_px=int(min(_MOST_PX, side.high)),
        at_most_bytes=int(min(_MOST_KB, weight.high) * 1000),
        source=next(iter(own.values()))[1],
        format=str(form[0].first) if form else "JPEG",
    )


def _range(asked: tuple[Demand, str] | None) -> Range:
    return asked[0] if asked and isinstance(asked[0], Range) else OPEN


def _side(examined: Examined) -> str | float | None:
    picture = examined.artwork
    if picture and picture.width_px != picture.height_px:
        return f"{picture.width_px} × {picture.height_px} px"
    return picture.width_px if picture else None


def _picture_against(asked: Mapping[str, Demand], encoding: Encoding) -> str:
    extras = asked.get("extra_files")
    if holds(encoding.container, "picture") or (isinstance(extras, Items) and COVER in extras.values):
        return ""
    return Said("files-hold-no-picture-ask", container=encoding.container, cover=COVER)


def _chapters(examined: Examined) -> str:
    """Whether there are chapter marks, and any that cannot be right."""
    marks = examined.carried.chapters
    if not marks:
        return "none"
    if any(not mark.title.strip() for mark in marks):
        return Said("one-without-title")
    starts = [mark.start_s for mark in marks]
    if starts[0] > _FIRST_CHAPTER_S or starts != sorted(set(starts)) or starts[-1] >= examined.facts.duration_s:
        return "out of order"
    return ASKED


def _chapters_held(asked: Asked, examined: Examined) -> Finding:
    figure = _chapters(examined)
    if figure == ASKED and examined.texts and asked.kind.name in examined.texts:
        # Chapters are told apart by their titles; where they begin was looked at already.
        found = "\n".join(mark.title for mark in examined.carried.chapters)
        figure = ASKED if found == examined.texts[asked.kind.name] else Said("other-titles")
    return by_figure(asked, figure, examined)


def _chapters_against(asked: Mapping[str, Demand], encoding: Encoding) -> str:
    if not holds(encoding.container, "chapters"):
        return Said("files-hold-no-chapter-marks", container=encoding.container)
    files = asked.get("files")
    if asked["chapters"].first == FROM_SECTIONS and not (files and files.first == JOINED):
        return Said("chapter-marks-from-sections-want")
    return ""


_ARTWORK = RuleKind(
    name="",
    label="",
    group=PICTURES,
    takes=RANGE,
    digits=0,
    scope=BESIDE_SOUND,
    same_for_all=True,
    makes_another=False,
    advice=Advice(
        too_low=_PICTURE,
        too_high=_PICTURE,
        other=_PICTURE,
        terminal=Said("square-picture-terminal"),
    ),
    contradicts=_picture_against,
)

KINDS = [
    replace(
        _ARTWORK,
        name="artwork_px",
        label=Said("artwork-each-side"),
        unit="px",
        least=1,
        most=_MOST_PX,
        hint=Said("square-picture-every-file-larger"),
        figure=_side,
    ),
    replace(
        _ARTWORK,
        name="artwork_kb",
        label=Said("artwork-weight"),
        unit="kB",
        least=1,
        most=_MOST_KB,
        figure=lambda examined: examined.artwork.size_bytes / 1000 if examined.artwork else None,
    ),
    replace(
        _ARTWORK,
        name="artwork_format",
        label=Said("artwork-format"),
        takes=CHOICE,
        choices=("JPEG", "PNG"),
        figure=lambda examined: examined.artwork.format if examined.artwork else None,
    ),
    replace(
        _ARTWORK,
        name="chapters",
        label=Said("chapter-marks"),
        takes=CHOICE,
        choices=(FROM_SECTIONS, FROM_MARKS),
        advice=Advice(
            other=Said("give-every-section-every-mark"),
            terminal=Said("titled-marks-terminal"),
        ),
        figure=_chapters,
        alike=lambda figure, named: figure == ASKED,
        held=_chapters_held,
        contradicts=_chapters_against,
    ),
]
