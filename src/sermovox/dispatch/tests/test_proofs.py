"""What is proven by more than its size, what small devices can hold, and what the head of a page tells."""

import threading
from http.server import BaseHTTPRequestHandler, HTTPServer

from django.test import override_settings

from mastering.outlets.ways import BY_SIZE, FETCHED, PLAIN, PLAIN_NAMES
from sermovox.dispatch.models import Dispatch
from sermovox.dispatch.tests.servers import station_at
from sermovox.dispatch.tests.test_sending import SendingTestCase
from sermovox.dispatch.ways.carrier import READ_BACK, LineBroke
from sermovox.dispatch.ways.http_line import Line
from sermovox.dispatch.ways.servers import Server
from sermovox.standins import archive, share
from sermovox.standins.known import ARCHIVE, SHARE, STATION
from sermovox.standins.mischief import received_in


@override_settings(SEND_TO_OWN_NETWORK=True)
class FetchedBack(SendingTestCase):
    """Another file of the same size is told from this one only where it is fetched."""

    def served(self, way: str):
        top = self.folder / way
        received = received_in(top)
        if way == "ftp":
            return received, self.enterContext(station_at(top))
        return received, self.enterContext({"sftp": archive, "webdav": share}[way].InAThread(top)).port

    def test_one_of_the_same_size_is_not_taken_for_it(self):
        for way, who in (("ftp", STATION), ("sftp", ARCHIVE), ("webdav", SHARE)):
            received, port = self.served(way)
            stated = {"address": f"localhost:{port}", "user": who.user, "secret": who.password}
            stated |= {} if way == "sftp" else {"security": PLAIN}
            stated |= {"share": share.PATH} if way == "webdav" else {}
            name, size_bytes = self.files[0].name, self.files[0].figures["size_bytes"]
            for proof, state, proven in ((FETCHED, "stuck", ""), (BY_SIZE, "arrived", BY_SIZE)):
                with self.subTest(way, proof=proof):
                    (received / name).write_bytes(bytes(size_bytes))
                    self.state(way, proof=proof, **stated)
                    dispatch = self.begin(file=[self.files[0].pk])
                    # As after a kill between its name and the note of it.
                    dispatch.parts.update(state="sending")
                    self.work()
                    dispatch.refresh_from_db()
                    self.assertEqual((dispatch.state, dispatch.parts.get().proof), (state, proven), dispatch.said)
                    self.client.post(f"/sent/{dispatch.pk}/cancel/")
                    self.work()
                    (received / name).unlink()
            with self.subTest(way, sent=True):
                self.state(way, proof=FETCHED, **stated)
                dispatch = self.sent()
                self.assertEqual((dispatch.state, dispatch.said), ("arrived", ""))
                self.assertEqual({part.proof for part in dispatch.parts.all()}, {READ_BACK})
                self.assertThere(received)


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
                list(line.fetched("/file", {}, "file"))


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
