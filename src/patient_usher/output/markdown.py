"""Markdown, as a pull request shows it: what a replay came to, and what a comparison did."""

from __future__ import annotations

import re
from html import escape

from patient_usher.output.comparison import (
    GRAVE,
    Compared,
    changes_of,
    headline_of,
    kind_words,
    only_one,
    worked,
)
from patient_usher.output.journey import journeys
from patient_usher.output.outcome import SIGNS, STATEMENT_MARKS, Outcome, headline
from patient_usher.output.redactor import printable
from patient_usher.output.replay_view import complaints, who
from patient_usher.output.terminal import plain

FOLDED = 20
"""How many journeys unfold below the table."""

_MARKS = re.compile(r"[\\`*_\[\]|#~]")


def cell(text: str) -> str:
    """Text in a Markdown table: what Markdown or HTML would take for a mark is escaped."""
    return _MARKS.sub(r"\\\g<0>", escape(printable(text), quote=False)).replace("\n", " ")


def fence(text: str) -> str:
    """What begins and ends a block of code, longer than any run of its marks within."""
    return "`" * max([3, *(len(run) + 1 for run in re.findall("`{3,}", text))])


def _folded(title: str, text: str) -> list[str]:
    marks = fence(text)
    title = escape(printable(title), quote=False)
    return [
        "",
        "<details>",
        f"<summary>{title}</summary>",
        "",
        marks,
        printable(text, lines=True),
        marks,
        "",
        "</details>",
    ]


def markdown(outcome: Outcome) -> str:
    """A headline, what is not as expected in a table, each journey unfolding."""
    odd = [send for send in outcome.sends if send.mark in ("failed", "slipped")]
    out = [f"### {SIGNS[outcome.mark][0]} {cell(headline(outcome))}", "", cell(outcome.title), ""]
    if odd:
        out += ["| | request | what was sent | answer | what is wrong |", "| --- | --- | --- | --- | --- |"]
    for send in odd:
        final = send.final
        checks = "; ".join(plain(pieces).strip() for pieces in complaints(send))
        sent = cell(f"{final.request.method} {final.request.url}")
        answer = f"{final.status or '---'} {cell(who(final))}"
        out.append(f"| {SIGNS[send.mark][0]} | {cell(send.id)} | {sent} | {answer} | {cell(checks)} |")
    statuses = ", ".join(f"{count} × {status}" for status, count in outcome.summary.by_status.items())
    out += ["", f"statuses: {statuses}", ""]
    out += [f"- {SIGNS[STATEMENT_MARKS[one.verdict]][0]} {cell(one.sentence)}" for one in outcome.statements]
    for send in odd[:FOLDED]:
        out += _folded(send.id, "\n".join(plain(pieces) for pieces in journeys(send.records)))
    return "\n".join(out).rstrip() + "\n"


def markdown_comparison(compared: Compared) -> str:
    """A headline, a table of groups, one worked journey of each unfolding."""
    out = [f"### {cell(compared.names[0])} → {cell(compared.names[1])}: {headline_of(compared)}", ""]
    if compared.comparison.changed:
        out += ["| what changes | how | exchanges |", "| --- | --- | --- |"]
    for group in compared.comparison.groups:
        words = kind_words(group.kind)
        for change, ids, count in changes_of(compared, group):
            grave = f"**{words}**" if group.kind in GRAVE else words
            out.append(f"| {grave} | {cell(change)} | {count:,}: {cell(ids)} |")
    out += ["", *(f"- {cell(sentence)}" for sentence in only_one(compared))]
    for group in compared.comparison.groups:
        text = "\n".join(map(plain, worked(compared, group.example)))
        out += _folded(f"{kind_words(group.kind)}: {group.example}", text)
    return "\n".join(out).rstrip() + "\n"
