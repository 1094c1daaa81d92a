"""The web application and its workers."""

import argparse
import os

from django.conf import settings
from django.core.management import call_command

import sermovox.ready  # noqa: F401
from sermovox import running
from sermovox.supervisor import CannotStart, Supervisor
from sermovox.terminal.said import complain


def add_arguments(command: argparse.ArgumentParser) -> None:
    command.add_argument("--host", default="127.0.0.1", help="address to listen on (default: %(default)s)")
    command.add_argument("--port", type=int, default=8420, help="port to listen on (default: %(default)s)")
    command.add_argument(
        "--workers", type=int, default=os.cpu_count() or 1, help="files made at once (default: one per core)"
    )
    command.add_argument(
        "--demo",
        action="store_true",
        help="bring in the demo productions and sign visitors in as their narrator",
    )


def run(options) -> int:
    demo = options.demo or settings.DEMO_SIGN_IN
    if demo:
        # For the processes that this one starts.
        os.environ["SERMOVOX_DEMO_SIGN_IN"] = "1"
        os.environ.setdefault("SERMOVOX_ADDRESS", f"http://{options.host}:{options.port}")
    try:
        lock = running.hold(running.DEMONSTRATION if demo else "")
        if lock is None:
            raise CannotStart(f"Sermovox is running with this data folder already ({settings.DATA_DIR}).")
        supervisor = Supervisor(host=options.host, port=options.port, workers=max(1, options.workers), demo=demo)
        call_command("migrate", verbosity=0)
        if options.demo:
            call_command("load_demo")
        supervisor.run()
        lock.close()
    except CannotStart as error:
        return complain(error)
    return 0
