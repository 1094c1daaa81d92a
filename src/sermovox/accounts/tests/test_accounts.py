"""Signing in, the first account, and the demonstration's automatic sign-in."""

import io
import json
import sys
import tempfile
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path
from unittest.mock import patch

from django.contrib.auth import get_user_model
from django.test import TestCase, override_settings

from sermovox.accounts import first
from sermovox.accounts.loopback import is_loopback
from sermovox.cli import main
from sermovox.running.starting import _tell_of_first_account
from sermovox.running.supervisor import CannotStart, Supervisor

GIVEN = {
    "username": "ilse",
    "first_name": "Ilse Brandt",
    "password1": "salt cedar ford",
    "password2": "salt cedar ford",
}
HERE = {"SERVER_NAME": "127.0.0.1"}


def people() -> list[str]:
    return sorted(get_user_model().objects.values_list("username", flat=True))


class SigningIn(TestCase):
    def test_with_name_and_password(self):
        get_user_model().objects.create_user("ilse", password="a long enough one")
        answer = self.client.post("/account/sign-in/", {"username": "ilse", "password": "wrong"})
        self.assertContains(answer, "correct username and password")
        answer = self.client.post("/account/sign-in/", {"username": "ilse", "password": "a long enough one"})
        self.assertRedirects(answer, "/")


class FirstAccount(TestCase):
    def setUp(self):
        folder = self.enterContext(tempfile.TemporaryDirectory())
        self.enterContext(override_settings(DATA_DIR=Path(folder)))

    def test_whoever_sits_at_the_machine_makes_it_and_is_signed_in(self):
        first.let_this_machine()
        self.assertRedirects(self.client.get("/account/sign-in/", **HERE), "/account/first/")
        answer = self.client.post("/account/first/", GIVEN | {"password2": "another"}, **HERE)
        self.assertEqual((answer.status_code, people()), (200, []))
        answer = self.client.post("/account/first/", GIVEN | {"password1": "short", "password2": "short"}, **HERE)
        self.assertContains(answer, "at least 10 characters")
        self.assertRedirects(self.client.post("/account/first/", GIVEN, **HERE), "/")
        owner = get_user_model().objects.get()
        self.assertEqual((owner.called, owner.is_superuser), ("Ilse Brandt", True))
        self.assertContains(self.client.get("/", **HERE), "Ilse Brandt")

    def test_there_is_no_second_one_that_way(self):
        first.let_this_machine()
        self.client.post("/account/first/", GIVEN, **HERE)
        self.client.logout()
        again = self.client.post("/account/first/", GIVEN | {"username": "somebody"}, **HERE)
        self.assertRedirects(again, "/account/sign-in/")
        self.assertEqual(people(), ["ilse"])
        self.assertContains(self.client.get("/account/sign-in/", **HERE), "sermovox account add")

    def test_nobody_else_makes_it(self):
        passed_on = [{name: "198.51.100.7"} for name in ("X-Forwarded-For", "Forwarded", "X-Real-IP", "Via")]
        self.assertEqual(self.client.post("/account/first/", GIVEN, **HERE).status_code, 404)
        first.let_this_machine()
        with override_settings(ALLOWED_HOSTS=["127.0.0.1", "studio.example"]):
            from_elsewhere = [
                ({"REMOTE_ADDR": "198.51.100.7"}, {}),
                ({}, {"Host": "studio.example"}),
                *(({}, headers) for headers in passed_on),
            ]
            for where, headers in from_elsewhere:
                answer = self.client.post("/account/first/", GIVEN, headers=headers, **HERE | where)
                self.assertEqual((answer.status_code, people()), (404, []), (where, headers))

    def test_a_link_makes_it_once_where_others_can_reach_the_server(self):
        earlier, link = (first.link("https://studio.example/") for _ in range(2))
        self.assertRegex(link, r"^https://studio.example/account/first/[\w-]{30,}/$")
        path = link.removeprefix("https://studio.example")
        for wrong in ("/account/first/", earlier.removeprefix("https://studio.example")):
            self.assertEqual(self.client.post(wrong, GIVEN).status_code, 404)
        self.assertEqual(self.client.get("/account/sign-in/", **HERE).status_code, 200)
        self.assertRedirects(self.client.post(path, GIVEN), "/")
        self.client.logout()
        again = self.client.post(path, GIVEN | {"username": "somebody"})
        self.assertRedirects(again, "/account/sign-in/")
        self.assertEqual(people(), ["ilse"])

    def test_what_a_start_prints_can_be_opened_as_it_stands(self):
        for host, address in (("127.0.0.1", "http://127.0.0.1:8420/"), ("0.0.0.0", "http://0.0.0.0:8420/")):
            out = io.StringIO()
            with redirect_stdout(out), override_settings(ALLOWED_HOSTS=["127.0.0.1"]):
                _tell_of_first_account(host, address)
                link = out.getvalue().split()[-1]
                self.assertTrue(link.startswith(address), link)
                answer = self.client.get(link.removeprefix(address.rstrip("/")), follow=True, **HERE)
                self.assertContains(answer, "Make the first account")

    def test_a_server_with_a_name_of_its_own_is_not_for_this_machine_alone(self):
        with override_settings(ALLOWED_HOSTS=["127.0.0.1", "localhost", "[::1]"]):
            self.assertTrue(first.is_for_this_machine_alone())
            with override_settings(PUBLIC_ADDRESS="https://studio.example"):
                self.assertFalse(first.is_for_this_machine_alone())
        with override_settings(ALLOWED_HOSTS=["127.0.0.1", "studio.example"]):
            self.assertFalse(first.is_for_this_machine_alone())


class FromATerminal(TestCase):
    def account(self, *words: str, typed: str = "") -> tuple[int, str]:
        out = io.StringIO()
        with redirect_stdout(out), redirect_stderr(out), patch.object(sys, "stdin", io.StringIO(typed)):
            status = main(["account", *words])
        return status, out.getvalue()

    def test_accounts_are_made_listed_and_given_another_password(self):
        self.assertIn("no account yet", self.account("list")[1])
        self.assertEqual(self.account("add", "ilse", "--called", "Ilse Brandt", typed="salt cedar ford\n")[0], 0)
        self.assertEqual(self.account("add", "nils", typed="moss bank ferry\n")[0], 0)
        rows = json.loads(self.account("list", "--json")[1])
        self.assertEqual([(row["name"], row["called"]) for row in rows], [("ilse", "Ilse Brandt"), ("nils", "nils")])
        self.assertEqual([user.is_superuser for user in get_user_model().objects.order_by("username")], [True, False])
        self.client.login(username="ilse", password="salt cedar ford")
        self.assertEqual(self.account("password", "ilse", typed="peat wharf lime\n")[0], 0)
        self.assertEqual(self.client.get("/").status_code, 302, "signed out by it")
        self.assertTrue(self.client.login(username="ilse", password="peat wharf lime"))

    def test_what_cannot_be_is_said_and_changes_nothing(self):
        self.account("add", "ilse", typed="salt cedar ford\n")
        for words, typed, said in (
            (("add", "ILSE"), "moss bank ferry\n", "already"),
            (("add", "a name"), "moss bank ferry\n", "valid username"),
            (("add", "nils"), "short\n", "too short"),
            (("add", "nils"), "", "too short"),
            (("add", "nils"), "password123\n", "too common"),
            (("password", "nils"), "moss bank ferry\n", "There are: ilse."),
        ):
            status, told = self.account(*words, typed=typed)
            self.assertEqual((status, people()), (1, ["ilse"]), words)
            self.assertIn(said, told)
        self.assertTrue(self.client.login(username="ilse", password="salt cedar ford"))


class Demonstration(TestCase):
    def setUp(self):
        get_user_model().objects.create(username="demo")

    def test_a_visitor_from_this_machine_is_the_demo_narrator(self):
        with override_settings(DEMO_SIGN_IN=True):
            self.assertEqual(self.client_class().get("/", **HERE).status_code, 200)

    def test_a_visitor_from_elsewhere_is_not(self):
        with override_settings(DEMO_SIGN_IN=True):
            self.assertEqual(self.client_class().get("/", REMOTE_ADDR="192.0.2.7", **HERE).status_code, 302)
            self.assertEqual(self.client_class().get("/").status_code, 302, "another host was asked for")
            for name in ("X-Forwarded-For", "X-Forwarded-Host", "Forwarded", "X-Real-IP", "Via"):
                answer = self.client_class().get("/", headers={name: "127.0.0.1"}, **HERE)
                self.assertEqual(answer.status_code, 302, name)

    def test_nobody_is_when_it_is_off(self):
        self.assertEqual(self.client.get("/").status_code, 302)

    def test_it_is_refused_on_an_address_others_can_reach(self):
        for host in ("0.0.0.0", "192.0.2.1", "::", "studio.example"):
            with self.assertRaisesRegex(CannotStart, "for this machine only"):
                Supervisor(host=host, port=0, workers=1, demo=True)
        self.assertTrue(is_loopback("127.0.0.1") and is_loopback("::1") and is_loopback("localhost"))
