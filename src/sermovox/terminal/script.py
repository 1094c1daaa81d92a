"""A script given to a command, and where it is heard in a recording."""

import argparse
from dataclasses import dataclass
from pathlib import Path

from mastering.audio.facts import FileFacts
from mastering.errors import MasteringError
from mastering.meters.measurement import measure
from mastering.said import Said
from mastering.words.hearing import HeardScript, hear
from mastering.words.lines import ScriptLine, in_sentences, script_lines
from mastering.words.proof import LineSpan, spans_of_lines
from sermovox.keeping.apart import text_in
from sermovox.terminal.said import progress_of

_MEASURED = 0.2


@dataclass(frozen=True)
class Followed:
    """A recording that was followed along a script: its facts, the lines with where each lies, and what was heard."""

    facts: FileFacts
    lines: list[tuple[ScriptLine, LineSpan | None]]
    heard: HeardScript


def takes_script(command, *, required: bool) -> None:
    command.add_argument("--script", type=Path, required=required, metavar="TEXT", help=Said("text-table-docx-epub"))


def takes_language(command: argparse.ArgumentParser) -> None:
    command.add_argument("--language", default="en", metavar="TAG", help=Said("script-default-default-s"))


def followed(options, *, by_sentences: bool = False) -> Followed:
    """Find the script in the file, line by line, or sentence by sentence in whatever is no line of its own. Raises
    MasteringError, also where the recording holds another text.
    """
    lines = script_lines(text_in(options.script.read_bytes()))
    if not lines:
        raise MasteringError(Said("there-no-words-choose-text", name=options.script.name))
    texts = [line.text for line in lines]
    told, parts = in_sentences(texts, together=0) if by_sentences else in_sentences(texts)
    tell = progress_of(options.file)
    measured = measure(options.file, progress=lambda share: tell("measuring", _MEASURED * share))
    heard = hear(
        options.file,
        told,
        language=options.language,
        envelope=measured.levels.envelope,
        progress=lambda share: tell("listening", _MEASURED + (1 - _MEASURED) * share),
    )
    if heard.is_another:
        raise MasteringError(
            Said("hardly-anything-said-stands-choose", name=options.file.name, name_2=options.script.name)
        )
    return Followed(measured.facts, list(zip(lines, spans_of_lines(heard, parts), strict=True)), heard)
