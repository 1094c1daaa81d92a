"""What is started together ends together."""

import subprocess
from pathlib import Path
from unittest.mock import patch

from django.conf import settings
from django.test import TestCase

from sermovox import running
from sermovox.supervisor import Supervisor
from sermovox.ui.tests.base import AppTestCase


class Supervising(TestCase):
    def test_a_process_that_cannot_be_started_leaves_none_of_the_others(self):
        with patch("sermovox.supervisor._refuse_taken_port"), patch("sermovox.supervisor.signal.signal"):
            supervisor = Supervisor(host="127.0.0.1", port=8999, workers=1, demo=False)
            with (
                patch.object(
                    supervisor._children[1], "begin", lambda _: subprocess.Popen(["/there/is/no/such/program"])
                ),
                patch.object(supervisor._children[0], "begin", lambda _: subprocess.Popen(["sleep", "60"])),
                self.assertRaises(FileNotFoundError),
            ):
                supervisor.run()
        started = supervisor._children[0].process
        self.assertIsInstance(started, subprocess.Popen)
        self.assertIsNotNone(started.poll())


class Senders(TestCase):
    def test_they_start_one_after_the_other_while_something_waits(self):
        with patch("sermovox.supervisor._refuse_taken_port"):
            supervisor = Supervisor(host="127.0.0.1", port=8999, workers=1, demo=False)
        before = len(supervisor._children)
        for child in supervisor._senders:
            child.begin = lambda identity: None
        found = []
        for waits in (False, True, False, True, True, True):
            with patch("sermovox.supervisor.queue.waits", return_value=waits):
                supervisor._start_sender()
            found.append(len(supervisor._children) - before)
        self.assertEqual(found, [0, 1, 1, 2, 3, 3])


class OneAtATime(AppTestCase):
    def test_who_runs_with_a_data_folder_is_known_to_others_and_keeps_them_out(self):
        Path(settings.DATA_DIR).mkdir(exist_ok=True)
        self.assertEqual((running.is_running(), running.is_demonstration()), (False, False))
        with running.hold(running.DEMONSTRATION):
            self.assertEqual((running.is_running(), running.is_demonstration()), (True, True))
            self.assertIsNone(running.hold())
        self.assertEqual((running.is_running(), running.is_demonstration()), (False, False))
        with running.hold():
            self.assertEqual((running.is_running(), running.is_demonstration()), (True, False))
