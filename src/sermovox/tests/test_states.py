"""Every state of every object has a way out without a restart: the table of docs/architecture.md, walked row by row."""

import re
from datetime import timedelta
from pathlib import Path

from django.conf import settings
from django.test import override_settings
from django.utils import timezone
from django_tasks_db.models import DBTaskResult

from mastering.outlets.rulesheets import shipped, shipped_text
from mastering.tests.signals import speech, written
from sermovox.deliveries.models import Delivery, FinishedFile
from sermovox.deliveries.runs import start_run
from sermovox.dispatch.models import Dispatch
from sermovox.keeping import storage
from sermovox.outlets.models import FileCheck
from sermovox.productions.models import Production
from sermovox.recordings.models import Recording, Upload
from sermovox.scripts.models import Hearing
from sermovox.ui.tests.base import AppTestCase
from sermovox.work import queue
from sermovox.work.recovery import look_after, requeue_tasks

_LONG_AGO = timedelta(days=400)


def rows_of_table() -> set[tuple[str, str]]:
    """Object and state of each row of the table."""
    text = (Path(settings.BASE_DIR) / "docs" / "architecture.md").read_text("utf-8")
    table = text.partition("## States")[2].partition("\n## ")[0]
    return {(found[1], found[2]) for found in re.finditer(r"^\| ([\w ]+?) \| ([\w ]+?) \|", table, re.MULTILINE)} - {
        ("object", "state")
    }


class States(AppTestCase):
    def prepare(self):
        super().prepare()
        self.data = written(self.folder, speech(seconds=3)).read_bytes()

    def test_the_table_has_every_state_there_is(self):
        states = {
            "upload": Upload.State,
            "recording": Recording.State,
            "hearing": Hearing.State,
            "finished file": FinishedFile.State,
            "file check": FileCheck.State,
            "dispatch": Dispatch.State,
        }
        wanted = {(name, state.value) for name, kinds in states.items() for state in kinds}
        wanted |= {("recording", "waits for something"), ("task", "ready"), ("task", "running")}
        wanted |= {("finished file", "replaced"), ("delivery", "deleted"), ("production", "deleted")}
        self.assertEqual(rows_of_table(), wanted)

    def test_each_that_is_not_the_last_is_left_by_itself(self):
        left = {name.removeprefix("leave_").replace("_", " ") for name in dir(self) if name.startswith("leave_")}
        last = {
            "upload here", "upload refused", "recording ready", "hearing heard", "hearing left", "hearing refused",
            "finished file passes",
            "finished file passes with a remark", "finished file fails", "finished file cannot be made",
            "finished file cancelled", "dispatch paused", "dispatch sent", "dispatch there", "dispatch arrived",
            "dispatch stuck", "dispatch cancelled", "file check checked",
            "file check cannot be checked", "file check cancelled",
        }  # fmt: skip
        self.assertEqual({" ".join(row) for row in rows_of_table()} - last, left)
        for name in sorted(left):
            with self.subTest(name):
                getattr(self, f"leave_{name.replace(' ', '_')}")()

    def sent(self) -> Upload:
        """A whole upload that nobody has taken in."""
        begun = self.begin_upload("take.wav", len(self.data))
        upload = Upload.objects.get(pk=begun["Location"].rstrip("/").rpartition("/")[2])
        upload.path.write_bytes(self.data)
        Upload.objects.filter(pk=upload.pk).update(flushed_bytes=len(self.data))
        return upload

    def dispatch(self, state: str) -> Dispatch:
        """One whose files are all there, in a state that nobody else will lead it out of."""
        self.enterContext(override_settings(SEND_TO_FOLDERS=[self.folder]))
        receiving = {"way": "folder", "address": str(self.folder)}
        return Dispatch.objects.create(owner=self.narrator, outlet_key="own", receiving=receiving, state=state)

    def arrives(self, dispatch: Dispatch) -> None:
        look_after()
        self.work()
        dispatch.refresh_from_db()
        self.assertEqual((dispatch.state, dispatch.said), ("arrived", ""))

    def heard(self, state: str) -> None:
        self.bring_in(speech(seconds=3 + len(state) % 5), name=f"{state}.wav")
        recording = self.production.recordings.get(name=f"{state}.wav")
        hearing = Hearing.of(recording, ["Some words of it."], "en")
        Hearing.objects.filter(pk=hearing.pk).update(state=state)
        look_after()
        self.work()
        hearing.refresh_from_db()
        self.assertEqual(hearing.state, "heard")

    def leave_hearing_waiting(self):
        self.heard("waiting")

    def leave_hearing_listening(self):
        self.heard("listening")

    def leave_dispatch_waiting(self):
        self.arrives(self.dispatch("waiting"))

    def leave_dispatch_sending(self):
        self.arrives(self.dispatch("sending"))

    def leave_upload_arriving(self):
        upload = self.sent()
        look_after()
        upload.refresh_from_db()
        self.assertEqual(upload.state, "here")
        begun = self.begin_upload("half.wav", 10)
        Upload.objects.filter(state="arriving").update(touched_at=timezone.now() - _LONG_AGO)
        look_after()
        self.assertEqual(self.client.get(begun["Location"]).status_code, 404)

    def leave_upload_finishing(self):
        upload = self.sent()
        Upload.objects.filter(pk=upload.pk).update(state="finishing")
        look_after()
        upload.refresh_from_db()
        self.assertEqual(upload.state, "here")
        given_up = self.sent()
        Upload.objects.filter(pk=given_up.pk).update(state="finishing")
        self.client.delete(f"/recordings/uploads/{given_up.pk}/", headers={"Tus-Resumable": "1.0.0"})
        self.assertFalse(Upload.objects.filter(pk=given_up.pk).exists() or given_up.path.exists())

    def leave_recording_measuring(self):
        recording = self.recording()
        DBTaskResult.objects.all().delete()
        look_after()
        self.work()
        self.assertEqual(Recording.objects.get(pk=recording.pk).state, "ready")

    def leave_recording_waits_for_something(self):
        recording = self.recording()
        DBTaskResult.objects.all().delete()
        recording.put_off("the end of time")
        look_after()
        self.assertFalse(DBTaskResult.objects.ready().exists())
        Recording.objects.update(try_at=timezone.now() - timedelta(seconds=1))
        look_after()
        self.work()
        self.assertEqual(Recording.objects.get(pk=recording.pk).state, "ready")

    def leave_recording_refused(self):
        recording = self.recording()
        recording.refuse("It is cut off.")
        self.assertTrue(recording.path.exists())
        self.client.post(f"/recordings/{recording.pk}/delete/")
        self.assertEqual(Recording.with_deleted.get(pk=recording.pk).state, "deleted")

    def leave_recording_deleted(self):
        recording = self.recording()
        recording.put_away()
        Recording.with_deleted.filter(pk=recording.pk).update(binned_at=timezone.now() - _LONG_AGO)
        look_after()
        self.assertFalse(storage.stored(recording.sha256).exists())

    def recording(self) -> Recording:
        self.production.sections.all().delete()
        Recording.with_deleted.all().delete()
        outcome = self.upload(written(self.folder, speech(seconds=3)))
        return Recording.objects.get(pk=outcome["recording"])

    def file(self) -> FinishedFile:
        self.recording()
        self.work()
        (delivery,) = start_run(self.production, [shipped()["podcast-host"]], [self.production.sections.last()])
        return delivery.files.get()

    def leave_finished_file_waiting(self):
        file = self.file()
        DBTaskResult.objects.all().delete()
        look_after()
        self.work()
        self.assertTrue(FinishedFile.objects.get(pk=file.pk).is_made)

    def leave_finished_file_making(self):
        file = self.file()
        DBTaskResult.objects.all().delete()
        file.begin()
        look_after()
        self.work()
        self.assertTrue(FinishedFile.objects.get(pk=file.pk).is_made)

    def leave_finished_file_replaced(self):
        file = self.file()
        self.work()
        file.refresh_from_db()
        file.put_in_bin()
        FinishedFile.objects.update(replaced_at=timezone.now() - _LONG_AGO)
        look_after()
        self.assertFalse(file.folder.exists())

    def leave_delivery_deleted(self):
        file = self.file()
        file.delivery.put_away()
        Delivery.with_deleted.update(deleted_at=timezone.now() - _LONG_AGO)
        look_after()
        self.assertFalse(Delivery.with_deleted.filter(pk=file.delivery_id).exists() or file.folder.exists())

    def leave_production_deleted(self):
        other = Production.objects.create(owner=self.narrator, title="Other")
        self.upload(written(self.folder, speech(seconds=3, seed=33), name="other.wav"), production=other)
        stored = other.recordings.get().path
        other.put_away()
        Production.with_deleted.filter(pk=other.pk).update(deleted_at=timezone.now() - _LONG_AGO)
        look_after()
        self.assertFalse(Production.with_deleted.filter(pk=other.pk).exists() or stored.exists())

    def check_of(self, state: str) -> FileCheck:
        facts = {"owner": self.narrator, "outlet_key": "podcast-host", "content_kind": "speech", "name": "a.wav"}
        check = FileCheck.objects.create(toml=shipped_text("podcast-host"), state=state, **facts)
        check.path.write_bytes(self.data)
        return check

    def leave_file_check_waiting(self):
        check = self.check_of("waiting")
        look_after()
        self.work()
        self.assertEqual(FileCheck.objects.get(pk=check.pk).state, "checked")
        lost = self.check_of("waiting")
        lost.path.unlink()
        FileCheck.objects.filter(pk=lost.pk).update(created_at=timezone.now() - timedelta(hours=2))
        look_after()
        self.assertEqual(FileCheck.objects.get(pk=lost.pk).state, "cannot be checked")

    def leave_file_check_checking(self):
        check = self.check_of("checking")
        look_after()
        self.work()
        self.assertEqual(FileCheck.objects.get(pk=check.pk).state, "checked")

    def leave_task_ready(self):
        self.recording()
        self.work()
        self.assertFalse(DBTaskResult.objects.ready().exists())

    def leave_task_running(self):
        self.recording()
        task = DBTaskResult.objects.ready().last()
        task.claim("dead")
        DBTaskResult.objects.update(started_at=timezone.now() - _LONG_AGO)
        self.assertEqual(queue.workers_at_one_task_for(timedelta(hours=12)), {"dead"})
        requeue_tasks(lambda: ["living"])
        self.work()
        self.assertFalse(DBTaskResult.objects.running().exists())
