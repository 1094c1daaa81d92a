"""Whether an outlet can be reached as it is stated."""

import argparse

import sermovox.running.ready  # noqa: F401
from mastering.certain import certain
from mastering.errors import MasteringError
from mastering.said import Said
from sermovox.dispatch.models import Secret
from sermovox.dispatch.reaching import reach
from sermovox.outlets.models import RuleSheet
from sermovox.running.speaking import spoken
from sermovox.terminal.database import migrated


def add_arguments(command: argparse.ArgumentParser) -> None:
    command.add_argument("outlet", metavar="OUTLET", help="its key")
    command.add_argument("--user", metavar="NAME", help=Said("whose-outlet-where-several-people"))


def run(options) -> int:
    migrated()
    sheets = RuleSheet.objects.filter(key=options.outlet, removed=False).select_related("owner")
    if options.user:
        sheets = sheets.filter(owner__username=options.user)
    stating = [sheet for sheet in sheets if sheet.outlet.receives]
    if not stating:
        raise MasteringError(Said("nobody-stated-how-receives-done", outlet=options.outlet))
    if len(stating) > 1:
        names = ", ".join(sheet.owner.username for sheet in stating)
        raise MasteringError(Said("several-people-stated-how-receives", outlet=options.outlet, names=names))
    (sheet,) = stating
    receiving = certain(sheet.outlet.receives)
    access = Secret.of(sheet.owner, sheet.key, receiving)
    steps = reach(receiving, access)
    Secret.know(sheet.owner, sheet.key, receiving, access)
    for step in steps:
        works = spoken(Said("step-works") if step.works else Said("step-fails"))
        print(f"{works}  {spoken(step.words)}")
    return 0 if all(step.works for step in steps) else 1
