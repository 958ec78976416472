"""The verdict on a request: one of four marks, judged here and nowhere else.

``failed``: a check, or a statement that must always hold, did not. ``slipped``: it hung, crashed or was answered twice,
and nobody expected that. ``held``: something was expected, and it was so. ``none``: nothing was expected.
"""

from __future__ import annotations

from collections.abc import Sequence

from patient_usher.core.engine.replay import Send
from patient_usher.core.model.enumerations import SLIPS
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.verify.expectations import Check

MARKS = {
    "held": "as expected",
    "none": "nothing expected",
    "slipped": "hung, crashed or answered twice, which nobody expected",
    "failed": "not as expected",
}
"""Every mark, in the words that people are shown."""


def mark_of(send: Send, checks: Sequence[Check], broken: Sequence[str] = ()) -> str:
    """The mark of a send, from its checks and the names of the statements that it broke."""
    if broken or (checks and any(not check.ok for check in checks)):
        return "failed"
    for x in send.exchanges:
        if x.outcome in SLIPS and slips_of(send, checks):
            return "slipped"
    return "held" if checks else "none"


def slips_of(send: Send, checks: Sequence[Check]) -> list[str]:
    """What came of a send that nobody can have wanted, as outcomes; not what was expected in so many words."""
    return [x.outcome for x in send.exchanges if x.outcome in SLIPS and not _expected(x, checks)]


def _expected(x: Exchange, checks: Sequence[Check]) -> bool:
    before = "preflight " if x.kind == "preflight" else ""
    named = {check.what for check in checks if check.ok}
    crash = x.outcome == "crashed" and x.answered_by == "server"
    return f"{before}outcome" in named or (crash and f"{before}answered-by" in named)


def fails(mark: str, *, strict: bool = False) -> bool:
    """Whether a mark counts as a failure; ``strict``: a slip does too."""
    return mark == "failed" or (strict and mark == "slipped")
