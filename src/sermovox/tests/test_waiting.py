"""How a worker waits: woken by what is written, and not ended by what is over in a while."""

import sqlite3
import threading
import time
from datetime import timedelta
from pathlib import Path
from unittest.mock import patch

from django.conf import settings
from django.db import OperationalError
from django.utils import timezone
from django_tasks_db.models import DBTaskResult

from sermovox.demo.tasks import go_on
from sermovox.running import waiting
from sermovox.running.changes import Changes
from sermovox.ui.tests.base import AppTestCase
from sermovox.work import queue


class Telling(AppTestCase):
    def test_a_change_by_anybody_is_told_at_once_and_nothing_else(self):
        path = self.folder / "some.sqlite3"
        writer = sqlite3.connect(path, check_same_thread=False, isolation_level=None)
        writer.executescript("PRAGMA journal_mode=WAL; CREATE TABLE t (n)")
        changes = Changes(path)
        number, began = changes.number(), time.monotonic()
        changes.wait(number, 0.5)
        self.assertGreaterEqual(time.monotonic() - began, 0.5)
        self.assertEqual(changes.number(), number)
        threading.Timer(0.3, writer.execute, ["INSERT INTO t VALUES (1)"]).start()
        changes.wait(number, 20)
        self.assertLess(time.monotonic() - began, 10)
        self.assertNotEqual(changes.number(), number)


class Waiting(AppTestCase):
    def worker(self) -> waiting.Woken:
        return waiting.Woken(
            queue_names=[queue.SHORT],
            interval=0,
            batch=False,
            backend_name="default",
            startup_delay=False,
            max_tasks=None,
            worker_id="one",
            excluded_queue_names=[],
        )

    def run_until_waiting(self, worker: waiting.Woken, times: int = 1) -> list[float]:
        """Let it work until it waits so many times; how long it would have waited each time, seconds."""
        waited = []

        class Told:
            def number(self) -> int:
                return 0

            def wait(self, since: int, at_most_s: float) -> None:
                waited.append(at_most_s)
                worker.running = len(waited) < times

        with patch.object(waiting, "Changes", Told):
            worker.run()
        return waited

    def test_what_is_ready_is_done_before_it_waits(self):
        Path(settings.DATA_DIR).mkdir(exist_ok=True)
        for _ in range(3):
            queue.enqueue(go_on, 0, short=True)
        queue.enqueue(go_on, 0)
        self.assertEqual(self.run_until_waiting(self.worker()), [3600.0])
        done = DBTaskResult.objects.filter(status="SUCCESSFUL")
        self.assertEqual((done.count(), set(done.values_list("queue_name", flat=True))), (3, {queue.SHORT}))

    def test_it_waits_no_longer_than_until_the_next_that_has_a_time(self):
        go_on.using(queue_name=queue.SHORT, run_after=timezone.now() + timedelta(seconds=40)).enqueue(0)
        (waited,) = self.run_until_waiting(self.worker())
        self.assertTrue(30 < waited <= 40, waited)

    def test_a_database_that_cannot_be_asked_for_a_while_does_not_end_it(self):
        queue.enqueue(go_on, 0, short=True)
        asked, worker = waiting.Woken._tasks, self.worker()
        failing = iter([True, True])

        def tasks(self):
            if next(failing, False):
                raise OperationalError("database or disk is full")
            return asked(self)

        with patch.object(waiting.Woken, "_tasks", tasks), self.assertLogs("sermovox.running.waiting", "WARNING"):
            self.assertEqual(self.run_until_waiting(worker, 3), [5.0, 5.0, 3600.0])
        self.assertEqual(DBTaskResult.objects.get().status, "SUCCESSFUL")
