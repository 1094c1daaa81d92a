"""The web server's process."""

import sys

from granian import Granian
from granian.constants import Interfaces
from granian.log import LogLevels

from sermovox.worker import end_with_parent

_THREADS = 8
"""Each plays or receives one file at a time; pages need one for an instant."""


def main(host: str, port: str) -> None:
    end_with_parent()
    Granian(
        "sermovox.wsgi:application",
        address=host,
        port=int(port),
        interface=Interfaces.WSGI,
        workers=1,
        blocking_threads=_THREADS,
        log_access=False,
        log_level=LogLevels.error,
    ).serve()


if __name__ == "__main__":
    main(*sys.argv[1:])
