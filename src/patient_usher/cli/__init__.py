"""The command line: one module a command, found by name and imported when it is used."""

from __future__ import annotations

import gc
import io
import os
import sys

from patient_usher import __version__

TYPE_CHECKING = False
if TYPE_CHECKING:  # importing typing takes as long as all else here
    from typing import Any, TextIO

# No plugin that happens to be installed may run code here or change what a file means; looking for them takes time.
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")

COMMANDS = {
    "start": {
        "demo": "what does this do? Runs the whole story on made-up harbour data",
        "init": "how do I start? Writes a small commented pipeline and trace",
        "import": "how do I get my traffic or my service in? Logs, curl commands, recordings, OpenAPI",
    },
    "look": {
        "show": "which stages stand before which routes? Or: which run for METHOD URL?",
        "send": "what happens to this one request?",
        "replay": "does it all still behave? Replays traces and recordings",
        "accept": "write what happens now into a trace, as what is expected",
    },
    "ask": {
        "check": "what is wrong with this order and these options, and which request proves it?",
        "compare": "which requests change between two pipelines, environments or results?",
        "reorder": "which stages may swap, which must not, and which order explains the answers?",
        "explore": "which outcomes can happen at all, and do the invariants hold in all of them?",
        "sweep": "which quota, which lifetime, how many instances? A trace under every combination",
        "chart": "what did limits, caches, sizes and latency look like over time?",
    },
    "for real": {
        "learn": "may I have a model of the service that I run? Asks it, and writes a pipeline",
        "serve": "what if curl, a browser or my client call it? Answers real requests with the model",
        "drift": "does my real service do what the model says, and where does it differ?",
    },
    "hand on": {
        "export": "how do I hand a saved result on? As a recording (HAR) or as a table",
        "schema": "what may I write here, what do programs read? JSON Schemas",
        "completion": "what a shell needs to complete commands, files, stage and request ids",
    },
}
"""Every command by its group, with the question that it answers; each is a module here."""

QUESTIONS = {name: question for group in COMMANDS.values() for name, question in group.items()}

MODULES = {"import": "importing"}
"""Commands whose name no module can have."""

MOST_PROBLEMS = 50
"""How many things that are wrong are told at once."""

HELP = """\
usage: usher COMMAND ...

A laboratory for HTTP middleware: model a pipeline, walk requests through it on a virtual \
clock, see which stages ran, who answered and why.
{commands}

options:
  --help, -h      show this
  --version, -V   show the version
  --debug         show where a fault of usher's comes from

usher help COMMAND, or usher COMMAND --help, says more. usher help WORD explains a kind of stage (usher help cors), a \
finding (usher help stalls) or a key of a file (usher help busy-for). Start with: usher demo
"""


def main(argv: list[str] | None = None) -> int:
    """Run a command. Returns its exit status: 0 well, 1 not as expected, 2 unusable input, 3 our fault."""
    if argv is None:
        _as_a_process()
        gc.disable()  # until there is something to run: what loads stays, and need not be looked through
    arguments = sys.argv[1:] if argv is None else argv
    debug = "--debug" in arguments
    arguments = [text for text in arguments if text != "--debug"]
    for text in arguments:
        if any("\ud800" <= char <= "\udfff" for char in text):
            _say(f"usher: the argument '{text[:80]}' is no UTF-8 text; write it as UTF-8")
            return 2
    try:
        if "_ARGCOMPLETE" in os.environ:
            from patient_usher.cli.completion import complete

            complete(QUESTIONS)
        if len(arguments) > 1 and arguments[0] == "help" and arguments[1] in QUESTIONS:
            arguments = [arguments[1], "--help"]
        if len(arguments) > 1 and arguments[0] == "help" and not arguments[1].startswith("-"):
            from patient_usher.cli.help import about

            status = about(arguments[1], list(QUESTIONS))
            sys.stdout.flush()
            return status
        if arguments and arguments[0].startswith("--") and len(arguments) > 1:
            from patient_usher.cli.arguments import behind

            arguments = behind(arguments)
        if not arguments or arguments[0] not in QUESTIONS:
            status = _early(arguments)
            sys.stdout.flush()
            return status
        if argv is None:
            _ends_when_told()
        from importlib import import_module

        from patient_usher.cli.arguments import Formatter, Parser, add_display
        from patient_usher.output.terminal import DISPLAY, adjust

        command = import_module(f"patient_usher.cli.{MODULES.get(arguments[0], arguments[0])}")
        parser = Parser(
            prog=f"usher {arguments[0]}",
            description=command.__doc__,
            formatter_class=Formatter,
        )
        command.add_arguments(parser)
        examples = "\n".join(["examples:", *(f"  {example}" for example in command.EXAMPLES)])
        parser.epilog = f"{parser.epilog}\n\n{examples}" if parser.epilog else examples
        add_display(parser)
        parser.shorten()
        args = parser.parse_args(arguments[1:])
        DISPLAY.colour, DISPLAY.plain = args.colour, args.plain
        adjust(sys.stdout, os.environ)
        if getattr(args, "pipeline", "") is None and arguments[0] not in ("check", "chart"):
            from patient_usher.files.trace_paths import default_pipeline

            args.pipeline = default_pipeline()
        if arguments[0] in ("replay", "accept") and not args.traces:
            from patient_usher.files.trace_paths import default_traces

            args.traces = default_traces(args.pipeline)
        if str(getattr(args, "pipeline", "")) == "-":
            from patient_usher.cli.arguments import read_again_by

            read_again_by(args)
        for name in ("traces", "files"):
            if hasattr(args, name):
                from patient_usher.files.trace_paths import expanded

                setattr(args, name, expanded(getattr(args, name)))
        status = int(command.run(args))
        sys.stdout.flush()
        if sys.stdout.isatty():
            from patient_usher.cli import hints

            hints.told(arguments[0], args, status)
        return status
    except SystemExit as end:
        return end.code if isinstance(end.code, int) else 0 if end.code is None else 2
    except BrokenPipeError:  # of a file that is a pipe; standard output is quiet of it
        _abandon_output()
        return 2
    except KeyboardInterrupt:
        return 130
    except Exception as error:
        status = _report(error, debug)
        if isinstance(error, OSError):
            _abandon_output()
        return status


class _Outlet(io.FileIO):
    """Standard output: once nobody reads it any more, what is written goes nowhere, and the status is still told."""

    def write(self, octets: Any) -> int:
        try:
            return super().write(octets) or 0
        except BrokenPipeError:
            _abandon_output()
            return len(octets)


def _as_a_process() -> None:
    """What is only so where the command is a process of its own: its streams, those that are closed leading nowhere."""
    for number, (name, mode) in enumerate((("stdin", "r"), ("stdout", "w"), ("stderr", "w"))):
        if getattr(sys, name) is None:
            os.open(os.devnull, os.O_RDWR)  # takes the lowest number that is free: no file of ours may
            setattr(sys, name, open(number, mode, closefd=False))  # noqa: SIM115
    out = sys.stdout
    if isinstance(out, io.TextIOWrapper) and isinstance(getattr(out.buffer, "raw", out.buffer), io.FileIO):
        out.flush()
        raw = io.BufferedWriter(_Outlet(out.fileno(), "wb", closefd=False), 1 << 16)
        sys.stdout = io.TextIOWrapper(raw, out.encoding, out.errors, line_buffering=out.line_buffering)


def _ends_when_told() -> None:
    """A process of its own that is told to end does so as others that fail: files that are half made go."""
    import signal

    signal.signal(signal.SIGTERM, lambda *_: sys.exit(143))
    if (hangup := getattr(signal, "SIGHUP", None)) is not None and signal.getsignal(hangup) == signal.SIG_DFL:
        signal.signal(hangup, lambda *_: sys.exit(129))  # one that is ignored (nohup) stays so


def _abandon_output() -> None:
    """What is still to be written goes nowhere: nobody reads it, or there is no room."""
    if not _abandon(sys.stdout):
        sys.stdout = open(os.devnull, "w")  # noqa: SIM115


def _abandon(stream: TextIO) -> bool:
    """Let what is written into a stream go nowhere. Returns whether it is one of the system's."""
    try:
        os.dup2(os.open(os.devnull, os.O_WRONLY), stream.fileno())
    except (OSError, ValueError):
        return False
    return True


def _early(arguments: list[str]) -> int:
    """Where no command is named: help, the version, or what might have been meant."""
    word = arguments[0] if arguments else "--help"
    if word == "help" and len(arguments) > 1:
        word = arguments[1]
    if word in ("--help", "-h", "help"):
        import textwrap

        from patient_usher.output.width import terminal_columns

        wide = max(terminal_columns(90), 60)
        groups = (
            f"\n{group}:\n" + "\n".join(_asked(name, wide) for name in named) for group, named in COMMANDS.items()
        )
        for part in HELP.format(commands="\n".join(groups)).splitlines():
            fits = part.startswith("  ") or len(part) <= wide
            print(part if fits else textwrap.fill(part, wide, break_on_hyphens=False))
        return 0
    if word in ("--version", "-V"):
        from patient_usher.output.extras import told

        print(f"patient-usher {__version__}\n{'; '.join(told())}")
        return 0
    from difflib import get_close_matches

    option = word.startswith("-")
    known = ["--help", "--version"] if option else list(QUESTIONS)
    close = get_close_matches(word, known, n=1)
    hint = f"did you mean '{close[0]}'?" if close else f"there are {', '.join(known)}"
    _say(f"usher: there is no {'option' if option else 'command'} '{word}'; {hint}")
    return 2


def _asked(name: str, wide: int) -> str:
    """A command with its question, on as many lines as that takes."""
    import textwrap

    parts = textwrap.wrap(QUESTIONS[name], wide - 13, break_on_hyphens=False)
    return "\n".join(f"  {'' if at else name:<11}{part}" for at, part in enumerate(parts))


def _say(text: object) -> None:
    from patient_usher.files.environment import ENVIRONMENT
    from patient_usher.output.redactor import REDACTOR
    from patient_usher.output.terminal import say

    REDACTOR.watch(ENVIRONMENT.taken)
    try:
        say(str(text))
    except OSError:
        _abandon(sys.stderr)  # nobody can be told; the status still says it


def _report(error: Exception, debug: bool) -> int:
    """Say what is wrong. Returns the exit status: the input's fault, or our own."""
    from patient_usher.core.model.document import Unusable
    from patient_usher.core.model.effects import IllegalEffect

    if isinstance(error, Unusable):
        for problem in error.problems[:MOST_PROBLEMS]:
            _say(problem)
        if len(error.problems) > MOST_PROBLEMS:
            _say(f"... and {len(error.problems) - MOST_PROBLEMS} more")
        return 2
    if isinstance(error, IllegalEffect):
        _say(f"usher: {error}")
        return 2
    if isinstance(error, OSError):
        name = f"{error.filename[:200]}:1:1" if isinstance(error.filename, str) else "standard output"
        _say(f"{name}: {error.strerror or error}; check the path, its permissions and the room on its disk")
        return 2
    if isinstance(error, RecursionError | MemoryError) and not debug:
        _say("usher: the input is nested too deep, or too large, to be worked on; make it smaller")
        return 2
    if debug:
        raise error
    _say(f"usher: a fault of its own: {type(error).__name__}: {error} (--debug shows where)")
    return 3
