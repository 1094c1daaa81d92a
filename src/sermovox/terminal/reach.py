"""Whether an outlet can be reached as it is stated."""

import argparse

import sermovox.running.ready  # noqa: F401
from mastering.certain import certain
from mastering.errors import MasteringError
from sermovox.dispatch.models import Secret
from sermovox.dispatch.reaching import reach
from sermovox.outlets.models import RuleSheet
from sermovox.terminal.database import migrated


def add_arguments(command: argparse.ArgumentParser) -> None:
    command.add_argument("outlet", metavar="OUTLET", help="its key")
    command.add_argument("--user", metavar="NAME", help="whose outlet it is, where several people have one of that key")


def run(options) -> int:
    migrated()
    sheets = RuleSheet.objects.filter(key=options.outlet, removed=False).select_related("owner")
    if options.user:
        sheets = sheets.filter(owner__username=options.user)
    stating = [sheet for sheet in sheets if sheet.outlet.receives]
    if not stating:
        raise MasteringError(f"Nobody has stated how “{options.outlet}” receives. That is done on its page.")
    if len(stating) > 1:
        names = ", ".join(sheet.owner.username for sheet in stating)
        raise MasteringError(f"Several people have stated how “{options.outlet}” receives: {names}. Say --user.")
    (sheet,) = stating
    receiving = certain(sheet.outlet.receives)
    access = Secret.of(sheet.owner, sheet.key, receiving)
    steps = reach(receiving, access)
    Secret.know(sheet.owner, sheet.key, receiving, access)
    for step in steps:
        print(f"{'works' if step.works else 'fails'}  {step.words}")
    return 0 if all(step.works for step in steps) else 1
