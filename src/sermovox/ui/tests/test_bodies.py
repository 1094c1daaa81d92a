"""How much a form may bring is told before any of it is read."""

from io import BytesIO

from django.test import Client, RequestFactory

from sermovox.ui.bodies import STRANGERS_BYTES, USUAL_BYTES
from sermovox.ui.tests.base import AppTestCase

_FORM = "multipart/form-data; boundary=x"


class _NeverRead(BytesIO):
    def read(self, *counts):
        raise AssertionError("something of it was read")

    readline = readlines = __iter__ = read


class Bodies(AppTestCase):
    def sent(self, client: Client, address: str, count: int, kind: str = _FORM):
        told = {"CONTENT_LENGTH": str(count), "CONTENT_TYPE": kind, "wsgi.input": _NeverRead()}
        return client.handler(
            RequestFactory().request(**client._base_environ(PATH_INFO=address, REQUEST_METHOD="POST") | told).environ
        )

    def test_a_stranger_leaves_nothing_on_the_disk(self):
        for kind in (_FORM, "application/x-www-form-urlencoded"):
            for address in ("/account/sign-in/", "/", "/language/", "/outlets/podcast-host/check/", "/nowhere/"):
                with self.subTest(address, kind=kind):
                    answer = self.sent(Client(), address, STRANGERS_BYTES + 1, kind)
                    self.assertEqual(answer.status_code, 404 if address == "/nowhere/" else 413)

    def test_who_is_signed_in_brings_what_a_page_takes(self):
        self.assertEqual(self.sent(self.client, "/productions/new/", USUAL_BYTES + 1).status_code, 413)
        said = {"username": "x" * STRANGERS_BYTES, "password": "y"}
        self.assertContains(Client().post("/account/sign-in/", said), "larger than this page takes", status_code=413)
        self.assertEqual(Client().post("/account/sign-in/", {"username": "x", "password": "y"}).status_code, 200)
