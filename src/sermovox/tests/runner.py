"""Django's test runner, with a closing line that counts in plain words, and browser tests in a process of their own."""

import gc
from collections import defaultdict

from django.conf import settings
from django.test.runner import DiscoverRunner, ParallelTestSuite
from django.test.testcases import SerializeMixin


class _BesideBrowsers(ParallelTestSuite):
    """Classes that only run one at a time, as they have a lock file in common, are given to one process from the start:
    spread over several, each process would wait for the other's. Those that take long by themselves are begun next, so
    that none is left at the end.
    """

    def __init__(self, subsuites, *args, **kwargs):
        chains: defaultdict[str, list] = defaultdict(list)
        others: list = []
        for suite in subsuites:
            test = next(iter(suite))
            (chains[test.lockfile] if isinstance(test, SerializeMixin) else others).append(suite)
        others.sort(key=lambda suite: not getattr(next(iter(suite)), "takes_long", False))
        together = [type(chain[0])([test for suite in chain for test in suite]) for chain in chains.values()]
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
