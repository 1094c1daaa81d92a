"""How the application starts: alone with its data folder, on a database of the right shape."""

import os
import subprocess
from dataclasses import replace

from django.conf import settings
from django.core.management import call_command

import sermovox.running.ready  # noqa: F401
from mastering.said import Said
from sermovox.accounts import first
from sermovox.accounts.loopback import is_loopback
from sermovox.running.child import CannotStart
from sermovox.running.speaking import say
from sermovox.running.supervisor import Supervisor, address_of
from sermovox.work import run as running


def start(*, host: str, port: int, workers: int, demo: bool, bring_in: bool, loading: subprocess.Popen) -> None:
    """Run until told to stop; `loading` is the web server's process, which waits to begin. Raises CannotStart."""
    before, now = running.latest(), running.Run(address_of(host, port), os.getpid(), demo)
    lock = running.hold(now)
    if lock is None:
        raise CannotStart(
            Said(
                "sermovox-running-data-folder-already",
                data_dir=settings.DATA_DIR,
                address=before.address,
                process=before.process,
            )
        )
    with lock:
        supervisor = Supervisor(host=host, port=port, workers=workers, demo=demo, before=before, loading=loading)
        call_command("migrate", verbosity=0)
        if bring_in:
            call_command("load_demo")
        if not demo and first.is_wanted():
            _tell_of_first_account(host, now.address)
        supervisor.run(lambda server: running.tell(lock, replace(now, server=server)))


def _tell_of_first_account(host: str, address: str) -> None:
    """Say how the first account is made: by whoever opens the page, where nobody else can, else by a link."""
    if is_loopback(host) and first.is_for_this_machine_alone():
        first.let_this_machine()
        say(Said("there-no-account-yet-first", address=address), flush=True)
    else:
        link = first.link(settings.PUBLIC_ADDRESS or address)
        say(Said("there-no-account-yet-whoever", link=link), flush=True)
