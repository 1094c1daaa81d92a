"""The web application and its workers."""

import argparse
import os
from importlib import import_module

from mastering.said import Said
from sermovox.running import child
from sermovox.running.worker import ENVIRONMENT
from sermovox.terminal import installed
from sermovox.terminal.complaints import complain


def add_arguments(command: argparse.ArgumentParser) -> None:
    command.add_argument("--host", default="127.0.0.1", help=Said("address-listen-default-default-s"))
    command.add_argument("--port", type=int, default=8420, help=Said("port-listen-default-default-s"))
    command.add_argument("--workers", type=int, default=os.cpu_count() or 1, help=Said("files-made-once-default-one"))
    command.add_argument(
        "--demo",
        action="store_true",
        help=Said("bring-demo-productions-sign-visitors"),
    )


def run(options) -> int:
    """Run until told to stop."""
    os.environ.update(ENVIRONMENT)
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "sermovox.settings")
    demo = options.demo or os.environ.get("SERMOVOX_DEMO_SIGN_IN") == "1"
    if demo:
        if installed.missing("demo"):
            lacks = Said("demonstration-sends-servers-own-whose")
            return complain(ModuleNotFoundError(f"{lacks} {installed.install_command('demo')}"))
        # For the processes that this one starts.
        os.environ["SERMOVOX_DEMO_SIGN_IN"] = "1"
        os.environ.setdefault("SERMOVOX_ADDRESS", f"http://{options.host}:{options.port}")
    # It loads for as long as this process does, and begins when it is told to.
    loading = child.start("sermovox.running.server", options.host, str(options.port))
    try:
        import_module("sermovox.running.starting").start(
            host=options.host,
            port=options.port,
            workers=max(1, options.workers),
            demo=demo,
            bring_in=options.demo,
            loading=loading,
        )
    except child.CannotStart as error:
        return complain(error)
    finally:
        child.end_group(loading)
    return 0
