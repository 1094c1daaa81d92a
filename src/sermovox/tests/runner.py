"""Django's test runner: classes in an order that leaves none for the end, what each took, and a closing line that
counts in plain words.
"""

import gc
import json
import resource
import sqlite3
import time
from collections import defaultdict
from contextlib import closing, suppress
from pathlib import Path
from unittest import TestSuite
from unittest.suite import _ErrorHolder

from django.conf import settings
from django.db import connection
from django.test.runner import DiscoverRunner, ParallelTestSuite, RemoteTestResult, RemoteTestRunner

from sermovox.tests import kept

_TABLE = kept.SOURCE.parent / "var" / "tests.txt"
_CHAINS = 2
"""So many processes have a browser and an application, each for several classes one after the other."""
_MUCH_S = 3.0
_UNKNOWN_S = 1.0


def _cpu_s() -> float:
    """Processor time of this process and of those it has waited for."""
    spent = (resource.getrusage(who) for who in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN))
    return sum(each.ru_utime + each.ru_stime for each in spent)


def _named(test) -> str:
    return f"{type(test).__module__}.{type(test).__qualname__}"


class _Timed(RemoteTestResult):
    """Tells of each test how long it took, with what was made ready for it before."""

    def __init__(self, *arguments, **named):
        super().__init__(*arguments, **named)
        self._since = time.monotonic(), _cpu_s()

    def stopTest(self, test):
        super().stopTest(test)
        now = time.monotonic(), _cpu_s()
        self.events.append(("took", self.test_index, now[0] - self._since[0], now[1] - self._since[1]))
        self._since = now


class _TimedRunner(RemoteTestRunner):
    resultclass = _Timed


class _Chain(TestSuite):
    """Classes that have a browser and an application in common, which end with them."""

    def run(self, result, debug=False):
        from sermovox.ui.tests import running

        try:
            return super().run(result, debug)
        finally:
            running.end_all()


class _InOrder(ParallelTestSuite):
    """What takes longest is begun first; classes in browsers are dealt out to chains before."""

    runner_class = _TimedRunner

    def __init__(self, subsuites, *arguments, **named):
        before, found = _before(), defaultdict(float)
        self.took: defaultdict[str, list[float]] = defaultdict(lambda: [0.0, 0.0, 0])
        for at, suite in enumerate(subsuites):
            first = next(iter(suite))
            known = before.get(_named(first), [_UNKNOWN_S])[0]
            found[at] = max(known, 60.0 if getattr(first, "takes_long", False) else 0.0)
        order = sorted(range(len(subsuites)), key=lambda at: -found[at])
        # Those in browsers share an application, which they leave nearly as it was: they go by their names, unshuffled.
        chains: list[tuple[list, list]] = [([], []) for _ in range(_CHAINS)]
        others = []
        for at in order:
            first = next(iter(subsuites[at]))
            if not getattr(first, "in_a_browser", False):
                others.append(subsuites[at])
                continue
            if getattr(first, "alone", False):
                others.append(_Chain(sorted(subsuites[at], key=lambda test: test.id())))
                continue
            lengths, tests = min(chains, key=lambda chain: sum(chain[0]))
            lengths.append(found[at])
            tests.extend(subsuites[at])
        by_name = [_Chain(sorted(tests, key=lambda test: test.id())) for _, tests in chains if tests]
        super().__init__([*by_name, *others], *arguments, **named)

    def handle_event(self, result, tests, event):
        if event[0] != "took":
            if event[0] in ("addError", "addFailure", "addSubTest") and event[-1] is not None and event[1] >= 0:
                print(f"\nFails: {tests[event[1]].id()}", flush=True)
            super().handle_event(result, tests, event)
            return
        _, at, wall_s, cpu_s = event
        found = self.took[_named(tests[at])]
        found[0] += wall_s
        found[1] += cpu_s
        found[2] += 1

    def run(self, result):
        super().run(result)
        if len(self.subsuites) > 1:
            _write_table(self.took)
        return result


def _times() -> Path:
    return kept.FOLDER / "times.json"


def _before() -> dict[str, list[float]]:
    """What classes took when they ran last: seconds, and seconds of processor time."""
    with suppress(OSError, ValueError):
        return json.loads(_times().read_text())
    return {}


def _write_table(took: dict[str, list[float]]) -> None:
    """Write what each class took, the longest first, and say which took twice of what it did before."""
    before = _before()
    rows = sorted(took.items(), key=lambda row: -row[1][1])
    _TABLE.parent.mkdir(exist_ok=True)
    lines = [f"{wall:8.1f} {cpu:8.1f} {count:5d}  {name}" for name, (wall, cpu, count) in rows]
    _TABLE.write_text("\n".join(["       s    cpu s tests  class", *lines, ""]))
    cpu = sum(found[1] for found in took.values())
    print(f"\nWhat each class took is in {_TABLE}; {cpu:.0f} s of processor time in all.")
    for name, (_, cpu, count) in rows:
        was = before.get(name)
        if was and was[2] == count and cpu > 2 * was[1] and cpu > was[1] + _MUCH_S:
            print(f"Took {cpu:.1f} s of processor time, {was[1]:.1f} s before: {name}")
    with suppress(OSError):
        kept.FOLDER.mkdir(parents=True, exist_ok=True)
        _times().write_text(json.dumps(before | took))


class Runner(DiscoverRunner):
    """Prints "N passed, N failed, N skipped" as its last line."""

    parallel_test_suite = _InOrder

    def setup_test_environment(self, **named):
        super().setup_test_environment(**named)
        # Tests make and drop very many small objects; looking through all of them less often is a twentieth quicker.
        gc.set_threshold(200_000, 50, 100)
        # Passwords are hashed slowly on purpose, which is nothing to be waited for here.
        settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
        # Each client would look through all static files first, and asks for none.
        settings.WHITENOISE_USE_FINDERS = False

    def setup_databases(self, **named):
        """As Django does, on a copy of what all migrations have made the last time."""
        creation, opened = connection.creation, []
        create = creation._create_test_db

        def created(*arguments):
            name = create(*arguments)
            opened.append(sqlite3.connect(name, uri=True))
            with closing(sqlite3.connect(kept.database())) as made:
                made.backup(opened[0])
            return name

        creation._create_test_db = created
        try:
            return super().setup_databases(**named)
        finally:
            del creation._create_test_db
            for each in opened:
                each.close()

    def suite_result(self, suite, result, **named):
        """What failed or was skipped as a class, before any test of it ran, is none of those that ran."""
        ran = [result.failures, result.errors, result.skipped]
        wrong = {_test_of(test) for test, _ in [*result.failures, *result.errors]}
        wrong |= {_test_of(test) for test in result.unexpectedSuccesses}
        skipped = {_test_of(test) for test, _ in result.skipped} - wrong
        not_run = {_test_of(test) for each in ran for test, _ in each if isinstance(test, _ErrorHolder)}
        passed = result.testsRun - len((wrong | skipped) - not_run)
        print(f"{passed} passed, {len(wrong)} failed, {len(skipped)} skipped")
        return super().suite_result(suite, result, **named)


def _test_of(test) -> str:
    """The test that a part of it belongs to."""
    return getattr(test, "test_case", test).id()
