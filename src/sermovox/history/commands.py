"""What screens can be asked to do by name. Undo and redo are among it on all of them."""

from collections.abc import Callable

from mastering.errors import MasteringError
from mastering.said import Said
from sermovox.history.changing import redo, undo


class NoSuchCommand(MasteringError):
    """Nothing goes by this name."""


def _plainly(command: Callable[..., str], *given) -> str:
    return command(*given)


class Commands:
    """Commands by name. Each takes what `run` is given behind the production, and says in a sentence what was done.

    `within` runs them, where something is to be done around each.
    """

    def __init__(self, within: Callable[..., str] = _plainly):
        self._within = within
        self._known: dict[str, Callable] = {}

    def __call__(self, name: str) -> Callable:
        """Register a command under this name."""

        def register(command: Callable[..., str]) -> Callable[..., str]:
            self._known[name] = command
            return command

        return register

    def run(self, name: str, production, *given) -> str:
        """Do it. Raises NoSuchCommand, and what the command raises."""
        if name == "undo":
            change = undo(production)
            return Said("undone", words=change.words) if change else Said("there-nothing-undo")
        if name == "redo":
            change = redo(production)
            return Said("done-again", words=change.words) if change else Said("there-nothing-do-again")
        if name not in self._known:
            raise NoSuchCommand(Said("there-no-such-change"))
        return self._within(self._known[name], *given)
