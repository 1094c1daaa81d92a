"""Accounts: whoever may sign in."""

import argparse
import getpass
import sys

import sermovox.running.ready  # noqa: F401
from mastering.errors import MasteringError
from sermovox.accounts import people
from sermovox.terminal.database import migrated
from sermovox.terminal.said import print_json


def add_arguments(command: argparse.ArgumentParser) -> None:
    does = command.add_subparsers(required=True, metavar="WHAT", dest="what")
    add = does.add_parser("add", help="make an account; the password is asked for, or read from standard input")
    add.add_argument("name", metavar="NAME", help="what is signed in with")
    add.add_argument("--called", default="", metavar="NAME", help="what others are shown (default: the same)")
    change = does.add_parser("password", help="give an account another password; it is signed out everywhere")
    change.add_argument("name", metavar="NAME")
    listed = does.add_parser("list", help="list the accounts")
    listed.add_argument("--json", action="store_true", help="as a JSON list")


def run(options) -> int:
    """Do one of these."""
    migrated()
    if options.what == "add":
        people.check_name(options.name)
        made = people.add(options.name, _password(), called=options.called)
        print(f"{made.username} can sign in now.")
    elif options.what == "password":
        user = people.named(options.name)
        people.change_password(user, _password())
        print(f"{user.username} has another password now, and is signed out everywhere.")
    else:
        _list(options.json)
    return 0


def _password() -> str:
    """Asked for twice where somebody types it."""
    if not sys.stdin.isatty():
        return sys.stdin.readline().rstrip("\n")
    password = getpass.getpass("Password: ")
    if getpass.getpass("Once more: ") != password:
        raise MasteringError("The two passwords differ. Nothing was changed.")
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
        last = f"last signed in {row['last_signed_in']}" if row["last_signed_in"] else "never signed in"
        print(f"{row['name']:20} {row['called']:30} {last}{'' if row['has_password'] else ', without a password'}")
    if not rows:
        print("There is no account yet. Make one with: sermovox account add NAME")
