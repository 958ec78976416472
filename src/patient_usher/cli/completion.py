"""Print what a shell needs to complete commands, options, files, stage ids and request ids.

Where it goes:
  bash  eval "$(usher completion bash)"  in ~/.bashrc
  zsh   eval "$(usher completion zsh)"  in ~/.zshrc
  fish  usher completion fish > ~/.config/fish/completions/usher.fish
"""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from collections.abc import Callable, Iterable
from importlib import import_module
from pathlib import Path

from patient_usher.cli import MODULES

SHELLS = ("bash", "zsh", "fish")


EXAMPLES = ('eval "$(usher completion bash)"', "usher completion fish > ~/.config/fish/completions/usher.fish")


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument("shell", metavar="SHELL", choices=SHELLS, help="bash, zsh or fish")


def run(args: Namespace) -> int:
    """Print the shell's part. Returns the exit status."""
    from argcomplete.shell_integration import shellcode

    print(shellcode(["usher"], shell=args.shell), end="")
    return 0


def complete(commands: Iterable[str]) -> None:
    """Answer a shell that asks what could come next: ends the process."""
    import argcomplete

    parser = ArgumentParser(prog="usher")
    parser.add_argument("--version", action="store_true")
    under = parser.add_subparsers()
    for name in commands:
        module = import_module(f"patient_usher.cli.{MODULES.get(name, name)}")
        command = under.add_parser(name)
        module.add_arguments(command)
        for action in command._actions:
            completer = _BY_DESTINATION.get(action.dest)
            if completer is not None:
                action.completer = completer  # type: ignore[attr-defined]
    argcomplete.autocomplete(parser, always_complete_options=False)


def _quietly(find: Callable[..., Iterable[str]]) -> Callable[..., list[str]]:
    """What can't be read has nothing to offer."""

    def completer(parsed_args: Namespace, **more: object) -> list[str]:
        try:
            return list(find(parsed_args))
        except Exception:
            return []

    return completer


def _requests(args: Namespace) -> Iterable[str]:
    from patient_usher.files.trace import Trace

    traces = getattr(args, "traces", None) or [args.trace]
    for path in traces:
        doc = Trace.read(Path(path)).document()
        yield from (str(entry["id"]) for entry in doc["requests"] if isinstance(entry, dict) and "id" in entry)


def _stages(args: Namespace) -> Iterable[str]:
    from patient_usher.use_cases.session import load

    pipeline = load(Path(getattr(args, "pipeline", None) or args.a))
    for id_, options in pipeline.compiled.options.items():
        yield from (
            f"{id_}.{field.alias or name}=" for name, field in type(options).model_fields.items() if name != "id"
        )


def _environments(args: Namespace) -> Iterable[str]:
    from patient_usher.use_cases.session import load

    return ["production", *load(Path(getattr(args, "pipeline", None) or args.a)).compiled.spec.environments]


_BY_DESTINATION: dict[str, Callable[..., list[str]]] = {
    "only": _quietly(_requests),
    "environment": _quietly(_environments),
    "set": _quietly(_stages),
    **{f"{side}_environment": _quietly(_environments) for side in "ab"},
    **{f"{side}_set": _quietly(_stages) for side in "ab"},
}
"""What completes an option's value, by where it is stored."""
