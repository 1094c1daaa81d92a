"""Mails: what goes into them, what stands in their way, and what is fetched by their links.

Held against RFC 5321 and 5322 by aiosmtpd, and against RFC 2046 by Python's own email, which reads every attachment.
"""

import hashlib
import ssl
from datetime import timedelta
from unittest.mock import patch

from aiosmtpd.smtp import AuthResult
from django.test import Client, override_settings
from django.utils import timezone

from mastering.outlets.ways import LATER_TLS, NOTHING_SENT, PLAIN, TLS
from sermovox.dispatch.models import Dispatch
from sermovox.dispatch.tests.servers import certificate, misbehave, trusting
from sermovox.dispatch.tests.test_sending import SendingTestCase
from sermovox.standins.mailbox import InAThread
from sermovox.standins.mails import mails_in
from sermovox.standins.mischief import received_in
from sermovox.work.recovery import look_after

HERE = "https://sermovox.example.org"


@override_settings(SEND_TO_OWN_NETWORK=True, PUBLIC_ADDRESS=HERE)
class MailTestCase(SendingTestCase):
    most_bytes = 2_000_000

    def setUp(self):
        super().setUp()
        self.top = self.folder / "box"
        self.port = self.enterContext(self.box()).port

    def box(self, **more) -> InAThread:
        """A mail server on this machine."""
        return InAThread(self.top, most_bytes=self.most_bytes, **more)

    def state_mail(self, *, secret: str = "", **more):
        stated = {"address": f"localhost:{self.port}", "security": PLAIN, "sender": "Ilse Brandt <ilse@brandt.example>"}
        return self.state("mail", secret=secret, **stated | {"to": "desk@studio.example"} | more)

    @property
    def mails(self):
        return mails_in(received_in(self.top))


class Attached(MailTestCase):
    def test_each_file_is_in_the_mail_to_the_byte_and_the_servers_answer_is_kept(self):
        stated = {"cc": "Jonas Vey <j.vey@studio.example>", "subject": "{production} · {outlet|upper}"}
        self.state_mail(note="Dear Söre,\r\n.\r\nhere is {production}.\r\n", **stated)
        dispatch = self.sent()
        self.assertEqual((dispatch.state, dispatch.said), ("sent", ""))
        (mail,) = self.mails
        self.assertEqual((mail.subject, mail.cc), ("Salt and Cedar · PODCAST HOST", "Jonas Vey <j.vey@studio.example>"))
        self.assertEqual(mail.message_id, dispatch.message_id)
        self.assertTrue(mail.text.replace("\r", "").startswith("Dear Söre,\n.\nhere is Salt and Cedar.\n"), mail.text)
        found = {each.name: each.sha256 for each in mail.attachments}
        self.assertEqual(found, {file.name: file.sha256 for file in self.files})
        for file in self.files:
            self.assertIn(f"{file.name}, {file.figures['size_bytes']:,} bytes, SHA-256 {file.sha256}", mail.text)
        part = dispatch.parts.first()
        self.assertRegex(part.answered, "^250 2.0.0 Taken as ")
        receipt = self.client.get(f"/sent/{dispatch.pk}/receipt.json").json()
        self.assertEqual(receipt["message_id"], dispatch.message_id)
        self.assertEqual(receipt["to"], "desk@studio.example, Jonas Vey <j.vey@studio.example>")
        page = self.client.post(f"/sent/{dispatch.pk}/confirm/", follow=True)
        self.assertContains(page, "confirmed by Ilse Brandt")
        dispatch.refresh_from_db()
        self.assertEqual(dispatch.state, "arrived")

    def test_nothing_is_mailed_twice_unasked(self):
        self.state_mail()
        self.sent()
        ticked = {"file": [file.pk for file in self.files]}
        page = self.client.post(f"/sent/deliveries/{self.delivery.pk}/", ticked, follow=True)
        self.assertContains(page, "All of these were mailed there before")
        self.sent(replacing="on")
        self.assertEqual(len(self.mails), 2)
        # To somebody else it is no second time.
        self.state_mail(to="other@studio.example")
        self.sent()
        self.assertEqual(len(self.mails), 3)

    def test_titles_and_names_neither_add_headers_nor_are_carried_out(self):
        title = "Salt\r\nBcc: all@everybody.example\r\n\r\n{{ settings.SECRET_KEY }} {secret} {% now 'Y' %}"
        type(self.production).objects.filter(pk=self.production.pk).update(title=title)
        self.state_mail(subject="{production}", note="{production}")
        self.assertEqual(self.sent().state, "sent")
        (mail,) = self.mails
        words = "Salt Bcc: all@everybody.example {{ settings.SECRET_KEY }} {secret} {% now 'Y' %}"
        self.assertEqual(mail.subject, words)
        self.assertEqual(mail.to, "desk@studio.example")
        raw = next(received_in(self.top).glob("*.eml")).read_bytes()
        self.assertNotIn(b"\nBcc:", raw.partition(b"\r\n\r\n")[0])
        self.assertIn("{{ settings.SECRET_KEY }} {secret}", mail.text)
        for wrong in ({"subject": "{secret}"}, {"sender": "ilse@brandt.example\r\nBcc: x@y.example"}, {"to": "nobody"}):
            with self.subTest(wrong):
                self.assertContains(self.state_mail(**wrong), "said error wide")

    def test_sixty_get_one_mail_and_more_than_a_hundred_are_refused(self):
        self.state_mail(to=", ".join(f"reader{number}@studio.example" for number in range(60)))
        self.assertEqual(self.sent().state, "sent")
        self.assertEqual(self.mails[0].to.count("@"), 60)
        page = self.state_mail(to=", ".join(f"reader{number}@studio.example" for number in range(101)))
        self.assertContains(page, "has 101 addresses")
        many = ", ".join(f"reader{number}@studio.example" for number in range(60))
        self.assertContains(self.state_mail(to=many, cc=many.replace("reader", "other")), "has 120 addresses")

    def test_servers_have_names_in_any_letters_and_a_mail_has_one_sender(self):
        self.state_mail(to="desk@räucherei.example", sender="ilse@brändt.example")
        self.assertEqual(self.sent().state, "sent")
        self.assertEqual(self.mails[0].to, "desk@xn--rucherei-0za.example")
        self.assertIn("@xn--brndt-hra.example>", self.mails[0].message_id)
        self.assertContains(self.state_mail(sender="a@brandt.example, b@brandt.example"), "is one address")


class WhatStandsInTheWay(MailTestCase):
    def test_it_goes_to_all_or_to_nobody(self):
        self.state_mail()
        misbehave(self.top, refuses=True)
        dispatch = self.sent()
        self.assertEqual(dispatch.state, "stuck")
        self.assertIn("takes no mail for desk@studio.example (550 5.1.1 Nobody", dispatch.said)
        self.assertIn("It went to nobody", dispatch.said)
        self.assertEqual(self.mails, [])

    def test_a_full_box_is_said(self):
        self.state_mail()
        misbehave(self.top, full=True)
        dispatch = self.sent()
        self.assertEqual(dispatch.state, "stuck")
        self.assertIn("has no room left (452 4.2.2 The box is full)", dispatch.said)

    def test_a_line_that_breaks_before_the_answer_sends_no_second_mail_by_itself(self):
        self.state_mail()
        misbehave(self.top, drops=1)
        dispatch = self.sent()
        self.assertEqual(dispatch.state, "stuck")
        self.assertIn("It is not known whether the mail went out", dispatch.said)
        look_after()
        self.work()
        self.assertEqual(len(self.mails), 1)
        self.client.post(f"/sent/{dispatch.pk}/go-on/")
        self.work()
        self.assertEqual(len(self.mails), 2)
        # The same mail: who looks at that sees it once.
        self.assertEqual(self.mails[0].message_id, self.mails[1].message_id)

    def test_a_kill_while_it_is_taken_is_no_reason_to_send_it_twice(self):
        self.state_mail()
        dispatch = self.begin()
        # As it is left where the process is gone before the server has answered.
        dispatch.parts.update(state="sending")
        self.work()
        dispatch.refresh_from_db()
        self.assertEqual(dispatch.state, "stuck")
        self.assertIn("not known whether it went out", dispatch.said)
        self.assertEqual(self.mails, [])

    def test_who_may_not_and_what_cannot_be_trusted(self):
        def only_ilse(server, session, envelope, mechanism, told):
            return AuthResult(success=told.login == b"ilse" and told.password == b"heather & slate", handled=False)

        asks = {"authenticator": only_ilse, "auth_required": True, "auth_require_tls": False}
        path = certificate(self.folder)
        context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
        context.load_cert_chain(path)
        with self.box(**asks) as box:
            self.port = box.port
            self.state_mail(user="ilse", secret="wrong")
            self.assertIn("does not let “ilse” in (535", self.sent().said)
            self.state_mail(user="ilse", secret="heather & slate")
            self.assertEqual(self.sent().state, "sent")
            self.state_mail(security=LATER_TLS, user="ilse")
            self.assertIn("knows no encrypted lines after its greeting", self.sent(replacing="on").said)
        for security, served in ((TLS, {"encrypted": context}), (LATER_TLS, {"tls_context": context})):
            with self.subTest(security), self.box(**served) as box:
                self.port = box.port
                self.state_mail(security=security)
                self.assertIn("is not to be trusted: self-signed certificate", self.sent(replacing="on").said)
                with patch("sermovox.dispatch.ways.mail.ssl.create_default_context", trusting(path)):
                    self.assertEqual(self.sent(replacing="on").state, "sent")

    def test_reaching_says_what_would_be_taken_and_sends_nothing(self):
        self.state_mail()
        page = self.client.post("/sent/outlets/podcast-host/reach/")
        self.assertContains(page, "It would take mail for desk@studio.example")
        self.assertContains(page, "It takes mails of up to 2.0 MB")
        with override_settings(PUBLIC_ADDRESS=""):
            self.assertContains(self.client.post("/sent/outlets/podcast-host/reach/"), "Links could not go out")
        self.assertEqual(self.mails, [])


class ByLinks(MailTestCase):
    most_bytes = 100_000
    """The files have 200,000 each."""

    def setUp(self):
        super().setUp()
        self.anybody = Client()

    def linked(self) -> tuple[Dispatch, str]:
        self.state_mail(days="3")
        dispatch = self.sent()
        self.assertEqual((dispatch.state, dispatch.said), ("sent", ""))
        return dispatch, f"/sent/fetch/{dispatch.link_key}/"

    def fetched(self, address: str, **headers) -> bytes:
        return b"".join(self.anybody.get(address, headers=headers).streaming_content)

    def test_what_is_too_large_is_fetched_by_its_link_and_has_arrived_then(self):
        dispatch, address = self.linked()
        (mail,) = self.mails
        self.assertEqual(mail.attachments, [])
        self.assertIn(HERE + address, mail.text)
        self.assertContains(self.anybody.get(address), self.files[0].name)
        first, second = dispatch.parts.all()
        self.assertEqual(hashlib.sha256(self.fetched(f"{address}{first.pk}/")).hexdigest(), first.sha256)
        # Broken off and gone on with; what was begun elsewhere is no arrival.
        self.fetched(f"{address}{second.pk}/", Range="bytes=150000-")
        head = self.fetched(f"{address}{second.pk}/", Range="bytes=0-99999")
        dispatch.refresh_from_db()
        self.assertEqual(dispatch.state, "sent")
        rest = self.fetched(f"{address}{second.pk}/", Range="bytes=100000-")
        self.assertEqual(hashlib.sha256(head + rest).hexdigest(), second.sha256)
        dispatch.refresh_from_db()
        self.assertEqual(dispatch.state, "arrived")
        self.assertContains(self.client.get("/outlets/"), "sign-arrived")
        page = self.client.get(dispatch.get_absolute_url())
        self.assertContains(page, "fetched whole by its link", 2)
        # What was fetched stays known, whatever becomes of the file here.
        type(self.files[0]).objects.filter(pk=self.files[0].pk).update(replaced_at=timezone.now())
        self.assertEqual(self.anybody.get(f"{address}{first.pk}/").status_code, 410)
        first.refresh_from_db()
        self.assertEqual(first.state, "arrived")

    def test_links_end(self):
        dispatch, address = self.linked()
        part = dispatch.parts.first()
        self.assertEqual(self.anybody.get("/sent/fetch/none-of-that-name/").status_code, 404)
        self.assertEqual(self.anybody.get(f"{address}999999/").status_code, 404)
        self.assertGreater(dispatch.links_until, timezone.now() + timedelta(days=2.9))
        self.client.post(f"/sent/{dispatch.pk}/end-links/")
        for ended in (address, f"{address}{part.pk}/"):
            self.assertContains(self.anybody.get(ended), "for", status_code=410)

    def test_where_no_links_are_wanted_or_can_be_nothing_goes(self):
        self.state_mail(larger=NOTHING_SENT)
        dispatch = self.sent()
        self.assertRegex(dispatch.said, "The mail would have 0.6 MB, and 0.1 MB is the most it may have")
        with override_settings(PUBLIC_ADDRESS=""):
            self.state_mail()
            self.assertIn("there can be no links to them", self.sent().said)
        self.assertEqual(self.mails, [])
