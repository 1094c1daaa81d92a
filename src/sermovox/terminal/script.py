"""A script given to a command, and where it is heard in a recording."""

import argparse
import sys
from pathlib import Path

from mastering.editing.documents import is_package
from mastering.editing.texts import decoded
from mastering.errors import MasteringError
from mastering.meters.measurement import measure
from mastering.words.hearing import HeardScript, hear
from mastering.words.lines import ScriptLine, in_sentences, script_lines
from sermovox.apart import document_text

_MEASURED = 0.2


def takes_script(command, *, required: bool) -> None:
    command.add_argument("--script", type=Path, required=required, metavar="TEXT", help="text, table, DOCX or EPUB")


def takes_language(command: argparse.ArgumentParser) -> None:
    command.add_argument("--language", default="en", metavar="TAG", help="that of the script (default: %(default)s)")


def heard_of(recording: Path, script: Path, language: str) -> tuple[list[ScriptLine], list[range], HeardScript]:
    """The lines of a script, which of the sentences that were listened for make up each, and what was heard.

    Raises MasteringError, also where the recording holds another text.
    """
    data = script.read_bytes()
    lines = script_lines(document_text(data) if is_package(data) else decoded(data)[0])
    if not lines:
        raise MasteringError(f"There are no words in {script.name}. Choose the text that was read.")
    told, parts = in_sentences([line.text for line in lines])
    envelope = measure(recording, progress=_told(0, _MEASURED)).levels.envelope
    heard = hear(recording, told, language=language, envelope=envelope, progress=_told(_MEASURED, 1))
    if heard.is_another:
        raise MasteringError(
            f"Hardly anything that is said in {recording.name} stands in {script.name}. "
            "Choose the text that was read, and the language it is in."
        )
    return lines, parts, heard


def _told(first: float, last: float):
    """Says on a terminal how far it is; a file or another program gets the result alone."""

    def tell(share: float) -> None:
        if sys.stderr.isatty():
            done = first + share * (last - first)
            print(f"\r{done:4.0%} " if done < 1 else "\r     \r", end="", file=sys.stderr, flush=True)

    return tell
