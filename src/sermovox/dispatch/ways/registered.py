"""The ways of sending: one class each, registered here under the name that rule sheets know it by."""

from collections.abc import Callable

from mastering.outlets.receiving import Receiving
from sermovox.dispatch.ways.carrier import Access, Carrier
from sermovox.dispatch.ways.folders import FolderCarrier
from sermovox.dispatch.ways.ftp import FtpCarrier
from sermovox.dispatch.ways.objects import ObjectCarrier
from sermovox.dispatch.ways.sftp import SftpCarrier
from sermovox.dispatch.ways.webdav import WebdavCarrier

CARRIERS: dict[str, Callable[[Receiving, Access], Carrier]] = {
    "folder": FolderCarrier,
    "ftp": FtpCarrier,
    "sftp": SftpCarrier,
    "webdav": WebdavCarrier,
    "objects": ObjectCarrier,
}
