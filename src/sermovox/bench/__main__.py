"""Print the tables."""

import argparse
from pathlib import Path

from mastering.outlets.rulesheets import shipped
from mastering.pipeline import make
from sermovox.bench import book, core, desk, flushing, idle, levelling, listening, outlets, page, proof, sending, words
from sermovox.bench.tools import RATE_HZ, ROUNDS, line


def main() -> None:
    parser = argparse.ArgumentParser(prog="bench")
    parser.add_argument("--minutes", type=int, default=60, help="length of the recording (default: %(default)s)")
    parser.add_argument(
        "--only",
        choices=[
            "core",
            "levels",
            "outlets",
            "book",
            "desk",
            "page",
            "flushing",
            "idle",
            "sending",
            "words",
            "proof",
            "listening",
        ],
        help="only one of the parts",
    )
    parser.add_argument("--picture", type=Path, metavar="FILE", help="draw where the time of one file goes, as SVG")
    parser.add_argument("--peak-memory-of", metavar="FILE", help=argparse.SUPPRESS)
    parser.add_argument("--make", nargs=2, metavar=("FILE", "TARGET"), help=argparse.SUPPRESS)
    parser.add_argument("--words-of", metavar="FOLDER", help=argparse.SUPPRESS)
    options = parser.parse_args()
    if options.peak_memory_of:
        core.report_peak_memory(Path(options.peak_memory_of))
    elif options.words_of:
        words.report(Path(options.words_of))
    elif options.make:
        make(Path(options.make[0]), shipped()[core.OUTLET], Path(options.make[1]), replace=True)
    else:
        _tables(options)


def _tables(options) -> None:
    minutes = options.minutes
    print(f"# {minutes} minutes of mono speech at {RATE_HZ} Hz, 16 bit; times are medians of {ROUNDS} rounds\n")
    line("what", "time", "ratio", "asked")
    line("---", "---", "---", "---")
    if options.only in (None, "core"):
        core.tables(minutes, options.picture)
    if options.only in (None, "levels"):
        levelling.tables(minutes)
    if options.only in (None, "outlets"):
        outlets.tables(minutes)
    if options.only in (None, "book"):
        book.tables()
    if options.only in (None, "desk"):
        desk.tables()
    if options.only in (None, "page"):
        page.tables()
    if options.only in (None, "flushing"):
        flushing.tables()
    if options.only in (None, "idle"):
        idle.tables()
    if options.only in (None, "sending"):
        sending.tables()
    if options.only in (None, "words"):
        words.tables()
    if options.only in (None, "proof"):
        proof.tables()
    if options.only in (None, "listening"):
        listening.tables()


if __name__ == "__main__":
    main()
