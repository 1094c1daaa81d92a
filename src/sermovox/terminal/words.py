"""Where the words of a script were spoken in a recording."""

import argparse
import sys
from pathlib import Path

from mastering.said import Said
from mastering.words.hearing import HeardScript
from mastering.words.proof import proof, readings_that_count, words_said
from mastering.words.timed import WRITERS, as_rows, in_cues
from sermovox.terminal.script import followed, takes_language, takes_script


def add_arguments(command: argparse.ArgumentParser) -> None:
    command.add_argument("file", type=Path, metavar="FILE")
    takes_script(command, required=True)
    takes_language(command)
    command.add_argument(
        "--as",
        dest="kind",
        choices=[*WRITERS, "labels", "proof"],
        default="labels",
        help=Said("subtitles-transcript-row-each-line"),
    )
    command.add_argument(
        "--most",
        type=int,
        metavar="CHARACTERS",
        help=Said("subtitles-so-many-characters-most"),
    )


def run(options) -> int:
    found = followed(options, by_sentences=options.kind != "labels")
    heard = found.heard
    if options.kind == "labels":
        rows = [((span.start_s, span.end_s) if span else None, line.text) for line, span in found.lines]
        sys.stdout.write(as_rows(rows))
    elif options.kind == "proof":
        sys.stdout.write(_proof(heard))
    else:
        said = [words_said(heard, reading) for reading in readings_that_count(heard) if reading]
        sys.stdout.write(WRITERS[options.kind](in_cues(sorted(said), options.most)))
    return 0


def _proof(heard: HeardScript) -> str:
    found = proof(heard)
    rows = [
        f"{each.start_s:.3f}\t{each.end_s:.3f}\t{each.kind}\t{'' if each.line is None else heard.lines[each.line]}\n"
        for each in found
    ]
    return "".join(["start\tend\twhat\tsentence\n", *rows])
