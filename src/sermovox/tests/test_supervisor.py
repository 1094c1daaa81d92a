"""What is started together ends together; what cannot be started is left alone, and told."""

import signal
import socket
import subprocess
import sys
from pathlib import Path
from unittest.mock import patch

from django.conf import settings
from django.test import TestCase

from sermovox.running import child
from sermovox.running.child import CannotStart
from sermovox.running.supervisor import Child, Supervisor, address_of
from sermovox.ui.tests.base import AppTestCase
from sermovox.work import lacking
from sermovox.work import run as running


class Supervising(TestCase):
    def test_a_process_that_cannot_be_started_leaves_none_of_the_others(self):
        with (
            patch("sermovox.running.supervisor._refuse_taken_port"),
            patch("sermovox.running.supervisor.signal.signal"),
        ):
            supervisor = Supervisor(host="127.0.0.1", port=8999, workers=1, demo=False)
            with (
                patch.object(supervisor._others[0], "begin", lambda _: subprocess.Popen(["/there/is/no/such/program"])),
                patch.object(supervisor._server, "begin", lambda _: subprocess.Popen(["sleep", "60"])),
                patch.object(supervisor, "_wait_until_answering"),
                self.assertRaises(FileNotFoundError),
            ):
                supervisor.run()
        started = supervisor._server.process
        self.assertIsInstance(started, subprocess.Popen)
        self.assertIsNotNone(started.poll())


class LeftOut(AppTestCase):
    """A process that ends as soon as it starts, watched for an hour of its own clock."""

    def prepare(self):
        super().prepare()
        Path(settings.DATA_DIR).mkdir(exist_ok=True)

    def watched(self, code: str, *, for_s: float = 700.0) -> tuple[Child, list[float], list[str]]:
        now, began, said = 1000.0, [], []

        def begin(identity: str) -> subprocess.Popen:
            began.append(now - 1000.0)
            return subprocess.Popen([sys.executable, "-c", code, identity], start_new_session=True)

        process = Child(lacking.STAND_INS, begin)
        with (
            patch("sermovox.running.supervisor.time.monotonic", lambda: now),
            patch("sermovox.running.supervisor._say", said.append),
        ):
            process.start()
            while now < 1000.0 + for_s:
                process.running.wait()
                process.watch()
                now += 0.5
        return process, began, said

    def test_it_is_tried_three_times_with_growing_pauses_and_told_once(self):
        process, began, said = self.watched("import sys; sys.exit(3)", for_s=500)
        self.assertEqual(len(began), 3)
        first, second = began[1] - began[0], began[2] - began[1]
        self.assertGreater(second, first)
        self.assertEqual(said, [process.left_out])
        self.assertIn("It ended with status 3.", said[0])

    def test_its_reason_is_told_without_a_traceback_where_it_is_foreseen(self):
        code = f"""
import os, sys
sys.path.insert(0, {str(Path(child.__file__).parents[1])!r})
os.environ.update(DJANGO_SETTINGS_MODULE="sermovox.settings", SERMOVOX_DATA={str(settings.DATA_DIR)!r})
sys.stderr = open({str(self.folder / "errors")!r}, "a")
from sermovox.running import child
child.run(lambda: __import__("a_package_that_is_missing"))
"""
        process, _, _ = self.watched(code, for_s=60)
        self.assertIn("No module named 'a_package_that_is_missing'.", process.left_out)
        self.assertEqual((self.folder / "errors").read_text(), "")
        for address in ("/recordings/storage/", "/stand-ins/station/"):
            with self.settings(DEMO_SIGN_IN=True):
                self.assertContains(self.client.get(address), "a_package_that_is_missing")
        self.assertNotContains(self.client.get("/"), "a_package_that_is_missing")
        lacking.is_there(lacking.STAND_INS)
        self.assertNotContains(self.client.get("/recordings/storage/"), "a_package_that_is_missing")

    def test_a_missing_worker_is_told_on_every_page(self):
        lacking.note(lacking.WORKER, "The machine has no room for it.")
        self.assertContains(self.client.get("/outlets/"), "The worker cannot be started")
        lacking.forget()
        self.assertNotContains(self.client.get("/outlets/"), "cannot be started")

    def test_one_that_others_kill_is_there_again_at_once_however_often(self):
        process, began, said = self.watched("import os; os.kill(os.getpid(), 9)", for_s=5)
        self.assertGreaterEqual(len(began), 5)
        self.assertEqual((process.left_out, set(said)), ("", {said[0]}))
        self.assertIn("starting it again", said[0])


class Senders(TestCase):
    def test_they_start_one_after_the_other_while_something_waits(self):
        with patch("sermovox.running.supervisor._refuse_taken_port"):
            supervisor = Supervisor(host="127.0.0.1", port=8999, workers=1, demo=False)
        before = len(supervisor._children)
        for each in supervisor._senders:
            each.begin = lambda identity: None
        found = []
        for waits in (False, True, False, True, True, True):
            with patch("sermovox.running.supervisor.queue.waits", return_value=waits):
                supervisor._start_sender()
            found.append(len(supervisor._children) - before)
        self.assertEqual(found, [0, 1, 1, 2, 3, 3])


class OneAtATime(AppTestCase):
    def test_who_runs_with_a_data_folder_is_known_to_others_and_keeps_them_out(self):
        Path(settings.DATA_DIR).mkdir(exist_ok=True)
        self.assertEqual((running.is_running(), running.is_demonstration()), (False, False))
        with running.hold(running.Run(is_demonstration=True)):
            self.assertEqual((running.is_running(), running.is_demonstration()), (True, True))
            self.assertIsNone(running.hold(running.Run()))
        self.assertEqual((running.is_running(), running.is_demonstration()), (False, False))
        with running.hold(running.Run("http://127.0.0.1:9/", 5)):
            self.assertEqual((running.is_running(), running.is_demonstration()), (True, False))
            self.assertEqual(running.latest(), running.Run("http://127.0.0.1:9/", 5))


class TakenPort(TestCase):
    def refusal(self, before: running.Run) -> str:
        with socket.create_server(("127.0.0.1", 0)) as taken:
            port = taken.getsockname()[1]
            told = running.Run(address_of("127.0.0.1", port), 1, server=before.server)
            with self.assertRaises(CannotStart) as refused:
                Supervisor(host="127.0.0.1", port=port, workers=1, demo=False, before=told)
        return str(refused.exception)

    def test_what_its_own_former_self_left_behind_is_named_with_what_ends_it(self):
        left = subprocess.Popen(["sleep", "60"], start_new_session=True)
        self.addCleanup(left.wait)
        self.addCleanup(left.send_signal, signal.SIGKILL)
        self.assertIn(f"`kill -9 -{left.pid}` ends it", self.refusal(running.Run(server=left.pid)))

    def test_another_program_is_told_apart(self):
        said = self.refusal(running.Run())
        self.assertRegex(said, r"is in use, by another program .* --port \d+$")
