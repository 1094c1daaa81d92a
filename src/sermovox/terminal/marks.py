"""The marks inside a recording."""

import argparse
import sys
from pathlib import Path

from mastering.audio.reader import Reader
from mastering.editing.labels import FORMATS, write_labels
from mastering.errors import MasteringError
from mastering.meters.measurement import measure
from mastering.said import Said
from mastering.tagging.markers import read_markers, write_markers
from sermovox.running.speaking import say
from sermovox.terminal.shared import labels_of


def add_arguments(command: argparse.ArgumentParser) -> None:
    command.add_argument("file", type=Path, metavar="FILE")
    command.add_argument("--as", dest="kind", choices=list(FORMATS), default="txt", help="default: %(default)s")
    command.add_argument("--from", dest="marks", type=Path, metavar="MARKS", help=Said("file-marks-write"))
    command.add_argument("--copy", type=Path, metavar="FILE", help=Said("copy-write-from"))


def run(options) -> int:
    with Reader(options.file) as reader:
        rate_hz, container = reader.sample_rate_hz, reader.container
    if options.marks:
        if options.copy is None or options.copy.exists():
            raise MasteringError(Said("say-copy-where-copy-goes"))
        labels = labels_of(measure(options.file).facts, options.marks)
        write_markers(options.file, options.copy, labels, container=container, sample_rate_hz=rate_hz)
        say(Said("count-marks", copy=options.copy, count=len(labels)))
        return 0
    labels = read_markers(options.file, sample_rate_hz=rate_hz)
    sys.stdout.write(write_labels(labels, options.kind, file_name=options.file.name))
    return 0
