"""Show which stages stand before which routes; or, for a method and URL, which of them run, in which
order, and why the others don't.
"""

from __future__ import annotations

import re
from argparse import ArgumentParser, Namespace

from patient_usher.cli.arguments import method, unusable
from patient_usher.cli.common import add_pipeline_arguments, mention, pipeline_of
from patient_usher.core.engine.partition import parted_by, ties
from patient_usher.core.http.urls import parse_url
from patient_usher.core.questions.route_matrix import standing, way
from patient_usher.output.route_matrix import matrix, state_lines, way_view
from patient_usher.output.terminal import stdout_painter

EXAMPLES = ("usher show pipeline.yaml", "usher show pipeline.yaml GET /v1/tides --environment development")


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    add_pipeline_arguments(parser, optional="default", seed=False, always=False, env=False)
    parser.add_argument(
        "--state", action="store_true", help="by which part of requests stages and handlers keep what they remember"
    )
    parser.add_argument("method", metavar="METHOD", type=method, nargs="?", help="GET, POST, ...")
    parser.add_argument("url", metavar="URL", nargs="?", help="a path, or a whole URL")


def run(args: Namespace) -> int:
    """Show. Returns the exit status."""
    pipeline = pipeline_of(args)
    painter = stdout_painter()
    if args.state:
        if args.method is not None:
            raise unusable("--state speaks of all requests", "leave METHOD and URL out", "--state")
        painter.write(state_lines(ties(pipeline.compiled), *parted_by(pipeline.compiled)))
        return 0
    if args.method is None:
        painter.write(matrix(pipeline.compiled, standing(pipeline.compiled)))
        mention(painter, pipeline)
        return 0
    if args.url is None:
        raise unusable("a method is given, but no URL", "write GET /path, say")
    text = (
        args.url
        if re.match(r"[A-Za-z][A-Za-z0-9+.-]*://", args.url)
        else f"https://service.example{args.url if args.url.startswith('/') else '/' + args.url}"
    )
    try:
        url = parse_url(text)
    except ValueError as error:
        raise unusable(f"'{args.url}' is no URL: {error}", "write a path, or a whole URL") from None
    painter.write(way_view(args.method, url.target, way(pipeline.compiled, args.method, url)))
    return 0
