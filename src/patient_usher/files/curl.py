"""curl commands, as browsers and people copy them, as requests of a trace."""

from __future__ import annotations

import base64
import re
import shlex
from argparse import Action, ArgumentError, ArgumentParser, Namespace
from collections import Counter
from collections.abc import Callable, Iterator
from typing import Any, NamedTuple, NoReturn
from urllib.parse import quote_plus, unquote

from patient_usher.core.http.urls import parse_url
from patient_usher.core.model.document import Json, JsonObject, Problem, Spot, Unusable
from patient_usher.core.model.header_rules import check_sent
from patient_usher.core.model.text_types import METHOD
from patient_usher.core.model.values import literal
from patient_usher.files.secret_keeper import SecretKeeper

ReadFile = Callable[[str], bytes]

_ANSI = re.compile(r"\$'((?:[^'\\]|\\.)*)'", re.DOTALL)
_CODE = re.compile(r"\\(x[0-9A-Fa-f]{1,2}|u[0-9A-Fa-f]{1,4}|U[0-9A-Fa-f]{1,8}|[0-7]{1,3}|.)", re.DOTALL)
_LETTERS = {"n": "\n", "t": "\t", "r": "\r", "a": "\a", "b": "\b", "f": "\f", "v": "\v", "e": "\x1b", "E": "\x1b"}


def _words(text: str) -> list[str]:
    return text.split()


_SILENT = _words(
    "-s --silent -S --show-error -v --verbose -k --insecure -f --fail -N --no-buffer -i --include -# --progress-bar "
    "--http1.0 --http1.1 --http2 --http3 -4 --ipv4 -6 --ipv6 -g --globoff -O --remote-name -q --fail-with-body "
    "--tlsv1.2 --tlsv1.3 --path-as-is --no-progress-meter -n --netrc"
)
"""Options without a value that change nothing of what a model sees."""
_SILENT_VALUES = _words(
    "-o --output -w --write-out -m --max-time --connect-timeout -x --proxy --cacert -E --cert --key --resolve --retry "
    "--retry-delay -c --cookie-jar -D --dump-header --interface --limit-rate --ciphers -K --config --trace --stderr"
)
"""Those with one."""


class Command(NamedTuple):
    """One command as a request, and what of it counts for nothing here, by how often."""

    request: JsonObject
    base: str
    follows: bool
    unknown: Counter[str]


class _Parser(ArgumentParser):
    def error(self, message: str) -> NoReturn:
        raise ValueError(message)


class _Data(Action):
    """Keeps each piece of a body with the sort of option that gave it, in order."""

    def __init__(self, *args: Json, sort: str, **more: Any) -> None:
        super().__init__(*args, **more)
        self.sort = sort

    def __call__(self, parser: Any, namespace: Namespace, value: Json, option: str | None = None) -> None:
        namespace.data = [*namespace.data, (self.sort, value)]


_USERINFO = re.compile(r"([a-z]+://)([^/?#@]*)@")


def _parser() -> _Parser:
    parser = _Parser(add_help=False, allow_abbrev=False, exit_on_error=False)
    add = parser.add_argument
    add("-X", "--request")
    add("-H", "--header", action="append", default=[])
    for sort in ("", "-ascii", "-raw", "-binary", "-urlencode"):
        short = ["-d"] if not sort else []
        add(*short, f"--data{sort}", action=_Data, dest="data", sort=sort, default=[])
    add("--json", action=_Data, dest="data", sort="-json", default=[])
    add("-F", "--form", action="append", default=[])
    add("-u", "--user")
    add("-b", "--cookie")
    add("-A", "--user-agent")
    add("-e", "--referer")
    add("-I", "--head", action="store_true")
    add("-G", "--get", action="store_true")
    add("-L", "--location", action="store_true")
    add("--compressed", action="store_true")
    add("-T", "--upload-file")
    add("-r", "--range")
    add("--oauth2-bearer")
    add("--url", action="append", default=[])
    add("words", nargs="*", default=[])
    add(*_SILENT, action="store_true", dest="silent")
    add(*_SILENT_VALUES, dest="silent_value")
    return parser


def commands(text: str, name: str, read_file: ReadFile | None, keeper: SecretKeeper) -> Iterator[Command]:
    """Every curl command of a text. ``read_file`` None: files may not be read. Raises Unusable."""
    for line, words in _split(text, name):
        try:
            yield _command(words, read_file, keeper)
        except (ValueError, ArgumentError, OSError) as error:
            what, _, mend = str(error).partition("; ")
            raise Unusable([Problem(Spot(name, line, 1), what, mend or "write it as curl takes it")]) from None


def _split(text: str, name: str) -> Iterator[tuple[int, list[str]]]:
    """The words of each command that calls curl, by the rules of sh, with the line that it begins on."""
    for number, line in _logical(text):
        if not line.strip() or line.lstrip().startswith("#"):
            continue
        try:
            words = shlex.split(_ANSI.sub(lambda m: shlex.quote(_CODE.sub(_decoded, m[1])), line.removeprefix("$ ")))
        except ValueError as error:
            raise Unusable(
                [Problem(Spot(name, number, 1), f"the command can't be read: {error}", "close the quote")]
            ) from None
        words = [word for word in words if word not in (";", "&&", "&")]
        if words and words[0].rpartition("/")[2].removesuffix(".exe") == "curl":
            yield number, words[1:]


def _logical(text: str) -> Iterator[tuple[int, str]]:
    """Lines, those joined that end in a backslash (or, as some browsers copy, a caret) or within quotes."""
    held, start = "", 1
    for number, line in enumerate(text.splitlines(), 1):
        start = start if held else number
        held += line
        if line.endswith(("\\", "^")):
            held = held[:-1] + " "
            continue
        try:
            shlex.split(_ANSI.sub("x", held))
        except ValueError:
            held += "\n"
            continue
        yield start, held
        held = ""
    if held:
        yield start, held


def _decoded(match: re.Match[str]) -> str:
    code = match[1]
    if code[0] in "xuU" and len(code) > 1:
        return chr(int(code[1:], 16))
    return chr(int(code, 8)) if code[0] in "01234567" else _LETTERS.get(code, code)


def _command(words: list[str], read_file: ReadFile | None, keeper: SecretKeeper) -> Command:
    args, rest = _parser().parse_known_args(words)
    unknown = Counter(word for word in rest if word.startswith("-"))
    urls = [*args.url, *args.words, *(word for word in rest if not word.startswith("-"))]
    if not urls:
        raise ValueError("the command names no URL; write curl https://host/path")
    url = urls[0] if "://" in urls[0] else f"http://{urls[0]}"
    if (found_user := _USERINFO.match(url)) is not None:  # curl sends it as Basic
        url = found_user[1] + url[found_user.end() :]
        args.user = args.user if args.user is not None else unquote(found_user[2])
    headers = _headers(args)
    data = _body(args.data, read_file)
    lower = {name.lower(): name for name in headers}
    request: JsonObject = {}
    method = args.request or ("HEAD" if args.head else None)
    if args.get and data is not None:
        url += ("&" if "?" in url else "?") + data
        data = None
    if args.form:
        content, media = _multipart(args.form, read_file)
        headers.setdefault("Content-Type", media)
        request["text"] = content
    elif data is not None:
        media = (
            "application/json" if any(sort == "-json" for sort, _ in args.data) else "application/x-www-form-urlencoded"
        )
        if "content-type" not in lower:
            headers["Content-Type"] = media
        if media == "application/json" and "accept" not in lower:
            headers["Accept"] = "application/json"
        request["text"] = data
    elif args.upload_file:
        request["text"] = _file(args.upload_file, read_file)
        method = method or "PUT"
    parsed = parse_url(url.partition("#")[0])
    method = method or ("POST" if "text" in request else "GET")
    if not METHOD.fullmatch(method):
        raise ValueError(f"{method!r} is no method; write one, as in -X PUT")
    found: JsonObject = {"send": literal(f"{method} {keeper.url(parsed.target)}")}
    if headers:
        check_sent(headers)
        found["headers"] = {name: literal(keeper.field(name, value)) for name, value in headers.items()}
    if "text" in request:
        media = next((value for name, value in headers.items() if name.lower() == "content-type"), "")
        octets = request["text"].encode(errors="surrogateescape")
        found["text"] = literal(keeper.body(octets, media).decode(errors="surrogateescape"))
    return Command(found, parsed.origin, args.location, unknown)


def _headers(args: Namespace) -> dict[str, str]:
    found: dict[str, str] = {}
    for text in args.header:
        name, colon, value = text.partition(":")
        if not colon and text.endswith(";"):
            found[text[:-1].strip()] = ""
        elif colon and value.strip():
            found[name.strip()] = value.strip()
    lower = {name.lower() for name in found}

    def put(name: str, value: str | None) -> None:
        if value is not None and name.lower() not in lower:
            found[name] = value

    put("User-Agent", args.user_agent)
    put("Referer", args.referer.removesuffix(";auto") if args.referer else None)
    put("Cookie", args.cookie if args.cookie and "=" in args.cookie else None)
    put("Range", f"bytes={args.range}" if args.range else None)
    put("Accept-Encoding", "deflate, gzip, br, zstd" if args.compressed else None)
    put("Authorization", f"Bearer {args.oauth2_bearer}" if args.oauth2_bearer else None)
    if args.user is not None:
        pair = args.user if ":" in args.user else f"{args.user}:"
        put("Authorization", "Basic " + base64.b64encode(pair.encode()).decode())
    return found


def _body(data: list[tuple[str, str]], read_file: ReadFile | None) -> str | None:
    """All pieces, joined by ampersands; JSON pieces as they are."""
    if not data:
        return None
    pieces = []
    for sort, text in data:
        if sort == "-urlencode":
            pieces.append(_encoded(text, read_file))
        elif text.startswith("@") and sort != "-raw":
            content = _file(text[1:], read_file)
            pieces.append(content if sort in ("-binary", "-json") else re.sub(r"[\r\n\0]", "", content))
        else:
            pieces.append(text)
    return ("" if all(sort == "-json" for sort, _ in data) else "&").join(pieces)


def _encoded(text: str, read_file: ReadFile | None) -> str:
    """``content``, ``=content``, ``name=content``, ``@file`` or ``name@file``: the content percent-encoded."""
    match = re.match(r"([^=@]*)([=@])", text)
    if match is None:
        return quote_plus(text, safe="")
    name, sign = match.groups()
    content = text[match.end() :]
    content = _file(content, read_file) if sign == "@" else content
    return (f"{name}=" if name else "") + quote_plus(content, safe="")


def _file(name: str, read_file: ReadFile | None) -> str:
    if read_file is None:
        raise ValueError(f"the command reads the file {name}; if you trust it, give --trust files")
    return read_file(name).decode(errors="surrogateescape")


_BOUNDARY = "made-up-boundary-of-the-import"


def _multipart(parts: list[str], read_file: ReadFile | None) -> tuple[str, str]:
    """RFC 7578: each part with its name; files by their content."""
    out = []
    for part in parts:
        name, _, value = part.partition("=")
        value, *options = value.split(";")
        kind = next((option.partition("=")[2] for option in options if option.startswith("type=")), None)
        head = f'Content-Disposition: form-data; name="{name}"'
        if value[:1] in ("@", "<"):
            content = _file(value[1:], read_file)
            head += f'; filename="{value[1:].rpartition("/")[2]}"' if value[0] == "@" else ""
        else:
            content = value
        head += f"\r\nContent-Type: {kind}" if kind else ""
        out.append(f"--{_BOUNDARY}\r\n{head}\r\n\r\n{content}\r\n")
    return "".join(out) + f"--{_BOUNDARY}--\r\n", f"multipart/form-data; boundary={_BOUNDARY}"
