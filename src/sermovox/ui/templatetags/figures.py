"""How figures are written: every number with its unit, times as h:mm:ss."""

import re
from functools import lru_cache

from django import template
from django.utils.dateformat import format as date_format
from django.utils.html import format_html, format_html_join
from django.utils.translation import get_language, gettext

from mastering.clock import clock as as_clock
from mastering.outlets.findings import FAIL, PASS, REMARK
from mastering.said import Said
from sermovox.ui import scales, words

register = template.Library()
register.filter("said", words.said)
register.filter("said_each", words.said_each)
register.filter("spoken", words.spoken)

MARKS = {
    "to do": "todo",
    "waiting": "waiting",
    "making": "making",
    "passes": "passes",
    "passes with a remark": "remark",
    "fails": "fails",
    "cannot be made": "refused",
    "cancelled": "cancelled",
    "changed since": "changed",
    "replaced": "replaced",
    "sending": "sending",
    "sent": "sent",
    "there": "there",
    "arrived": "arrived",
    "paused": "paused",
    "stuck": "stuck",
}


@register.filter
def clock(seconds) -> str:
    """h:mm:ss, or m:ss below an hour; an en dash when not known."""
    return "–" if seconds is None or seconds == "" else as_clock(float(seconds))


@register.filter
def roughly(seconds) -> str:
    """How long something will still take, in words."""
    if seconds is None:
        return words.said(Said("working-out-time-left"))
    seconds = float(seconds)
    if seconds < 5:
        return words.said(Said("few-seconds-left"))
    if seconds < 90:
        return words.said(Said("about-s-left", seconds=round(seconds / 5) * 5))
    return words.said(Said("about-min-left", seconds=round(seconds / 60)))


@register.filter
def size(count) -> str:
    """Bytes in the largest fitting decimal unit."""
    count = float(count or 0)
    for unit, digits in (("B", 0), ("kB", 0), ("MB", 1)):
        if count < 1000:
            return words.decimals(f"{count:.{digits}f} {unit}")
        count /= 1000
    return words.decimals(f"{count:.2f} GB")


@register.filter
def level(value, unit: str) -> str:
    """A level with its unit, true minus sign and one decimal."""
    if value is None or value == "":
        return words.said("none")
    # Adding zero takes the sign off a minus nought.
    return words.decimals(f"{round(value, 1) + 0.0:.1f} {unit}".replace("-", "−"))


@register.filter
def bare(value) -> str:
    """A level alone, where its unit stands above it; an en dash when there is none."""
    return "–" if value is None else words.decimals(f"{round(value, 1) + 0.0:.1f}".replace("-", "−"))


@register.filter
def whole(value) -> str:
    """A whole number, on an axis."""
    return f"{value:.0f}".replace("-", "−")


@register.filter
def signed(value) -> str:
    """A gain with its sign, dB."""
    return words.decimals(f"{round(value, 1) + 0.0:+.1f}".replace("-", "−"))


@register.filter
def add_px(value, more) -> float:
    """A place a little further on, in a picture."""
    return round(float(value) + float(more), 1)


@register.filter
def from_top(at) -> float:
    """A place in percent from below, from above."""
    return round(100 - float(at), 2)


@register.filter
def percent(share) -> int:
    """A share from 0 to 1 as a whole percentage."""
    return round(100 * float(share or 0))


@register.filter
def proper(text: str) -> str:
    """What a rule or a step says, in the reader's language. Hyphens that stand for a minus become one; those inside
    names and dates stay.
    """
    return _minus(words.said(text))


def _minus(text: str) -> str:
    return re.sub(r"(?<![\w-])-(?=\d)", "−", text)


@register.filter
def figure_or_text(finding, which: str) -> str:
    """What was asked or found: a text that people wrote stays as it is, all else is said in the reader's language."""
    return _minus(words.spoken(finding[which]))


@register.inclusion_tag("_scale.html")
def scale(finding) -> dict:
    """Where what was found lies among what is asked, where that is a range."""
    told = finding.get("scale")
    return {"drawn": scales.drawn(told) if told else None, "mark": MARKS[finding["verdict"]]}


@register.filter
def worst_first(findings) -> list:
    """Findings with those that fail first, then those with a remark."""
    order = (FAIL, REMARK, PASS)
    return sorted(findings, key=lambda each: order.index(each["verdict"]))


@register.filter
def moment(when) -> str:
    """A point in time; the page shows it in the reader's own time zone."""
    return format_html('<time datetime="{}">{} UTC</time>', when.isoformat(), date_format(when, "j M Y, H:i"))


@register.filter
def day(when) -> str:
    """A day, as the reader's language writes it."""
    return date_format(when, "j. M Y" if (get_language() or "").startswith("de") else "j M Y")


@register.filter
def first_sentence(text: str) -> str:
    """What stands before the first full stop or colon, in the reader's language."""
    return re.split(r"\s?[.:](?:\s|$)", words.said(text), maxsplit=1)[0] + "."


@register.simple_tag
def crossings(cells: tuple[tuple[str, str, str, str, str], ...], section: str, outlets: tuple[str, ...]) -> str:
    """A row's cells under the outlets: (outlet's key, state, the same in words, address or "", how done it is), with
    the titles of section and outlets, by which marks are called for those who do not see where they stand.
    """
    return _crossings(cells, section, outlets, get_language())


@lru_cache(maxsize=4096)
def _crossings(cells, section: str, outlets: tuple[str, ...], language: str | None) -> str:
    return format_html_join(
        "",
        '<td class="crossing" data-outlet="{}" data-done="{}" data-label="{}">{}</td>',
        (
            (
                key,
                done,
                outlet,
                format_html('<a href="{}">{}</a>', address, sign) if address else sign,
            )
            for (key, state, told, address, done), outlet in zip(cells, outlets, strict=True)
            if (sign := mark(state, f"{words.said(told)}, {section}, {outlet}"))
        ),
    )


@register.simple_tag
def mark(state: str, called: str = "") -> str:
    """The mark of a state: its own shape, with its word for those who do not see it, or more about it."""
    # What stands in a template is marked as safe, which words.said takes for markup.
    return _mark(state, called or words.said("" + state))


@lru_cache(maxsize=256)
def _mark(state: str, called: str) -> str:
    return format_html(
        '<svg class="sign sign-{0}" role="img" aria-label="{1}"><title>{1}</title><use href="#mark-{0}"/></svg>',
        MARKS[state],
        called,
    )


@register.simple_tag
def key(pressed: str, does: str, **params) -> str:
    """The key of a button or a link, and what it does, for the list of keys: English, as catalogues hold it."""
    return format_html('data-key="{}" data-key-does="{}"', pressed, _told(does, params))


@register.simple_tag
def bar(share: float, called: str = "", *, label: str = "", **params) -> str:
    """How far something is, from 0 to 1: called in English, as catalogues hold it, or by a `label` that is a name."""
    return format_html(
        '<span class="bar" role="progressbar" aria-label="{}" aria-valuemin="0" aria-valuemax="100" '
        'aria-valuenow="{share}"><i style="width: {share}%"></i></span>',
        label or _told(called, params),
        share=percent(share),
    )


def _told(english: str, params: dict) -> str:
    # What a template writes is taken for safe HTML, and would stay so with names put into it; added to, it is text.
    told = gettext("" + english)
    return told % params if params else told


_LAID_OUT = {'<aside class="margin': "noted", 'id="rule-sheet"': "noted", '<div class="cutting"': "cut"}
"""What lays out a page of its own, and the class by which its style knows."""


class _Sheet(template.Node):
    def __init__(self, content: template.NodeList):
        self.content = content

    def render(self, context) -> str:
        content = self.content.render(context)
        classes = ["sheet", *dict.fromkeys(name for sign, name in _LAID_OUT.items() if sign in content)]
        return f'<main id="main" class="{" ".join(classes)}">{content}</main>'


@register.tag("sheet")
def sheet(parser, token) -> template.Node:
    """What is a page's own, from here to `endsheet`. A style that looked for what is in it (`:has`) would be worked out
    anew for all of a page with every change of it, however small.
    """
    content = parser.parse(("endsheet",))
    parser.delete_first_token()
    return _Sheet(content)
