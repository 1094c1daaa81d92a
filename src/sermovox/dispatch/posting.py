"""Sending a dispatch as one mail: its files attached or, where they are too large for that, links in their place."""

import mimetypes
import secrets
from collections.abc import Sequence
from datetime import timedelta
from email.utils import make_msgid
from typing import cast

from django.conf import settings
from django.core.mail import EmailMessage, SafeMIMEMultipart
from django.db import transaction
from django.db.models import F
from django.urls import reverse
from django.utils import timezone

from mastering.errors import Cancelled
from mastering.outlets.receiving import Receiving
from mastering.outlets.ways import LINKS
from mastering.said import ENGLISH, Said, speak
from sermovox.dispatch.models import Dispatch, Part, Secret
from sermovox.dispatch.opened import opened
from sermovox.dispatch.telling import telling
from sermovox.dispatch.ways.carrier import Access, NotSent, Told
from sermovox.dispatch.ways.mail import MailServer, Unsure, encoded_bytes
from sermovox.scripts.models import tag_of

_THOUSAND = 1000
TAKEN = Said("taken-mail-server")


def post(dispatch: Dispatch) -> None:
    """Send the mail. Raises NotSent, LineBroke, or Cancelled where nobody wants it any more.

    A mail that was on its way when everything stopped is not sent once more unasked: nobody can look whether it went.
    """
    parts = list(dispatch.parts.select_related("file__delivery__production"))
    for part in parts:
        part.dispatch = dispatch
    if any(part.state == Part.State.SENDING for part in parts):
        dispatch.parts.update(state=Part.State.WAITING, sent_bytes=0)
        raise Unsure(Said("sermovox-stopped-while-mail-server"))
    with MailServer(dispatch.way, Secret.of(dispatch.owner, dispatch.outlet_key, dispatch.way)) as server:
        stated = dispatch.way.number("largest") * 1_000_000
        most_bytes = min(stated, server.most_bytes or stated)
        linked = _too_large(dispatch, parts, most_bytes)
        message = _composed(dispatch, server.sender, [part for part in parts if part not in linked], linked)
        content = cast(SafeMIMEMultipart, message.message()).as_bytes(linesep="\r\n")
        if len(content) > most_bytes:
            raise _does_not_fit(len(content), most_bytes)
        server.addressed(len(content))
        dispatch.parts.update(state=Part.State.SENDING, by_link=False)
        dispatch.parts.filter(pk__in=[part.pk for part in linked]).update(by_link=True)
        try:
            answered = server.sent(content, _telling(dispatch, len(content)))
        except (NotSent, Cancelled):
            dispatch.parts.update(state=Part.State.WAITING, sent_bytes=0)
            raise
        with transaction.atomic():
            # All of it or nothing: what is half noted would be taken for a mail of which nobody knows.
            dispatch.parts.update(state=Part.State.SENT, answered=answered, proof=TAKEN)
            dispatch.parts.filter(by_link=False).update(sent_bytes=F("size_bytes"))


def _too_large(dispatch: Dispatch, parts: Sequence[Part], most_bytes: int) -> list[Part]:
    """Those that go as links: none where all fit; else all sound. Notes the key of the links."""
    needed = encoded_bytes([part.size_bytes for part in parts])
    if needed <= most_bytes:
        return []
    if dispatch.way.stated["larger"] != LINKS:
        raise _does_not_fit(needed, most_bytes)
    if not settings.PUBLIC_ADDRESS:
        raise NotSent(Said("mail-no-links"))
    dispatch.link_key = dispatch.link_key or secrets.token_urlsafe(24)
    dispatch.links_until = timezone.now() + timedelta(days=dispatch.way.number("days"))
    dispatch.save(update_fields=["link_key", "links_until"])
    return [part for part in parts if part.file_id]


def _does_not_fit(needed: int, most_bytes: int) -> NotSent:
    return NotSent(Said("mail-would-mb-mb-most", needed=needed / 1e6, most_bytes=most_bytes / 1e6))


def _composed(dispatch: Dispatch, sender: str, attached: Sequence[Part], linked: Sequence[Part]) -> EmailMessage:
    """The mail, with what is attached read whole: it is no larger than a mail may be."""
    receiving = dispatch.way
    if not dispatch.message_id:
        dispatch.message_id = make_msgid(domain=sender.rpartition("@")[2])
        dispatch.save(update_fields=["message_id"])
    message = EmailMessage(
        subject=dispatch.subject,
        body=_text(dispatch, dispatch.note, attached, linked),
        from_email=receiving.stated["sender"],
        to=_each(receiving.stated["to"]),
        cc=_each(receiving.stated.get("cc", "")),
        headers={"Message-ID": dispatch.message_id},
    )
    for part in attached:
        with opened(part) as file:
            content = file.read()
        kind = mimetypes.guess_type(part.name)[0] or "application/octet-stream"
        # As it is, whatever it holds: text would have its lines changed.
        message.attach(part.name, content, "application/octet-stream" if kind.startswith("text/") else kind)
    return message


def _text(dispatch: Dispatch, note: str, attached: Sequence[Part], linked: Sequence[Part]) -> str:
    lines = [note, ""]
    if linked and dispatch.links_until:
        address = settings.PUBLIC_ADDRESS + reverse("dispatch:fetch", args=[dispatch.link_key])
        until = timezone.localtime(dispatch.links_until).strftime("%d %B %Y, %H:%M %Z").lstrip("0")
        lines += [Said("mail-fetched-until", until=until), address, ""]
        lines += [*_listed(linked), ""]
    if attached:
        lines += [Said("attached"), *_listed(attached), ""]
    language = tag_of(dispatch.production.language) if dispatch.production else ENGLISH
    return "\n".join(speak(line, language) for line in lines)


_FEW = 5


def _takes_mail_for(recipients: Sequence[str]) -> str:
    few, more = ", ".join(recipients[:_FEW]), len(recipients) - _FEW
    if more > 0:
        return Said("take-mail-for-more", recipients=few, count=more)
    return Said("take-mail-for", recipients=few)


def _listed(parts: Sequence[Part]) -> list[str]:
    return [f"  {part.name}, {part.size_bytes:,} bytes, SHA-256 {part.sha256}" for part in parts]


def _each(text: str) -> list[str]:
    return [each.strip() for each in text.split(",") if each.strip()]


def _telling(dispatch: Dispatch, size_bytes: int) -> Told:
    def noted(sent_bytes: int) -> None:
        share = _THOUSAND * sent_bytes // size_bytes
        dispatch.parts.filter(by_link=False).update(sent_bytes=F("size_bytes") * share / _THOUSAND)

    return telling(dispatch, noted)


def tried(receiving: Receiving, access: Access) -> list[str]:
    """What works of a mail's way, in words. Raises NotSent for what does not."""
    with MailServer(receiving, access) as server:
        server.tried()
        words = [
            Said("there-lets-sermovox", address=receiving.address),
            _takes_mail_for(server.recipients),
        ]
        if server.most_bytes:
            words.append(Said("takes-mails-up-mb", most_bytes=server.most_bytes / 1e6))
    if receiving.stated["larger"] == LINKS and not settings.PUBLIC_ADDRESS:
        raise NotSent(Said("links-could-not-go"))
    return words
