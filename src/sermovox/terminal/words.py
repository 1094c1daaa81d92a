"""Where the words of a script were spoken in a recording."""

import argparse
import sys
from pathlib import Path

from mastering.editing.documents import is_package
from mastering.editing.texts import decoded
from mastering.errors import MasteringError
from mastering.meters.measurement import measure
from mastering.words.hearing import HeardScript, hear
from mastering.words.lines import in_sentences, script_lines
from mastering.words.proof import proof, readings_that_count, spans_of_lines
from mastering.words.timed import WRITERS, Said, as_rows
from sermovox.apart import document_text

_MEASURED = 0.2


def add_arguments(command: argparse.ArgumentParser) -> None:
    command.add_argument("file", type=Path, metavar="FILE")
    command.add_argument("--script", type=Path, required=True, metavar="TEXT", help="text, table, DOCX or EPUB")
    command.add_argument("--language", default="en", metavar="TAG", help="that of the script (default: %(default)s)")
    command.add_argument(
        "--as",
        dest="kind",
        choices=[*WRITERS, "labels", "proof"],
        default="labels",
        help="subtitles, a transcript, a row for each line, or what was read (default: %(default)s)",
    )


def run(options) -> int:
    lines = [line.text for line in script_lines(_text_of(options.script))]
    if not lines:
        raise MasteringError(f"There are no words in {options.script.name}. Choose the text that was read.")
    parts_of, parts = in_sentences(lines)
    envelope = measure(options.file, progress=_told(0, _MEASURED)).levels.envelope
    heard = hear(options.file, parts_of, language=options.language, envelope=envelope, progress=_told(_MEASURED, 1))
    if heard.is_another:
        raise MasteringError(
            f"Hardly anything that is said in {options.file.name} stands in {options.script.name}. "
            "Choose the text that was read, and the language it is in."
        )
    if options.kind == "labels":
        spans = spans_of_lines(readings_that_count(heard), parts)
        sys.stdout.write(as_rows(list(zip(spans, lines, strict=True))))
    elif options.kind == "proof":
        sys.stdout.write(_proof(heard))
    else:
        counted = filter(None, readings_that_count(heard))
        said = [Said(reading.start_s, reading.end_s, heard.lines[reading.line]) for reading in counted]
        sys.stdout.write(WRITERS[options.kind](sorted(said)))
    return 0


def _proof(heard: HeardScript) -> str:
    found = proof(heard)
    rows = [
        f"{each.start_s:.3f}\t{each.end_s:.3f}\t{each.kind}\t{'' if each.line is None else heard.lines[each.line]}\n"
        for each in found
    ]
    return "".join(["start\tend\twhat\tsentence\n", *rows])


def _text_of(path: Path) -> str:
    data = path.read_bytes()
    return document_text(data) if is_package(data) else decoded(data)[0]


def _told(first: float, last: float):
    """Says on a terminal how far it is; a file or another program gets the result alone."""

    def tell(share: float) -> None:
        if sys.stderr.isatty():
            done = first + share * (last - first)
            print(f"\r{done:4.0%} " if done < 1 else "\r     \r", end="", file=sys.stderr, flush=True)

    return tell
