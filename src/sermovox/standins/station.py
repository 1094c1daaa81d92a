"""A station's FTP server on this machine, which keeps what it receives in a folder, and can be told to misbehave."""

import logging
import time
from pathlib import Path

from pyftpdlib.authorizers import DummyAuthorizer
from pyftpdlib.handlers import FTPHandler, ThrottledDTPHandler, TLS_FTPHandler
from pyftpdlib.ioloop import IOLoop
from pyftpdlib.servers import FTPServer

from sermovox.standins.known import STATION
from sermovox.standins.mischief import SLOW_BYTES_A_SECOND, Mischief, mischief_of, received_in

_TRIES_EVERY_S = 5.0


def station(top: Path, port: int, *, certificate: Path | None = None) -> FTPServer:
    """The server, listening on loopback; encrypted where it is given a certificate with its key, as PEM. Raises OSError
    where the port is taken.
    """
    received_in(top).mkdir(parents=True, exist_ok=True)

    class Data(ThrottledDTPHandler):
        ac_in_buffer_size = 4096

        def __init__(self, sock, cmd_channel):
            super().__init__(sock, cmd_channel)
            if Mischief.read(mischief_of(top)).slow:
                self.read_limit = SLOW_BYTES_A_SECOND

        def handle_read(self):
            super().handle_read()
            told = Mischief.read(mischief_of(top))
            if told.drops and self.get_transmitted_bytes() > 3 * self.ac_in_buffer_size:
                told.drops -= 1
                told.keep(mischief_of(top))
                self.cmd_channel.close()

        handle_read_event = handle_read

    base = TLS_FTPHandler if certificate else FTPHandler

    class Handler(base):  # type: ignore[misc, valid-type]
        auth_failed_timeout = 0
        use_sendfile = False
        banner = "A stand-in of a station. Nothing leaves this machine."

        def ftp_STOR(self, file, mode="w"):
            if Mischief.read(mischief_of(top)).full:
                self.respond("552 No space left.")
                return None
            return super().ftp_STOR(file, mode)

        def ftp_RETR(self, file):
            if Mischief.read(mischief_of(top)).secretive:
                self.respond("550 What is left here is not given back.")
                return None
            return super().ftp_RETR(file)

        def ftp_PASS(self, line):
            if Mischief.read(mischief_of(top)).refuses:
                self.respond("530 Not today.")
                return None
            return super().ftp_PASS(line)

        def ftp_SIZE(self, path):
            off_by = Mischief.read(mischief_of(top)).size_off_by
            if off_by and not path.endswith(".part") and Path(path).is_file():
                self.respond(f"213 {Path(path).stat().st_size + off_by}")
                return None
            return super().ftp_SIZE(path)

    Handler.authorizer = DummyAuthorizer()
    Handler.authorizer.add_user(STATION.user, STATION.password, str(received_in(top)), perm="elradfmwMT")
    if certificate:
        Handler.certfile = str(certificate)
        Handler.tls_control_required = Handler.tls_data_required = True
    else:
        Handler.dtp_handler = Data
    # Not the loop that all servers of a process would share.
    return FTPServer(("127.0.0.1", port), Handler, ioloop=IOLoop())


def serve(port: int, top: Path) -> None:
    """Serve for as long as the process lives; where somebody else has the port, wait for it."""
    logging.basicConfig(level=logging.WARNING)
    while True:
        try:
            server = station(top, port)
        except OSError:
            time.sleep(_TRIES_EVERY_S)
        else:
            server.serve_forever(handle_exit=False)
            return
