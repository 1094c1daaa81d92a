"""Django's test runner, with a closing line that counts in plain words, and browser tests in a process of their own."""

import gc
import os

from django.conf import settings
from django.test.runner import DiscoverRunner, ParallelTestSuite, _run_subsuite
from django.test.testcases import SerializeMixin

_NICENESS = 5


def _run_aside(job):
    """Run some tests; those that no browser waits for take what is left of the processor, as the browser's are the
    longest row of all.
    """
    *_, suite, _, _ = job
    if hasattr(os, "nice") and not isinstance(next(iter(suite)), SerializeMixin):
        os.nice(max(0, _NICENESS - os.nice(0)))
    return _run_subsuite(job)


class _BesideBrowsers(ParallelTestSuite):
    """Classes that only run one at a time are given to one process, from the start: spread over several, each process
    would wait for the other's. Those that take long by themselves are begun next, so that none is left at the end.
    """

    run_subsuite = _run_aside

    def __init__(self, subsuites, *args, **kwargs):
        serial = [suite for suite in subsuites if isinstance(next(iter(suite)), SerializeMixin)]
        others = [suite for suite in subsuites if suite not in serial]
        others.sort(key=lambda suite: not getattr(next(iter(suite)), "takes_long", False))
        together = [type(serial[0])([test for suite in serial for test in suite])] if serial else []
        super().__init__([*together, *others], *args, **kwargs)


class Runner(DiscoverRunner):
    """Prints "N passed, N failed, N skipped" as its last line."""

    parallel_test_suite = _BesideBrowsers

    def setup_test_environment(self, **kwargs):
        super().setup_test_environment(**kwargs)
        # Tests make and drop very many small objects; looking through all of them less often is a twentieth quicker.
        gc.set_threshold(200_000, 50, 100)
        # Passwords are hashed slowly on purpose, which is nothing to be waited for here.
        settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]

    def suite_result(self, suite, result, **kwargs):
        failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
        skipped = len(result.skipped)
        print(f"{result.testsRun - failed - skipped} passed, {failed} failed, {skipped} skipped")
        return super().suite_result(suite, result, **kwargs)
