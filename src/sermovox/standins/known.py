"""Which stand-ins there are: how each is reached, and where what it receives lies."""

from dataclasses import dataclass
from pathlib import Path

from django.conf import settings


@dataclass(frozen=True)
class StandIn:
    """One of them, with who it lets in, its place in the data folder and the port it listens at."""

    name: str
    title: str
    way: str
    user: str
    password: str
    later_ports: int

    @property
    def top(self) -> Path:
        return Path(settings.DATA_DIR) / "stand-ins" / self.name

    @property
    def port(self) -> int:
        return settings.STAND_IN_PORT + self.later_ports


STATION = StandIn("station", "A station", "FTP", "station", "brine & rye", 0)
ARCHIVE = StandIn("archive", "An archive", "SFTP", "archive", "vellum & twine", 1)
SHARE = StandIn("share", "A shared folder", "WebDAV", "share", "clay & thatch", 2)
STORE = StandIn("store", "Object storage", "the S3 protocol", "STOREKEY", "flax & tallow", 3)
MAILBOX = StandIn("mailbox", "A mailbox", "mail", "", "", 4)

STAND_INS = {each.name: each for each in (STATION, ARCHIVE, SHARE, STORE, MAILBOX)}
