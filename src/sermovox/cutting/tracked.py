"""Pages of recordings in the history of their production."""

from collections.abc import Sequence

from sermovox.cutting.models import Page
from sermovox.cutting.sectioning import touched_by
from sermovox.history.changing import Rows, tracks
from sermovox.history.models import Change
from sermovox.productions.models import Production
from sermovox.productions.order import refresh_lengths


class _Pages:
    """Those that are changed, by their keys."""

    prefix = "page "

    def state(self, production: Production, beside: Sequence) -> list[tuple[dict, dict, dict]]:
        return [page.state() for page in beside if isinstance(page, Page)]

    def difference(
        self, production: Production, was: list[tuple[dict, dict, dict]], beside: Sequence
    ) -> tuple[Rows, Rows]:
        old, new = {}, {}
        pages = [page for page in beside if isinstance(page, Page)]
        for page, before in zip(pages, was, strict=True):
            page_old, page_new = page.difference(before)
            if page_new:
                old[str(page.pk)], new[str(page.pk)] = page_old, page_new
        return old, new

    def apply(self, production: Production, rows: Rows) -> None:
        for page in production.pages.filter(pk__in=rows).select_related("recording"):
            before = page.marks, page.facts
            page.take_back(rows[str(page.pk)])
            refresh_lengths(production, touched_by(page, before))

    def forget(self, production: Production, changes: Sequence[Change]) -> None:
        """Nothing: marks lie in the page, and pages are never made by a change."""


tracks(_Pages())
