"""The same core from a terminal."""

import argparse
import os
import sys
from pathlib import Path

from mastering.audio.reader import clock
from mastering.editing.tables import write_table
from mastering.editing.texts import decoded
from mastering.errors import MasteringError
from mastering.meters.measurement import measure
from mastering.naming.renaming import new_names, read_map, rename_all, take_back_broken_off
from mastering.outlets.checksheet import FAIL, check
from mastering.outlets.outlet import shipped, written
from mastering.tagging.carried import read_carried
from sermovox import cuts, keeping, makes
from sermovox.terminal import (
    complain,
    outlet_of,
    print_json,
    print_sheet,
    put_in_order,
    row_of,
    set_up,
    takes_files,
    takes_outlet,
    takes_paths,
)

_SHEET_COLUMNS = ("file", "verdict of the file", "label", "asked", "found", "margin", "verdict", "advice", "source")


def main(arguments: list[str] | None = None) -> int:
    """Run one command. Returns the exit status: 0 all well, 1 a rule fails or a file cannot be used."""
    options = _parser().parse_args(arguments)
    if "as_given" in options:
        put_in_order(options)
    try:
        return options.run(options)
    except MasteringError as error:
        return complain(error)
    except BrokenPipeError:
        # Whoever read the output has read enough, as `| head` does.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except OSError as error:
        return complain(MasteringError(f"{error.filename}: {error.strerror}. Choose another file or folder."))
    except KeyboardInterrupt:
        return 130


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="sermovox", description="Make and prove spoken-word files.")
    commands = parser.add_subparsers(required=True, metavar="COMMAND")

    measuring = commands.add_parser("measure", help="measure recordings")
    takes_files(measuring)
    measuring.set_defaults(run=_measure)

    checking = commands.add_parser("check", help="check finished files against an outlet's rules")
    takes_files(checking)
    takes_outlet(checking)
    checking.add_argument("--csv", action="store_true", help="as CSV, one line for each rule of each file")
    checking.set_defaults(run=_check)

    makes.add_commands(commands)
    cuts.add_commands(commands)

    adding = commands.add_parser("add", help="bring recordings into a production")
    takes_paths(adding)
    adding.add_argument("--production", required=True, metavar="KEY", help="see: sermovox productions")
    adding.set_defaults(run=_add)

    commands.add_parser("productions", help="list the productions and their keys").set_defaults(run=_productions)

    keeping.add_commands(commands)

    renaming = commands.add_parser("rename", help="rename files by a map (CSV: old name, new name), all or none")
    renaming.add_argument("map", type=Path, metavar="MAP.csv")
    renaming.add_argument("--in", dest="folder", type=Path, required=True, metavar="DIR", help="folder of the files")
    renaming.add_argument("--undo", action="store_true", help="give the new names their old ones back")
    renaming.set_defaults(run=_rename)

    listing = commands.add_parser("outlets", help="list the outlets, or write one's rule sheet as TOML")
    listing.add_argument("key", nargs="?", metavar="KEY", help="the outlet whose rule sheet is written")
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


def _measure(options) -> int:
    rows, status = [], 0
    for path in options.files:
        try:
            figures = measure(path).figures()
        except MasteringError as error:
            status = complain(error, path)
            continue
        rows.append({"path": str(path)} | figures)
        if not options.json:
            _print_figures(path, figures)
    if options.json:
        print_json(rows)
    return status


def _check(options) -> int:
    outlet = outlet_of(options.outlet)
    rows, status = [], 0
    for path in options.files:
        try:
            found = measure(path)
        except MasteringError as error:
            status = complain(error, path)
            continue
        sheet = check(found, outlet, content_kind=options.content, carried=read_carried(path), name=path.name)
        if sheet.verdict == FAIL:
            status = 1
        rows.append(row_of(path, found, sheet))
        if not (options.json or options.csv):
            print_sheet(path, sheet, ())
    if options.csv:
        print(write_table(_SHEET_COLUMNS, _sheet_lines(rows)), end="")
    elif options.json:
        print_json(rows)
    return status


def _sheet_lines(rows: list[dict]):
    for row in rows:
        for finding in row["findings"]:
            yield (row["path"], row["verdict"], *(finding[name] for name in _SHEET_COLUMNS[2:]))


def _outlets(options) -> int:
    if options.key:
        print(written(outlet_of(options.key)), end="")
        return 0
    if options.json:
        print_json([{"key": o.key, "title": o.title, "summary": o.summary} for o in shipped().values()])
        return 0
    for outlet in shipped().values():
        print(f"{outlet.key:20} {outlet.title}\n{'':20} {outlet.summary}")
    return 0


def _add(options) -> int:
    set_up()
    from sermovox.productions.models import Production
    from sermovox.recordings.intake import take_in

    production = Production.objects.filter(key=options.production).first()
    if production is None:
        keys = ", ".join(Production.objects.values_list("key", flat=True)) or "none yet"
        return complain(MasteringError(f"There is no production “{options.production}”. There are: {keys}."))
    status = 0
    for path in options.files:
        try:
            taken = take_in(production, path)
        except MasteringError as error:
            status = complain(error, path)
            continue
        said = (
            f"is here already, as {taken.recording.name}"
            if taken.known
            else "is in; its slip follows when it is measured"
        )
        print(f"{path} {said}.")
    return status


def _productions(options) -> int:
    set_up()
    from sermovox.productions.models import Production

    for production in Production.objects.all():
        print(f"{production.key:40} {production.title}")
    return 0


def _rename(options) -> int:
    if said := take_back_broken_off(options.folder):
        print(said, file=sys.stderr)
    pairs = read_map(decoded(options.map.read_bytes())[0])
    if options.undo:
        pairs = [(new, old) for old, new in pairs]
    names = sorted(path.name for path in options.folder.iterdir() if path.is_file())
    after = new_names(names, pairs)
    moves = [(options.folder / old, options.folder / new) for old, new in zip(names, after, strict=True) if old != new]
    rename_all(moves)
    print(f"{len(moves)} files are renamed.")
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
        return complain(error)
    return 0


def _print_figures(path: Path, figures: dict) -> None:
    print(path)
    for name, value in figures.items():
        shown = "–" if value is None else clock(value) if name == "duration_s" else value
        print(f"  {name:22} {shown}")


if __name__ == "__main__":
    sys.exit(main())
