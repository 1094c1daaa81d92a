"""Which facts of a production its outlets ask for, and which of these it has not."""

from collections.abc import Iterable
from dataclasses import dataclass

from django.utils.text import get_text_list

from mastering.naming.patterns import read_pattern
from mastering.outlets.outlet import Outlet
from mastering.said import Said
from sermovox.productions.models import Production

_FIELDS = ("subtitle", "author", "narrator", "publisher", "year", "language", "genre", "description", "contact", "code")
_LABELS = {field.name: str(field.verbose_name) for field in Production._meta.fields if field.name in _FIELDS}
_LABELS["copyright"] = Said("copyright-line")


@dataclass(frozen=True)
class Missing:
    """What an outlet has no word of: `asked` keeps its files from passing, `told` would be in them if it were known."""

    outlet: Outlet
    asked: tuple[str, ...]
    told: tuple[str, ...]

    @property
    def asked_in_words(self) -> str:
        return str(get_text_list(list(self.asked), "and"))

    @property
    def told_in_words(self) -> str:
        return str(get_text_list(list(self.told), "and"))


def missing_facts(production: Production, outlets: Iterable[Outlet]) -> list[Missing]:
    """What is missing at each outlet, those where nothing is left out; each fact as its field is labelled."""
    known = production.name_facts()
    found = []
    for outlet in outlets:
        patterns = [read_pattern(text) for text in outlet.tag_patterns.values()]
        asked, told = (
            {
                _LABELS[name]
                for pattern in patterns
                if pattern.optional == optional
                for name in pattern.fields & _LABELS.keys()
                if known[name] in ("", None)
            }
            for optional in (False, True)
        )
        if outlet.artwork is not None and not production.artwork_sha256:
            asked.add("artwork")
        if asked or told:
            found.append(Missing(outlet, tuple(sorted(asked)), tuple(sorted(told - asked))))
    return found
