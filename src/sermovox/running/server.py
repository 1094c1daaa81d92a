"""The web server's process."""

from importlib import import_module

from granian import Granian
from granian.constants import Interfaces
from granian.log import LogLevels

from sermovox.running import child

_THREADS = 8
"""Each plays or receives one file at a time; pages need one for an instant."""
_APPLICATION = "sermovox.wsgi"
_LOADED = (_APPLICATION, "sermovox.urls")


def main(host: str, port: str) -> None:
    """Serve until told to stop, by a process forked off this one, which has loaded it all."""
    for module in _LOADED:
        import_module(module)
    child.wait_to_begin()
    Granian(
        f"{_APPLICATION}:application",
        address=host,
        port=int(port),
        interface=Interfaces.WSGI,
        workers=1,
        blocking_threads=_THREADS,
        log_access=False,
        log_level=LogLevels.error,
    ).serve()
