"""Django's test runner with a plain closing line."""

from __future__ import annotations

from django.test.runner import DiscoverRunner


class Runner(DiscoverRunner):
    """Ends with `N passed, N failed` (and what was skipped)."""

    def suite_result(self, suite, result, **kwargs) -> int:
        """Count, print, and fail when no test ran."""
        failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
        skipped = len(result.skipped)
        passed = max(result.testsRun - failed - skipped, 0)  # a class that could not be set up counts as failed and ran no test
        self.closing = f"{passed} passed, {failed} failed" + (f", {skipped} skipped" if skipped else "")
        return failed if result.testsRun else 1

    def run_tests(self, test_labels, **kwargs) -> int:
        """Print the closing line last, after the databases are gone."""
        outcome = super().run_tests(test_labels, **kwargs)
        print(getattr(self, "closing", "0 passed, 1 failed"), flush=True)
        return outcome
