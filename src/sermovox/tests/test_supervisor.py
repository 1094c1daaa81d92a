"""What is started together ends together."""

import subprocess
from unittest.mock import patch

from django.test import TestCase

from sermovox.supervisor import Supervisor


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
