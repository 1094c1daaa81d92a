"""What things are called over there, by the patterns of an outlet's way."""

import re

from django.utils import timezone

from mastering.naming.patterns import Facts, facts_of, read_pattern
from mastering.outlets.receiving import Receiving
from sermovox.deliveries.bundles import Bundle
from sermovox.sources.names import shared_facts

_UNSAFE = re.compile(r"[^\w .,()+'&-]")


def facts_over_there(bundle: Bundle, *, lines: bool = False) -> Facts:
    """What the patterns of an outlet's way know; `lines` keeps the line breaks of texts."""
    facts = shared_facts(bundle.production, bundle.outlet, len(bundle.files), timezone.localdate().isoformat())
    return facts_of([facts], lines=lines)[0]


def folder_over_there(bundle: Bundle, receiving: Receiving) -> str:
    """The folder by its pattern, with a slash at the end; empty for none. It never climbs out of where it begins."""
    known = facts_over_there(bundle)
    names = [read_pattern(part).name(known) for part in receiving.folder.split("/") if part.strip()]
    safe = [_UNSAFE.sub("-", name).strip(". ") for name in names]
    return "".join(f"{name}/" for name in safe if name)
