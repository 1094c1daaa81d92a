"""More walks than the tests take, with a database and a data folder of their own: `bin/walk`."""

import argparse
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

_TOLD_EVERY = 50


def main() -> None:
    parser = argparse.ArgumentParser(prog="walk", description=__doc__)
    parser.add_argument("--count", type=int, default=1000, help="how many walks")
    parser.add_argument("--seed", type=int, default=0, help="which ones: the same seed walks the same ways")
    parser.add_argument("--steps", type=int, default=15, help="how many steps each takes")
    parser.add_argument("--at-work", action="store_true", help="workers make files meanwhile, and are killed at it")
    parser.add_argument("--as-found", action="store_true", help="do not make shorter what fails")
    asked = parser.parse_args()
    data = tempfile.mkdtemp(prefix="walks-")
    os.environ |= {"SERMOVOX_DATA": data, "DJANGO_SETTINGS_MODULE": "sermovox.settings"}
    try:
        _walk(asked)
    finally:
        shutil.rmtree(data, ignore_errors=True)


def _walk(asked: argparse.Namespace) -> None:
    import django

    django.setup()
    from django.core.management import call_command
    from django.test.utils import setup_test_environment
    from hypothesis import HealthCheck, Phase, seed, settings
    from hypothesis.stateful import run_state_machine_as_test

    from sermovox.walks.walk import Walk, prepared

    setup_test_environment()
    call_command("migrate", verbosity=0)
    takes = prepared(Path(tempfile.mkdtemp(prefix="takes-")))
    began, walks = time.monotonic(), 0

    kind: Any = at_work(Walk) if asked.at_work else Walk

    class Counted(kind):
        def teardown(self):
            nonlocal walks
            super().teardown()
            walks += 1
            if walks % _TOLD_EVERY == 0:
                took_s = time.monotonic() - began
                left_min = took_s / walks * max(0, asked.count - walks) / 60
                print(f"{walks} walks in {took_s:.0f} s, about {left_min:.0f} min left", file=sys.stderr, flush=True)

    Counted.takes, Counted.pages_at_the_end = takes, 2
    machine = seed(asked.seed)(Counted)
    try:
        run_state_machine_as_test(
            machine,
            settings=settings(
                max_examples=asked.count,
                stateful_step_count=asked.steps,
                deadline=None,
                database=None,
                print_blob=False,
                report_multiple_bugs=False,
                phases=[Phase.generate] if asked.as_found else [Phase.generate, Phase.shrink],
                suppress_health_check=list(HealthCheck),
            ),
        )
        print(f"{asked.count} walks of {asked.steps} steps in {time.monotonic() - began:.0f} s: all held.")
    finally:
        if asked.at_work:
            Workers.end()
        shutil.rmtree(takes, ignore_errors=True)


class Workers:
    """Two workers as processes of their own."""

    _running: list[tuple[str, subprocess.Popen]] = []

    @classmethod
    def begin(cls) -> None:
        while len(cls._running) < 2:
            name = f"walker-{random.getrandbits(32):08x}"
            command = [sys.executable, "-m", "sermovox.running.worker", name, "*"]
            process = subprocess.Popen(command, stdin=subprocess.PIPE, start_new_session=True)
            cls._running.append((name, process))

    @classmethod
    def kill(cls) -> None:
        """Kill one in the middle of whatever it does, and put its work back, as the supervisor does."""
        from sermovox.work.recovery import requeue_tasks

        _, process = cls._running.pop(0)
        process.send_signal(signal.SIGKILL)
        process.wait()
        requeue_tasks(lambda: [name for name, _ in cls._running])
        cls.begin()

    @classmethod
    def end(cls) -> None:
        for _, process in cls._running:
            process.kill()
            process.wait()


def at_work(machine: type) -> type:
    """The same walk while workers are really at work."""
    from django_tasks_db.models import DBTaskResult
    from hypothesis import strategies as st
    from hypothesis.stateful import rule

    class AtWork(machine):
        at_work = True

        @rule(pause_s=st.sampled_from([0.0, 0.02, 0.05, 0.1, 0.2]))
        def kill(self, pause_s):
            time.sleep(pause_s)
            Workers.kill()

        @rule(pause_s=st.sampled_from([0.02, 0.05, 0.1, 0.3]))
        def wait(self, pause_s):
            time.sleep(pause_s)

        def work(self, count=1, *, all_of_it=False):
            Workers.begin()
            until = time.monotonic() + 120
            while DBTaskResult.objects.filter(status__in=["READY", "RUNNING"]).exists():
                assert time.monotonic() < until, "work is never done"
                time.sleep(0.02)

        def _judge_standing(self):
            self._once_still(super()._judge_standing)

        def _judge_board(self):
            self._once_still(super()._judge_board)

        def _once_still(self, judge) -> None:
            """Judge now; what is wrong while files are being moved about has to be right once that is over."""
            try:
                judge()
            except (AssertionError, FileNotFoundError):
                self.work(all_of_it=True)
                judge()

    return AtWork


if __name__ == "__main__":
    main()
