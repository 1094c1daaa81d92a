"""The pauses of a recording."""

import argparse
import sys
from pathlib import Path

from mastering.editing.labels import FORMATS, Label, write_labels
from mastering.editing.pauses import SHORTEST_S, find_pauses, longer_than, longest, stretches
from mastering.meters.measurement import measure
from mastering.said import Said


def add_arguments(command: argparse.ArgumentParser) -> None:
    command.add_argument("file", type=Path, metavar="FILE")
    command.add_argument("--sections", type=int, metavar="N", help=Said("n-sections-between-longest-pauses"))
    command.add_argument("--longer-than", type=float, metavar="S", help=Said("sections-between-pauses-least-s"))
    command.add_argument("--level", type=float, metavar="DB", help=Said("what-quieter-pause-default-found"))
    command.add_argument("--shortest", type=float, default=SHORTEST_S, metavar="S", help="default: %(default)s s")
    command.add_argument("--as", dest="kind", choices=list(FORMATS), default="txt", help="default: %(default)s")


def run(options) -> int:
    measurement = measure(options.file)
    duration_s = measurement.facts.frames / measurement.facts.sample_rate_hz
    pauses = find_pauses(measurement.levels.envelope, level_db=options.level, shortest_s=options.shortest)
    if options.sections or options.longer_than:
        cuts = longest(pauses, options.sections) if options.sections else longer_than(pauses, options.longer_than)
        labels = [Label(a, b, f"Section {n}") for n, (a, b) in enumerate(stretches(list(cuts), duration_s), 1)]
    else:
        edges = zip(pauses.starts_s, pauses.ends_s, strict=True)
        labels = [Label(float(a), min(float(b), duration_s), "pause") for a, b in edges]
    sys.stdout.write(write_labels(labels, options.kind, file_name=options.file.name))
    return 0
