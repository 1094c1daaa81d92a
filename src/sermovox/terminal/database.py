"""The database, for commands that want one of the right shape."""

from django.core.management import call_command

import sermovox.running.ready  # noqa: F401


def migrated() -> None:
    """Bring it into its newest shape, or make it."""
    call_command("migrate", verbosity=0)
