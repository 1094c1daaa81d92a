"""Thirty random walks of fifteen steps over everything that can be done to a production."""

import shutil
import tempfile
from pathlib import Path

from django.test import TransactionTestCase, override_settings
from hypothesis import HealthCheck, seed, settings
from hypothesis.stateful import run_state_machine_as_test

from sermovox.walks.walk import Walk, prepared

_SETTINGS = settings(
    max_examples=15,
    stateful_step_count=15,
    deadline=None,
    database=None,
    suppress_health_check=list(HealthCheck),
)


class _Walks(TransactionTestCase):
    takes_long = True

    def walk(self, seeded: int) -> None:
        for kept in ("data", "takes"):
            folder = Path(tempfile.mkdtemp())
            self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
            if kept == "data":
                self.enterContext(override_settings(DATA_DIR=folder))
        walks = type("Walks", (Walk,), {"takes": prepared(folder)})
        run_state_machine_as_test(seed(seeded)(walks), settings=_SETTINGS)


class FirstWalks(_Walks):
    def test_whatever_is_done_a_file_that_passes_is_right_and_undo_gives_back_the_beginning(self):
        self.walk(1)


class SecondWalks(_Walks):
    """As many more, beside the first."""

    def test_whatever_is_done_a_file_that_passes_is_right_and_undo_gives_back_the_beginning(self):
        self.walk(2)
