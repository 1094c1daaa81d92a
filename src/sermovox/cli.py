"""The same core from a terminal."""

import argparse
import os
import sys
from collections.abc import Sequence
from importlib import import_module
from importlib.metadata import version
from pathlib import Path
from typing import NoReturn

from mastering import VERSION
from mastering.errors import MasteringError
from mastering.said import Said
from sermovox.running.speaking import spoken
from sermovox.terminal import COMMANDS, EXAMPLES
from sermovox.terminal.complaints import complain


def main(arguments: list[str] | None = None) -> int:
    """Run one command. Returns the exit status: 0 all well, 1 a rule fails or a file cannot be used."""
    given = sys.argv[1:] if arguments is None else arguments
    try:
        options = parser(given[:1]).parse_args(given)
        if "as_given" in options:
            import_module("sermovox.terminal.said").put_in_order(options)
        return options.run(options)
    except MasteringError as error:
        return complain(error)
    except BrokenPipeError:
        # Whoever read the output has read enough, as `| head` does.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except OSError as error:
        return complain(
            MasteringError(Said("choose-another-file-folder", filename=error.filename, strerror=error.strerror))
        )
    except KeyboardInterrupt:
        return 130


class _Parser(argparse.ArgumentParser):
    """One that knows why a file's name is taken for an option."""

    _given: Sequence[str] = ()

    def add_argument(self, *names, **how):
        return super().add_argument(*names, **how | ({"help": spoken(how["help"])} if "help" in how else {}))

    def parse_known_args(self, args=None, namespace=None):
        self._given = list(args or ())
        return super().parse_known_args(args, namespace)

    def error(self, message: str) -> NoReturn:
        dashed = [each for each in self._given if each.startswith("-") and Path(each).exists()]
        if dashed:
            message += spoken(Said("name-begins-taken-option-write", dashed=dashed[0]))
        super().error(message)


def parser(asked: list[str]) -> argparse.ArgumentParser:
    """What understands the command line; of the commands only those that are asked for are read."""
    whole = _Parser(prog="sermovox", description=spoken(Said("make-prove-spoken-word-files")))
    said = f"sermovox {version('sermovox')} (core {VERSION})"
    whole.add_argument("--version", action="version", version=said)
    commands = whole.add_subparsers(required=True, metavar="COMMAND")
    for name, words in COMMANDS.items():
        told, example = spoken(words), spoken(Said("example-of", example=EXAMPLES[name]))
        command = commands.add_parser(name, help=told, description=f"{told[0].upper()}{told[1:]}.", epilog=example)
        if name in asked:
            module = import_module(f"sermovox.terminal.{name}")
            module.add_arguments(command)
            command.set_defaults(run=module.run, parser=parser)
    return whole


if __name__ == "__main__":
    sys.exit(main())
