"""Accounts: whoever may sign in."""

import argparse
import getpass
import sys

import sermovox.running.ready  # noqa: F401
from mastering.errors import MasteringError
from mastering.said import Said
from sermovox.accounts import people
from sermovox.running.speaking import say, spoken
from sermovox.terminal.database import migrated
from sermovox.terminal.said import print_json


def add_arguments(command: argparse.ArgumentParser) -> None:
    does = command.add_subparsers(required=True, metavar="WHAT", dest="what")
    add = does.add_parser("add", help=Said("make-account-password-asked-read"))
    add.add_argument("name", metavar="NAME", help=Said("what-signed"))
    add.add_argument("--called", default="", metavar="NAME", help=Said("what-others-shown-default-same"))
    change = does.add_parser("password", help=Said("give-account-another-password-signed"))
    change.add_argument("name", metavar="NAME")
    listed = does.add_parser("list", help=Said("list-accounts"))
    listed.add_argument("--json", action="store_true", help="as a JSON list")


def run(options) -> int:
    """Do one of these."""
    migrated()
    if options.what == "add":
        people.check_name(options.name)
        made = people.add(options.name, _password(), called=options.called)
        say(Said("can-sign-now", username=made.username))
    elif options.what == "password":
        user = people.named(options.name)
        people.change_password(user, _password())
        say(Said("another-password-now-signed-out", username=user.username))
    else:
        _list(options.json)
    return 0


def _password() -> str:
    """Asked for twice where somebody types it."""
    if not sys.stdin.isatty():
        return sys.stdin.readline().rstrip("\n")
    password = getpass.getpass("Password: ")
    if getpass.getpass(spoken(Said("once-more-password"))) != password:
        raise MasteringError(Said("two-passwords-differ-nothing-changed"))
    return password


def _list(as_json: bool) -> None:
    rows = [
        {
            "name": user.username,
            "called": user.called,
            "made": user.date_joined.isoformat(timespec="seconds"),
            "last_signed_in": user.last_login.isoformat(timespec="seconds") if user.last_login else None,
            "has_password": user.has_usable_password(),
        }
        for user in people.everybody()
    ]
    if as_json:
        print_json(rows)
        return
    for row in rows:
        last = Said("last-signed", row=row["last_signed_in"]) if row["last_signed_in"] else Said("never-signed")
        without = "" if row["has_password"] else spoken(Said("without-a-password"))
        print(f"{row['name']:20} {row['called']:30} {spoken(last)}{without}")
    if not rows:
        say(Said("there-no-account-yet-make"))
