"""What was brought back from a backup does nothing by itself until somebody says that it goes on."""

import shutil
import sqlite3
from contextlib import closing
from pathlib import Path
from unittest import mock

from django.db import connection
from django.test import override_settings
from django.utils import timezone
from django_tasks_db.models import DBTaskResult

from mastering.errors import MasteringError
from mastering.tests.signals import speech, written
from sermovox.dispatch.models import Dispatch, Wish
from sermovox.dispatch.tasks import send_dispatch
from sermovox.dispatch.tests.test_sending import SendingTestCase
from sermovox.keeping import backups, copied
from sermovox.running.watcher import Watcher
from sermovox.terminal import send as send_command
from sermovox.work.queue import enqueue_once
from sermovox.work.recovery import look_after


class Restored(SendingTestCase):
    """The tests' database stands for the one that is brought back."""

    def setUp(self):
        super().setUp()
        self.state()
        self.data = self.folder / "data"
        self.database = self.folder / "brought-back.sqlite3"

    def bring_back(self) -> None:
        """As restoring does, to the database these tests look at as well."""
        with closing(sqlite3.connect(self.database)) as theirs:
            connection.ensure_connection()
            connection.connection.backup(theirs)
        copied.note("2026-11-03T02:00:00+00:00", self.database)
        with closing(sqlite3.connect(self.database)) as rows:
            held = rows.execute("SELECT count(*) FROM django_tasks_database_dbtaskresult WHERE run_after > '8999'")
            self.held = held.fetchone()[0]
        DBTaskResult.objects.filter(status__in=("READY", "RUNNING")).update(run_after=copied.HELD_UNTIL)

    def test_nothing_is_sent_until_somebody_says_so(self):
        dispatch = self.begin()
        self.bring_back()
        self.assertEqual(self.held, 1)
        for _ in range(2):
            look_after()
            self.work()
        # Not even where somebody sends it on anew.
        enqueue_once(send_dispatch, dispatch.pk, sending=True)
        send_dispatch.func(dispatch.pk)
        dispatch.refresh_from_db()
        self.assertEqual((dispatch.state, list(self.there.iterdir())), ("waiting", []))
        page = self.client.get("/")
        self.assertContains(page, "This is a copy, brought back from the backup of")
        self.assertContains(page, "2026-11-03T02:00:00")
        answer = self.client.post("/goes-on/", follow=True)
        self.assertContains(answer, "This one goes on. What waited is done now")
        self.assertNotContains(answer, "This is a copy")
        self.work()
        dispatch.refresh_from_db()
        self.assertEqual((dispatch.state, dispatch.said), ("arrived", ""))
        self.assertThere()

    def test_nothing_is_wished_watched_or_backed_up(self):
        Wish.objects.create(production=self.production, outlet_key=self.delivery.outlet_key, delivery=self.delivery)
        watched = self.folder / "watched" / self.production.key
        watched.mkdir(parents=True)
        shutil.move(written(self.folder, speech(seconds=4)), watched)
        watcher = Watcher(self.folder / "watched", still_for_s=0)
        self.bring_back()
        look_after()
        self.assertEqual((Dispatch.objects.count(), watcher.look()), (0, 0))
        with override_settings(BACKUPS_DIR=self.folder / "backups"), mock.patch("subprocess.Popen") as begun:
            backups.make_nightly()
            begun.assert_not_called()
            copied.go_on()
            backups.make_nightly()
            begun.assert_called_once()
        self.assertEqual(watcher.look(), 1)
        look_after()
        self.assertEqual(Dispatch.objects.count(), 1)

    def test_nobody_else_may_say_so_and_the_terminal_says_why_it_sends_nothing(self):
        self.bring_back()
        with self.assertRaisesRegex(MasteringError, "This is a copy, and sends nothing by itself"):
            send_command.run(mock.Mock(delivery=self.delivery.pk, to="", failing=False, again=False))
        self.client.logout()
        self.client.post("/goes-on/")
        self.assertTrue(copied.is_held())
        self.client.force_login(self.narrator)
        self.assertEqual(self.client.get("/goes-on/").status_code, 405)

    def test_what_goes_along_with_it_is_part_of_a_backup(self):
        self.state(along="all there is")
        dispatch = self.begin()
        along = {path.name for path in dispatch.folder.iterdir()}
        self.assertIn("manifest.csv", along)

        def database(target: Path) -> None:
            with closing(sqlite3.connect(target)) as theirs:
                connection.ensure_connection()
                connection.connection.backup(theirs)

        with mock.patch.object(backups, "_copy_database", database):
            self.assertEqual(backups.back_up(self.folder / "backups").wrong, ())
        other = self.folder / "other"
        other.mkdir()
        with self.settings(DATA_DIR=other):
            self.assertEqual(backups.bring_back(self.folder / "backups").wrong, ())
            self.assertTrue(copied.is_held())
        self.assertEqual({path.name for path in (other / "dispatch" / str(dispatch.pk)).iterdir()}, along)
        # Of one that is over nothing is kept, so nothing is missing.
        Dispatch.objects.update(state="arrived", ended_at=timezone.now())
        shutil.rmtree(dispatch.folder)
        with mock.patch.object(backups, "_copy_database", database):
            self.assertEqual(backups.back_up(self.folder / "backups").wrong, ())
