"""Rows of which a page is told no more than that they are as it has them."""

import hashlib

from django import template
from django.template import Engine
from django.template.context import Context
from django.utils.html import format_html
from django.utils.safestring import SafeString, mark_safe

register = template.Library()


@register.simple_tag(takes_context=True)
def drawn(context: Context, row: dict) -> SafeString:
    """A row of the running order with the digest of its cells as `data-drawn`; without its cells where that digest is
    among the context's `known`, which the page has already.
    """
    with context.push(row=row):
        cells = Engine.get_default().get_template("board/_row.html").render(context)
    digest = hashlib.blake2b(f"{row['key']} {cells}".encode(), digest_size=6).hexdigest()
    known = digest in (context.get("known") or ())
    return format_html(
        '<tr id="row-{}" data-section="{}" data-drawn="{}"{} tabindex="-1">{}</tr>',
        row["key"],
        row["key"],
        digest,
        mark_safe(" data-known" if known else " data-recorded" if row["recording"] else ""),
        "" if known else mark_safe(cells),
    )
