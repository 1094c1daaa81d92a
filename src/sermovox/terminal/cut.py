"""A recording cut into WAV files."""

import argparse
import re
import sys
from pathlib import Path

from mastering.editing.labels import Label, stretches_between
from mastering.editing.pieces import BadCut, Piece, Span, check_span
from mastering.errors import MasteringError
from mastering.meters.measurement import measure
from mastering.naming.checks import check_names
from mastering.naming.patterns import plain
from mastering.rendering import Programme, Track, save_wav
from mastering.words.proof import readings_that_count, spans_of_lines, with_room
from sermovox.terminal.script import heard_of, takes_language, takes_script
from sermovox.terminal.shared import labels_of

_SLASHES = re.compile(r"[/\\]")


def add_arguments(command: argparse.ArgumentParser) -> None:
    command.add_argument("file", type=Path, metavar="FILE")
    where = command.add_mutually_exclusive_group(required=True)
    where.add_argument("--marks", type=Path, metavar="MARKS", help="labels, CUE, CSV or chapter JSON")
    takes_script(where, required=False)
    takes_language(command)
    command.add_argument("--out", type=Path, required=True, metavar="DIR", help="folder for the pieces")


def run(options) -> int:
    measured = measure(options.file).facts
    rate_hz, frames = measured.sample_rate_hz, measured.frames
    labels, wanted = (labels_of(measured, options.marks), []) if options.marks else _lines_read(options)
    spans = [Span("take", *edges) for edges in stretches_between(labels, rate_hz, frames)]
    for at, (label, span) in enumerate(zip(labels, spans, strict=True), 1):
        try:
            check_span(span, frames)
        except BadCut as error:
            raise BadCut(f"Mark {at}, “{label.name}”: {error} Nothing was cut.") from error
    stems = [_stem_of(label.name) for label in labels]
    names = wanted or [f"{at:02}-{stem[:60]}.wav" for at, stem in enumerate(stems, 1)]
    for problem in check_names(names, extensions=["wav"] * len(names)):
        if problem.grave:
            raise MasteringError(f"“{names[problem.index]}”: {problem.words} {problem.mend} Nothing was cut.")
    if there := next((name for name in names if (options.out / name).exists()), None):
        raise MasteringError(f"{there} exists already in {options.out}. Choose another folder. Nothing was cut.")
    options.out.mkdir(parents=True, exist_ok=True)
    for span, name in zip(spans, names, strict=True):
        programme = Programme((Piece(span=span),), {"take": [Track(options.file)]})
        print(f"{options.out / name}: {save_wav(programme, options.out / name)} samples")
    return 0


def _lines_read(options) -> tuple[list[Label], list[str]]:
    """Each line of the script that was read, with the pause beside it, and the names the client dictates, if any."""
    lines, parts, heard = heard_of(options.file, options.script, options.language)
    spans = spans_of_lines(readings_that_count(heard), parts)
    labels, names = [], []
    for line, span in zip(lines, spans, strict=True):
        if span is None:
            print(f"sermovox: “{line.text[:60]}” was not read, or not whole. It is not cut.", file=sys.stderr)
        else:
            start_s, end_s = with_room(heard, *span)
            labels.append(Label(start_s, end_s, line.text.rstrip(" .…!?")))
            names.append(f"{Path(line.name).stem}.wav" if line.name else "")
    if not labels:
        raise MasteringError(f"No line of {options.script.name} was read in {options.file.name}. Nothing was cut.")
    return labels, names if all(names) else []


def _stem_of(name: str) -> str:
    """The name of a piece, without its ending; slashes, which no name can hold, are replaced, and that is said."""
    stem = "-".join(_SLASHES.sub("-", plain(name)).lower().split()) or "piece"
    if _SLASHES.search(name):
        print(f"sermovox: “{name}” holds a slash, which no file name can; it becomes {stem}.", file=sys.stderr)
    return stem
