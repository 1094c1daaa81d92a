"""The same core from a terminal."""

import argparse
import os
import sys
from importlib import import_module

from mastering.errors import MasteringError
from sermovox.terminal import COMMANDS
from sermovox.terminal.said import complain, put_in_order


def main(arguments: list[str] | None = None) -> int:
    """Run one command. Returns the exit status: 0 all well, 1 a rule fails or a file cannot be used."""
    options = _parsed(sys.argv[1:] if arguments is None else arguments)
    if "as_given" in options:
        put_in_order(options)
    try:
        return options.run(options)
    except MasteringError as error:
        return complain(error)
    except BrokenPipeError:
        # Whoever read the output has read enough, as `| head` does.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except OSError as error:
        return complain(MasteringError(f"{error.filename}: {error.strerror}. Choose another file or folder."))
    except KeyboardInterrupt:
        return 130


def _parsed(arguments: list[str]) -> argparse.Namespace:
    parser = argparse.ArgumentParser(prog="sermovox", description="Make and prove spoken-word files.")
    commands = parser.add_subparsers(required=True, metavar="COMMAND")
    for name, words in COMMANDS.items():
        command = commands.add_parser(name, help=words)
        if arguments[:1] == [name]:
            module = import_module(f"sermovox.terminal.{name}")
            module.add_arguments(command)
            command.set_defaults(run=module.run)
    return parser.parse_args(arguments)


if __name__ == "__main__":
    sys.exit(main())
