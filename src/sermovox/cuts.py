"""Pauses, marks and cuts from a terminal: what the page of a recording does, with files."""

import re
import sys
from pathlib import Path

from mastering.audio.facts import FileFacts
from mastering.audio.reader import Reader
from mastering.editing.labels import FORMATS, Label, read_labels, stretches_between, write_labels
from mastering.editing.pauses import SHORTEST_S, find_pauses, longer_than, longest, stretches
from mastering.editing.programme import BadCut, Piece, Span, check_span
from mastering.editing.texts import decoded
from mastering.errors import MasteringError
from mastering.meters.measurement import measure
from mastering.naming.checks import check_names
from mastering.naming.patterns import plain
from mastering.rendering import Programme, Track, save_wav
from mastering.tagging.markers import markers_inside, read_markers, write_markers

_SLASHES = re.compile(r"[/\\]")


def add_commands(commands) -> None:
    """Add `pauses`, `marks` and `cut` to the parser's commands."""
    finding = commands.add_parser("pauses", help="find the pauses of a recording, or the sections between them")
    finding.add_argument("file", type=Path, metavar="FILE")
    finding.add_argument("--sections", type=int, metavar="N", help="the N sections between the longest pauses")
    finding.add_argument("--longer-than", type=float, metavar="S", help="the sections between pauses of at least S s")
    finding.add_argument("--level", type=float, metavar="DB", help="what is quieter is a pause (default: found)")
    finding.add_argument("--shortest", type=float, default=SHORTEST_S, metavar="S", help="default: %(default)s s")
    finding.add_argument("--as", dest="kind", choices=list(FORMATS), default="txt", help="default: %(default)s")
    finding.set_defaults(run=_pauses)

    reading = commands.add_parser("marks", help="print the marks inside a recording, or write some into a copy")
    reading.add_argument("file", type=Path, metavar="FILE")
    reading.add_argument("--as", dest="kind", choices=list(FORMATS), default="txt", help="default: %(default)s")
    reading.add_argument("--from", dest="marks", type=Path, metavar="MARKS", help="file with the marks to write")
    reading.add_argument("--copy", type=Path, metavar="FILE", help="the copy to write, with --from")
    reading.set_defaults(run=_marks)

    cutting = commands.add_parser("cut", help="cut a recording into WAV files by marks, exact to the sample")
    cutting.add_argument("file", type=Path, metavar="FILE")
    cutting.add_argument("--marks", type=Path, required=True, metavar="MARKS", help="labels, CUE, CSV or chapter JSON")
    cutting.add_argument("--out", type=Path, required=True, metavar="DIR", help="folder for the pieces")
    cutting.set_defaults(run=_cut)


def _pauses(options) -> int:
    measurement = measure(options.file)
    duration_s = measurement.facts.frames / measurement.facts.sample_rate_hz
    pauses = find_pauses(measurement.levels.envelope, level_db=options.level, shortest_s=options.shortest)
    if options.sections or options.longer_than:
        cuts = longest(pauses, options.sections) if options.sections else longer_than(pauses, options.longer_than)
        labels = [Label(a, b, f"Section {n}") for n, (a, b) in enumerate(stretches(cuts, duration_s), 1)]
    else:
        edges = zip(pauses.starts_s, pauses.ends_s, strict=True)
        labels = [Label(float(a), min(float(b), duration_s), "pause") for a, b in edges]
    sys.stdout.write(write_labels(labels, options.kind, file_name=options.file.name))
    return 0


def _marks(options) -> int:
    with Reader(options.file) as reader:
        rate_hz, container = reader.sample_rate_hz, reader.container
    if options.marks:
        if options.copy is None or options.copy.exists():
            raise MasteringError("Say with --copy where the copy goes: a file that is not there yet.")
        labels = _labels_of(measure(options.file).facts, options.marks)
        write_markers(options.file, options.copy, labels, container=container, sample_rate_hz=rate_hz)
        print(f"{options.copy}: {len(labels)} marks.")
        return 0
    labels = read_markers(options.file, sample_rate_hz=rate_hz)
    sys.stdout.write(write_labels(labels, options.kind, file_name=options.file.name))
    return 0


def _cut(options) -> int:
    measured = measure(options.file).facts
    rate_hz, frames = measured.sample_rate_hz, measured.frames
    labels = _labels_of(measured, options.marks)
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


def _labels_of(recording: FileFacts, marks: Path) -> list[Label]:
    duration_s = recording.frames / recording.sample_rate_hz
    kind = marks.suffix.lower().removeprefix(".")
    if kind in FORMATS:
        return read_labels(decoded(marks.read_bytes())[0], kind, duration_s=duration_s)
    return markers_inside(marks, sample_rate_hz=recording.sample_rate_hz, duration_s=duration_s)
