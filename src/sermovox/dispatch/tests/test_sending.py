"""Sending: into folders and to a server that misbehaves, across kills, and what it takes for "arrived"."""

import contextlib
import hashlib
import io
import json
import threading
from dataclasses import replace
from datetime import timedelta
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from unittest.mock import patch

import asyncssh
import numpy as np
from django.contrib.auth import get_user_model
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import override_settings
from django.utils import timezone

from mastering.outlets.rules.delivery import HEARD_FIRST
from mastering.outlets.rulesheets import parse, shipped, shipped_text, with_rule, written
from mastering.outlets.ways import PLAIN, TLS, WAYS
from mastering.tests.signals import speech
from sermovox.cli import main
from sermovox.deliveries.models import Delivery, FinishedFile
from sermovox.deliveries.runs import start_run
from sermovox.dispatch.handing import AT_ONCE, NO_WISH
from sermovox.dispatch.models import Dispatch, Part, Secret, Wish
from sermovox.dispatch.proving import READ_BACK
from sermovox.dispatch.tests.servers import certificate, free_port, misbehave, station_at, trusting
from sermovox.dispatch.ways.carrier import Access
from sermovox.dispatch.ways.folders import FolderCarrier
from sermovox.dispatch.ways.servers import is_public, meant
from sermovox.outlets.models import RuleSheet, outlets_of
from sermovox.standins import share
from sermovox.standins.archive import InAThread
from sermovox.standins.known import ARCHIVE, SHARE, STATION
from sermovox.standins.mischief import received_in
from sermovox.ui.tests.base import AppTestCase
from sermovox.work.recovery import look_after, requeue_tasks

OUTLET = "podcast-host"


class SendingTestCase(AppTestCase):
    """A delivery of two files, and a folder that may be sent to."""

    def setUp(self):
        allowed = override_settings(SEND_TO_FOLDERS=[self.folder / "media"], SEND_TO_OWN_NETWORK=True)
        allowed.enable()
        self.addCleanup(allowed.disable)
        super().setUp()

    def prepare(self):
        super().prepare()
        self.there = self.folder / "media" / "player"
        self.there.mkdir(parents=True)
        self.delivery = self.delivered()
        self.files = list(self.delivery.files.all())

    def delivered(self) -> Delivery:
        """A delivery of two files that are there and count as made; what is in them is nobody's business here."""
        facts = {"outlet_key": OUTLET, "outlet_toml": shipped_text(OUTLET)}
        delivery = Delivery.objects.create(production=self.production, **facts)
        for place, name in enumerate(("01-one.mp3", "02-two.mp3"), 1):
            content = np.random.default_rng(place).bytes(200_000)
            figures = {"size_bytes": len(content), "duration_s": 4.0, "channels": 1}
            sha256 = hashlib.sha256(content).hexdigest()
            made = {"name": name, "stored_as": name, "title": name[3:6], "state": "passes", "content_kind": "speech"}
            file = delivery.files.create(place=place, figures=figures, sha256=sha256, **made)
            file.folder.mkdir(parents=True, exist_ok=True)
            file.path.write_bytes(content)
        return delivery

    def state(self, way: str = "folder", *, secret: str = "", outlet: str = "", **stated):
        """State how the outlet receives, as its page does; that of all these tests, or another by its key."""
        outlet = outlet or OUTLET
        stated = {"address": str(self.there)} | stated if way == "folder" else stated
        usual = {each.name: each.choices[0] for each in WAYS[way].fields if each.choices}
        values = {"way": way, "along": "nothing", "secret": secret} | usual | stated
        return self.submit(f"/sent/outlets/{outlet}/", values, shown=f"/sent/outlets/{outlet}/?way={way}")

    def begin(self, **said) -> Dispatch:
        """Begin to send, as the page does."""
        ticked = [file.pk for file in self.files if file.state != "fails"]
        answer = self.client.post(f"/sent/deliveries/{self.delivery.pk}/", {"file": ticked} | said, follow=True)
        dispatch = Dispatch.objects.first()
        self.assertIsNotNone(dispatch, answer.content.decode())
        return dispatch

    def sent(self, **said) -> Dispatch:
        dispatch = self.begin(**said)
        self.work()
        dispatch.refresh_from_db()
        return dispatch

    def again(self, dispatch: Dispatch) -> Dispatch:
        """What the supervisor does once the next try is due."""
        Dispatch.objects.filter(pk=dispatch.pk, state="waiting").update(next_at=timezone.now() - timedelta(seconds=1))
        look_after()
        self.work()
        dispatch.refresh_from_db()
        return dispatch

    def assertThere(self, folder: Path | None = None):
        """All files of the delivery lie there whole, and nothing else does."""
        folder = folder or self.there
        found = {path.name: hashlib.sha256(path.read_bytes()).hexdigest() for path in folder.iterdir()}
        self.assertEqual(found, {file.name: file.sha256 for file in self.files})


class MadeTestCase(SendingTestCase):
    """The same with files that were really made, of sections of a running order."""

    def delivered(self) -> Delivery:
        for name, seed in (("one.wav", 3), ("two.wav", 8)):
            self.bring_in(speech(seconds=4, seed=seed), name=name)
        (delivery,) = start_run(self.production, [shipped()[OUTLET]], list(self.production.sections.all()))
        self.work()
        return delivery


class OfAProduction(MadeTestCase):
    def test_the_running_order_shows_what_has_arrived_until_something_changes(self):
        self.state()
        self.sent(file=[self.files[0].pk])
        rows = f"/productions/{self.production.pk}/rows/"
        marks = [row["crossings"] for row in self.client.get(rows).context["rows"]]
        states = [next(state for key, state, *_ in crossings if key == OUTLET) for crossings in marks]
        self.assertEqual(states[0], "arrived")
        self.assertIn(states[1], ("passes", "passes with a remark"))
        self.production.sections.filter(pk=self.files[0].section_id).update(title="Another title")
        marks = [row["crossings"] for row in self.client.get(rows).context["rows"]]
        self.assertEqual(next(state for key, state, *_ in marks[0] if key == OUTLET), "changed since")

    def test_what_goes_along_lies_beside_the_sound_and_is_no_longer_kept_here(self):
        self.state(along="all there is", folder="{production|plain|join:-}/../{author}")
        dispatch = self.begin()
        self.assertTrue(any(dispatch.folder.iterdir()))
        self.work()
        dispatch.refresh_from_db()
        self.assertEqual(dispatch.state, "arrived", dispatch.said)
        names = {path.name for path in (self.there / "Salt-and-Cedar").iterdir()}
        self.assertLessEqual({"manifest.csv", "manifest.json", *(file.name for file in self.files)}, names)
        self.assertFalse(dispatch.folder.exists())

    def test_a_finished_file_is_not_changed_by_how_its_outlet_receives(self):
        self.state()
        page = self.client.get(f"/productions/{self.production.pk}/")
        self.assertNotContains(page, "changed since it was made")


class IntoFolders(SendingTestCase):
    def test_files_arrive_and_are_read_back(self):
        self.assertContains(self.state(), "receives by A folder or device")
        dispatch = self.sent()
        self.assertEqual((dispatch.state, dispatch.said), ("arrived", ""))
        self.assertThere()
        self.assertEqual({part.proof for part in dispatch.parts.all()}, {READ_BACK})
        page = self.client.get(dispatch.get_absolute_url())
        self.assertContains(page, "All 2 files have arrived")
        receipt = json.loads(self.client.get(f"{dispatch.get_absolute_url()}receipt.json").content)
        self.assertEqual([file["sha256"] for file in receipt["files"]], [file.sha256 for file in self.files])
        self.assertEqual((receipt["sent_by"], receipt["to"]), ("Ilse Brandt", str(self.there)))
        lines = self.client.get(f"{dispatch.get_absolute_url()}receipt.csv").content.decode().splitlines()
        self.assertEqual(len(lines), 3)
        self.assertContains(self.client.get("/sent/"), "2 of 2")

    def test_another_file_of_that_name_stays_unless_it_may_be_replaced(self):
        self.state()
        mine = self.there / self.files[0].name
        mine.write_bytes(b"somebody else's")
        dispatch = self.sent()
        self.assertEqual(dispatch.state, "stuck")
        self.assertIn("already, of 15 bytes", dispatch.said)
        self.assertEqual(mine.read_bytes(), b"somebody else's")
        self.assertContains(self.client.get(dispatch.get_absolute_url()), "Replace what is there")
        self.client.post(f"{dispatch.get_absolute_url()}go-on/", {"replacing": "yes"})
        self.work()
        dispatch.refresh_from_db()
        self.assertEqual(dispatch.state, "arrived")
        self.assertThere()

    def test_what_is_there_already_is_not_sent_once_more(self):
        self.state()
        self.sent()
        before = {path.name: path.stat().st_mtime_ns for path in self.there.iterdir()}
        self.assertEqual(self.sent().state, "arrived")
        self.assertEqual({path.name: path.stat().st_mtime_ns for path in self.there.iterdir()}, before)

    def test_a_file_that_broke_off_is_gone_on_with(self):
        self.state()
        dispatch = self.begin()
        part = dispatch.parts.first()
        half = part.size_bytes // 2
        (self.there / part.under_way_as).write_bytes(part.path.read_bytes()[:half])
        begun_at = []
        put = FolderCarrier.put

        def noted(carrier, name, source, start, size_bytes, told, **more):
            begun_at.append(start)
            return put(carrier, name, source, start, size_bytes, told, **more)

        with patch.object(FolderCarrier, "put", noted):
            self.work()
        self.assertEqual(begun_at, [half, 0])
        dispatch.refresh_from_db()
        self.assertEqual((dispatch.state, dispatch.said), ("arrived", ""))
        self.assertThere()

    def test_what_came_out_wrong_over_there_is_taken_away(self):
        self.state()
        dispatch = self.begin()
        put = FolderCarrier.put

        def spoiled(carrier, name, *rest, **more):
            answered = put(carrier, name, *rest, **more)
            with (self.there / name).open("r+b") as file:
                file.write(b"?")
            return answered

        with patch.object(FolderCarrier, "put", spoiled):
            self.work()
        dispatch.refresh_from_db()
        self.assertEqual(dispatch.state, "stuck")
        self.assertIn("was not what was sent", dispatch.said)
        self.assertEqual(list(self.there.iterdir()), [])
        self.client.post(f"{dispatch.get_absolute_url()}go-on/")
        self.work()
        self.assertThere()

    def test_damage_here_is_never_sent_under_a_files_name(self):
        self.state()
        dispatch = self.begin()
        path = self.files[1].path
        path.write_bytes(path.read_bytes()[:-1] + b"?")
        self.work()
        dispatch.refresh_from_db()
        self.assertEqual(dispatch.state, "stuck")
        self.assertIn("is damaged here", dispatch.said)
        self.assertEqual([path.name for path in self.there.iterdir()], [self.files[0].name])

    def test_a_file_that_fails_goes_only_when_that_is_said(self):
        self.state()
        FinishedFile.objects.filter(pk=self.files[1].pk).update(state="fails")
        page = self.client.get(f"/sent/deliveries/{self.delivery.pk}/")
        self.assertContains(page, f'aria-label="{self.files[0].name}" data-one checked')
        self.assertNotContains(page, f'aria-label="{self.files[1].name}" data-one checked')
        chosen = {"file": [file.pk for file in self.files]}
        answer = self.client.post(f"/sent/deliveries/{self.delivery.pk}/", chosen, follow=True)
        self.assertContains(answer, "fails. Say that it is to go all the same")
        dispatch = self.sent(**chosen, failing="on")
        self.assertEqual((dispatch.state, dispatch.failing), ("arrived", 1))
        self.assertContains(self.client.get(dispatch.get_absolute_url()), "1 file went though it fails")

    def test_nothing_goes_before_somebody_has_listened_where_the_outlet_asks_for_that(self):
        self.state()
        asked = {"name": "listened", "exactly": HEARD_FIRST, "source": "its letter"}
        RuleSheet.change(self.narrator, with_rule(outlets_of(self.narrator)[OUTLET], asked), "Listen first")
        page, chosen = f"/sent/deliveries/{self.delivery.pk}/", {"file": [file.pk for file in self.files]}
        self.assertContains(self.client.get(page), "nobody has listened to 2 of these files")
        self.client.post(f"/sent/files/{self.files[0].pk}/heard/")
        self.assertContains(self.client.post(page, chosen, follow=True), f"Nobody has listened to {self.files[1].name}")
        # What is to go by itself waits as well.
        Wish.objects.create(production=self.production, outlet_key=OUTLET, delivery=self.delivery)
        look_after()
        self.assertFalse(Dispatch.objects.exists())
        self.client.post(f"/sent/files/{self.files[1].pk}/heard/")
        look_after()
        self.work()
        self.assertEqual([each.state for each in Dispatch.objects.all()], ["arrived"])

    def test_folders_that_may_not_be_written_are_refused(self):
        (self.folder / "media" / ".hidden").mkdir()
        (self.folder / "elsewhere").mkdir()
        (self.folder / "media" / "link").symlink_to(self.folder / "elsewhere")
        for address, said in (
            (str(self.folder / "elsewhere"), "may not write to"),
            (str(self.folder / "media" / "link"), "may not write to"),
            (str(self.folder / "media" / ".hidden"), "may not write to"),
            (str(self.folder / "media" / "gone"), "There is no folder"),
            ("player", "wants all folders above it"),
        ):
            with self.subTest(address):
                self.state(address=address)
                dispatch = self.sent()
                self.assertEqual(dispatch.state, "stuck")
                self.assertIn(said, dispatch.said)

    def test_too_little_room_is_seen_before_anything_is_sent(self):
        self.state(folder="new/ones")
        with patch("sermovox.dispatch.ways.folders.FolderCarrier.left_bytes", return_value=1000):
            dispatch = self.sent()
        self.assertIn("There is room for 0 MB there", dispatch.said)
        self.assertEqual(list(self.there.iterdir()), [])


class AcrossKills(SendingTestCase):
    def test_a_kill_between_the_name_and_the_note_sends_nothing_twice(self):
        self.state()
        dispatch = self.begin()
        first = dispatch.parts.first()
        first.note(state=Part.State.SENDING, sent_bytes=first.size_bytes)
        (self.there / first.name).write_bytes(first.path.read_bytes())
        before = (self.there / first.name).stat().st_mtime_ns
        self.work()
        dispatch.refresh_from_db()
        self.assertEqual(dispatch.state, "arrived")
        self.assertEqual((self.there / first.name).stat().st_mtime_ns, before)

    def test_a_dispatch_without_its_worker_waits_again_and_arrives(self):
        self.state()
        dispatch = self.begin()
        Dispatch.objects.filter(pk=dispatch.pk).update(state="sending")
        requeue_tasks()
        look_after()
        self.work()
        dispatch.refresh_from_db()
        self.assertEqual(dispatch.state, "arrived")

    def test_two_to_the_same_outlet_go_one_after_the_other(self):
        self.state()
        first = self.begin()
        Dispatch.objects.filter(pk=first.pk).update(state="sending")
        second = self.begin()
        self.assertFalse(second.begin())
        Dispatch.objects.filter(pk=first.pk).update(state="cancelled")
        self.assertTrue(second.begin())

    def test_pausing_and_cancelling_stop_what_is_under_way(self):
        self.state()
        small = patch("sermovox.dispatch.ways.folders.CHUNK_BYTES", 4096)
        with small, patch("sermovox.dispatch.telling._TOLD_EVERY_S", -1.0):
            for action, state in (("pause", "paused"), ("cancel", "cancelled")):
                dispatch = self.begin(replacing="on")
                wanted = Dispatch.is_wanted

                def stopped(self, wanted=wanted, action=action):
                    getattr(self, action)()
                    return wanted(self)

                with patch.object(Dispatch, "is_wanted", stopped):
                    self.work()
                dispatch.refresh_from_db()
                self.assertEqual(dispatch.state, state)
                self.assertFalse((self.there / self.files[0].name).exists())
        self.assertNotEqual(list(self.there.iterdir()), [])
        cancelled = Dispatch.objects.get(state="cancelled")
        self.client.post(f"{cancelled.get_absolute_url()}cancel/")
        self.work()
        self.assertEqual(list(self.there.iterdir()), [])
        paused = Dispatch.objects.get(state="paused")
        self.client.post(f"{paused.get_absolute_url()}go-on/")
        self.work()
        paused.refresh_from_db()
        self.assertEqual(paused.state, "arrived")
        self.assertThere()


class ByFtp(SendingTestCase):
    def setUp(self):
        super().setUp()
        self.top = self.folder / "station"
        self.received = received_in(self.top)
        self.port = self.enterContext(station_at(self.top))
        self.ftp = {"address": f"localhost:{self.port}", "user": STATION.user, "security": PLAIN}

    def state_ftp(self, **more):
        return self.state("ftp", secret=STATION.password, **self.ftp | more)

    def times(self) -> dict[str, int]:
        """When each file that was received was last touched, by its name."""
        return {path.name: path.stat().st_mtime_ns for path in self.received.iterdir()}

    def test_files_arrive_in_a_folder_of_the_server(self):
        self.state_ftp(folder="incoming/{production|plain|join:-}")
        dispatch = self.sent()
        self.assertEqual((dispatch.state, dispatch.said), ("arrived", ""))
        self.assertThere(self.received / "incoming" / "Salt-and-Cedar")
        self.assertEqual({part.proof for part in dispatch.parts.all()}, {READ_BACK})
        self.assertIn("226", dispatch.parts.first().answered)

    def test_a_line_that_drops_is_gone_on_with_until_all_is_there(self):
        self.state_ftp()
        misbehave(self.top, drops=3)
        with patch("sermovox.dispatch.ways.ftp.CHUNK_BYTES", 4096):
            dispatch = self.sent()
            dropped = 0
            while dispatch.state == "waiting":
                dropped += 1
                self.assertIn("The line to localhost broke", dispatch.said)
                self.assertGreater(dispatch.next_at, timezone.now())
                self.assertNotIn(self.files[0].name, [path.name for path in self.received.iterdir()])
                dispatch = self.again(dispatch)
        self.assertEqual((dispatch.state, dispatch.said), ("arrived", ""))
        self.assertEqual(dropped, 3)
        self.assertThere(self.received)

    def test_what_stands_in_the_way_is_said(self):
        for more, said in (
            ({"secret": "wrong"}, "does not let “station” in"),
            ({"address": "localhost:21:9"}, ""),
            ({"address": f"localhost:{free_port()}"}, "takes no calls at port"),
            ({"address": "no-such-server.invalid"}, "There is no server called no-such-server.invalid"),
        ):
            with self.subTest(more):
                page = self.state("ftp", **{"secret": STATION.password} | self.ftp | more)
                if not said:
                    self.assertContains(page, "is no address of a server")
                    continue
                self.assertIn(said, self.sent().said)

    def test_a_server_without_room_and_one_that_lies_leave_nothing_under_a_name(self):
        self.state_ftp()
        misbehave(self.top, full=True)
        dispatch = self.sent()
        self.assertEqual(dispatch.state, "stuck")
        self.assertIn("has no room left", dispatch.said)
        misbehave(self.top, size_off_by=-7)
        self.client.post(f"{dispatch.get_absolute_url()}go-on/")
        self.work()
        dispatch.refresh_from_db()
        self.assertEqual(dispatch.state, "stuck")
        self.assertIn("was not what was sent", dispatch.said)
        self.assertEqual(list(self.received.iterdir()), [])
        misbehave(self.top, refuses=True)
        self.client.post(f"{dispatch.get_absolute_url()}go-on/")
        self.work()
        dispatch.refresh_from_db()
        self.assertIn("530 Not today", dispatch.said)

    def test_what_has_a_receipt_is_not_sent_twice_and_what_changed_alone_is(self):
        self.state_ftp()
        self.sent()
        stored = self.times()
        again = self.sent()
        self.assertEqual(again.state, "arrived", again.said)
        self.assertEqual(self.times(), stored)
        changed = self.files[1]
        changed.path.write_bytes(changed.path.read_bytes()[::-1])
        changed.sha256 = hashlib.sha256(changed.path.read_bytes()).hexdigest()
        changed.save()
        # As large as before, so only the receipt tells that it is another.
        self.assertTrue(self.sent().name_taken)
        self.assertEqual(self.sent(replacing="on").state, "arrived")
        times = self.times()
        self.assertEqual([name for name in times if times[name] != stored[name]], [changed.name])
        self.assertThere(self.received)

    def test_it_is_not_tried_for_ever(self):
        self.state_ftp(address=f"localhost:{free_port()}")
        dispatch = self.sent()
        for _ in range(8):
            dispatch = self.again(dispatch)
        self.assertEqual(dispatch.state, "stuck")
        self.assertIn("It was tried 8 times", dispatch.said)

    def test_a_line_that_brings_something_each_time_is_tried_for_as_long_as_it_takes(self):
        self.state_ftp(address=f"localhost:{free_port()}")
        dispatch = self.sent()
        pauses = []
        for moved in (False, False, True, False):
            Dispatch.objects.filter(pk=dispatch.pk).update(state=Dispatch.State.SENDING)
            dispatch.refresh_from_db()
            dispatch.put_off("The line broke.", moved=moved)
            pauses.append((dispatch.tries, round((dispatch.next_at - timezone.now()).total_seconds())))
        (second, third, again, once_more) = pauses
        self.assertEqual([tries for tries, _ in pauses], [2, 3, 1, 2])
        self.assertGreater(third[1], second[1])
        self.assertLess(again[1], second[1], "what moved begins anew")
        self.assertEqual(once_more, second)

    def test_this_machines_own_network_is_reached_only_where_that_is_allowed(self):
        self.state_ftp()
        with override_settings(SEND_TO_OWN_NETWORK=False):
            for address in (f"localhost:{self.port}", f"127.0.0.1:{self.port}", f"[::ffff:127.0.0.1]:{self.port}"):
                with self.subTest(address):
                    self.state_ftp(address=address)
                    self.assertIn("may not be reached from here", self.sent().said)

    def test_nor_by_another_spelling_of_it(self):
        for number in (
            *("127.0.0.1", "10.1.2.3", "169.254.169.254", "100.64.0.1", "0.0.0.0", "224.0.0.1", "255.255.255.255"),
            *("::1", "::", "fe80::1%eth0", "fc00::1", "fec0::1", "ff02::1", "::ffff:127.0.0.1", "::127.0.0.1"),
            *("64:ff9b::7f00:1", "64:ff9b::10.0.0.1", "64:ff9b:1::7f00:1", "2002:7f00:1::", "2002:a00:1::"),
            *("2001:0:4136:e378:8000:63bf:80ff:fffe", "2001:db8::1"),
        ):
            with self.subTest(number):
                self.assertFalse(is_public(meant(number)))
        # Public ones: of a name server, of the documentation of RFC 6052 for a public one within.
        for number in ("9.9.9.9", "2620:fe::fe", "64:ff9b::909:909", "2002:909:909::"):
            with self.subTest(number):
                self.assertTrue(is_public(meant(number)))

    def test_a_line_is_encrypted_only_with_a_certificate_to_be_trusted(self):
        good, old = certificate(self.folder), certificate(self.folder, name="old", days=-1)
        for path, said in ((good, ""), (old, "certificate")):
            top = self.folder / path.stem
            with station_at(top, certificate=path) as port:
                self.state_ftp(address=f"localhost:{port}", security=TLS)
                self.assertIn("is not to be trusted", self.sent().said)
                with patch("sermovox.dispatch.ways.ftp.ssl.create_default_context", trusting(path)):
                    dispatch = self.sent()
                if said:
                    self.assertIn("is not to be trusted", dispatch.said)
                    self.assertEqual(list(received_in(top).iterdir()), [])
                else:
                    self.assertEqual((dispatch.state, dispatch.said), ("arrived", ""))
                    self.assertThere(received_in(top))
        # One that speaks no TLS is told apart from a wrong password.
        self.state_ftp(security=TLS)
        self.assertIn("knows no encrypted lines", self.sent().said)


class BySftp(SendingTestCase):
    def setUp(self):
        super().setUp()
        self.top = self.folder / "archive"
        self.received = received_in(self.top)
        self.port = self.enterContext(InAThread(self.top)).port

    def state_sftp(self, port: int = 0, *, secret: str = ARCHIVE.password, **more):
        address = f"localhost:{port or self.port}"
        return self.state("sftp", secret=secret, **{"address": address, "user": ARCHIVE.user} | more)

    def refused(self) -> Dispatch:
        """What is sent and gets stuck. A busy server may close the line before it says why: then it is tried again."""
        dispatch = self.sent()
        while dispatch.state == "waiting":
            self.assertIn("broke", dispatch.said)
            dispatch = self.again(dispatch)
        self.assertEqual(dispatch.state, "stuck", dispatch.said)
        return dispatch

    def test_files_arrive_and_the_server_is_known_from_then_on(self):
        self.state_sftp(folder="{production|plain|join:-}/masters")
        dispatch = self.sent()
        self.assertEqual((dispatch.state, dispatch.said), ("arrived", ""))
        self.assertThere(self.received / "Salt-and-Cedar" / "masters")
        kept = Secret.objects.get()
        self.assertTrue(kept.fingerprint.startswith("SHA256:"))
        self.assertContains(self.client.get(f"/sent/outlets/{OUTLET}/"), kept.fingerprint)
        # Set up anew, with a host key of another kind, or another: nothing is sent until somebody says all is well.
        asyncssh.generate_private_key("ssh-rsa").write_private_key(str(self.top / "host-key"))
        with InAThread(self.top) as other:
            self.state_sftp(other.port)
            Secret.objects.update(host_key=kept.host_key)
            dispatch = self.refused()
            self.assertIn(f"than the one it is known by, {kept.fingerprint}", dispatch.said)
            self.client.post(f"{dispatch.get_absolute_url()}cancel/")
        (self.top / "host-key").unlink()
        with InAThread(self.top) as other:
            self.state_sftp(other.port)
            Secret.objects.update(host_key=kept.host_key)
            dispatch = self.refused()
            self.assertIn(f"than the one it is known by, {kept.fingerprint}", dispatch.said)
            self.client.post(f"/sent/outlets/{OUTLET}/forget/", {"host_key": "yes"})
            self.client.post(f"{dispatch.get_absolute_url()}go-on/", {"replacing": "yes"})
            self.work()
            dispatch.refresh_from_db()
            self.assertEqual((dispatch.state, dispatch.said), ("arrived", ""))
        self.assertNotEqual(Secret.objects.get().host_key, kept.host_key)

    def test_a_line_that_drops_leaves_no_holes(self):
        self.state_sftp()
        misbehave(self.top, drops=2)
        with patch("sermovox.dispatch.ways.sftp._WRITE_BYTES", 8192):
            dispatch = self.sent()
            tries = 1
            while dispatch.state == "waiting":
                self.assertIn("The line to localhost broke", dispatch.said)
                dispatch = self.again(dispatch)
                tries += 1
        self.assertEqual((dispatch.state, dispatch.said, tries), ("arrived", "", 3))
        self.assertThere(self.received)

    def test_what_may_have_holes_is_sent_once_more(self):
        self.state_sftp()
        dispatch = self.begin()
        part = dispatch.parts.first()
        content = part.path.read_bytes()
        # As the far side has it where a later write came before an earlier one, and the line broke then.
        self.received.joinpath(part.under_way_as).write_bytes(content[:8000] + bytes(8000) + content[16000:24000])
        self.work()
        dispatch.refresh_from_db()
        self.assertEqual((dispatch.state, dispatch.said), ("arrived", ""))
        self.assertThere(self.received)

    def test_a_private_key_does_in_place_of_a_password(self):
        key = asyncssh.generate_private_key("ssh-ed25519")
        text = key.export_private_key("openssh", passphrase="thyme").decode()
        with InAThread(self.top, trusts=key.convert_to_public()) as server:
            page = self.state_sftp(server.port, secret="thyme", key=SimpleUploadedFile("no.txt", b"no key"))
            self.assertContains(page, "This is no private key")
            self.state_sftp(server.port, secret="thyme", key=SimpleUploadedFile("id_ed25519", text.encode()))
            self.assertNotIn("PRIVATE", Secret.objects.get().key_token)
            dispatch = self.sent()
        self.assertEqual((dispatch.state, dispatch.said), ("arrived", ""))
        self.assertThere(self.received)

    def test_what_stands_in_the_way_is_said(self):
        self.state_sftp(secret="wrong")
        self.assertIn("Look at user and password again", self.sent().said)
        self.state_sftp(free_port())
        self.assertIn("takes no calls at port", self.sent().said)
        self.state_sftp()
        misbehave(self.top, full=True)
        self.assertIn("has no room left (No space left on device)", self.sent().said)
        misbehave(self.top, size_off_by=9)
        dispatch = self.sent()
        self.assertIn("was not what was sent", dispatch.said)
        self.assertEqual([path.name for path in self.received.iterdir() if not path.name.endswith(".part")], [])
        with override_settings(SEND_TO_OWN_NETWORK=False):
            self.assertIn("may not be reached from here", self.sent().said)

    def test_an_ftp_server_is_told_apart(self):
        with station_at(self.folder / "station") as port:
            self.state_sftp(port)
            with patch("sermovox.dispatch.ways.sftp.PATIENCE_S", 3):
                dispatch = self.sent()
        self.assertNotEqual(dispatch.state, "arrived")
        self.assertRegex(dispatch.said, "does not answer as an SFTP server|broke|did not answer")


class ByWebdav(SendingTestCase):
    def setUp(self):
        super().setUp()
        self.top = self.folder / "share"
        self.received = received_in(self.top)
        self.port = self.enterContext(share.InAThread(self.top)).port

    def state_dav(self, *, secret: str = SHARE.password, **more):
        stated = {
            "address": f"localhost:{self.port}",
            "user": SHARE.user,
            "security": PLAIN,
            "share": f"/{share.PATH}/",
        }
        return self.state("webdav", secret=secret, **stated | more)

    def test_files_arrive_in_a_folder_of_the_share(self):
        self.state_dav(folder="{production} & more/masters")
        dispatch = self.sent()
        self.assertEqual((dispatch.state, dispatch.said), ("arrived", ""))
        self.assertThere(self.received / "Salt and Cedar & more" / "masters")
        self.assertIn("201", dispatch.parts.first().answered)
        self.assertEqual(self.sent().state, "arrived")

    def test_what_broke_off_begins_anew(self):
        self.state_dav()
        misbehave(self.top, drops=2)
        dispatch, tries = self.sent(), 1
        while dispatch.state == "waiting":
            self.assertIn("503 Service Unavailable", dispatch.said)
            dispatch, tries = self.again(dispatch), tries + 1
        self.assertEqual((dispatch.state, dispatch.said, tries), ("arrived", "", 3))
        self.assertThere(self.received)

    def test_another_file_of_that_name_stays(self):
        self.state_dav()
        (self.received / self.files[0].name).write_bytes(b"theirs")
        self.assertTrue(self.sent().name_taken)
        self.assertEqual((self.received / self.files[0].name).read_bytes(), b"theirs")
        self.assertEqual(self.sent(replacing="on").state, "arrived")
        self.assertThere(self.received)

    def test_what_stands_in_the_way_is_said(self):
        for more, said in (
            ({"secret": "wrong"}, "does not let “share” in"),
            ({"share": "/nowhere"}, "has no share at /nowhere"),
            ({"security": TLS}, "knows no encrypted lines"),
            ({"address": f"localhost:{free_port()}"}, "takes no calls at port"),
        ):
            with self.subTest(more):
                self.state_dav(**more)
                self.assertIn(said, self.sent().said)
        self.state_dav()
        misbehave(self.top, full=True)
        self.assertIn("has no room left (507", self.sent().said)
        self.assertEqual(list(self.received.iterdir()), [])
        with override_settings(SEND_TO_OWN_NETWORK=False):
            self.assertIn("may not be reached from here", self.sent().said)

    def test_a_certificate_has_to_be_trusted(self):
        path = certificate(self.folder)
        with share.InAThread(self.top, certificate=path) as server:
            self.state_dav(address=f"localhost:{server.port}", security=TLS)
            self.assertIn("is not to be trusted", self.sent().said)
            self.assertEqual(list(self.received.iterdir()), [])
            with patch("sermovox.dispatch.ways.http_line.ssl.create_default_context", trusting(path)):
                self.assertEqual(self.sent().state, "arrived")
        self.assertThere(self.received)

    def test_an_answer_that_leads_elsewhere_is_not_followed(self):
        class Elsewhere(BaseHTTPRequestHandler):
            def do_PROPFIND(self):
                self.send_response(302)
                self.send_header("Location", "http://169.254.169.254/latest/")
                self.send_header("Content-Length", "0")
                self.end_headers()

            def log_message(self, *_):
                pass

        server = HTTPServer(("127.0.0.1", 0), Elsewhere)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        self.state_dav(address=f"localhost:{server.server_port}")
        self.assertIn("leads on to 169.254.169.254 (302 Found), which is not followed", self.sent().said)


class ByItself(MadeTestCase):
    def make(self) -> Delivery:
        sections = list(self.production.sections.all())
        (delivery,) = start_run(self.production, [shipped()[OUTLET]], sections, again=True)
        return delivery

    def look(self) -> list[Dispatch]:
        look_after()
        self.work()
        return list(Dispatch.objects.order_by("pk"))

    def test_a_delivery_goes_once_all_of_it_passes(self):
        self.state()
        delivery = self.make()
        page = f"/deliveries/{delivery.pk}/"
        self.assertContains(self.client.get(page), "Send it to Podcast host once all of it passes")
        look_after()
        self.assertFalse(Dispatch.objects.exists())
        self.client.post(f"/sent/deliveries/{delivery.pk}/once/")
        self.assertContains(self.client.get(page), "It is sent once all of it passes.")
        self.work()
        self.files = list(delivery.files.all())
        (dispatch,) = self.look()
        self.assertEqual((dispatch.delivery, dispatch.state), (delivery, "arrived"))
        self.assertThere()
        self.assertContains(self.client.get(page), "arrived")
        self.assertEqual(self.look(), [dispatch])

    def test_from_now_on_all_that_pass_go_and_what_fails_stays(self):
        self.state()
        by_itself = f"/sent/productions/{self.production.pk}/{OUTLET}/by-itself/"
        before = self.client.post(by_itself, {"wish": AT_ONCE}, follow=True)
        self.assertContains(before, f'<option value="{AT_ONCE}" selected>{AT_ONCE}</option>', html=True)
        # What was begun before stays.
        self.assertEqual(self.look(), [])
        failing = self.make()
        self.work()
        failing.files.filter(pk=failing.files.first().pk).update(state="fails")
        self.assertEqual(self.look(), [])
        good = self.make()
        self.work()
        self.assertEqual([(each.delivery, each.state) for each in self.look()], [(good, "arrived")])
        self.client.post(by_itself, {"wish": NO_WISH})
        self.make()
        self.work()
        self.assertEqual(len(self.look()), 1)

    def test_what_was_mended_goes_with_the_rest(self):
        """A file of the run failed, and was made again in its place: all of it goes, and nothing before that."""
        self.state()
        self.client.post(f"/sent/deliveries/{self.delivery.pk}/once/")
        fails, passes = self.delivery.files.all()
        self.delivery.files.filter(pk=fails.pk).update(state="fails")
        self.assertEqual(self.look(), [])
        outlet = outlets_of(self.narrator)[OUTLET]
        start_run(self.production, [outlet], [fails.section], existing={OUTLET: "replace"}, again=True)
        self.assertEqual(self.look(), [], "it is not made yet")
        self.work()
        fails.refresh_from_db()
        (dispatch,) = self.look()
        sent = set(dispatch.parts.exclude(file=None).values_list("file", flat=True))
        self.assertEqual(sent, {fails.replaced_by.pk, passes.pk})
        self.assertEqual(dispatch.state, "arrived")

    def through_the_bin(self, binned) -> list[str]:
        """The states of what is sent after the wish of a delivery and whatever lay in the bin have met."""
        self.state()
        self.client.post(f"/sent/deliveries/{self.delivery.pk}/once/")
        binned.put_away()
        self.assertEqual(self.look(), [])
        binned.take_back()
        return [each.state for each in self.look()]

    def test_a_wish_is_not_forgotten_in_the_bin(self):
        self.assertEqual(self.through_the_bin(self.delivery), ["arrived"])

    def test_nor_with_its_production_there(self):
        self.assertEqual(self.through_the_bin(self.production), ["arrived"])

    def test_what_was_cancelled_stays_so_through_the_bin(self):
        self.state()
        self.client.post(f"/sent/deliveries/{self.delivery.pk}/once/")
        self.delivery.cancel()
        self.delivery.refresh_from_db()
        self.delivery.put_away()
        self.delivery.take_back()
        self.assertIsNotNone(self.delivery.cancelled_at)
        self.assertEqual(self.look(), [])

    def test_nothing_goes_before_it_is_stated_how(self):
        self.client.post(f"/sent/deliveries/{self.delivery.pk}/once/")
        self.assertEqual(self.look(), [])
        self.state()
        self.assertEqual([each.state for each in self.look()], ["arrived"])


class Meanwhile(SendingTestCase):
    def test_what_was_written_anew_or_replaced_is_not_sent_as_it_was(self):
        self.state()
        for change in ({"sha256": "0" * 64}, {"replaced_at": timezone.now()}):
            dispatch = self.begin()
            before = FinishedFile.objects.filter(pk=self.files[0].pk).values("sha256", "replaced_at").get()
            FinishedFile.objects.filter(pk=self.files[0].pk).update(**change)
            self.work()
            dispatch.refresh_from_db()
            self.assertIn("made or written anew since this was begun", dispatch.said)
            FinishedFile.objects.filter(pk=self.files[0].pk).update(**before)
        self.assertEqual(list(self.there.iterdir()), [])

    def test_a_deleted_delivery_waits_until_it_is_taken_back_and_its_receipts_stay(self):
        self.state()
        dispatch = self.begin()
        self.delivery.put_away()
        self.work()
        dispatch.refresh_from_db()
        self.assertIn("was deleted meanwhile", dispatch.said)
        Delivery.with_deleted.get(pk=self.delivery.pk).take_back()
        self.client.post(f"{dispatch.get_absolute_url()}go-on/")
        self.work()
        self.assertThere()
        self.delivery.put_away()
        Delivery.with_deleted.get(pk=self.delivery.pk).empty_bin()
        receipt = json.loads(self.client.get(f"{dispatch.get_absolute_url()}receipt.json").content)
        self.assertEqual([file["sha256"] for file in receipt["files"]], [file.sha256 for file in self.files])
        self.assertContains(self.client.get(dispatch.get_absolute_url()), "Salt and Cedar")


class HowAnOutletReceives(SendingTestCase):
    def test_the_sheet_carries_the_way_and_no_secret(self):
        self.state(
            "ftp",
            secret=STATION.password,
            address="files.example.org",
            user=STATION.user,
            security=TLS,
            folder="{title}",
        )
        sheet = RuleSheet.objects.get(key=OUTLET)
        self.assertEqual(sheet.outlet.receives.where, f"files.example.org as {STATION.user}")
        self.assertNotIn(STATION.password, sheet.toml)
        self.assertEqual(parse(written(sheet.outlet)), sheet.outlet)
        self.assertEqual(self.known().password, STATION.password)
        self.assertNotIn(STATION.password, Secret.objects.get().token)
        page = self.client.get(f"/sent/outlets/{OUTLET}/")
        self.assertContains(page, "kept, encrypted")
        self.assertNotContains(page, STATION.password)
        # Empty leaves the password as it is.
        self.state("ftp", address="Files.Example.org:21", user=STATION.user, security=TLS, folder="new")
        self.assertEqual(self.known().password, STATION.password)
        self.client.post(f"/sent/outlets/{OUTLET}/forget/")
        self.assertIsNone(outlets_of(self.narrator)[OUTLET].receives)
        self.assertFalse(Secret.objects.exists())

    def known(self) -> Access:
        return Secret.of(self.narrator, OUTLET, outlets_of(self.narrator)[OUTLET].receives)

    def test_a_password_is_shown_to_nobody_but_whom_it_was_entered_for(self):
        first = {"address": "files.example.org", "user": "ilse", "security": TLS}
        for other in (
            {"address": "elsewhere.example.org"},
            {"address": "files.example.org:2121"},
            {"user": "jonas"},
            {"security": PLAIN},
        ):
            with self.subTest(other):
                self.state("ftp", secret="wood and wire", **first)
                self.assertEqual(self.known().password, "wood and wire")
                page = self.state("ftp", **first | other)
                self.assertContains(page, "The password of ilse at files.example.org:21 by FTP is forgotten")
                self.assertEqual(self.known(), Access())
        self.state("ftp", secret="wood and wire", **first)
        self.state("webdav", address="files.example.org:21", user="ilse", share="a", security=TLS)
        self.assertEqual(self.known(), Access())

    def test_nor_by_a_sheet_of_its_key_or_a_dispatch_from_before(self):
        """As a sheet of any other source may lead anywhere."""
        top = self.folder / "station"
        with station_at(top) as port:
            self.state("ftp", secret="wood and wire", address="files.example.org", user=STATION.user, security=PLAIN)
            outlet = outlets_of(self.narrator)[OUTLET]
            stated = outlet.receives.stated | {"address": f"localhost:{port}"}
            moved = replace(outlet, receives=replace(outlet.receives, stated=stated))
            RuleSheet.change(self.narrator, moved, "Brought in")
            with patch("sermovox.dispatch.ways.ftp.FtpCarrier.__enter__") as called:
                reached = self.client.post(f"/sent/outlets/{OUTLET}/reach/")
                self.assertContains(reached, "is that of station at files.example.org:21 by FTP, not encrypted")
                self.assertIn("and is shown to no other", self.sent().said)
                called.assert_not_called()

    def test_a_password_goes_with_its_outlet(self):
        own = replace(shipped()[OUTLET], key="own-station", title="Own station")
        sheet = RuleSheet.change(self.narrator, own, "New")
        where = {"address": "files.example.org", "user": "ilse", "security": TLS}
        self.state("ftp", outlet=sheet.key, secret="wood and wire", **where)
        self.assertTrue(Secret.objects.exists())
        self.client.post(f"/outlets/{sheet.key}/remove/")
        self.assertFalse(Secret.objects.exists())

    def test_a_password_under_another_key_is_asked_for_again(self):
        self.state("ftp", secret=STATION.password, address="localhost", user=STATION.user, security=TLS)
        dispatch = self.begin()
        with override_settings(SECRET_KEY="another installation's"):
            self.work()
        dispatch.refresh_from_db()
        self.assertIn("Enter it again", dispatch.said)

    def test_reaching_says_what_works_and_leaves_nothing_behind(self):
        self.state(folder="incoming/{title}")
        answer = self.client.post(f"/sent/outlets/{OUTLET}/reach/")
        for said in ("lets Sermovox in", "The folder incoming/sermovox-", "is gone again", "There is room for"):
            self.assertContains(answer, said)
        self.assertEqual(list(self.there.iterdir()), [])
        top = self.folder / "station"
        with station_at(top) as port:
            ftp = {"address": f"localhost:{port}", "user": STATION.user, "security": PLAIN}
            self.state("ftp", secret=STATION.password, **ftp)
            self.assertContains(self.client.post(f"/sent/outlets/{OUTLET}/reach/"), "is gone again")
            self.state("ftp", secret="no", **ftp)
            self.assertContains(self.client.post(f"/sent/outlets/{OUTLET}/reach/"), "does not let “station” in")
        self.assertEqual(list(received_in(top).iterdir()), [])

    def test_somebody_elses_is_not_there(self):
        self.state()
        dispatch = self.sent()
        self.client.force_login(get_user_model().objects.create_user("other"))
        for address in (
            dispatch.get_absolute_url(),
            f"{dispatch.get_absolute_url()}receipt.json",
            f"/sent/deliveries/{self.delivery.pk}/",
        ):
            self.assertEqual(self.client.get(address).status_code, 404, address)
        self.assertEqual(self.client.post(f"{dispatch.get_absolute_url()}cancel/").status_code, 404)
        self.assertNotContains(self.client.get("/sent/"), "Salt and Cedar")


class FromTheTerminal(SendingTestCase):
    def run_(self, *arguments) -> tuple[int, str, str]:
        out, err = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            status = main([str(argument) for argument in arguments])
        return status, out.getvalue(), err.getvalue()

    def test_a_delivery_is_sent_and_its_receipt_is_listed(self):
        status, _, err = self.run_("send", self.delivery.pk)
        self.assertEqual(status, 1)
        self.assertIn("It is not stated yet how", err)
        self.state()
        status, out, _ = self.run_("send", self.delivery.pk)
        self.assertEqual(status, 0)
        self.assertIn(f"arrived   {self.files[0].name}: {READ_BACK}", out)
        self.assertThere()
        status, out, _ = self.run_("receipts", "--json")
        self.assertEqual((status, json.loads(out)[0]["files"][1]["sha256"]), (0, self.files[1].sha256))

    def test_what_does_not_arrive_gives_a_status(self):
        self.state()
        (self.there / self.files[0].name).write_bytes(b"another")
        status, _, err = self.run_("send", self.delivery.pk)
        self.assertEqual(status, 1)
        self.assertIn("there already, of 7 bytes", err)
        status, out, _ = self.run_("receipts")
        self.assertEqual((status, "stuck" in out), (1, True))
        self.assertEqual(self.run_("send", self.delivery.pk, "--again")[0], 0)
        self.assertThere()

    def test_reaching_an_outlet_says_what_works(self):
        self.assertIn("Nobody has stated", self.run_("reach", OUTLET)[2])
        self.state()
        status, out, _ = self.run_("reach", OUTLET)
        self.assertEqual(status, 0)
        self.assertIn("works  It could be given another name there", out)
        self.state(address=str(self.folder / "media" / "gone"))
        self.assertEqual(self.run_("reach", OUTLET)[0], 1)
