"""Sending to servers that nobody here wrote: OpenSSH, ProFTPD and nginx with WebDAV, as Debian has them."""

import email
import email.policy
import hashlib
import os
import signal
import subprocess
import threading
import time
from types import MappingProxyType
from unittest import skipUnless
from unittest.mock import patch

from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import override_settings

from mastering.outlets.ways import BY_SIZE, PLAIN
from sermovox.dispatch import sending
from sermovox.dispatch.models import Dispatch
from sermovox.dispatch.proving import READ_BACK, SAMPLED, TOLD
from sermovox.dispatch.tests import real
from sermovox.dispatch.tests.test_sending import OUTLET, SendingTestCase

_MANY, _IDLE_S = 10_000, 3


@override_settings(SEND_TO_OWN_NETWORK=True)
class RealServerTestCase(SendingTestCase):
    folder_there = "new/{production|plain|join:_}"

    def served(self, way: str, **more) -> real.Served:
        """A server, and an outlet that receives there."""
        served = self.enterContext({"sftp": real.openssh, "ftp": real.proftpd, "webdav": real.nginx}[way](**more))
        self.state_at(way, served)
        return served

    def on_a_small_disk(self, served: real.Served, size: str) -> None:
        try:
            self.enterContext(real.small(served.received, size))
        except OSError as error:
            self.skipTest(str(error))

    def state_at(self, way: str, served: real.Served, **more):
        stated = {"address": f"localhost:{served.port}", "folder": self.folder_there} | more
        if way == "sftp":
            key = SimpleUploadedFile("key", served.key.encode())
            return self.state("sftp", user=real.getpass.getuser(), key=key, **stated)
        stated |= {"share": "shelf"} if way == "webdav" else {}
        return self.state(way, **{"user": real.USER, "secret": real.PASSWORD, "security": PLAIN} | stated)

    def assertArrived(self, served: real.Served, dispatch: Dispatch, proof: str):
        self.assertEqual((dispatch.state, dispatch.said), ("arrived", ""))
        self.assertEqual({part.proof for part in dispatch.parts.all()}, {proof})
        self.assertThere(served.received / "new" / "Salt_and_Cedar")


class _EachWay:
    """What holds for every way."""

    way: str
    proof = READ_BACK
    sampled = SAMPLED

    def test_files_arrive_and_what_is_wrong_over_there_is_not_taken_for_them(self):
        served = self.served(self.way)
        reached = self.client.post(f"/sent/outlets/{OUTLET}/reach/", follow=True).content.decode()
        self.assertNotIn('mark-fails"/></svg>', reached)
        self.assertEqual(list(served.received.iterdir()), [], "reaching leaves nothing behind")
        there = served.received / "new" / "Salt_and_Cedar"
        there.mkdir(parents=True)
        for folder in (there.parent, there):
            folder.chmod(0o777)
        file = self.files[0]
        begun = there / f"{file.name}.{file.sha256[:8]}.part"
        begun.write_bytes(file.path.read_bytes()[:120_000] + bytes(60_000))
        begun.chmod(0o666)
        self.assertArrived(served, self.sent(), self.proof)
        (there / file.name).write_bytes(bytes(200_000))
        again = self.sent()
        self.assertTrue(again.name_taken, again.said)
        self.client.post(f"/sent/{again.pk}/go-on/", {"replacing": "yes"})
        self.work()
        again.refresh_from_db()
        self.assertArrived(served, again, self.proof)

    def test_large_ones_are_looked_into(self):
        served = self.served(self.way)
        with patch.multiple("sermovox.dispatch.proving", SMALL_BYTES=100_000, SAMPLE_BYTES=1_000):
            self.assertArrived(served, self.sent(), self.sampled)

    def test_one_among_ten_thousand_and_a_name_with_anything_in_it(self):
        served = self.served(self.way)
        there = served.received / "new" / "Salt_and_Cedar"
        there.mkdir(parents=True)
        for number in range(_MANY):
            (there / f"{number}.mp3").touch()
        for folder in (there.parent, there):
            folder.chmod(0o777)
        name = "01 Öl & Docht #1 100%; 海 'x' (b).mp3"
        type(self.files[0]).objects.filter(pk=self.files[0].pk).update(name=name)
        dispatch = self.sent(file=[self.files[0].pk])
        self.assertEqual((dispatch.state, dispatch.said), ("arrived", ""))
        self.assertEqual(hashlib.sha256((there / name).read_bytes()).hexdigest(), self.files[0].sha256)
        self.assertEqual(len(list(there.iterdir())), _MANY + 1)

    def test_a_server_that_stands_still_for_a_while_is_waited_for(self):
        served = self.served(self.way)
        os.killpg(served.process.pid, signal.SIGSTOP)
        threading.Timer(1.5, os.killpg, (served.process.pid, signal.SIGCONT)).start()
        self.assertArrived(served, self.sent(), self.proof)

    def test_a_line_that_was_closed_while_nothing_went_over_it_is_no_trouble(self):
        """Servers close what is idle, which may be between two files."""
        served = self.served(self.way, **self.impatient)
        wanted = sending._want_room

        def late(*arguments):
            time.sleep(_IDLE_S + 1)
            wanted(*arguments)

        with patch("sermovox.dispatch.sending._want_room", late):
            dispatch = self.sent()
        while dispatch.state == "waiting":
            self.assertRegex(dispatch.said, "broke|421")
            dispatch = self.again(dispatch)
        self.assertArrived(served, dispatch, self.proof)

    def test_a_server_that_ends_in_the_midst_is_tried_again(self):
        served = self.served(self.way)
        tells = sending._telling

        def telling(part):
            told = tells(part)

            def ends(sent_bytes):
                subprocess.run(["pkill", "-KILL", "-P", str(served.process.pid)])
                served.process.kill()
                told(sent_bytes)

            return ends

        with patch("sermovox.dispatch.sending._telling", telling):
            dispatch = self.sent()
        self.assertEqual((dispatch.state, dispatch.tries), ("waiting", 1), dispatch.said)

    def test_a_folder_that_may_not_be_written_is_said(self):
        served = self.served(self.way, **self.read_only)
        dispatch = self.sent()
        self.assertEqual(dispatch.state, "stuck")
        self.assertIn("does not let “", dispatch.said)
        self.assertEqual(list(served.received.rglob("*.mp3*")), [])

    def test_a_full_disk_is_said_and_leaves_nothing_under_a_name(self):
        served = self.served(self.way)
        self.on_a_small_disk(served, "100k")
        dispatch = self.sent()
        self.assertRegex(dispatch.said, self.full)
        self.assertEqual(list(served.received.rglob("*.mp3")), [])


@skipUnless(real.found("sshd"), "OpenSSH is not installed")
class OpenSsh(_EachWay, RealServerTestCase):
    way = "sftp"
    full = "There is room for 0 MB there"
    impatient = MappingProxyType({"more": f"ClientAliveInterval {_IDLE_S}\nClientAliveCountMax 0"})
    read_only = MappingProxyType({"read_only": True})

    def test_a_disk_that_fills_up_meanwhile_is_said(self):
        served = self.served(self.way)
        self.on_a_small_disk(served, "100k")
        with patch("sermovox.dispatch.sending._want_room"):
            self.assertIn("has no room left", self.sent().said)

    def test_another_host_key_is_said_and_nothing_is_sent(self):
        self.served(self.way)
        self.assertEqual(self.sent().state, "arrived")
        other = self.enterContext(real.openssh())
        self.state_at(self.way, other)
        dispatch = self.sent()
        self.assertEqual(dispatch.state, "arrived", "another address is another server, met for the first time")


@skipUnless(real.found("proftpd"), "ProFTPD is not installed")
class ProFtpd(_EachWay, RealServerTestCase):
    way = "ftp"
    full = "cannot take it just now .451"  # it says no more than that of the last bytes of a file
    proof = sampled = TOLD
    impatient = MappingProxyType({"more": f"TimeoutIdle {_IDLE_S}"})
    read_only = MappingProxyType({"more": "<Limit WRITE>\nDenyAll\n</Limit>"})

    def test_why_it_takes_no_more_is_asked_where_it_closes_the_line_of_the_data(self):
        served = self.served(self.way)
        self.on_a_small_disk(served, "1m")
        file = self.files[0]
        content = os.urandom(30_000_000)
        file.path.write_bytes(content)
        facts = {"sha256": hashlib.sha256(content).hexdigest(), "figures": file.figures | {"size_bytes": len(content)}}
        type(file).objects.filter(pk=file.pk).update(**facts)
        dispatch = self.sent()
        self.assertRegex(dispatch.said, r"has no room left \(4|cannot take it just now \(451")

    def test_where_it_tells_no_hash_files_are_read_back(self):
        served = self.served(self.way, more="DigestEngine off")
        self.assertArrived(served, self.sent(), READ_BACK)

    def test_where_nothing_is_given_back_it_is_counted(self):
        self.served(self.way, more="DigestEngine off\n<Limit RETR>\nDenyAll\n</Limit>")
        dispatch = self.sent()
        self.assertEqual((dispatch.state, {part.proof for part in dispatch.parts.all()}), ("there", {BY_SIZE}))


@skipUnless(real.found("exim4") and os.geteuid() == 0, "Exim is not installed, or may not be started here")
@override_settings(SEND_TO_OWN_NETWORK=True)
class Exim(SendingTestCase):
    def state_mail(self, served: real.Served, **more):
        stated = {"address": f"localhost:{served.port}", "security": PLAIN, "sender": "ilse@brandt.example"}
        stated |= {"to": "desk@studio.example, soere@studio.example", "user": real.USER}
        self.state("mail", **stated | {"secret": real.PASSWORD} | more)

    def test_a_mail_with_all_files_is_taken_once(self):
        served = self.enterContext(real.exim())
        self.state_mail(served)
        with override_settings(PUBLIC_ADDRESS="https://sermovox.example.org"):
            reached = self.client.post(f"/sent/outlets/{OUTLET}/reach/")
        self.assertContains(reached, "It would take mail for desk@studio.example")
        dispatch = self.sent()
        self.assertEqual((dispatch.state, dispatch.said), ("sent", ""))
        self.assertRegex(dispatch.parts.first().answered, "^250 OK id=")
        until = time.monotonic() + 20
        while not (found := list(served.received.glob("new/*"))) and time.monotonic() < until:
            time.sleep(0.1)
        mail = email.message_from_bytes(found[0].read_bytes(), policy=email.policy.default)
        taken = {each.get_filename(): each.get_content() for each in mail.iter_attachments()}
        self.assertEqual(taken, {file.name: file.path.read_bytes() for file in self.files})

    def test_what_stands_in_the_way_is_said(self):
        served = self.enterContext(real.exim(most="100K"))
        self.state_mail(served, secret="wrong")
        self.assertIn("does not let “ines” in (535", self.sent().said)
        self.state_mail(served)
        self.assertIn("The files are larger than the mail may be", self.sent().said)
        self.assertEqual(list(served.received.glob("new/*")), [])


@skipUnless(real.found("nginx"), "nginx is not installed")
class Nginx(_EachWay, RealServerTestCase):
    way = "webdav"
    full = "cannot take it just now .500"  # it says no more than that
    impatient = MappingProxyType({"more": f"keepalive_timeout {_IDLE_S};"})
    read_only = MappingProxyType({"more": "limit_except GET PROPFIND OPTIONS { deny all; }"})
