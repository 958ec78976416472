"""The reports that ``--report FORMAT=FILE`` may name: what makes each of a replay's outcome, and of a comparison.

The one list of them. A format's module is imported when it is first made.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from patient_usher.output.comparison import Compared
    from patient_usher.output.outcome import Outcome


class Report(NamedTuple):
    """Where a format is made: the module beside this one, and its functions for a replay and a comparison."""

    module: str
    of_replay: str
    of_comparison: str


REPORTS = {
    "junit": Report("junit", "junit", "junit_comparison"),
    "md": Report("markdown", "markdown", "markdown_comparison"),
    "html": Report("page", "page", "comparison_page"),
    "json": Report("result", "result_json", "comparison_json"),
    "svg": Report("svg", "picture_of", "picture_of_comparison"),
}


def replay_report(form: str, outcome: Outcome) -> str:
    """What came of a replay, in a format."""
    return _made(form, REPORTS[form].of_replay, outcome)


def comparison_report(form: str, compared: Compared) -> str:
    """What changes between two, in a format."""
    return _made(form, REPORTS[form].of_comparison, compared)


def _made(form: str, function: str, of: object) -> str:
    from patient_usher.output.terminal import at_full_width

    module = import_module(f"{__package__}.{REPORTS[form].module}")
    made: str = at_full_width(getattr(module, function))(of)
    return made
