"""Finished files made for an outlet, or several."""

import argparse
import sys
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from functools import cache, partial
from pathlib import Path

from mastering.audio.reader import Reader
from mastering.audio.wav import Broadcast
from mastering.editing.pieces import Piece, Span
from mastering.editing.roles import APART
from mastering.errors import MasteringError
from mastering.making.job import Order
from mastering.meters.measurement import measure
from mastering.naming.checks import check_names, numbered, with_ending
from mastering.naming.described import described
from mastering.naming.patterns import Facts, facts_of, read_pattern
from mastering.outlets.checksheet import check_together
from mastering.outlets.filled_in import inscription_for
from mastering.outlets.findings import FAIL, CheckSheet
from mastering.outlets.levelplan import LevelPlan
from mastering.outlets.outlet import Outlet
from mastering.outlets.rules.delivery import EXTRA_FILES
from mastering.outlets.rules.kind import Delivered
from mastering.pipeline import make_all
from mastering.rendering import Programme, Track
from mastering.said import Said
from mastering.tagging.artwork import picture_for
from mastering.tagging.inscription import Chapter, one_after_another
from mastering.tagging.markers import read_markers
from sermovox.running.speaking import say
from sermovox.terminal.complaints import complain
from sermovox.terminal.said import (
    Summary,
    here,
    outlet_of,
    print_json,
    print_sheet,
    progress_of,
    row_of,
    takes_files,
    takes_outlet,
    takes_quiet,
)
from sermovox.terminal.shared import facts_given, plans_of, takes_facts, takes_treatment, treatment_of

_EXISTING = ("keep-both", "replace", "skip")


def add_arguments(command: argparse.ArgumentParser) -> None:
    takes_files(command)
    takes_outlet(command, several=True)
    takes_treatment(command)
    takes_facts(command)
    takes_quiet(command)
    command.add_argument("--out", type=Path, required=True, metavar="DIR", help=Said("folder-finished-files"))
    command.add_argument("--names", metavar="PATTERN", help=Said("pattern-names-default-outlets"))
    command.add_argument(
        "--existing",
        choices=_EXISTING,
        help=Said("what-do-about-finished-files"),
    )


def run(options) -> int:
    outlets = [_settled(outlet_of(key), options.files) for key in dict.fromkeys(options.outlet)]
    if len({outlet.key for outlet in outlets}) < len(outlets):
        raise MasteringError(Said("two-these-rule-sheets-same"))
    treatment, artwork = treatment_of(options), options.artwork.read_bytes() if options.artwork else b""
    pictures = {outlet.key: picture_for(outlet.artwork, artwork) for outlet in outlets}
    works = _works(options, outlets)
    folders = {each.key: options.out / each.key if len(outlets) > 1 else options.out for each in outlets}
    for folder in folders.values():
        folder.mkdir(parents=True, exist_ok=True)
    plans = {
        outlet.key: dict(plans_of(options, outlet, treatment))
        for outlet in outlets
        if (treatment.together or outlet.compares_files) and not outlet.joined
    }
    summary = Summary(options.files, made=True)
    try:
        return _made(options, works, outlets, folders, plans, pictures, treatment, summary)
    except KeyboardInterrupt:
        print(file=sys.stderr)
        summary.tell(stopped=True)
        raise


def _made(options, works, outlets, folders, plans, pictures, treatment, summary: Summary) -> int:
    """Make all of it, and tell how it went. Returns the exit status."""
    existing = _Existing(options.existing)
    rows, status = [], 0
    delivered: dict[str, list[Delivered]] = {outlet.key: [] for outlet in outlets}
    for done, work in enumerate(works):
        orders = []
        for outlet in (outlet for outlet in outlets if outlet.key in work.names):
            try:
                orders += _orders(work, outlet, folders[outlet.key], existing, plans, pictures, options.content)
            except MasteringError as error:
                status, summary.refused = complain(error, work.path), summary.refused + 1
        if not orders:
            continue
        try:
            source, stages = work.source(), progress_of(work.path, done, len(works))
            results = make_all(source, orders, content_kind=options.content, treatment=treatment, stages=stages)
        except MasteringError as error:
            status, summary.refused = complain(error, work.path), summary.refused + 1
            continue
        for order, made in zip(orders, results, strict=True):
            if isinstance(made, MasteringError):
                status, summary.refused = complain(made, work.path), summary.refused + 1
                continue
            summary.add(made.path, made.sheet.verdict)
            if made.sheet.verdict == FAIL:
                status = 1
            row = row_of(made.path, made.found, made.sheet)
            folded = (Said("made-mono-from", mono=made.plan.mono),) if made.plan.mono else ()
            remarks = (*folded, *made.remarks)
            rows.append(row | {"source": str(work.path), "outlet": order.outlet.key, "remarks": remarks})
            delivered[order.outlet.key].append(
                Delivered(
                    name=made.path.name,
                    channels=made.found.facts.channels,
                    size_bytes=made.found.facts.size_bytes,
                    role=described(work.path.name).role or "",
                )
            )
            if not options.json and (made.sheet.verdict == FAIL or not options.quiet):
                print_sheet(made.path, made.sheet, remarks)
    for outlet in outlets:
        sheet = _together(delivered[outlet.key], outlet, whole=len(options.files) > 1)
        if not sheet.findings:
            continue
        if sheet.verdict == FAIL:
            status = 1
        findings = [here(finding) for finding in sheet.as_list()]
        for row in (row for row in rows if row["outlet"] == outlet.key):
            row["delivery"] = {"verdict": sheet.verdict, "findings": findings}
        if not options.json and (sheet.verdict == FAIL or not options.quiet):
            print_sheet(Said("all-files-in", folder=folders[outlet.key]), sheet, _not_made_here(outlet))
    if options.json:
        print_json(rows)
    summary.tell()
    return status


def _together(files: Sequence[Delivered], outlet: Outlet, *, whole: bool) -> CheckSheet:
    """What an outlet asks of all files beside each other, but for what goes with them, which is not made here."""
    sheet = check_together(files, outlet, whole=whole and not outlet.joined)
    return CheckSheet(tuple(finding for finding in sheet.findings if finding.rule != EXTRA_FILES))


def _not_made_here(outlet: Outlet) -> tuple[str, ...]:
    names = ", ".join(outlet.extra_files)
    return (Said("asks-well-which-not-made", title=outlet.title, names=names),) if names else ()


def _settled(outlet: Outlet, paths: list[Path]) -> Outlet:
    """An outlet for these files: where it wants all alike, it is settled how."""
    return outlet.settled([_channels_of(path) for path in paths]) if outlet.same_channels else outlet


@cache
def _channels_of(path: Path) -> int:
    """How many channels a file has. One that cannot be read counts as mono; what is wrong with it is told later."""
    with suppress(MasteringError), Reader(path) as reader:
        return reader.channels
    return 1


@dataclass(frozen=True, kw_only=True)
class _Work:
    """What is made together: of one file, or of all of them joined. `path` stands for it in messages."""

    path: Path
    source: Callable[[], Path | Programme]
    facts: Facts
    channels: int
    names: dict[str, str]
    chapters: Callable[[], Sequence[Chapter]]


def _works(options, outlets: Sequence[Outlet]) -> list[_Work]:
    """Every file by itself for the outlets that want them so, and all joined for the others.

    Raises MasteringError where the names cannot lie together.
    """
    given = facts_given(options)
    each, joined = ([outlet for outlet in outlets if outlet.joined is kind] for kind in (False, True))
    channels = [_channels_of(path) for path in options.files]
    names = {outlet.key: _names(options, outlet, given, channels) for outlet in each}
    works = [
        _Work(
            path=path,
            source=partial(Path, path),
            facts=facts,
            channels=_channels_of(path),
            names={key: wanted[at] for key, wanted in names.items()},
            chapters=partial(_marked, path),
        )
        for at, (path, facts) in enumerate(zip(options.files, facts_of(given, lines=True), strict=True))
        if each
    ]
    if joined:
        whole = given[0] | {"title": given[0]["production"], "place": 1}
        parts = _parts(options.files)
        sound = cache(
            lambda: _end_to_end([options.files[at] for at in parts], [str(given[at]["title"]) for at in parts])
        )
        works.append(
            _Work(
                path=Path(str(whole["title"])),
                source=lambda: sound()[0],
                facts=facts_of([whole], lines=True)[0],
                channels=(widest := max(channels[at] for at in parts)),
                names={outlet.key: _names(options, outlet, [whole], [widest])[0] for outlet in joined},
                chapters=lambda: sound()[1],
            )
        )
    return works


def _parts(files: Sequence[Path]) -> list[int]:
    """Which files go into one of all: a sample, as its name says, is heard by itself."""
    parts = [at for at, path in enumerate(files) if described(path.stem).role not in APART]
    if not parts:
        return list(range(len(files)))
    for at in sorted(set(range(len(files))) - set(parts)):
        say(Said("not-file-whole-sample-heard", name=files[at].name), file=sys.stderr)
    return parts


def _marked(path: Path) -> Sequence[Chapter]:
    """The chapters that marks inside a recording begin."""
    with Reader(path) as reader:
        labels = read_markers(path, sample_rate_hz=reader.sample_rate_hz)
        whole = Chapter(start_s=0.0, end_s=reader.promised_s or 0.0, title=path.stem)
    found = [Chapter(start_s=label.start_s, end_s=whole.end_s, title=label.name) for label in labels if label.name]
    return one_after_another(found, whole)


def _end_to_end(paths: Sequence[Path], titles: Sequence[str]) -> tuple[Programme, Sequence[Chapter]]:
    """Files one after the other, and a chapter for each. Raises UnreadableRecording."""
    pieces, chapters, at_s = [], [], 0.0
    for path, title in zip(paths, titles, strict=True):
        levels = measure(path).levels
        pieces.append(Piece(span=Span(str(path), 0, levels.frames)))
        chapters.append(Chapter(start_s=at_s, end_s=at_s + levels.duration_s, title=title))
        at_s = chapters[-1].end_s
    return Programme(pieces, {str(path): [Track(path)] for path in paths}), chapters


def _orders(
    work: _Work,
    outlet: Outlet,
    folder: Path,
    existing: "_Existing",
    plans: dict,
    pictures: dict[str, bytes],
    content_kind: str,
) -> list[Order]:
    """What is to be made for one outlet: nothing where it is skipped."""
    plan, facts, wanted = plans.get(outlet.key, {}).get(work.path), work.facts, work.names[outlet.key]
    if plan is not None and not isinstance(plan, LevelPlan):
        raise plan
    name, replace = existing.settle(wanted, folder)
    if name is None:
        say(Said("skipped-there-already", wanted=wanted), file=sys.stderr)
        return []
    container = outlet.encoding_from(work.channels, content_kind=content_kind).container
    chapters = work.chapters() if outlet.chapters else ()
    inscription, texts = inscription_for(
        outlet, facts, container=container, picture=pictures[outlet.key], chapters=chapters
    )
    return [
        Order(
            outlet=outlet,
            target=folder / name,
            plan=plan,
            replace=replace,
            inscription=inscription,
            broadcast=_broadcast(work.path, facts),
            texts=texts | {"names": name},
        )
    ]


def _broadcast(path: Path, facts: Facts) -> Broadcast:
    """What the description of a BWF says. It is dated by the recording's file, so that it says the same each time."""
    date, clock_time = "", ""
    with suppress(OSError):
        date, clock_time = time.strftime("%Y-%m-%d %H:%M:%S", time.localtime(path.stat().st_mtime)).split()
    return Broadcast(
        description=facts.values.get("title", ""),
        originator=facts.values.get("narrator", "") or "Sermovox",
        date=date,
        time=clock_time,
    )


def _names(options, outlet: Outlet, given: Sequence[dict], channels: Sequence[int]) -> list[str]:
    """The names of all files to be made, from sources with so many channels.

    Raises MasteringError where they cannot lie together.
    """
    pattern = read_pattern(options.names if options.names is not None else outlet.names)
    facts = facts_of([each | {"outlet": outlet.title} for each in given])
    endings = [outlet.encoding_from(count, content_kind=options.content).extension for count in channels]
    names = [with_ending(pattern.name(each), ending) for each, ending in zip(facts, endings, strict=True)]
    for problem in check_names(names, extensions=endings):
        where = f"{options.files[problem.index]}, named “{names[problem.index]}”"
        if problem.grave:
            raise MasteringError(f"{outlet.title}: {where}: {problem.words} {problem.mend} Nothing was made.")
    return names


class _Existing:
    """What is done about files that are there already: as the option says, or as somebody answers."""

    def __init__(self, choice: str | None):
        self._choice = choice

    def settle(self, name: str, folder: Path) -> tuple[str | None, bool]:
        """The name to make the file under (None to skip it), and whether it may replace another."""
        if not (folder / name).exists():
            return name, False
        choice = self._choice or self._ask(name)
        if choice == "keep-both":
            return numbered(name, {path.name.casefold() for path in folder.iterdir()}), False
        return (name, True) if choice == "replace" else (None, False)

    def _ask(self, name: str) -> str:
        if not sys.stdin.isatty():
            raise MasteringError(Said("exists-already-say-what-do", name=name, existing="|".join(_EXISTING)))
        while True:
            say(
                Said("exists-already-keep-both-replace", name=name),
                end="",
                file=sys.stderr,
            )
            answer = input().strip()
            found = {"k": "keep-both", "r": "replace", "s": "skip"}.get(answer[:1].lower())
            if found:
                if answer[0].isupper():
                    self._choice = found
                return found
