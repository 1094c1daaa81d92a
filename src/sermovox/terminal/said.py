"""What the commands of the terminal share."""

import argparse
import json
import sys
import time
from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path

from mastering.clock import clock
from mastering.editing.texts import decoded
from mastering.errors import MasteringError
from mastering.meters.measurement import Measurement
from mastering.naming.checks import natural_order
from mastering.outlets.findings import FAIL, CheckSheet
from mastering.outlets.outlet import CONTENT_KINDS, Outlet
from mastering.outlets.rules import RULE_KINDS
from mastering.outlets.rulesheets import parse, shipped
from mastering.said import ENGLISH, Said, speak, together
from sermovox.running.speaking import LANGUAGE, say, spoken


def time_left(began_s: float, share: float) -> str:
    """How a line of progress ends: how long it will take from now, begun then by the monotonic clock."""
    if share <= 0.02:
        return ""
    return spoken(Said("and-time-left", left=clock((time.monotonic() - began_s) * (1 - share) / share)))


def progress_of(path: Path, done: int = 0, of: int = 1):
    """A line on standard error that tells how far a file is and how long it will take, and which of how many it is,
    where somebody looks.
    """
    if not sys.stderr.isatty():
        return lambda stage, share: None
    began = time.monotonic()
    which = spoken(Said("one-of-several", one=done + 1, of=of)) if of > 1 else ""

    def tell(stage: str, share: float) -> None:
        said = f"{which}{path.name}: {spoken(stage)}, {share:.0%}{time_left(began, share)}"
        print(f"\r{said}\033[K", end="" if share < 1 else "\n", file=sys.stderr)

    return tell


def takes_files(command: argparse.ArgumentParser) -> None:
    """Let a command take files, and answer in JSON."""
    takes_paths(command)
    command.add_argument("--json", action="store_true", help=Said("json-list-one-object-per"))


def takes_quiet(command: argparse.ArgumentParser) -> None:
    """Let a command print no more than what fails, and how it went."""
    command.add_argument("--quiet", action="store_true", help=Said("print-only-what-fails-how"))


class Summary:
    """How a command went, told at the end on standard error: how many files, their verdicts, sizes and the time."""

    def __init__(self, files: Sequence[Path], *, made: bool):
        self._made, self._began = made, time.monotonic()
        self._before_bytes = sum(path.stat().st_size for path in files if path.is_file())
        self._of = len(files)
        self._after_bytes = 0
        self.verdicts: list[str] = []
        self.refused = 0
        self.finished: list[Path] = []

    def add(self, path: Path, verdict: str) -> None:
        """One is done."""
        self.verdicts.append(verdict)
        self.finished.append(path)
        self._after_bytes += path.stat().st_size

    def tell(self, *, stopped: bool = False) -> None:
        """Say it."""
        failed = self.verdicts.count(FAIL)
        done = Said("count-made" if self._made else "count-checked", count=len(self.verdicts))
        told = [
            done,
            Said("summary-pass", count=len(self.verdicts) - failed),
            Said("summary-fail", count=failed),
        ]
        if self.refused:
            told.append(Said("could-not", refused=self.refused))
        words: list[str] = [together(told, ", ")]
        took = clock(time.monotonic() - self._began)
        if self._made:
            sizes = Said("in-and-out", before_mb=self._before_bytes / 1e6, after_mb=self._after_bytes / 1e6, took=took)
            words.append(sizes)
        else:
            words.append(took)
        say(
            *([Said("stopped-sentence")] if stopped else []),
            together([together(words, "; "), "."], ""),
            file=sys.stderr,
        )
        if stopped and self.finished:
            say(Said("finished-before-that"), file=sys.stderr)
            for path in self.finished:
                print(f"  {path}", file=sys.stderr)


def _mb(size_bytes: int) -> str:
    return f"{size_bytes / 1e6:.1f} MB"


def takes_paths(command: argparse.ArgumentParser) -> None:
    """Let a command take files, in the order of their numbers."""
    command.add_argument("files", nargs="+", type=Path, metavar="FILE")
    command.add_argument(
        "--as-given",
        action="store_true",
        help=Said("take-files-order-they-given"),
    )


def put_in_order(options) -> None:
    """Bring the files of a command into the order of their numbers, and say which that is where there are several."""
    if not options.as_given:
        options.files = sorted(options.files, key=lambda path: natural_order(str(path)))
    if len(options.files) > 1:
        say(Said("in-this-order"), file=sys.stderr)
        for place, path in enumerate(options.files, 1):
            print(f"{place:4}  {path}", file=sys.stderr)


def takes_outlet(command: argparse.ArgumentParser, *, several: bool = False) -> None:
    """Let a command take an outlet, or several, and what the files hold."""
    command.add_argument(
        "--outlet",
        required=True,
        metavar="KEY",
        action="append" if several else "store",
        help=Said("see-outlets-several") if several else Said("see-outlets"),
    )
    command.add_argument(
        "--content",
        choices=CONTENT_KINDS,
        default="speech",
        help=Said("what-files-hold-default-default"),
    )


def outlet_of(key: str) -> Outlet:
    """A shipped outlet by its key, or one's own by the path of its rule sheet."""
    if key.endswith(".toml"):
        return parse(decoded(Path(key).read_bytes())[0])
    if key not in shipped():
        raise MasteringError(Said("there-no-outlet-called-there", key=key, shipped=", ".join(shipped())))
    return shipped()[key]


_OPTIONS = {
    "rumble filter": "rumble filter (--rumble)",
    "Hush of": "Hush (--hush, --hush-db) of",
    "Ride ": "Ride (--ride) ",
    "Room tone “as the outlet asks”": "Leaving --no-room-tone out",
}
"""How what a plan proposes is called here."""


def here(finding: dict[str, str]) -> dict[str, str]:
    """A finding with advice that names options instead of screens."""
    if finding["verdict"] != FAIL:
        return finding
    advice = RULE_KINDS[finding["rule"]].advice
    too_low = getattr(finding["margin"], "key", "") == "too-low" and advice.terminal_too_low
    return finding | {"advice": too_low or advice.terminal or finding["advice"]}


def in_options(sentence: str) -> str:
    """What a plan says, with the options of what it proposes; those are named in English alone."""
    told = spoken(sentence)
    for words, option in _OPTIONS.items() if LANGUAGE == ENGLISH else ():
        told = told.replace(words, option)
    return told


def row_of(path: Path, found: Measurement, sheet: CheckSheet) -> dict:
    """A checked file as JSON has it."""
    findings = [here(finding) for finding in sheet.as_list()]
    return {"path": str(path)} | found.figures() | {"verdict": sheet.verdict, "findings": findings}


def print_sheet(of: Path | str, sheet: CheckSheet, remarks: tuple[str, ...]) -> None:
    """A check sheet to be read."""
    print(f"{spoken(str(of))}: {spoken(sheet.verdict)}")
    for finding in sheet.findings:
        sign = {"passes": "  ", FAIL: "✗ "}.get(finding.verdict, "~ ")
        margin = f" ({spoken(finding.margin)})" if finding.margin else ""
        asked, found = spoken(Said("asked-word")), spoken(Said("found-word"))
        wanted, has = speak(finding.asked, LANGUAGE), speak(finding.found, LANGUAGE)
        print(f"  {sign}{spoken(finding.label):20} {asked} {wanted:24} {found} {has}{margin}")
        if finding.advice:
            print(f"      {spoken(here(asdict(finding))['advice'])}")
    for remark in remarks:
        print(f"  {spoken(Said('remark-of', words=in_options(remark)))}")


def print_json(rows: list[dict]) -> None:
    """Rows for machines."""
    print(json.dumps(rows, indent=2, ensure_ascii=False))


class Progress:
    """A line on the terminal with how much is done and how long the rest takes."""

    def __init__(self, words: str):
        self._words, self._began, self._told_at = words, time.monotonic(), 0.0

    def __call__(self, done: int, whole: int) -> None:
        now = time.monotonic()
        if not sys.stderr.isatty() or (now - self._told_at < 0.2 and done < whole):
            return
        self._told_at = now
        left = ""
        if 0 < done < whole:
            left = f", {spoken(Said('about-s-left', seconds=round((now - self._began) * (whole - done) / done)))}"
        end = "\n" if done >= whole else ""
        print(f"\r{spoken(self._words)}: {done / max(1, whole):.0%}{left}\033[K", end=end, file=sys.stderr, flush=True)


def told_wrong(outcome) -> int:
    """Say what went wrong with a backup. Returns the exit status for it."""
    for sentence in outcome.wrong:
        print(f"  {spoken(sentence)}", file=sys.stderr)
    return 1 if outcome.wrong else 0
