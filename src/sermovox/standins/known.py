"""Which stand-ins there are: how each is reached, and where what it receives lies."""

from dataclasses import dataclass
from pathlib import Path

from django.conf import settings


@dataclass(frozen=True)
class StandIn:
    """One of them, with who it lets in, its place in the data folder and the port it listens at; none for a device."""

    name: str
    title: str
    way: str
    user: str
    password: str
    later_ports: int | None

    @property
    def top(self) -> Path:
        return Path(settings.DATA_DIR) / "stand-ins" / self.name

    @property
    def address(self) -> str:
        """As it is stated of an outlet."""
        return f"127.0.0.1:{self.port}" if self.later_ports is not None else str(self.top / "received")

    @property
    def port(self) -> int:
        return settings.STAND_IN_PORT + (self.later_ports or 0)


BUCKET = "manuscripts"
STATION = StandIn("station", "A station", "FTP", "station", "brine & rye", 0)
ARCHIVE = StandIn("archive", "An archive", "SFTP", "archive", "vellum & twine", 1)
SHARE = StandIn("share", "A shared folder", "WebDAV", "share", "clay & thatch", 2)
STORE = StandIn("store", "Object storage", "the S3 protocol", "STOREKEY", "flax & tallow", 3)
MAILBOX = StandIn("mailbox", "A mailbox", "mail", "", "", 4)
PLAYER = StandIn("player", "A pocket player", "its folder", "", "", None)

STAND_INS = {each.name: each for each in (STATION, ARCHIVE, SHARE, STORE, MAILBOX, PLAYER)}
