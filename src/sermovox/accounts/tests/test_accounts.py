"""Signing in, and the demonstration's automatic sign-in."""

from django.contrib.auth import get_user_model
from django.test import TestCase, override_settings

from sermovox.accounts.middleware import is_loopback
from sermovox.supervisor import CannotStart, Supervisor


class SigningIn(TestCase):
    def test_with_name_and_password(self):
        get_user_model().objects.create_user("ilse", password="a long enough one")
        answer = self.client.post("/account/sign-in/", {"username": "ilse", "password": "wrong"})
        self.assertContains(answer, "correct username and password")
        answer = self.client.post("/account/sign-in/", {"username": "ilse", "password": "a long enough one"})
        self.assertRedirects(answer, "/")


class Demonstration(TestCase):
    def setUp(self):
        get_user_model().objects.create(username="demo")

    def test_a_visitor_from_this_machine_is_the_demo_narrator(self):
        with override_settings(DEMO_SIGN_IN=True):
            self.assertEqual(self.client_class().get("/").status_code, 200)

    def test_a_visitor_from_elsewhere_is_not(self):
        with override_settings(DEMO_SIGN_IN=True):
            self.assertEqual(self.client_class().get("/", REMOTE_ADDR="192.0.2.7").status_code, 302)

    def test_nobody_is_when_it_is_off(self):
        self.assertEqual(self.client.get("/").status_code, 302)

    def test_it_is_refused_on_an_address_others_can_reach(self):
        for host in ("0.0.0.0", "192.0.2.1", "::", "studio.example"):
            with self.assertRaisesRegex(CannotStart, "for this machine only"):
                Supervisor(host=host, port=0, workers=1, demo=True)
        self.assertTrue(is_loopback("127.0.0.1") and is_loopback("::1") and is_loopback("localhost"))
