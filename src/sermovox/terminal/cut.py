"""A recording cut into WAV files."""

import argparse
import re
import sys
from pathlib import Path

from mastering.editing.labels import stretches_between
from mastering.editing.pieces import BadCut, Piece, Span, check_span
from mastering.errors import MasteringError
from mastering.meters.measurement import measure
from mastering.naming.checks import check_names
from mastering.naming.patterns import plain
from mastering.rendering import Programme, Track, save_wav
from sermovox.terminal.shared import labels_of

_SLASHES = re.compile(r"[/\\]")


def add_arguments(command: argparse.ArgumentParser) -> None:
    command.add_argument("file", type=Path, metavar="FILE")
    command.add_argument("--marks", type=Path, required=True, metavar="MARKS", help="labels, CUE, CSV or chapter JSON")
    command.add_argument("--out", type=Path, required=True, metavar="DIR", help="folder for the pieces")


def run(options) -> int:
    measured = measure(options.file).facts
    rate_hz, frames = measured.sample_rate_hz, measured.frames
    labels = labels_of(measured, options.marks)
    spans = [Span("take", *edges) for edges in stretches_between(labels, rate_hz, frames)]
    for at, (label, span) in enumerate(zip(labels, spans, strict=True), 1):
        try:
            check_span(span, frames)
        except BadCut as error:
            raise BadCut(f"Mark {at}, “{label.name}”: {error} Nothing was cut.") from error
    stems = [_stem_of(label.name) for label in labels]
    names = [f"{at:02}-{stem[:60]}.wav" for at, stem in enumerate(stems, 1)]
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


def _stem_of(name: str) -> str:
    """The name of a piece, without its ending; slashes, which no name can hold, are replaced, and that is said."""
    stem = "-".join(_SLASHES.sub("-", plain(name)).lower().split()) or "piece"
    if _SLASHES.search(name):
        print(f"sermovox: “{name}” holds a slash, which no file name can; it becomes {stem}.", file=sys.stderr)
    return stem
