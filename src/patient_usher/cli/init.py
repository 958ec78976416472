"""Write a small commented pipeline and a trace that replays well at once, with schemas for your editor."""

from __future__ import annotations

import json
from argparse import ArgumentParser, Namespace
from pathlib import Path

from patient_usher import starter
from patient_usher.core.model.document import Problem, Spot, Unusable
from patient_usher.files.atomic_write import write_whole
from patient_usher.output.schema import SCHEMAS

FOLDER = Path(starter.__file__).parent


EXAMPLES = ("usher init", "usher init service --flow sequential")


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument(
        "folder", metavar="FOLDER", type=Path, nargs="?", default=Path(), help="where to (default: here)"
    )
    parser.add_argument(
        "--flow",
        choices=["nested", "sequential"],
        default="nested",
        help="nested: a stage wraps what is behind it (default); sequential: stages run one after the other",
    )


def run(args: Namespace) -> int:
    """Write. Returns the exit status."""
    files = {
        "pipeline.yaml": (FOLDER / f"{args.flow}.yaml").read_text(encoding="utf-8"),
        "trace.yaml": (FOLDER / "trace.yaml").read_text(encoding="utf-8"),
        "pipeline.schema.json": json.dumps(SCHEMAS["pipeline"](), indent=1) + "\n",
        "trace.schema.json": json.dumps(SCHEMAS["trace"](), indent=1) + "\n",
    }
    write_new(args.folder, files)
    here = "" if args.folder == Path() else f"{args.folder}/"
    print(f"wrote {', '.join(files)}\n\nNow try:")
    print(f"  usher show {here}pipeline.yaml\n  usher replay {here}pipeline.yaml {here}trace.yaml")
    return 0


def write_new(folder: Path, files: dict[str, str]) -> None:
    """Write files that must not be there yet. Raises Unusable, before anything is written, where one is."""
    there = [folder / name for name in files if (folder / name).exists()]
    if there:
        raise Unusable(
            Problem(Spot(str(path), 1, 1), "this file is there already", "name another folder") for path in there
        )
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise Unusable(
            [Problem(Spot(str(folder), 1, 1), f"the folder can't be made: {error.strerror}", "name another")]
        ) from None
    for name, text in files.items():
        write_whole(folder / name, text)
