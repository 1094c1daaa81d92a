"""How an outlet receives its files, as its rule sheet states it: the way, where, what goes along; nothing secret."""

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from mastering.errors import MasteringError
from mastering.naming.patterns import BadPattern, Facts, read_pattern
from mastering.outlets.ways import PLAIN, WAYS, Field, Holds, WayKind
from mastering.said import Said

ASKED, EVERYTHING, NOTHING = "what the outlet asks", "all there is", "nothing"
ALONG = (ASKED, EVERYTHING, NOTHING)
"""What goes along with the sound: manifests, picture, chapter lists, check sheets."""
_LONGEST, _LONGEST_NOTE = 300, 5000
_MOST_ADDRESSES = 100
"""As many as every mail server has to take for one message (RFC 5321, 4.5.3.1.8)."""
_HOST = re.compile(r"(\[[0-9a-fA-F:.]+\]|[^\s\[\]/@:]+)(:(\d{1,5}))?")
_MAILBOX = re.compile(r"[A-Za-z0-9!#$%&'*+/=?^_`{|}~-]+(\.[A-Za-z0-9!#$%&'*+/=?^_`{|}~-]+)*@[^\W_]([\w-]*\.)*[\w-]+")
"""An address of mail without quotes or comments (RFC 5321, 4.1.2: Dot-string)."""


class BadReceiving(MasteringError):
    """How an outlet receives cannot be read; the text says what to write instead."""


@dataclass(frozen=True)
class Receiving:
    """The way of an outlet with what is stated of it; `folder` is a pattern."""

    way: str
    stated: Mapping[str, str] = field(default_factory=dict)
    along: str = ASKED

    @property
    def kind(self) -> WayKind:
        return WAYS[self.way]

    @property
    def address(self) -> str:
        return self.stated.get("address", "")

    @property
    def folder(self) -> str:
        return self.stated.get("folder", "")

    @property
    def door(self) -> str:
        """What a password opens: way, server, port and user together, and whether it is said in plain; empty where
        there is nothing to open.
        """
        if not self.kind.secret:
            return ""
        host, port = host_and_port(self.address, self.kind.port)
        plain = f", {PLAIN}" if self.stated.get("security") == PLAIN else ""
        # What passwords are kept for is held against this, so it is no sentence that may come to read otherwise.
        return f"{self.stated.get('user', '')} at {host.lower()}:{port} by {self.kind.title}{plain}"

    def written(self, name: str, facts: Facts) -> str:
        """What a pattern that is stated says."""
        return read_pattern(self.stated.get(name, "")).name(facts)

    def number(self, name: str) -> int:
        """A number that is stated, or what is usual; 0 for none."""
        return int(self.stated.get(name) or "0")

    @property
    def where(self) -> str:
        """Where files go, in words."""
        if self.kind.is_post:
            return ", ".join(self.stated[name] for name in ("to", "cc") if name in self.stated)
        user = self.stated.get("user")
        return Said("place-as-user", address=self.address, user=user) if user else self.address

    def table(self) -> dict[str, str]:
        """As a rule sheet states it, for `receiving_from`."""
        return {"way": self.way, **self.stated, "along": self.along}


def receiving_from(table: Mapping[str, Any]) -> Receiving:
    """Read how an outlet receives, from plain values. Raises BadReceiving."""
    way, along = table.get("way"), table.get("along") or ASKED
    if not isinstance(way, str) or way not in WAYS:
        raise BadReceiving(Said("there-no-way-receiving-called", way=way, ways=", ".join(WAYS)))
    if along not in ALONG:
        raise BadReceiving(Said("what-goes-along-one-these", along=", ".join(ALONG)))
    kind = WAYS[way]
    known = {each.name: each for each in kind.fields}
    if unknown := set(table) - set(known) - {"way", "along"}:
        raise BadReceiving(Said("no-place", title=kind.title, unknown=", ".join(sorted(unknown))))
    stated = {}
    for name, each in known.items():
        if text := _stated(each, table.get(name, "")):
            stated[name] = text
    receiving = Receiving(way, stated, along)
    if kind.is_post and (count := len(mailboxes(receiving.where))) > _MOST_ADDRESSES:
        raise BadReceiving(Said("mail-addresses-one-mail-goes", count=count, most_addresses=_MOST_ADDRESSES))
    return receiving


def _stated(each: Field, value: Any) -> str:
    lines = each.holds == Holds.NOTE
    longest = _LONGEST_NOTE if lines or each.holds == Holds.MAILBOXES else _LONGEST
    if not isinstance(value, str) or len(value) > longest:
        raise BadReceiving(Said("text-up-letters", label=each.label, longest=longest))
    text = value.replace("\r\n", "\n").strip()
    if not text.replace("\n", "" if lines else "\n").isprintable():
        raise BadReceiving(Said("one-line-letters-can-printed", label=each.label))
    text = text or each.usual or (each.choices[0] if each.choices else "")
    if each.choices and text not in each.choices:
        raise BadReceiving(Said("one-these", label=each.label, choices=", ".join(each.choices)))
    if each.needed and not text:
        raise BadReceiving(Said("missing-nothing-can-sent-without", label=each.label))
    if text:
        check = _CHECKS.get(each.holds)
        if check:
            check(each, text)
    return text


def _check_pattern(each: Field, text: str) -> None:
    try:
        read_pattern(text)
    except BadPattern as error:
        raise BadReceiving(Said("pattern-cannot-read", label=each.label, error=error)) from error


def _check_number(each: Field, text: str) -> None:
    if not (text.isascii() and text.isdigit() and 0 < int(text) <= each.most):
        raise BadReceiving(Said("whole-number-up-such", label=each.label, most=each.most, usual=each.usual or 500))


def _check_mailboxes(each: Field, text: str) -> None:
    if len(mailboxes(text)) > each.most:
        raise BadReceiving(Said("one-address", label=each.label))


def mailboxes(text: str) -> list[str]:
    """Addresses of mail out of a line with commas between them. Raises BadReceiving for what is none.

    >>> mailboxes("ines@example.org, Jonas Vey <j.vey@example.org>,")
    ['ines@example.org', 'j.vey@example.org']
    """
    found = []
    for each in (part.strip() for part in text.split(",")):
        inside = each[each.rindex("<") + 1 : -1] if each.endswith(">") and "<" in each else each
        if inside and not _MAILBOX.fullmatch(inside):
            raise BadReceiving(Said("no-address-mail-ines-example", each=each))
        found += [inside] if inside else []
    return list(dict.fromkeys(found))


def _check_server(each: Field, text: str) -> None:
    host_and_port(text, 1)


_CHECKS: dict[Holds, Callable[[Field, str], None]] = {
    Holds.PATTERN: _check_pattern,
    Holds.NOTE: _check_pattern,
    Holds.NUMBER: _check_number,
    Holds.MAILBOXES: _check_mailboxes,
    Holds.SERVER: _check_server,
}


def host_and_port(address: str, port: int) -> tuple[str, int]:
    """Part the address of a server whose usual port is that. Raises BadReceiving.

    >>> host_and_port("ftp.example.org", 21), host_and_port("[::1]:2121", 21)
    (('ftp.example.org', 21), ('::1', 2121))
    """
    found = _HOST.fullmatch(address)
    if not found or not 0 < int(found[3] or port) < 1 << 16:
        raise BadReceiving(Said("no-address-server-write-name", address=address))
    return found[1].strip("[]"), int(found[3] or port)
