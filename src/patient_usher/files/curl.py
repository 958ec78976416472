"""curl commands, as browsers and people copy them, as requests of a trace."""

from __future__ import annotations

import base64
import re
from collections import Counter
from collections.abc import Callable, Iterator
from typing import NamedTuple
from urllib.parse import quote_plus, unquote

from patient_usher.core.http.urls import parse_url, sendable
from patient_usher.core.model.document import JsonObject, Problem, Spot, Unusable
from patient_usher.core.model.header_rules import check_sent
from patient_usher.core.model.text_types import METHOD
from patient_usher.core.model.values import literal
from patient_usher.files.secret_keeper import SecretKeeper

ReadFile = Callable[[str], bytes]

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


_LONG = _words("request header data form user cookie user-agent referer upload-file range url json oauth2-bearer")
_TAKES = {
    **{f"--{name}": name for name in _LONG},
    **{f"--data{sort}": f"data{sort}" for sort in ("-ascii", "-raw", "-binary", "-urlencode")},
    "-X": "request",
    "-H": "header",
    "-d": "data",
    "-F": "form",
    "-u": "user",
    "-b": "cookie",
    "-A": "user-agent",
    "-e": "referer",
    "-T": "upload-file",
    "-r": "range",
}
"""Options with a value that the service sees, by what they are."""
_FLAGS = {
    "-I": "head",
    "-G": "get",
    "-L": "location",
    **{f"--{n}": n for n in ("head", "get", "location", "compressed")},
}
_SKIPPED, _SKIPPED_VALUES = frozenset(_SILENT), frozenset(_SILENT_VALUES)


class _Arguments:
    """What the words of a command say, as curl reads them: of most options the last value counts."""

    def __init__(self, words: list[str]) -> None:
        self.values: dict[str, str] = {}
        self.headers: list[str] = []
        self.data: list[tuple[str, str]] = []
        self.form: list[str] = []
        self.urls: list[str] = []
        self.flags: set[str] = set()
        self.unknown: Counter[str] = Counter()
        rest = iter(words)
        plain = False
        for word in rest:
            if plain or not word.startswith("-") or word == "-":
                self.urls.append(word)
            elif word == "--":
                plain = True
            elif word.startswith("--"):
                self._long(word, rest)
            else:
                self._short(word, rest)

    def _long(self, word: str, rest: Iterator[str]) -> None:
        name, equals, value = word.partition("=")
        if name in _TAKES or name in _SKIPPED_VALUES:
            self._take(name, value if equals else next(rest, None))
        elif name in _FLAGS:
            self.flags.add(_FLAGS[name])
        elif name not in _SKIPPED:
            self.unknown[name] += 1

    def _short(self, word: str, rest: Iterator[str]) -> None:
        """One or several letters; what stands behind one that takes a value is the value."""
        for at in range(1, len(word)):
            name = f"-{word[at]}"
            if name in _TAKES or name in _SKIPPED_VALUES:
                self._take(name, word[at + 1 :] or next(rest, None))
                return
            if name in _FLAGS:
                self.flags.add(_FLAGS[name])
            elif name not in _SKIPPED:
                self.unknown[name if name[1].isalnum() else word] += 1
                if not name[1].isalnum():
                    return

    def _take(self, name: str, value: str | None) -> None:
        if value is None:
            raise ValueError(f"{name} has no value; write one behind it")
        sort = _TAKES.get(name)
        if sort == "header":
            self.headers.append(value)
        elif sort == "form":
            self.form.append(value)
        elif sort == "url":
            self.urls.append(value)
        elif sort in ("data", "json") or (sort or "").startswith("data-"):
            self.data.append(("-json" if sort == "json" else str(sort)[4:], value))
        elif sort is not None:
            self.values[sort] = value


_USERINFO = re.compile(r"([a-z]+://)([^/?#@]*)@")


def commands(text: str, name: str, read_file: ReadFile | None, keeper: SecretKeeper) -> Iterator[Command]:
    """Every curl command of a text. ``read_file`` None: files may not be read. Raises Unusable."""
    for line, words in _split(text, name):
        try:
            yield _command(words, read_file, keeper)
        except (ValueError, OSError) as error:
            what, _, mend = str(error).partition("; ")
            raise Unusable([Problem(Spot(name, line, 1), what, mend or "write it as curl takes it")]) from None


_TOKEN = re.compile(
    r"""(?P<blank>\s+)|\$'(?P<ansi>(?:[^'\\]|\\.)*)'|'(?P<single>[^']*)'|"(?P<double>(?:[^"\\]|\\.)*)\""""
    r"""|\\(?P<escaped>.?)|(?P<plain>[^\s'"\\$]+|\$(?!'))""",
    re.DOTALL,
)
_IN_DOUBLE = re.compile(r'\\([$`"\\\n])')


def _shell_words(text: str) -> list[str]:
    """The words of a line by the rules of sh, in linear time. Raises ValueError where a quote isn't closed."""
    words: list[str] = []
    parts: list[str] | None = None
    at = 0
    while at < len(text):
        found = _TOKEN.match(text, at)
        if found is None:
            raise ValueError("No closing quotation")
        at, sort = found.end(), found.lastgroup
        if sort == "blank":
            if parts is not None:
                words.append("".join(parts))
            parts = None
            continue
        parts = parts if parts is not None else []
        value = found[str(sort)]
        if sort == "ansi":
            value = _CODE.sub(_decoded, value)
        elif sort == "double":
            value = _IN_DOUBLE.sub(lambda m: "" if m[1] == "\n" else m[1], value)
        parts.append("" if sort == "escaped" and value == "\n" else value)
    return words if parts is None else [*words, "".join(parts)]


def _split(text: str, name: str) -> Iterator[tuple[int, list[str]]]:
    """The words of each command that calls curl, by the rules of sh, with the line that it begins on."""
    for number, line in _logical(text):
        if not line.strip() or line.lstrip().startswith("#"):
            continue
        try:
            words = _shell_words(line.removeprefix("$ "))
        except ValueError as error:
            raise Unusable(
                [Problem(Spot(name, number, 1), f"the command can't be read: {error}", "close the quote")]
            ) from None
        words = [word for word in words if word not in (";", "&&", "&")]
        if words and words[0].rpartition("/")[2].removesuffix(".exe") == "curl":
            yield number, words[1:]


_OPENS = re.compile(r"""\\.|\$'|['"]""", re.DOTALL)
_CLOSES = {"'": re.compile("'"), '"': re.compile(r'\\.|"', re.DOTALL), "$'": re.compile(r"\\.|'", re.DOTALL)}


def _logical(text: str) -> Iterator[tuple[int, str]]:
    """Lines, those joined that end in a backslash (or, as some browsers copy, a caret) or within quotes."""
    held: list[str] = []
    start, quote = 1, ""
    for number, line in enumerate(text.splitlines(), 1):
        start = start if held else number
        if not held and line.lstrip().startswith("#"):
            continue
        quote = _quoted(line, quote)
        if quote:
            held.append(line + "\n")
        elif line.endswith(("\\", "^")):
            held.append(line[:-1] + " ")
        else:
            yield start, "".join([*held, line])
            held = []
    if held:
        yield start, "".join(held)


def _quoted(line: str, quote: str) -> str:
    """The quote that is open at the end of a line, where ``quote`` is open at its beginning; nothing for none."""
    at = 0
    while (found := (_CLOSES[quote] if quote else _OPENS).search(line, at)) is not None:
        at = found.end()
        if found[0][0] != "\\":
            quote = "" if quote else found[0]
    return quote


def _decoded(match: re.Match[str]) -> str:
    code = match[1]
    if code[0] in "xuU" and len(code) > 1:
        number = int(code[1:], 16)
        return chr(number) if number < 0x110000 and not 0xD800 <= number < 0xE000 else "\ufffd"
    return chr(int(code, 8)) if code[0] in "01234567" else _LETTERS.get(code, code)


def _command(words: list[str], read_file: ReadFile | None, keeper: SecretKeeper) -> Command:
    args = _Arguments(words)
    if not args.urls:
        raise ValueError("the command names no URL; write curl https://host/path")
    url = args.urls[0] if "://" in args.urls[0] else f"http://{args.urls[0]}"
    if (found_user := _USERINFO.match(url)) is not None:  # curl sends it as Basic
        url = found_user[1] + url[found_user.end() :]
        args.values.setdefault("user", unquote(found_user[2]))
    headers = _headers(args)
    data = _body(args.data, read_file)
    lower = {name.lower(): name for name in headers}
    request: JsonObject = {}
    method = args.values.get("request") or ("HEAD" if "head" in args.flags else None)
    if "get" in args.flags and data is not None:
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
    elif "upload-file" in args.values:
        request["text"] = _file(args.values["upload-file"], read_file)
        method = method or "PUT"
    parsed = parse_url(sendable(url.partition("#")[0]))
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
    return Command(found, parsed.origin, "location" in args.flags, args.unknown)


def _headers(args: _Arguments) -> dict[str, str]:
    found: dict[str, str] = {}
    for text in args.headers:
        name, colon, value = text.partition(":")
        if not colon and text.endswith(";"):
            found[text[:-1].strip()] = ""
        elif colon and value.strip():
            found[name.strip()] = value.strip()
    lower = {name.lower() for name in found}

    def put(name: str, value: str | None) -> None:
        if value is not None and name.lower() not in lower:
            found[name] = value

    given = args.values
    put("User-Agent", given.get("user-agent"))
    put("Referer", given["referer"].removesuffix(";auto") if given.get("referer") else None)
    put("Cookie", given["cookie"] if "=" in given.get("cookie", "") else None)
    put("Range", f"bytes={given['range']}" if given.get("range") else None)
    put("Accept-Encoding", "deflate, gzip, br, zstd" if "compressed" in args.flags else None)
    put("Authorization", f"Bearer {given['oauth2-bearer']}" if given.get("oauth2-bearer") else None)
    if "user" in given:
        pair = given["user"] if ":" in given["user"] else f"{given['user']}:"
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
