"""What looks after the bin of productions."""

from sermovox.productions.models import Production
from sermovox.work.recovery import looks_after


@looks_after
def bin_of_productions() -> None:
    """Empty it of what has lain there for as long as it keeps things."""
    for production in Production.with_deleted.outdated():
        production.empty_bin()
