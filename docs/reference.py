"""The pages of the reference that are made of the code: whatever the code knows stands there, and nothing else."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Mapping
from importlib import import_module
from pathlib import Path
from typing import Any

os.environ["COLUMNS"] = "90"

import patient_usher.demo
from patient_usher.cli import COMMANDS, MODULES
from patient_usher.cli.arguments import Formatter, Parser, add_display
from patient_usher.core.model import enumerations as words
from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.stages import kinds
from patient_usher.core.verify.exchange_table import COLUMNS
from patient_usher.core.verify.verdict import MARKS
from patient_usher.output.outcome import SIGNS
from patient_usher.output.replay_view import SIGN_OF
from patient_usher.output.schema import SCHEMAS
from patient_usher.output.topic import default, form, said_of

DEMO = Path(patient_usher.demo.__file__).parent


def cell(text: object) -> str:
    """Text as it may stand in a table."""
    return str(text).replace("|", "\\|").replace("\n", " ").replace("<", "&lt;")


def table(head: Iterable[str], rows: Iterable[Iterable[object]]) -> Iterator[str]:
    """A table."""
    yield f"| {' | '.join(head)} |"
    yield f"|{' --- |' * len(list(head))}"
    yield from (f"| {' | '.join(map(cell, row))} |" for row in rows)
    yield ""


def options(properties: Mapping[str, Any], leave: Iterable[str] = ()) -> Iterator[str]:
    """A table of what may be said."""
    left = set(leave)
    rows = [
        (f"`{name}`", form(part), default(part.get("default")), part.get("description", ""))
        for name, part in properties.items()
        if name not in left
    ]
    yield from table(("key", "what", "if left out", "what it says"), rows)


def stage_kinds() -> Iterator[str]:
    """Every kind of stage, with an example of the demo's."""
    yield "# Kinds of stage\n"
    yield "Every stage has these keys, and those of its kind. A kind alone (`access-log`) stands for a stage of that id.\n"
    common = StageOptions.model_json_schema()["properties"]
    yield from options(common)
    definitions = SCHEMAS["pipeline"]()["$defs"]
    lines = [line.strip() for path in sorted(DEMO.glob("*.yaml")) for line in path.read_text().splitlines()]
    for name in kinds():
        yield f"## `{name}`\n"
        yield f"{said_of(name)}\n"
        yield from options(definitions[f"stage-{name}"]["properties"], common)
        example = next((line for line in lines if f"kind: {name}" in line and line.startswith("- {id")), f"- {name}")
        yield f"```yaml\nstages:\n  {example.rstrip(',')}\n```\n"


def trace_keys() -> Iterator[str]:
    """What a request of a trace may say, and what can be expected of it."""
    schema = SCHEMAS["trace"]()
    definitions = schema["$defs"]
    yield "# Keys of a trace\n"
    yield from options(schema["properties"])
    for title, name in (("A request", "request"), ("Expectations", "expect"), ("A change", "change")):
        if name in definitions:
            yield f"## {title}\n"
            yield from options(definitions[name]["properties"])
    for name, part in sorted(definitions.items()):
        if part.get("properties") and name not in ("request", "expect", "change"):
            yield f"## {name}\n"
            yield f"{part.get('description', '')}\n"
            yield from options(part["properties"])


def pipeline_keys() -> Iterator[str]:
    """What a pipeline may say beside its stages."""
    schema = SCHEMAS["pipeline"]()
    yield "# Keys of a pipeline\n"
    yield from options(schema["properties"])
    for name, part in sorted(schema["$defs"].items()):
        if part.get("properties") and not name.startswith(("stage-", "changed-")) and name != "stage":
            yield f"## {name}\n"
            yield f"{part.get('description', '')}\n"
            yield from options(part["properties"])


def commands() -> Iterator[str]:
    """Every command, as its help says it."""
    yield "# Commands\n"
    for group, named in COMMANDS.items():
        yield f"## {group.capitalize()}\n"
        for name, question in named.items():
            module = import_module(f"patient_usher.cli.{MODULES.get(name, name)}")
            parser = Parser(prog=f"usher {name}", description=module.__doc__, formatter_class=Formatter)
            module.add_arguments(parser)
            add_display(parser)
            yield f"### `usher {name}`\n"
            yield f"*{question[:1].upper()}{question[1:]}*\n"
            yield f"```text\n{parser.format_help()}\nexamples:"
            yield from (f"  {example}" for example in module.EXAMPLES)
            yield "```\n"


def documents() -> Iterator[str]:
    """What programs read: every document that a command prints."""
    yield "# Documents that commands print\n"
    yield "`usher schema NAME` prints the JSON Schema of each; files and documents name their version (`result/1`).\n"
    for name, make in SCHEMAS.items():
        if name in ("pipeline", "trace"):
            continue
        schema = make()
        yield f"## {schema['title'].removeprefix('Patient Usher ').capitalize()}\n"
        yield f"{schema.get('description', '')} `usher schema {name}`\n"
        yield from table(("key", "what"), ((f"`{key}`", form(part)) for key, part in schema["properties"].items()))
        for part_name, part in schema["$defs"].items():
            if part.get("properties"):
                yield f"### {part_name} in {name}\n"
                yield f"{part.get('description', '')}\n"
                yield from table(("key", "what"), ((f"`{key}`", form(one)) for key, one in part["properties"].items()))
    yield "## Columns of tables\n"
    yield "`usher replay --into FILE.parquet`, `.csv` or `.jsonl`: one row an exchange.\n"
    yield from table(("column", "what it says"), ((f"`{name}`", column.says) for name, column in COLUMNS.items()))


def signs() -> Iterator[str]:
    """Every sign and every closed word."""
    yield "# Signs and words\n"
    yield "## In a row of a replay\n"
    said = {**words.DID, "raised-out": "raised an error on the way out", "never": "never reached"}
    yield from table(("sign", "the stage"), ((sign, said[did]) for did, (sign, _) in SIGN_OF.items()))
    yield "## The verdict on a request\n"
    yield from table(
        ("sign", "mark", "what it says"), ((SIGNS[mark][0], f"`{mark}`", said) for mark, said in MARKS.items())
    )
    for title, closed in (
        ("How an exchange ends", words.OUTCOMES), ("Why a request was refused", words.WHY),
        ("Why a browser blocked a call", words.BLOCKED), ("What a cache did", words.CACHE_STATES),
    ):  # fmt: skip
        yield f"## {title}\n"
        yield from table(("word", "what it says"), ((f"`{word}`", said) for word, said in closed.items()))
    yield "## Exit statuses\n"
    yield from table(
        ("status", "when"),
        (
            ("0", "all is well"), ("1", "something is not as expected, or not as was asked for"),
            ("2", "the input can't be used: each problem as file:line:column: what is wrong; what would be right"),
            ("3", "a fault of the tool's own"), ("130", "Ctrl-C"), ("143", "it was told to end"),
        ),
    )  # fmt: skip


PAGES = {
    "kinds": stage_kinds, "pipeline-keys": pipeline_keys, "trace-keys": trace_keys, "commands": commands,
    "documents": documents, "signs": signs,
}  # fmt: skip


def write(folder: Path) -> None:
    """All pages, into a folder."""
    folder.mkdir(exist_ok=True)
    for name, make in PAGES.items():
        text = "\n".join(make())
        path = folder / f"{name}.md"
        if not path.exists() or path.read_text() != text:
            path.write_text(text)
