"""The reports that ``--report FORMAT=FILE`` may name, each a function of what came of it. The one list of them."""

from __future__ import annotations

from collections.abc import Callable

from patient_usher.output.comparison import Compared
from patient_usher.output.junit import junit, junit_comparison
from patient_usher.output.markdown import markdown, markdown_comparison
from patient_usher.output.outcome import Outcome
from patient_usher.output.page import comparison_page, page
from patient_usher.output.result import comparison_json, result_json
from patient_usher.output.svg import picture_of, picture_of_comparison
from patient_usher.output.terminal import at_full_width

OF_REPLAYS: dict[str, Callable[[Outcome], str]] = {
    "junit": at_full_width(junit),
    "md": at_full_width(markdown),
    "html": at_full_width(page),
    "json": result_json,
    "svg": picture_of,
}
OF_COMPARISONS: dict[str, Callable[[Compared], str]] = {
    "md": at_full_width(markdown_comparison),
    "html": at_full_width(comparison_page),
    "json": comparison_json,
    "junit": junit_comparison,
    "svg": picture_of_comparison,
}
