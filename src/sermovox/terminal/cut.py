"""A recording cut into WAV files."""

import argparse
import re
import sys
from pathlib import Path

from mastering.editing.labels import Label, stretches_between
from mastering.editing.pieces import BadCut, Piece, Span, check_span
from mastering.errors import MasteringError
from mastering.meters.measurement import measure
from mastering.naming.checks import check_names, fitted_ending
from mastering.naming.patterns import plain
from mastering.rendering import Programme, Track, save_wav
from mastering.said import Said
from mastering.words.proof import with_room
from sermovox.running.speaking import say
from sermovox.terminal.script import Followed, followed, takes_language, takes_script
from sermovox.terminal.shared import labels_of

_SLASHES = re.compile(r"[/\\]")


def add_arguments(command: argparse.ArgumentParser) -> None:
    command.add_argument("file", type=Path, metavar="FILE")
    where = command.add_mutually_exclusive_group(required=True)
    where.add_argument("--marks", type=Path, metavar="MARKS", help=Said("labels-cue-csv-chapter-json"))
    takes_script(where, required=False)
    takes_language(command)
    command.add_argument("--out", type=Path, required=True, metavar="DIR", help=Said("folder-pieces"))


def run(options) -> int:
    if options.script:
        found = followed(options)
        facts, (labels, wanted) = found.facts, _lines_read(found, options)
    else:
        facts = measure(options.file).facts
        labels, wanted = labels_of(facts, options.marks), []
    rate_hz, frames = facts.sample_rate_hz, facts.frames
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
        raise MasteringError(Said("exists-already-choose-another-folder", there=there, out=options.out))
    options.out.mkdir(parents=True, exist_ok=True)
    for span, name in zip(spans, names, strict=True):
        programme = Programme((Piece(span=span),), {"take": [Track(options.file)]})
        say(Said("count-samples", path=options.out / name, count=save_wav(programme, options.out / name)))
    return 0


def _lines_read(found: Followed, options) -> tuple[list[Label], list[str]]:
    """Each line of the script that was read, with the pause beside it, and the names the client dictates, if any."""
    labels, names = [], []
    for line, span in found.lines:
        if span is None:
            say(Said("sermovox-not-read-not-cut", text=line.text[:60]), file=sys.stderr)
            continue
        if not span.whole:
            say(Said("sermovox-read-part-hear-file", text=line.text[:60]), file=sys.stderr)
        labels.append(Label(*with_room(found.heard, span), line.text.rstrip(" .…!?")))
        names.append(fitted_ending(line.name, "wav"))
    if not labels:
        raise MasteringError(Said("no-line-read-nothing-cut", name=options.script.name, name_2=options.file.name))
    return labels, names if all(names) else []


def _stem_of(name: str) -> str:
    """The name of a piece, without its ending; slashes, which no name can hold, are replaced, and that is said."""
    stem = "-".join(_SLASHES.sub("-", plain(name)).lower().split()) or "piece"
    if _SLASHES.search(name):
        say(Said("sermovox-holds-slash-which-no", name=name, stem=stem), file=sys.stderr)
    return stem
