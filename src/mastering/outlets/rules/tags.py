"""Rules about tags."""

from collections.abc import Mapping
from dataclasses import replace

from mastering.audio.encodings import Encoding
from mastering.naming.patterns import read_pattern
from mastering.outlets.demands import Demand, Pattern
from mastering.outlets.findings import Finding
from mastering.outlets.rules.holding import NOTHING_KNOWN, THERE, THERE_IF_KNOWN, THERE_UNKNOWN, by_text, one_line
from mastering.outlets.rules.kind import (
    ASKED,
    BESIDE_SOUND,
    CHOICE,
    LEFT_OUT,
    PATTERN,
    TAGGING,
    Advice,
    Asked,
    Examined,
    RuleKind,
)
from mastering.said import Said, word
from mastering.tagging.inscription import TAGS
from mastering.tagging.writing import forms, holds

_WRITE_AGAIN = Said("write-tags-terminal")
_FACTS = Said("give-production-under-facts-artwork")
_ADVICE = {
    "title": Advice(
        other=Said("give-section-title-running-order"),
        terminal=Said("name-recording-terminal"),
    ),
    "track": Advice(
        other=Said("place-running-order-goes-here"),
        terminal=_WRITE_AGAIN,
    ),
    "lyrics": Advice(other=Said("give-section-text-notes-then")),
}


def _text(asked: Asked, examined: Examined) -> Finding:
    """A tag: it says what was expected, or where nothing is known of that, it is there."""
    figure, kind = asked.kind.found(examined) or "", asked.kind
    wanted = None if examined.texts is None else examined.texts.get(kind.name, "")
    optional = isinstance(asked.demand, Pattern) and read_pattern(asked.demand.text).optional
    there: str
    if wanted is None:
        there, right = THERE_IF_KNOWN if optional else THERE, bool(figure) or optional
    else:
        there = one_line(wanted) or (NOTHING_KNOWN if optional else THERE_UNKNOWN)
        right = figure == wanted and (bool(wanted) or optional)
    return by_text(asked, wanted=there, found=str(figure), right=right, advice=kind.advice.other)


def _kind(tag: str) -> RuleKind:
    name = f"tag_{tag}"
    otherwise = Said("give-fact-terminal", name=name)
    advice = _ADVICE.get(tag, Advice(other=_FACTS))

    def contradicts(asked: Mapping[str, Demand], encoding: Encoding) -> str:
        if holds(encoding.container, tag):
            return ""
        return Said("tags-files-no-place-take", container=encoding.container, tags=TAGS[tag], name=name)

    return replace(
        _TAG,
        name=name,
        label=Said("tag", tags=word(TAGS[tag])),
        takes=PATTERN,
        hint=Said("pattern-names"),
        advice=replace(advice, terminal=advice.terminal or otherwise),
        figure=lambda examined: examined.carried.tags.get(tag),
        held=_text,
        contradicts=contradicts,
    )


def _form_against(asked: Mapping[str, Demand], encoding: Encoding) -> str:
    if forms(encoding.container):
        return ""
    return Said("one-way-of-tagging", container=encoding.container)


_TAG = RuleKind(
    name="",
    label="",
    group=TAGGING,
    takes=CHOICE,
    scope=BESIDE_SOUND,
    same_for_all=True,
    makes_another=False,
    advice=Advice(other=Said("write-tags-again"), terminal=_WRITE_AGAIN),
)

KINDS = [
    replace(
        _TAG,
        name="tag_form",
        label=Said("way-tagging"),
        choices=("ID3v2.3", "ID3v2.4"),
        figure=lambda examined: examined.carried.form,
        contradicts=_form_against,
    ),
    *(_kind(tag) for tag in TAGS if tag != "encoder"),
    replace(
        _TAG,
        name="tag_encoder",
        label=Said("tag-encoder"),
        choices=(LEFT_OUT, ASKED),
        figure=lambda examined: ASKED if examined.carried.tags.get("encoder") else LEFT_OUT,
    ),
]
