"""JUnit XML: one test a request, one a statement; of a comparison one an exchange."""

from __future__ import annotations

from junitparser import Failure, JUnitXml, Skipped, TestCase, TestSuite

from patient_usher.output.comparison import Compared, change_words
from patient_usher.output.journey import journeys
from patient_usher.output.outcome import Outcome, Shown
from patient_usher.output.redactor import printable
from patient_usher.output.replay_view import complaints
from patient_usher.output.terminal import plain


def _text(text: str) -> str:
    return printable(text, lines=True)


def _failure(message: str, kind: str, body: str) -> Failure:
    found = Failure(_text(message), kind)
    found.text = _text(body)
    return found


def _document(name: str, suites: list[TestSuite]) -> str:
    xml = JUnitXml(_text(name))
    for suite in suites:
        xml.add_testsuite(suite)
    xml.update_statistics()  # type: ignore[no-untyped-call]
    written: bytes = xml.tostring()  # type: ignore[no-untyped-call]
    return written.decode() + "\n"


def junit(outcome: Outcome) -> str:
    """A failure says what was expected, and shows the journey; a slip that fails nothing is told beside the test."""
    suite = TestSuite(_text(", ".join(outcome.scene.traces)))
    for send in outcome.sends:
        case = TestCase(_text(send.id), _text(outcome.scene.pipeline), max(send.final.finished - send.records[0].at, 0))
        sentences = [plain(pieces).strip() for pieces in complaints(send)]
        if outcome.fails(send):
            kind = "expectation" if send.mark == "failed" else "slip"
            case.result = [_failure("; ".join(sentences), kind, _journeys(send))]
        elif send.mark == "slipped":
            case.system_out = _text("; ".join(sentences))
        elif send.mark == "none":
            case.system_out = "nothing is expected of this request"
        suite.add_testcase(case)
    suites = [suite]
    if outcome.statements:
        always = TestSuite("always")
        for one in outcome.statements:
            case = TestCase(_text(one.id), "always", 0)
            if one.verdict == "broken":
                case.result = [_failure(one.sentence, "always", one.sentence)]
            elif one.verdict == "never-tried":
                case.result = [Skipped("never tried")]
            always.add_testcase(case)
        suites.append(always)
    return _document(outcome.title, suites)


def _journeys(send: Shown) -> str:
    return "\n".join(plain(pieces) for pieces in journeys(send.records))


def junit_comparison(compared: Compared) -> str:
    """One test an exchange, which fails where anything changes."""
    suite = TestSuite(_text(compared.title))
    changes = compared.by_id()
    for id_ in dict.fromkeys(record.id for record in (*compared.a, *compared.b)):
        case = TestCase(_text(id_), "compare", 0)
        if id_ in changes:
            message = "; ".join(change_words(difference) for difference in changes[id_])
            case.result = [_failure(message, changes[id_][0].kind, message)]
        suite.add_testcase(case)
    return _document(compared.title, [suite])
