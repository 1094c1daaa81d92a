"""Two hundred random walks of fifteen steps over everything that can be done to a production."""

import os
import shutil
import tempfile
from pathlib import Path

from django.test import TransactionTestCase, override_settings
from hypothesis import HealthCheck, settings
from hypothesis.stateful import run_state_machine_as_test

from sermovox.tests.walks import Walk, written_takes

_WALKS, _STEPS = 200, 15


class Walks(TransactionTestCase):
    def test_whatever_is_done_a_file_that_passes_is_right_and_undo_gives_back_the_beginning(self):
        kept = tempfile.mkdtemp()
        self.addCleanup(shutil.rmtree, kept, ignore_errors=True)
        takes = written_takes()
        self.addCleanup(shutil.rmtree, takes, ignore_errors=True)
        self.enterContext(override_settings(DATA_DIR=Path(kept)))
        walks = type("Walks", (Walk,), {"takes": takes})
        run_state_machine_as_test(walks, settings=walked(int(os.environ.get("SERMOVOX_WALKS", _WALKS))))


def walked(count: int) -> settings:
    return settings(
        max_examples=count,
        stateful_step_count=_STEPS,
        deadline=None,
        database=None,
        derandomize=True,
        print_blob=True,
        suppress_health_check=list(HealthCheck),
    )
