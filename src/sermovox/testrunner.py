"""Django's test runner, with a closing line that counts in plain words."""

from django.test.runner import DiscoverRunner


class Runner(DiscoverRunner):
    """Prints "N passed, N failed, N skipped" as its last line."""

    def suite_result(self, suite, result, **kwargs):
        failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
        skipped = len(result.skipped)
        print(f"{result.testsRun - failed - skipped} passed, {failed} failed, {skipped} skipped")
        return super().suite_result(suite, result, **kwargs)
