"""What a replay came to, as a file for somebody else: JUnit, Markdown, HTML, JSON, SVG."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from html import escape
from typing import Any, NamedTuple
from xml.etree.ElementTree import Element, SubElement, indent, tostring

from patient_usher.core.engine.compile.blueprint import Blueprint
from patient_usher.core.verify.always import Statement, told
from patient_usher.core.verify.record import final_of
from patient_usher.core.verify.summary import Summary
from patient_usher.output import result
from patient_usher.output.escaping import cell, fence, legal
from patient_usher.output.journey import journey
from patient_usher.output.replay_view import failures, who
from patient_usher.output.svg import BAD, GOOD, PLAIN, Row, picture
from patient_usher.output.terminal import plain

Record = dict[str, Any]


class Send(NamedTuple):
    """One request, with all its exchanges as records."""

    id: str
    records: Sequence[Record]

    @property
    def final(self) -> Record:
        """The exchange that ended it."""
        return final_of(self.records)

    @property
    def failed(self) -> bool:
        """Whether anything was not as expected."""
        return any(not check["ok"] for check in self.final["checks"])


class Outcome(NamedTuple):
    """A whole replay, as reports write it."""

    blueprint: Blueprint
    traces: Sequence[str]
    seed: int
    summary: Summary
    statements: Sequence[Statement]
    sends: Sequence[Send]

    @property
    def title(self) -> str:
        """Pipeline, traces and environments in a line."""
        return f"{self.blueprint.name}: {', '.join(self.traces)}, {' and '.join(self.blueprint.environment)}"


def headline(outcome: Outcome) -> str:
    """Whether all was as expected, in a sentence."""
    counts = outcome.summary
    broken = sum(1 for statement in outcome.statements if statement.failed)
    always = f"; {broken} of {len(outcome.statements)} statements broken" if broken else ""
    if counts.failed:
        return f"{counts.failed} of {counts.requests} requests not as expected{always}"
    if counts.expecting == 0:
        return f"{counts.requests} requests; nothing is expected of them{always}"
    return f"{counts.requests} requests, all as expected{always}"


# JUnit XML.


def junit(outcome: Outcome) -> str:
    """One test a request, one a statement; a failure says what was expected, and shows the journey."""
    root = Element("testsuites", name=legal(outcome.title))
    suite = SubElement(root, "testsuite", name=legal(", ".join(outcome.traces)))
    for send in outcome.sends:
        took = max(send.final["finished"] - send.records[0]["at"], 0)
        case = SubElement(
            suite, "testcase", classname=legal(outcome.blueprint.name), name=legal(send.id), time=f"{took:.6f}"
        )
        if send.failed:
            sentences = [plain(pieces).strip() for pieces in failures(send.final)]
            failure = SubElement(case, "failure", message=legal("; ".join(sentences)), type="expectation")
            failure.text = legal("\n".join(map(plain, journey(send.final))))
        elif not send.final["checks"]:
            SubElement(case, "system-out").text = "nothing is expected of this request"
    _counted(suite, failures=sum(send.failed for send in outcome.sends))
    if outcome.statements:
        suite = SubElement(root, "testsuite", name="always")
        for statement, (_, sentence) in zip(outcome.statements, told(outcome.statements), strict=True):
            case = SubElement(suite, "testcase", classname="always", name=legal(statement.id), time="0")
            if statement.failed:
                SubElement(case, "failure", message=legal(sentence), type="always").text = legal(sentence)
            elif not statement.held:
                SubElement(case, "skipped", message="never tried")
        skipped = sum(not (one.held or one.failed) for one in outcome.statements)
        _counted(suite, failures=sum(bool(one.failed) for one in outcome.statements), skipped=skipped)
    indent(root)
    text: str = tostring(root, encoding="unicode")
    return f'<?xml version="1.0" encoding="UTF-8"?>\n{text}\n'


def _counted(suite: Element, *, failures: int, skipped: int = 0) -> None:
    suite.set("tests", str(len(suite)))
    suite.set("failures", str(failures))
    suite.set("errors", "0")
    suite.set("skipped", str(skipped))


# Markdown.


def markdown(outcome: Outcome) -> str:
    """A headline, the failed requests in a table, each journey unfolding."""
    failed = [send for send in outcome.sends if send.failed]
    sign = "✗" if failed or any(statement.failed for statement in outcome.statements) else "✓"
    out = [f"### {sign} {cell(headline(outcome))}", "", cell(outcome.title), ""]
    if failed:
        out += ["| request | what was sent | came to | not as expected |", "| --- | --- | --- | --- |"]
    for send in failed:
        request, response = send.final["request"], send.final["response"]
        status = response["status"] if response else "---"
        checks = "; ".join(plain(pieces).strip() for pieces in failures(send.final))
        sent = cell(f"{request['method']} {request['url']}")
        out.append(f"| {cell(send.id)} | {sent} | {status} {cell(who(send.final))} | {cell(checks)} |")
    statuses = outcome.summary.record()["by_status"].items()
    out += ["", "statuses: " + ", ".join(f"{count} × {status}" for status, count in statuses), ""]
    out += [f"- {mark} {cell(sentence)}" for mark, sentence in told(outcome.statements)]
    for send in failed[:20]:
        text = "\n".join(map(plain, journey(send.final)))
        marks = fence(text)
        out += ["", "<details>", f"<summary>{escape(send.id)}</summary>", "", marks, text, marks, "", "</details>"]
    return legal("\n".join(out)).rstrip() + "\n"


# JSON.


def as_json(outcome: Outcome) -> str:
    """The result, as ``replay --format json`` prints it."""
    records = [record for send in outcome.sends for record in send.records]
    always = [statement.record() for statement in outcome.statements]
    whole = result.document(outcome.blueprint, outcome.traces, outcome.seed, outcome.summary, always, records)
    return b"".join(result.write_json(whole)).decode()


def svg(outcome: Outcome) -> str:
    """The picture of requests against stages."""
    rows = []
    for send in outcome.sends:
        mark, colour = ("✗", BAD) if send.failed else ("✓", GOOD) if send.final["checks"] else ("•", PLAIN)
        rows.append(Row(mark, colour, send.id, send.final))
    return picture(outcome.title, headline(outcome), outcome.blueprint.columns(), rows)


def page(outcome: Outcome) -> str:
    """One HTML file that needs nothing else."""
    from patient_usher.output.page import render  # the template engine is wanted here only

    return render(outcome)


FORMATS: dict[str, Callable[[Outcome], str]] = {
    "junit": junit,
    "md": markdown,
    "html": page,
    "json": as_json,
    "svg": svg,
}
"""What ``--report FORMAT=FILE`` may name."""
