"""``replay --coverage``: what a trace has made happen of all that can, and requests for the rest."""

from __future__ import annotations

import os
import sys
from argparse import Namespace

from patient_usher.cli.batch import Batch
from patient_usher.core.analysis.coverage import Coverage
from patient_usher.core.analysis.coverage_gaps import closings
from patient_usher.files.atomic_write import append_request
from patient_usher.output.coverage import covered
from patient_usher.output.terminal import stdout_painter
from patient_usher.use_cases.session import sends


def cover(args: Namespace, batch: Batch) -> int:
    """Count, print, and write what is missing where that is asked for. Returns 1 below the wanted share."""
    coverage = Coverage(batch.pipeline)
    for world, prepared in batch.worlds():
        for send, _, _ in sends(world, prepared):
            coverage.add(send)
    closing = closings(batch.pipeline, coverage.missing, batch.traces[0].base)
    requests = [request for one in closing for request in one.requests]
    if args.format == "json":
        from patient_usher.output.result import dump

        sys.stdout.buffer.write(dump(coverage.document(requests)) + b"\n")
    else:
        stdout_painter(dict(os.environ)).write([[], *covered(coverage, closing)])
    if args.write_missing is not None:
        for request in requests:
            append_request(args.write_missing, request, None)
        print(f"wrote {len(requests)} requests to {args.write_missing}", file=sys.stderr)
    wanted = args.coverage_at_least
    return 1 if wanted is not None and coverage.percent < wanted else 0
