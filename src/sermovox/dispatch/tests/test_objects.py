"""Object storage: held against moto, which keeps what it receives, and boto3, which reads it back."""

import hashlib
from contextlib import nullcontext
from unittest.mock import patch

import boto3
from botocore.config import Config
from django.test import override_settings

from mastering.outlets.ways import PLAIN
from sermovox.dispatch.tests.servers import misbehave
from sermovox.dispatch.tests.test_sending import OUTLET, SendingTestCase
from sermovox.dispatch.ways.objects import ObjectCarrier
from sermovox.standins.known import BUCKET, STORE
from sermovox.standins.mischief import received_in
from sermovox.standins.store import InAThread

_PART_BYTES = 65_536


@override_settings(SEND_TO_OWN_NETWORK=True)
class IntoABucket(SendingTestCase):
    def setUp(self):
        super().setUp()
        self.top = self.folder / "store"
        self.received = received_in(self.top)
        self.port = self.enterContext(InAThread(self.top)).port
        # Real stores want parts of 5 MB at least.
        self.enterContext(patch("moto.s3.models.S3_UPLOAD_PART_MIN_SIZE", 1000))

    def state_store(self, *, secret: str = STORE.password, **more):
        stated = {"address": f"localhost:{self.port}", "security": PLAIN, "bucket": BUCKET, "user": STORE.user}
        return self.state("objects", secret=secret, **stated | more)

    def in_parts(self):
        return patch("sermovox.dispatch.ways.objects.PART_BYTES", _PART_BYTES)

    def fetched(self) -> dict[str, str]:
        """The hash of every object, as another client of the protocol reads them."""
        keys = {"aws_access_key_id": STORE.user, "aws_secret_access_key": STORE.password}
        where = {"endpoint_url": f"http://localhost:{self.port}", "region_name": "us-east-1"}
        client = boto3.client("s3", **keys, **where, config=Config(s3={"addressing_style": "path"}))
        found = {}
        for each in client.list_objects_v2(Bucket=BUCKET).get("Contents", []):
            body = client.get_object(Bucket=BUCKET, Key=each["Key"])["Body"].read()
            found[each["Key"]] = hashlib.sha256(body).hexdigest()
        return found

    def test_files_arrive_under_their_keys_and_their_hashes_are_told(self):
        self.state_store(folder="in/{production|plain}")
        dispatch = self.sent()
        self.assertEqual((dispatch.state, dispatch.said), ("arrived", ""))
        self.assertEqual(self.fetched(), {f"in/Salt and Cedar/{file.name}": file.sha256 for file in self.files})
        self.assertEqual({part.proof for part in dispatch.parts.all()}, {"its SHA-256 over there is the same"})

    def test_large_files_go_in_parts_and_their_hashes_are_told_as_well(self):
        self.state_store()
        with self.in_parts():
            dispatch = self.sent()
        self.assertEqual((dispatch.state, dispatch.said), ("arrived", ""))
        self.assertEqual(self.fetched(), {file.name: file.sha256 for file in self.files})
        self.assertEqual({part.proof for part in dispatch.parts.all()}, {"its SHA-256 over there is the same"})

    def test_what_broke_off_goes_on_with_the_parts_that_are_there(self):
        self.state_store()
        with self.in_parts():
            dispatch = self.begin()
            with patch("sermovox.dispatch.sending._telling", return_value=self._stops_at(2 * _PART_BYTES)):
                self.work()
            dispatch.refresh_from_db()
            self.assertEqual(dispatch.state, "stuck")
            self.assertEqual(self.fetched(), {}, "nobody sees a file before it is whole")
            with patch.object(ObjectCarrier, "put", autospec=True, side_effect=ObjectCarrier.put) as put:
                self.client.post(f"/sent/{dispatch.pk}/go-on/")
                self.work()
        dispatch.refresh_from_db()
        self.assertEqual((dispatch.state, dispatch.said), ("arrived", ""))
        self.assertEqual([call.args[3] for call in put.call_args_list], [2 * _PART_BYTES, 0])
        self.assertEqual(self.fetched(), {file.name: file.sha256 for file in self.files})

    def test_parts_that_are_not_what_is_here_are_sent_again(self):
        self.state_store()
        with self.in_parts():
            dispatch = self.begin()
            with patch("sermovox.dispatch.sending._telling", return_value=self._stops_at(3 * _PART_BYTES)):
                self.work()
            file = self.files[0]
            content = bytearray(file.path.read_bytes())
            content[_PART_BYTES] ^= 1
            file.path.write_bytes(content)
            sha256 = hashlib.sha256(content).hexdigest()
            type(file).objects.filter(pk=file.pk).update(sha256=sha256)
            dispatch.parts.filter(file=file).update(sha256=sha256)
            with patch.object(ObjectCarrier, "put", autospec=True, side_effect=ObjectCarrier.put) as put:
                self.client.post(f"/sent/{dispatch.pk}/go-on/")
                self.work()
        dispatch.refresh_from_db()
        self.assertEqual((dispatch.state, dispatch.said), ("arrived", ""))
        self.assertEqual(put.call_args_list[0].args[3], _PART_BYTES, "the first part is the same")
        self.assertEqual(self.fetched()[file.name], sha256)

    def test_what_a_cancelled_one_has_begun_is_taken_away(self):
        self.state_store()
        with self.in_parts():
            dispatch = self.begin()
            with patch("sermovox.dispatch.sending._telling", return_value=self._stops_at(2 * _PART_BYTES)):
                self.work()
            self.client.post(f"/sent/{dispatch.pk}/cancel/")
            self.work()
            self.assertEqual(dispatch.parts.filter(state="sending").count(), 0)
            told = []
            with patch("sermovox.dispatch.sending._telling", return_value=told.append):
                self.sent()
        self.assertEqual(told[0], _PART_BYTES)

    def test_another_object_of_that_key_stays_unless_it_may_be_replaced(self):
        self.state_store()
        self.received.joinpath(self.files[0].name).write_bytes(b"somebody else's")
        dispatch = self.sent()
        self.assertEqual((dispatch.state, dispatch.name_taken), ("stuck", True))
        self.assertIn("already, of 15 bytes", dispatch.said)
        self.client.post(f"/sent/{dispatch.pk}/go-on/", {"replacing": "yes"})
        self.work()
        self.assertEqual(self.fetched(), {file.name: file.sha256 for file in self.files})

    def test_what_is_damaged_here_never_appears_and_replaces_nothing(self):
        self.state_store()
        name, path = self.files[0].name, self.files[0].path
        for in_parts in (False, True):
            self.received.joinpath(name).write_bytes(b"somebody else's")
            path.write_bytes(path.read_bytes()[:-1] + b"!")
            with self.in_parts() if in_parts else nullcontext(), self.subTest(in_parts=in_parts):
                dispatch = self.sent(file=[self.files[0].pk], replacing="on")
                self.assertEqual(dispatch.state, "stuck")
                self.assertIn("is damaged here", dispatch.said)
                self.assertEqual(self.received.joinpath(name).read_bytes(), b"somebody else's")
                self.client.post(f"/sent/{dispatch.pk}/cancel/")

    def test_one_that_was_put_there_meanwhile_stays_as_well(self):
        self.state_store()
        name = self.files[0].name
        with patch("sermovox.dispatch.ways.objects.ObjectCarrier.size_of", return_value=None):
            self.received.joinpath(name).write_bytes(b"somebody else's")
            dispatch = self.sent()
        self.assertEqual((dispatch.state, dispatch.name_taken), ("stuck", True))
        self.assertEqual(self.received.joinpath(name).read_bytes(), b"somebody else's")

    def test_what_stands_in_the_way_is_said(self):
        for more, wrong, words in (
            ({"secret": "wrong"}, {}, f"does not let “{STORE.user}” in"),
            ({"bucket": "elsewhere"}, {}, "has no bucket elsewhere"),
            ({}, {"full": True}, "has no room left"),
            ({}, {"refuses": True}, "Look at user and secret key again"),
            ({"address": "localhost:1"}, {}, "takes no calls at port 1"),
        ):
            with self.subTest(words):
                misbehave(self.top, **wrong)
                self.state_store(**more)
                dispatch = self.sent()
                self.assertIn(words, dispatch.said)
                self.client.post(f"/sent/{dispatch.pk}/cancel/")
        misbehave(self.top, drops=1)
        self.state_store()
        dispatch = self.sent()
        self.assertEqual(dispatch.state, "waiting")
        self.assertIn("cannot take it just now (503", dispatch.said)
        self.assertEqual(self.again(dispatch).state, "arrived")

    def test_reaching_leaves_nothing_behind(self):
        self.state_store(folder="in/{title}")
        page = self.client.post(f"/sent/outlets/{OUTLET}/reach/")
        self.assertContains(page, "It is gone again, and nothing of it is left.")
        self.assertEqual(self.fetched(), {})

    @staticmethod
    def _stops_at(most_bytes: int):
        def told(sent_bytes: int) -> None:
            if sent_bytes >= most_bytes:
                raise OSError(5, "stopped here")

        return told
