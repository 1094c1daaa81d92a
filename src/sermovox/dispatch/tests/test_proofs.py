"""What is proven by more than its size, what small devices can hold, and what the head of a page tells."""

import importlib
import threading
import uuid
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from unittest.mock import patch

from django.apps import apps
from django.test import override_settings

from mastering.outlets.ways import BY_SIZE, FETCHED, LOOKED_INTO, PLAIN, PLAIN_NAMES
from sermovox.dispatch.models import Dispatch, Part
from sermovox.dispatch.proving import READ_BACK, SAMPLED
from sermovox.dispatch.tests.servers import misbehave, station_at
from sermovox.dispatch.tests.test_sending import SendingTestCase
from sermovox.dispatch.ways.carrier import LineBroke
from sermovox.dispatch.ways.http_line import Line
from sermovox.dispatch.ways.servers import Server
from sermovox.standins import archive, share
from sermovox.standins.known import ARCHIVE, SHARE, STATION
from sermovox.standins.mischief import received_in
from sermovox.ui.tests.base import AppTestCase


class ThreeServers(SendingTestCase):
    """The same by each way whose files lie in a folder of the server."""

    WAYS = (("ftp", STATION), ("sftp", ARCHIVE), ("webdav", SHARE))

    def served(self, way: str, who, **more) -> Path:
        """A server of its own, and an outlet that receives there; the folder in which it keeps what it receives."""
        top = self.folder / f"{way}-{uuid.uuid4().hex}"
        received = received_in(top)
        if way == "ftp":
            port = self.enterContext(station_at(top))
        else:
            port = self.enterContext({"sftp": archive, "webdav": share}[way].InAThread(top)).port
        stated = {"address": f"localhost:{port}", "user": who.user, "secret": who.password}
        stated |= {} if way == "sftp" else {"security": PLAIN}
        self.state(way, **stated | ({"share": share.PATH} if way == "webdav" else {}) | more)
        return received

    def proofs(self, dispatch: Dispatch) -> set[str]:
        return {part.proof for part in dispatch.parts.all()}


class Proven(ThreeServers):
    """A file has arrived when what is in it is right; its size tells nothing of that."""

    def test_a_part_with_zeroes_at_its_end_is_not_gone_on_with(self):
        """As a power cut leaves it over there."""
        for way, who in self.WAYS:
            with self.subTest(way):
                received = self.served(way, who)
                for file in self.files:
                    whole = file.path.read_bytes()
                    begun = received / f"{file.name}.{file.sha256[:8]}.part"
                    begun.write_bytes(whole[:120_000] + bytes(60_000))
                dispatch = self.sent()
                self.assertEqual((dispatch.state, dispatch.said), ("arrived", ""))
                self.assertEqual(self.proofs(dispatch), {READ_BACK})
                self.assertThere(received)

    def test_one_that_was_damaged_over_there_is_not_taken_for_it_when_it_is_sent_again(self):
        for way, who in self.WAYS:
            with self.subTest(way):
                received = self.served(way, who)
                self.assertEqual(self.sent().state, "arrived")
                there = received / self.files[0].name
                there.write_bytes(there.read_bytes()[:150_000] + bytes(50_000))
                again = self.sent()
                self.assertTrue(again.name_taken)
                self.assertIn("something else is in it, though it is as large", again.said)
                self.client.post(f"/sent/{again.pk}/go-on/", {"replacing": "yes"})
                self.work()
                again.refresh_from_db()
                self.assertEqual(again.state, "arrived", again.said)
                self.assertThere(received)
                # That they give way was said for all of the production.
                Dispatch.objects.all().delete()

    def test_another_of_its_size_is_not_taken_for_it_however_it_is_to_be_proven(self):
        """Nor after a kill, when it had not been given its name yet."""
        for way, who in self.WAYS:
            for proof in (LOOKED_INTO, FETCHED, BY_SIZE):
                with self.subTest(way, proof=proof):
                    received = self.served(way, who, proof=proof)
                    name, size_bytes = self.files[0].name, self.files[0].figures["size_bytes"]
                    (received / name).write_bytes(bytes(size_bytes))
                    dispatch = self.begin(file=[self.files[0].pk])
                    dispatch.parts.update(state="sending")
                    self.work()
                    dispatch.refresh_from_db()
                    self.assertEqual((dispatch.state, dispatch.name_taken), ("stuck", True), dispatch.said)

    def test_large_ones_are_looked_into_at_both_ends_and_between(self):
        for way, who in self.WAYS:
            with (
                self.subTest(way),
                patch.multiple("sermovox.dispatch.proving", SMALL_BYTES=100_000, SAMPLE_BYTES=1_000),
            ):
                received = self.served(way, who)
                dispatch = self.sent()
                self.assertEqual((dispatch.state, dispatch.said), ("arrived", ""))
                self.assertEqual(self.proofs(dispatch), {SAMPLED})
                self.assertThere(received)
                # What lies there under its name is read back whole all the same.
                there = received / self.files[0].name
                content = bytearray(there.read_bytes())
                content[77_777] ^= 1
                there.write_bytes(content)
                self.assertTrue(self.sent().name_taken)

    def test_what_was_only_counted_is_there_and_has_not_arrived_until_somebody_says_so(self):
        received = self.served(*self.WAYS[0], proof=BY_SIZE)
        dispatch = self.sent()
        self.assertEqual((dispatch.state, self.proofs(dispatch)), ("there", {BY_SIZE}))
        page = self.client.get(dispatch.get_absolute_url())
        self.assertContains(page, "there, 200000 bytes; not looked into")
        self.assertContains(page, "2 of 2 files were counted and could not be looked into")
        stored = {path.name: path.stat().st_mtime_ns for path in received.iterdir()}
        self.assertEqual(self.sent().state, "there")
        self.assertNotEqual({path.name: path.stat().st_mtime_ns for path in received.iterdir()}, stored, "sent again")
        self.client.post(f"{dispatch.get_absolute_url()}confirm/")
        dispatch.refresh_from_db()
        self.assertEqual(dispatch.state, "arrived")

    def test_after_a_kill_a_note_of_what_was_counted_stands_for_that_alone(self):
        received = self.served(*self.WAYS[0], proof=BY_SIZE)
        file = self.files[0]
        for noted, state in ((BY_SIZE, "there"), ("", "stuck")):
            with self.subTest(noted):
                (received / file.name).write_bytes(file.path.read_bytes())
                written = (received / file.name).stat().st_mtime_ns
                dispatch = self.begin(file=[file.pk])
                # As after a kill between its name and the note of it, or before it had that.
                dispatch.parts.update(state="sending", proof=noted)
                self.work()
                dispatch.refresh_from_db()
                self.assertEqual(dispatch.state, state, dispatch.said)
                self.assertEqual((received / file.name).stat().st_mtime_ns, written)
                Dispatch.objects.all().delete()

    def test_where_nothing_may_be_read_it_is_counted_unless_it_has_to_be_fetched(self):
        for way, who in self.WAYS[:2]:
            for proof, state in ((LOOKED_INTO, "there"), (FETCHED, "stuck")):
                with self.subTest(way, proof=proof):
                    received = self.served(way, who, proof=proof)
                    misbehave(received.parent, secretive=True)
                    dispatch = self.sent()
                    self.assertEqual(dispatch.state, state, dispatch.said)


class FromBefore(AppTestCase):
    def test_what_was_only_counted_is_no_longer_said_to_have_arrived(self):
        facts = {"owner": self.narrator, "production": self.production, "receiving": {"way": "folder", "address": "/a"}}
        for proof in (BY_SIZE, READ_BACK):
            dispatch = Dispatch.objects.create(**facts, state="arrived")
            dispatch.parts.create(place=0, name="a.mp3", size_bytes=3, sha256="0" * 64, state="arrived", proof=proof)
        Dispatch.objects.filter(state="there").update(state="arrived")
        moved = importlib.import_module("sermovox.dispatch.migrations.0005_counted")
        moved.told_apart(apps, None)
        for found in (Dispatch.objects.order_by("pk"), Part.objects.order_by("dispatch__pk")):
            self.assertEqual([each.state for each in found], ["there", "arrived"])


class NotGivenBack(SendingTestCase):
    def test_what_a_server_does_not_give_back_is_no_other_file(self):
        """Else it would be taken away over there, though nobody has seen that it is wrong."""

        class Busy(BaseHTTPRequestHandler):
            def do_GET(self):
                self.send_error(503)

            def log_message(self, *words):
                pass

        with HTTPServer(("127.0.0.1", 0), Busy) as server, override_settings(SEND_TO_OWN_NETWORK=True):
            threading.Thread(target=server.handle_request, daemon=True).start()
            line = Line(Server("a WebDAV server", "127.0.0.1", server.server_port), encrypted=False)
            with self.assertRaisesRegex(LineBroke, "cannot take it just now"):
                list(line.fetched("/file", {}, "file", 0, 10))


class OnASmallDevice(SendingTestCase):
    def test_what_is_to_be_used_of_it_is_all_the_room_there_is(self):
        self.state(room="1")
        (self.there / "music.mp3").write_bytes(bytes(700_000))
        dispatch = self.sent()
        self.assertEqual(dispatch.state, "stuck")
        self.assertIn("There is room for 0 MB there, and 0 MB are to go", dispatch.said)
        (self.there / "music.mp3").unlink()
        self.client.post(f"/sent/{dispatch.pk}/go-on/")
        self.work()
        self.assertThere()

    def test_names_it_cannot_hold_are_said_before_anything_goes(self):
        self.state(names=PLAIN_NAMES)
        self.files[0].__class__.objects.filter(pk=self.files[0].pk).update(name="01 Öl & Docht.mp3")
        ticked = {"file": [file.pk for file in self.files]}
        page = self.client.post(f"/sent/deliveries/{self.delivery.pk}/", ticked, follow=True)
        self.assertContains(page, "01 Öl &amp; Docht.mp3 cannot be held there")
        self.assertFalse(Dispatch.objects.exists())


class News(SendingTestCase):
    def head(self) -> str:
        page = self.client.get("/outlets/").content.decode()
        return page[page.index('data-key="4"') : page.index('data-key="5"')]

    def test_the_head_of_a_page_tells_what_came_of_it_until_it_was_looked_at(self):
        self.state()
        (self.there / self.files[0].name).write_bytes(b"somebody else's")
        dispatch = self.sent()
        self.assertIn("sign-stuck", self.head())
        self.client.get(dispatch.get_absolute_url())
        self.assertNotIn("sign-", self.head())
        self.client.post(f"/sent/{dispatch.pk}/go-on/", {"replacing": "yes"})
        self.work()
        self.assertIn("sign-arrived", self.head())

    def test_a_note_lies_beside_the_files(self):
        self.state(note="For {outlet}, of {production}.\r\nWith thanks.")
        self.sent()
        self.assertEqual((self.there / "note.txt").read_text(), "For Podcast host, of Salt and Cedar.\nWith thanks.\n")
