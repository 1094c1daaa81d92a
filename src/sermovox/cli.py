"""The same core from a terminal."""

import argparse
import json
import os
import sys
import time
from pathlib import Path

from mastering.audio.reader import clock
from mastering.errors import MasteringError
from mastering.meters.measurement import Measurement, measure
from mastering.naming.filenames import file_name
from mastering.outlets.checksheet import FAIL, CheckSheet, check
from mastering.outlets.outlet import CONTENT_KINDS, Outlet, shipped
from mastering.pipeline import make


def main(arguments: list[str] | None = None) -> int:
    """Run one command. Returns the exit status: 0 all well, 1 a rule fails or a file cannot be used."""
    options = _parser().parse_args(arguments)
    try:
        return options.run(options)
    except MasteringError as error:
        return _complain(error)
    except BrokenPipeError:
        # Whoever read the output has read enough, as `| head` does.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except OSError as error:
        return _complain(MasteringError(f"{error.filename}: {error.strerror}. Choose another folder."))
    except KeyboardInterrupt:
        return 130


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="sermovox", description="Make and prove spoken-word files.")
    commands = parser.add_subparsers(required=True, metavar="COMMAND")

    measuring = commands.add_parser("measure", help="measure recordings")
    _takes_files(measuring)
    measuring.set_defaults(run=_measure)

    making = commands.add_parser("make", help="make finished files for an outlet")
    _takes_files(making)
    _takes_outlet(making)
    making.add_argument("--out", type=Path, required=True, metavar="DIR", help="folder for the finished files")
    making.add_argument("--replace", action="store_true", help="replace finished files that exist already")
    making.set_defaults(run=_make)

    checking = commands.add_parser("check", help="check finished files against an outlet's rules")
    _takes_files(checking)
    _takes_outlet(checking)
    checking.set_defaults(run=_check)

    listing = commands.add_parser("outlets", help="list the outlets")
    listing.add_argument("--json", action="store_true", help="as JSON")
    listing.set_defaults(run=_outlets)

    starting = commands.add_parser("start", help="start the web application and its workers")
    starting.add_argument("--host", default="127.0.0.1", help="address to listen on (default: %(default)s)")
    starting.add_argument("--port", type=int, default=8420, help="port to listen on (default: %(default)s)")
    starting.add_argument(
        "--workers", type=int, default=os.cpu_count() or 1, help="files made at once (default: one per core)"
    )
    starting.add_argument(
        "--demo",
        action="store_true",
        help="bring in the demo productions and sign visitors in as their narrator",
    )
    starting.set_defaults(run=_start)
    return parser


def _takes_files(command: argparse.ArgumentParser) -> None:
    command.add_argument("files", nargs="+", type=Path, metavar="FILE")
    command.add_argument("--json", action="store_true", help="as a JSON list, one object per file")


def _takes_outlet(command: argparse.ArgumentParser) -> None:
    command.add_argument("--outlet", required=True, metavar="KEY", help="see: sermovox outlets")
    command.add_argument(
        "--content",
        choices=CONTENT_KINDS,
        default="speech",
        help="what the files hold (default: %(default)s)",
    )


def _measure(options) -> int:
    rows, status = [], 0
    for path in options.files:
        try:
            figures = measure(path).figures()
        except MasteringError as error:
            status = _complain(error, path)
            continue
        rows.append({"path": str(path)} | figures)
        if not options.json:
            _print_figures(path, figures)
    if options.json:
        _print_json(rows)
    return status


def _make(options) -> int:
    outlet = _outlet(options.outlet)
    options.out.mkdir(parents=True, exist_ok=True)
    rows, status = [], 0
    for place, path in enumerate(options.files, 1):
        encoding = outlet.encoding(channels=1, content_kind=options.content)
        name = file_name(position=place, total=len(options.files), title=path.stem, extension=encoding.extension)
        try:
            made = make(
                path,
                outlet,
                options.out / name,
                content_kind=options.content,
                replace=options.replace,
                stages=_progress(path),
            )
        except MasteringError as error:
            status = _complain(error, path)
            continue
        if made.sheet.verdict == FAIL:
            status = 1
        rows.append(_row(made.path, made.found, made.sheet) | {"source": str(path), "remarks": made.remarks})
        if not options.json:
            _print_sheet(made.path, made.sheet, made.remarks)
    if options.json:
        _print_json(rows)
    return status


def _check(options) -> int:
    outlet = _outlet(options.outlet)
    rows, status = [], 0
    for path in options.files:
        try:
            found = measure(path)
        except MasteringError as error:
            status = _complain(error, path)
            continue
        sheet = check(found, outlet, content_kind=options.content)
        if sheet.verdict == FAIL:
            status = 1
        rows.append(_row(path, found, sheet))
        if not options.json:
            _print_sheet(path, sheet, ())
    if options.json:
        _print_json(rows)
    return status


def _outlets(options) -> int:
    if options.json:
        _print_json([{"key": o.key, "title": o.title, "summary": o.summary} for o in shipped().values()])
        return 0
    for outlet in shipped().values():
        print(f"{outlet.key:20} {outlet.title}\n{'':20} {outlet.summary}")
    return 0


def _start(options) -> int:
    if options.demo:
        os.environ["SERMOVOX_DEMO_SIGN_IN"] = "1"
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "sermovox.settings")
    import django

    django.setup()
    from django.conf import settings
    from django.core.management import call_command

    from sermovox.supervisor import CannotStart, Supervisor, hold_lock

    try:
        lock = hold_lock(settings.DATA_DIR / "running.lock")
        supervisor = Supervisor(
            host=options.host, port=options.port, workers=max(1, options.workers), demo=settings.DEMO_SIGN_IN
        )
        call_command("migrate", verbosity=0)
        if options.demo:
            call_command("load_demo")
        supervisor.run()
        lock.close()
    except CannotStart as error:
        return _complain(error)
    return 0


def _outlet(key: str) -> Outlet:
    if key not in shipped():
        raise MasteringError(f"There is no outlet called “{key}”. There are: {', '.join(shipped())}.")
    return shipped()[key]


def _progress(path: Path):
    """A line on standard error that tells how far a file is and how long it will take, where somebody looks."""
    if not sys.stderr.isatty():
        return lambda stage, share: None
    began = time.monotonic()

    def tell(stage: str, share: float) -> None:
        left = f", {clock((time.monotonic() - began) * (1 - share) / share)} left" if share > 0.02 else ""
        print(f"\r{path.name}: {stage}, {share:.0%}{left}\033[K", end="" if share < 1 else "\n", file=sys.stderr)

    return tell


def _row(path: Path, found: Measurement, sheet: CheckSheet) -> dict:
    return {"path": str(path)} | found.figures() | {"verdict": sheet.verdict, "findings": sheet.as_list()}


def _print_figures(path: Path, figures: dict) -> None:
    print(path)
    for name, value in figures.items():
        shown = "–" if value is None else clock(value) if name == "duration_s" else value
        print(f"  {name:22} {shown}")


def _print_sheet(path: Path, sheet: CheckSheet, remarks: tuple[str, ...]) -> None:
    print(f"{path}: {sheet.verdict}")
    for finding in sheet.findings:
        sign = {"passes": "  ", FAIL: "✗ "}.get(finding.verdict, "~ ")
        print(f"  {sign}{finding.label:20} asked {finding.asked:24} found {finding.found}")
        if finding.advice:
            print(f"      {finding.advice}")
    for remark in remarks:
        print(f"  Remark: {remark}")


def _print_json(rows: list[dict]) -> None:
    print(json.dumps(rows, indent=2, ensure_ascii=False))


def _complain(error: Exception, path: Path | None = None) -> int:
    print(f"sermovox: {path}: {error}" if path else f"sermovox: {error}", file=sys.stderr)
    return 1


if __name__ == "__main__":
    sys.exit(main())
