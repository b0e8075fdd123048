"""Verification results as JUnit XML, which continuous integration reads."""

from __future__ import annotations

from collections.abc import Iterable

from junitparser import Error, Failure, JUnitXml, TestCase, TestSuite

from crossgate.core.answers.verify import Verified
from crossgate.core.model.errors import PlanError
from crossgate.core.model.plaintext import escaped
from crossgate.core.model.plan import Plan
from crossgate.formats.handed_on import handed_on


def junit_text(plan: Plan, results: Iterable[Verified]) -> str:
    """Return the results as a JUnit XML document, a test case for each expectation."""
    suite = TestSuite(escaped(plan.title or handed_on(plan.files[0])))
    for result in results:
        expectation = result.expectation
        case = TestCase(expectation.text, "keep" if expectation.keep else "expect")
        if not result.held:
            failure = Failure(escaped(result.why), "failed")
            failure.text = escaped(
                f"{handed_on(expectation.place.file)}:{expectation.place.line}: "
                f"{result.why}\nneeded: {result.needed}"
            )
            case.result = [failure]
        suite.add_testcase(case)
    return _text(suite)


def junit_of_errors(plan: str, errors: Iterable[PlanError]) -> str:
    """Return the errors of a plan that cannot be read as a JUnit XML document, a test case for each
    error.
    """
    suite = TestSuite(escaped(handed_on(plan)))
    for each in errors:
        case = TestCase(
            "the plan can be read" if each.place is None else f"line {each.place.line} can be read",
            "plan",
        )
        error = Error(escaped(each.message), "plan-error")
        error.text = escaped(
            str(each)
            if each.place is None
            else f"{handed_on(each.place.file)}:{each.place.line}: {each.message}"
        )
        case.result = [error]
        suite.add_testcase(case)
    return _text(suite)


def junit_of_drifts(plan: Plan, told: Iterable[tuple[str, str, list[str]]]) -> str:
    """Return what runs on devices as a JUnit XML document, a test case for each device: its name,
    why it could not be asked, and the lines that tell how it differs, none where it does not.
    """
    suite = TestSuite(escaped(plan.title or handed_on(plan.files[0])))
    for device, why, lines in told:
        case = TestCase(device, "drift")
        if why:
            case.result = [Error(escaped(why), "not-asked")]
        elif lines:
            failure = Failure("it runs otherwise than the plan says", "drift")
            failure.text = escaped("\n".join(lines))
            case.result = [failure]
        suite.add_testcase(case)
    return _text(suite)


def _text(suite: TestSuite) -> str:
    document = JUnitXml("crossgate verify")
    document.add_testsuite(suite)
    text: str = document.tostring().decode()  # type: ignore[no-untyped-call]
    return text + "\n"
