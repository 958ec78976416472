"""What a replay came to, as a file for somebody else: JUnit, Markdown, HTML, JSON, SVG."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from html import escape
from typing import Any, NamedTuple
from xml.etree.ElementTree import Element, SubElement, indent, tostring

from patient_usher.core.engine.blueprint import Blueprint
from patient_usher.core.verify.always import Statement, told
from patient_usher.core.verify.record import final_of
from patient_usher.core.verify.summary import Summary
from patient_usher.reports import result
from patient_usher.reports.escaping import cell, fence, legal
from patient_usher.reports.journey import journey
from patient_usher.reports.text import MARKS, did_what, failures, who

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


def _plain(lines: Any) -> str:
    return "\n".join("".join(piece.text for piece in pieces).rstrip() for pieces in lines)


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
            sentences = [_plain([pieces]).strip() for pieces in failures(send.final)]
            failure = SubElement(case, "failure", message=legal("; ".join(sentences)), type="expectation")
            failure.text = legal(_plain(journey(send.final)))
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
        checks = "; ".join(_plain([pieces]).strip() for pieces in failures(send.final))
        sent = cell(f"{request['method']} {request['url']}")
        out.append(f"| {cell(send.id)} | {sent} | {status} {cell(who(send.final))} | {cell(checks)} |")
    statuses = outcome.summary.record()["by_status"].items()
    out += ["", "statuses: " + ", ".join(f"{count} × {status}" for status, count in statuses), ""]
    out += [f"- {mark} {cell(sentence)}" for mark, sentence in told(outcome.statements)]
    for send in failed[:20]:
        text = _plain(journey(send.final))
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


# The picture of requests against stages.

COLOURS = {
    "continued": "#57606a",
    "skipped": "#8c959f",
    "answered": "#0969da",
    "raised": "#9a6700",
    "raised-out": "#9a6700",
    "caught": "#8250df",
    "nothing": "#cf222e",
    "answered-and-continued": "#cf222e",
    "never": "#d0d7de",
}
ROW, COLUMN = 20, 22


def svg(outcome: Outcome) -> str:
    """Requests as rows, stages as columns, as the terminal shows them; readable on light and dark ground."""
    columns = outcome.blueprint.columns()
    left = 8 * max([len(send.id) for send in outcome.sends] + [8]) + 28
    top = 9 * max(map(len, columns)) * 0.72 + 26
    right = 8 * max([len(f"--- {who(send.final)}") for send in outcome.sends] + [8]) + 24
    width, height = left + COLUMN * len(columns) + right, top + ROW * len(outcome.sends) + 40
    root = Element("svg", xmlns="http://www.w3.org/2000/svg", width=f"{width:.0f}", height=f"{height:.0f}", role="img")
    SubElement(root, "title").text = legal(f"{outcome.title}: {headline(outcome)}")
    SubElement(root, "rect", width="100%", height="100%", fill="#ffffff", rx="6")
    words = {"font-family": "ui-monospace, monospace", "font-size": "13", "fill": "#1f2328"}
    for at, name in enumerate(columns):
        x = left + COLUMN * at + 6
        turn = f"rotate(-45 {x} {top - 12:.0f})"
        SubElement(root, "text", words, x=str(x), y=f"{top - 12:.0f}", transform=turn).text = legal(name)
    for number, send in enumerate(outcome.sends):
        _svg_row(root, send, columns, left, top + ROW * number, words)
    foot = SubElement(root, "text", words, x="10", y=f"{height - 14:.0f}")
    foot.text = legal(headline(outcome))
    return f"{tostring(root, encoding='unicode')}\n"


def _svg_row(root: Element, send: Send, columns: list[str], left: int, y: float, words: dict[str, str]) -> None:
    base = f"{y + 14:.0f}"
    mark, colour = ("✗", "#cf222e") if send.failed else ("✓", "#1a7f37") if send.final["checks"] else ("•", "#57606a")
    SubElement(root, "text", {**words, "fill": colour}, x="10", y=base).text = mark
    SubElement(root, "text", words, x="26", y=base).text = legal(send.id)
    dids = did_what(send.final)
    reached = [at for at, name in enumerate(columns) if name in dids]
    if reached:
        line = {"x1": str(left + 6), "x2": str(left + COLUMN * reached[-1] + 6), "stroke": "#d0d7de"}
        SubElement(root, "line", line, y1=f"{y + 10:.0f}", y2=f"{y + 10:.0f}")
    for at, name in enumerate(columns):
        if name in dids:
            cell = {**words, "fill": COLOURS[dids[name]], "text-anchor": "middle"}
            SubElement(root, "text", cell, x=str(left + COLUMN * at + 6), y=base).text = MARKS[dids[name]][0]
    response = send.final["response"]
    told = f"{response['status'] if response else '---'} {who(send.final)}"
    SubElement(root, "text", words, x=str(left + COLUMN * len(columns) + 10), y=base).text = legal(told)


def page(outcome: Outcome) -> str:
    """One HTML file that needs nothing else."""
    from patient_usher.reports.page import render  # the template engine is wanted here only

    return render(outcome)


FORMATS: dict[str, Callable[[Outcome], str]] = {
    "junit": junit,
    "md": markdown,
    "html": page,
    "json": as_json,
    "svg": svg,
}
"""What ``--report FORMAT=FILE`` may name."""
