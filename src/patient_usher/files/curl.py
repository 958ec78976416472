"""curl commands, as browsers and people copy them, as requests of a trace."""

from __future__ import annotations

import base64
import re
from collections import Counter
from collections.abc import Callable, Iterator
from datetime import UTC
from email.utils import parsedate_to_datetime
from itertools import islice, product
from typing import NamedTuple
from urllib.parse import quote, quote_plus, unquote

from patient_usher.core.http.dates import http_date, instant
from patient_usher.core.http.urls import parse_url, sendable
from patient_usher.core.model.document import JsonObject, Problem, Spot, Unusable
from patient_usher.core.model.header_rules import check_sent
from patient_usher.core.model.text_types import METHOD
from patient_usher.core.model.values import literal
from patient_usher.files.body_member import body_member
from patient_usher.files.curl_form import BOUNDARY, multipart
from patient_usher.files.curl_options import CHALLENGED, Transfer, transfers
from patient_usher.files.secret_keeper import SecretKeeper
from patient_usher.files.shell_commands import Simple, Unclosed, commands_of

ReadFile = Callable[[str], bytes]
MOST = 10_000
"""How many requests one URL with braces and ranges may stand for."""
MOST_OCTETS = 64 << 20
"""How much the requests of one command may come to: what is said once may be sent by many."""


class Command(NamedTuple):
    """One request of a command, and what of the command counts for nothing here, by how often.

    ``unfilled``: what a shell would have filled in.
    """

    request: JsonObject
    base: str
    follows: bool
    unknown: Counter[str]
    unfilled: tuple[str, ...] = ()


def commands(text: str, name: str, read_file: ReadFile | None, keeper: SecretKeeper) -> Iterator[Command]:
    """Every request of a text's curl commands. ``read_file`` None: files may not be read. Raises Unusable."""
    line = 1
    try:
        for command in commands_of(text):
            words = _called(command.words)
            if words is None:
                continue
            line = command.line
            yield from _requests(words, command, read_file, keeper)
    except Unclosed as error:
        raise Unusable(
            [Problem(Spot(name, error.line, 1), f"the command can't be read: {error}", "close the quote")]
        ) from None
    except (ValueError, OSError) as error:
        what, _, mend = str(error).partition("; ")
        raise Unusable([Problem(Spot(name, line, 1), what, mend or "write it as curl takes it")]) from None


_BEFORE = frozenset("$ time sudo env exec command nohup then else do if while until ! {".split())  # noqa: SIM905
"""Words in front of a command: a prompt, what calls another, what a shell reserves (2.4)."""
_ASSIGNMENT = re.compile(r"[A-Za-z_]\w*=")


def _called(words: list[str]) -> list[str] | None:
    """The arguments of a command that calls curl."""
    at = 0
    while at < len(words) and (words[at] in _BEFORE or _ASSIGNMENT.match(words[at])):
        at += 1
    if at < len(words) and re.split(r"[/\\]", words[at])[-1].lower().removesuffix(".exe") == "curl":
        return words[at + 1 :]
    return None


class _Files:
    """What a command reads: files, and its input where the text holds that."""

    def __init__(self, read_file: ReadFile | None, text: str | None) -> None:
        self._read, self._text = read_file, text

    def __call__(self, name: str) -> bytes:
        if name == "-":
            if self._text is None:
                raise ValueError("the command reads its standard input; write what it reads into a file")
            text, self._text = self._text, ""  # whoever reads on finds its end
            return text.encode(errors="surrogateescape")
        if self._read is None:
            raise ValueError(f"the command reads the file {name}; if you trust it, give --trust files")
        return self._read(name)


def _requests(words: list[str], command: Simple, read_file: ReadFile | None, keeper: SecretKeeper) -> Iterator[Command]:
    files = _Files(read_file, command.text)
    asked = list(transfers(words))
    if not asked:
        raise ValueError("the command names no URL; write curl https://host/path")
    whole = 0
    for transfer in asked:
        urls = transfer.all_of("url")
        data = _data(transfer.data, files)
        size = sum(map(len, words)) + len(data or b"")
        uploads = transfer.all_of("upload-file")
        unknown, unfilled = transfer.unknown, command.unfilled
        for number, url in enumerate(urls):
            upload = uploads[number] if number < len(uploads) else None
            for one in [url] if "globoff" in transfer.flags else _globbed(url):
                whole += size
                if whole > MOST_OCTETS and whole > size:
                    raise ValueError(f"the requests of the command come to over {MOST_OCTETS >> 20} MiB; write fewer")
                yield _request(transfer, one, data, upload, files, keeper)._replace(unknown=unknown, unfilled=unfilled)
                unknown, unfilled = Counter(), ()


def _request(
    transfer: Transfer, url: str, data: bytes | None, upload: str | None, files: _Files, keeper: SecretKeeper
) -> Command:
    """One request. Raises ValueError where curl would send none."""
    flags, values = transfer.flags, transfer.values
    queries = [_encoded(text, files) if text[:1] != "+" else text[1:].encode() for text in transfer.all_of("url-query")]
    in_query = data is not None and "get" in flags
    if data is not None and in_query:
        queries.append(data)
        data = None
    _one_method(
        {
            "-I": "head" in flags and not in_query,
            "-G": in_query,
            "-d": data is not None,
            "-F": bool(transfer.form),
            "-T": upload is not None,
        }
    )
    said = _said(transfer.all_of("header"), files)
    body, media = data, "application/x-www-form-urlencoded"
    if transfer.form:
        own = next(iter(said["content-type"][1]), "") if "content-type" in said else "multipart/form-data"
        of_form = own.lower().startswith("multipart/form-data")
        body = multipart(transfer.form, files, of_form=of_form, backslashes="form-escape" in flags)
        media = f"multipart/form-data; boundary={BOUNDARY}"
    elif upload is not None:
        body, media = files(upload), ""
    usual = "HEAD" if "head" in flags else "PUT" if upload is not None else "GET" if body is None else "POST"
    method = values.get("request", usual)
    if not METHOD.fullmatch(method):
        raise ValueError(f"{method!r} is no method; write one, as in -X PUT")
    scheme, userinfo, rest = _parts(url)
    rest = rest if upload is None else _with_file_name(rest, upload)
    parsed = parse_url(sendable(f"{scheme}://{_target(rest, queries, as_is='path-as-is' in flags)}"))
    target = values.get("request-target", parsed.target)
    if target[:1] != "/":  # a model is asked for paths
        transfer.unknown["--request-target"] += 1
        target = parsed.target
    headers = _headers(transfer, said, userinfo, body, media)
    check_sent(headers)
    request = _as_entry(f"{method} {keeper.url(target)}", headers, body, keeper)
    follows = bool({"location", "location-trusted", "follow"} & flags)
    return Command(request, parsed.origin, follows, transfer.unknown)


def _one_method(asked: dict[str, bool]) -> None:
    both = [option for option, is_asked in asked.items() if is_asked]
    if len(both) > 1:
        raise ValueError(f"{both[0]} and {both[1]} ask for different methods; leave one of them out")


def _as_entry(send: str, headers: dict[str, list[str]], body: bytes | None, keeper: SecretKeeper) -> JsonObject:
    """The request as a trace has it, its secrets hidden."""
    entry: JsonObject = {"send": literal(send)}
    media = ""
    for name, several in headers.items():
        told = [literal(keeper.field(name, one)) for one in several]
        entry.setdefault("headers", {})[name] = told if len(told) > 1 else told[0]
        media = several[0] if name.lower() == "content-type" else media
    if body is not None:
        entry |= body_member(keeper.body(body, media), media)
    return entry


# URLs.

_UNSENDABLE = re.compile(r"[\x00-\x20\x7f]")
_URL = re.compile(r"(?:([A-Za-z][A-Za-z0-9+.-]*):/{1,3})?([^/?#]*)(.*)", re.DOTALL)


def _parts(url: str) -> tuple[str, str | None, str]:
    """Scheme, what stands before the host, and the rest from the host on."""
    match = _URL.fullmatch(url.partition("#")[0])
    assert match is not None
    userinfo, at, host = match[2].rpartition("@")
    return (match[1] or "http").lower(), userinfo if at else None, host + match[3]


def _target(rest: str, queries: list[bytes], *, as_is: bool) -> str:
    """Host, path and query as they are sent."""
    host, slash, path = re.sub(r"^([^/?]*)(\?|$)", r"\1/\2", rest, count=1).partition("/")
    path, mark, query = (slash + path).partition("?")
    if not as_is:
        path = _without_dots(path)
    query = "&".join([*([query] if query else []), *(more.decode(errors="surrogateescape") for more in queries)])
    found = host + path + (mark or "?" * bool(queries)) + query
    if (bad := _UNSENDABLE.search(found)) is not None:
        raise ValueError(f"curl sends no URL that holds {bad[0]!r}; write %{ord(bad[0]):02X}")
    return found


def _without_dots(path: str) -> str:
    """A path without its dot segments (RFC 3986 5.2.4)."""
    out: list[str] = []
    segments = path.split("/")
    for number, segment in enumerate(segments):
        last = number == len(segments) - 1
        if segment == "..":
            if len(out) > 1:
                out.pop()
            if last:
                out.append("")
        elif segment == ".":
            if last:
                out.append("")
        else:
            out.append(segment)
    return "/".join(out)


def _with_file_name(rest: str, upload: str) -> str:
    """What stands from the host on: a path that ends in a folder names the file that is put there."""
    head, mark, query = rest.partition("?")
    host, _, path = head.partition("/")
    if upload == "-" or (path and not path.endswith("/")):
        return rest
    return f"{host}/{path}{quote(upload.rpartition('/')[2], safe='')}{mark}{query}"


_GLOB = re.compile(
    r"\\(?P<escaped>[{}\[\]])|\{(?P<set>[^{}\[\]]*)\}|\[(?P<from>\d+|[A-Za-z])-(?P<to>\d+|[A-Za-z])(?::(?P<step>\d+))?\]"
    r"|(?P<ipv6>\[[0-9A-Fa-f:.]+(?:%[^\]]*)?\])|(?P<plain>[^\\{}\[\]]+|\\)"
)


def _globbed(url: str) -> Iterator[str]:
    """What a URL with sets and ranges stands for (curl's manual, URL globbing), the last varying quickest."""
    places: list[list[str]] = []
    at, count = 0, 1
    while at < len(url):
        found = _GLOB.match(url, at)
        if found is None:
            raise ValueError(
                f"curl takes {url[at]!r} of a URL for a set or a range; give -g, or write %{ord(url[at]):02X}"
            )
        at = found.end()
        if found["set"] is not None:
            places.append(found["set"].split(","))
        elif found["from"] is not None:
            places.append(_ranged(found["from"], found["to"], int(found["step"] or 1)))
        else:
            places.append([found["escaped"] or found["ipv6"] or found["plain"]])
        count *= len(places[-1])
        if count > MOST:
            raise ValueError(f"the URL stands for over {MOST:,} requests; write fewer")
    return ("".join(parts) for parts in islice(product(*places), MOST))


def _ranged(first: str, last: str, step: int) -> list[str]:
    if first.isdigit() != last.isdigit() or not step:
        raise ValueError(f"[{first}-{last}] is no range; write one, as in [1-9] or [a-z]")
    if first.isdigit():
        numbers = range(int(first), int(last) + 1, step)
        width = len(first) if first[0] == "0" else 0
        found = [str(number).zfill(width) for number in numbers[: MOST + 1]]
    else:
        found = [chr(code) for code in range(ord(first), ord(last) + 1, step)]
    if not found:
        raise ValueError(f"[{first}-{last}] is no range; write the smaller one first")
    return found


# Header fields.


def _said(texts: list[str], files: _Files) -> dict[str, tuple[str, list[str]]]:
    """Fields of ``-H`` by their names in small letters: as they are spelled, and their values; none of one left out."""
    found: dict[str, tuple[str, list[str]]] = {}
    for given in texts:
        for text in files(given[1:]).decode(errors="replace").splitlines() if given[:1] == "@" else [given]:
            name, colon, value = text.partition(":")
            value = value.strip(" \t")
            if not colon:
                name, semicolon, value = text.partition(";")
                if not semicolon or value.strip():
                    continue
            if name.lower() in _FRAMED:
                continue
            _, values = found.setdefault(name.lower(), (name, []))
            if (value or not colon) and not (values and name.lower() == "host"):
                values.append(value)
    return found


def _headers(
    transfer: Transfer, said: dict[str, tuple[str, list[str]]], userinfo: str | None, body: bytes | None, media: str
) -> dict[str, list[str]]:
    """Every field's values. What curl adds by itself gives way to what is said, or said to be left out."""
    found = {name: several for name, several in said.values() if several}

    def put(name: str, value: str | None) -> None:
        if value is not None and name.lower() not in said and name not in found:
            found[name] = [value.strip(" \t")]

    values, flags = transfer.values, transfer.flags
    if any(option == "json" for option, _ in transfer.data):
        put("Accept", "application/json")
        put("Content-Type", "application/json")
    if transfer.form and "content-type" in said:
        name, several = said["content-type"]
        found[name] = [f"{several[0] if several else ''}; boundary={BOUNDARY}"]
    if body is not None:
        put("Content-Type", media or None)
    put("User-Agent", values.get("user-agent") or None)
    put("Referer", values.get("referer", "").removesuffix(";auto") or None)
    put("Cookie", ";".join(one.rstrip() for one in transfer.all_of("cookie") if "=" in one) or None)
    if (ranged := _range(transfer, sends=body is not None)) is not None:
        if body is None:
            put("Range", f"bytes={ranged}")
        elif not transfer.form:
            put("Content-Range", f"bytes {ranged}/{len(body)}")
    put("Accept-Encoding", "deflate, gzip, br, zstd" if "compressed" in flags else None)
    put("Authorization", _credential(transfer, userinfo))
    if (when := values.get("time-cond")) is not None:
        _put_condition(when, put, transfer.unknown)
    return found


_FRAMED = frozenset({"content-length", "transfer-encoding"})
"""How a message is framed is its sender's own: a model's requests have their lengths."""


def _range(transfer: Transfer, *, sends: bool) -> str | None:
    begin = transfer.values.get("continue-at", "-")
    if begin in ("-", "0"):
        return transfer.values.get("range")
    if sends:
        raise ValueError("-C of what is sent isn't read here; leave it out")
    return f"{begin}-"


def _credential(transfer: Transfer, userinfo: str | None) -> str | None:
    if CHALLENGED & transfer.flags:
        return None
    user = transfer.values.get("user")
    if (token := transfer.values.get("oauth2-bearer")) is not None and "basic" not in transfer.flags:
        return f"Bearer {token}"
    pair = user if user is not None else unquote(userinfo) if userinfo else None
    if pair is None:
        return None
    pair = pair if ":" in pair else f"{pair}:"
    return "Basic " + base64.b64encode(pair.encode(errors="surrogateescape")).decode()


def _put_condition(text: str, put: Callable[[str, str | None], None], unknown: Counter[str]) -> None:
    """``-z``: a date, or a file's, of which nothing is known here; a minus in front asks the other way round."""
    name = "If-Unmodified-Since" if text[:1] == "-" else "If-Modified-Since"
    text = text.lstrip("-=+")
    try:
        found = parsedate_to_datetime(text)
    except (ValueError, TypeError):
        unknown["--time-cond"] += 1
        return
    put(name, http_date(instant(found if found.tzinfo is not None else found.replace(tzinfo=UTC))))


# Bodies.


def _data(pieces: list[tuple[str, str]], files: _Files) -> bytes | None:
    """All pieces, joined by ampersands; JSON is put behind what there is as it is."""
    if not pieces:
        return None
    joined: list[bytes] = []
    for option, text in pieces:
        if option == "data-urlencode":
            piece = _encoded(text, files)
        elif text[:1] == "@" and option != "data-raw":
            piece = files(text[1:])
            if option in ("data", "data-ascii"):
                piece = re.sub(rb"[\r\n\0]", b"", piece)
        else:
            piece = text.encode(errors="surrogateescape")
        joined += [b"&", piece] if joined and option != "json" else [piece]
    return b"".join(joined)


def _encoded(text: str, files: _Files) -> bytes:
    """``content``, ``=content``, ``name=content``, ``@file`` or ``name@file``: the content percent-encoded."""
    match = re.match(r"([^=@]*)([=@])", text)
    if match is None:
        return quote_plus(text.encode(errors="surrogateescape")).encode()
    name, sign = match.groups()
    rest = text[match.end() :]
    content = files(rest) if sign == "@" else rest.encode(errors="surrogateescape")
    if sign == "@" and not content:
        return b""
    return (f"{name}=" if name else "").encode(errors="surrogateescape") + quote_plus(content, safe="").encode()
