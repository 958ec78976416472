"""curl commands held against the real one: what it sends, and what is read of its command, at random and by hand."""

from __future__ import annotations

import base64
import json
import os
import re
import shutil
import socket
import subprocess
import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from random import Random
from typing import Any, NamedTuple

import pytest
from ruamel.yaml import YAML
from shell_corpus import quoted, word

from conftest import Outcome
from patient_usher.core.model.document import Unusable
from patient_usher.files.curl import MOST_OCTETS, commands
from patient_usher.files.curl_form import BOUNDARY
from patient_usher.files.curl_options import KNOWN, TAKES_VALUE
from patient_usher.files.secret_keeper import SecretKeeper

Usher = Callable[..., Outcome]
HERE = shutil.which("curl") is not None and shutil.which("bash") is not None
VERSION = subprocess.run(["curl", "--version"], capture_output=True, text=True, check=False).stdout if HERE else ""
needs_curl = pytest.mark.skipif(not HERE, reason="curl isn't installed here")
needs_that_curl = pytest.mark.skipif("curl 7.88." not in VERSION, reason="others differ where it counts for nobody")


class Sent(NamedTuple):
    method: str
    target: str
    fields: list[tuple[str, str]]
    body: bytes


class Receiver:
    """Takes whatever comes and writes it down as it came."""

    def __init__(self) -> None:
        self.seen: list[Sent] = []
        self.listening = socket.create_server(("127.0.0.1", 0))
        self.authority = f"127.0.0.1:{self.listening.getsockname()[1]}"
        threading.Thread(target=self._listen, daemon=True).start()

    def _listen(self) -> None:
        while True:
            try:
                connection, _ = self.listening.accept()
            except OSError:
                return
            threading.Thread(target=self._take, args=(connection,), daemon=True).start()

    def _take(self, connection: socket.socket) -> None:
        with connection, connection.makefile("rb") as stream:
            while line := stream.readline():
                fields = []
                while (row := stream.readline().strip()) != b"":
                    name, _, value = row.partition(b":")
                    fields.append((name.decode().lower(), value.strip().decode(errors="replace")))
                named = dict(fields)
                if "expect" in named:
                    connection.sendall(b"HTTP/1.1 100 Continue\r\n\r\n")
                body = stream.read(int(named.get("content-length", 0)))
                if named.get("transfer-encoding") == "chunked":
                    while size := int(stream.readline(), 16):
                        body += stream.read(size)
                        stream.readline()
                    stream.readline()
                method, _, target = line.decode(errors="replace").rpartition(" ")[0].partition(" ")
                self.seen.append(Sent(method, target, fields, body))
                connection.sendall(b"HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n")


@pytest.fixture(scope="module")
def receiver() -> Iterator[Receiver]:
    made = Receiver()
    yield made
    made.listening.close()


def sent_by_curl(receiver: Receiver, command: str, folder: Path) -> list[Sent]:
    receiver.seen.clear()
    environment = {**os.environ, "LC_ALL": "C.UTF-8", "HOME": str(folder)}
    subprocess.run(["bash", "-c", command], cwd=folder, env=environment, capture_output=True, timeout=60, check=False)
    return list(receiver.seen)


def read(command: str, authority: str, folder: Path) -> list[Sent]:
    """What the command is read as, of what goes to this service."""
    found = []
    for one in commands(command, "c", lambda name: (folder / name).read_bytes(), SecretKeeper(keeps=True)):
        request = one.request
        fields = [
            (name.lower(), text.replace("$${", "${"))
            for name, value in request.get("headers", {}).items()
            for text in (value if isinstance(value, list) else [value])
        ]
        method, _, target = request["send"].replace("$${", "${").partition(" ")
        body = base64.b64decode(request["base64"]) if "base64" in request else request.get("text", "").encode()
        if one.base in (f"http://{authority}", f"https://{authority}"):
            found.append(Sent(method, target, fields, body.replace(b"$${", b"${")))
    return found


OWN = {"content-length", "expect", "transfer-encoding", "connection"}
"""Fields that say how a message is sent."""
_ILLEGAL = re.compile(r'[^\x00-\x7f]|[{}|"^`\\<>]')


def target_of(text: str) -> str:
    """A target as the model has it: what no URL may hold is percent-encoded, and an empty query is none."""
    whole = _ILLEGAL.sub(lambda match: "".join(f"%{octet:02X}" for octet in match[0].encode()), text)
    return re.sub("%[0-9a-fA-F]{2}", lambda match: match[0].upper(), whole).removesuffix("?")


def alike(sent: Sent, ours: Sent) -> tuple[Sent, Sent]:
    """Both as they may be compared: without what curl adds by itself unless it is said, their boundaries the same."""
    said = {name for name, _ in ours.fields}
    media = dict(sent.fields).get("content-type", "")
    boundary = media.partition("boundary=")[2] or BOUNDARY
    fields = [
        (name, re.sub(" +; boundary", "; boundary", value.replace(boundary, BOUNDARY)))
        for name, value in sent.fields
        if name not in OWN and (name in said or name not in ("host", "user-agent", "accept"))
    ]
    body = sent.body.replace(boundary.encode(), BOUNDARY.encode())
    return (
        Sent(sent.method, target_of(sent.target), sorted(fields), body),
        Sent(ours.method, target_of(ours.target), sorted(ours.fields), ours.body),
    )


# At random.

LETTERS = "abAB01 -_.~=&@;<>:/?+%\"'\\$é,!*()[]{}|^`#\t"
FIELDS = [
    "a",
    "b",
    "X-One",
    "X-Two",
    "x-one",
    "Content-Type",
    "User-Agent",
    "Accept",
    "Cookie",
    "Referer",
    "Authorization",
    "Accept-Language",
    "Host",
]
PARTS = [
    "f=@body.txt", "f=<body.txt", "f=@body.txt;type=text/csv", "f=@body.txt;filename=other.txt", "a=b;type=text/plain",
    'é"x=1', 'f=@body.txt;type=text/csv;filename="q;x.csv"', 'a="x;y"', "f=@d/up.json", "f=@body.html", "a=b ;type=a/b",
    "f=@body.bin", "=x", "f=@body.txt;type=text/plain; charset=utf-8", "a=b;type=text/plain;charset=utf-8", 'a"b=c',
    "a\\b=c", 'f=@body.txt;filename="q\\"x.csv"', 'f=@"body.txt"', "f=@body.txt;filename=a b.txt;type=image/png", "a= b",
    "a=b;c=d", 'a="b;c";type=a/b', "f=@body.txt;type=text/x;format=flowed;filename=z.txt", "f=@body.txt;TYPE=a/b",
    "f=<d/up.json;type=application/json", "f=@body.txt; filename= z ", "a=b;filename=n.png",
]  # fmt: skip
PATHS = [
    "", "", "/", "/a", "/a/", "/a/../b", "/a/./b", "/é", "/a%2fb", "/%41", "/a;b", "/a=b", "/a+b", "//a", "/a/../../c", "/{a,b}",
    "/[1-3]", "/{a,b}/[08-10]", "/[a-e:2]", "/\\{x", "/[0-10:5]", "/{a}",
]  # fmt: skip
QUERIES = ["", "", "?", "?b=c", "?b=c&d", "?q=é", "?a=%20b", "?x=a/../b", "?a?b"]
FLAGS = [
    "-G", "--get", "-I", "--head", "--compressed", "-s", "-sS", "-k", "-v", "-m 5", "--max-time 5", "-o /dev/null", "-i", "-f",
    "--connect-timeout 3", "-4", "--http1.1", "-N", "-#", '-w "%{http_code}"', "--no-progress-meter", "--path-as-is", "--next",
    "--next", "-g", "--form-escape", "-sSXPOST", "-sLI", "-skd x", "-sXPUT -i", "-sm5", '-LsH "X-C: 1"', "-vu a:b",
    "--no-compressed", '--heade "P: q"', "--refere http://x.example/", "--user-a z", "-H @heads.txt", "-C 0",
]  # fmt: skip
INPUTS = ["-d @-", "--data-binary @-", "--data-urlencode n@-", "-d@-"]


def one_of(*values: str) -> Callable[[Random], str]:
    return lambda random: random.choice(values)


def text_of(random: Random, letters: str = LETTERS + "\n") -> str:
    text = word(random, letters)
    return "@body.txt" if text[:1] == "@" else text


def field_of(random: Random) -> str:
    name, value = random.choice(FIELDS), word(random, LETTERS)
    return random.choice([f"{name}: {value}", f"{name}:{value}", f"{name};", f"{name}:", f"{name}:  {value}  ", name])


VALUES: list[tuple[str, str, Callable[[Random], str]]] = [
    ("-X", "--request", one_of("GET", "POST", "PUT", "PATCH", "DELETE", "OPTIONS", "HEAD")),
    *[("-H", "--header", field_of)] * 3,
    *[("-d", "--data", text_of)] * 2,
    ("", "--data-ascii", text_of),
    ("", "--data-raw", lambda random: word(random, LETTERS + "\n")),
    ("", "--data-binary", text_of),
    ("", "--data-urlencode", lambda random: random.choice([word(random, "ab é&+%/~-._*!"), "=" + word(random, LETTERS), "n=" + word(random, LETTERS), "n@body.txt", "@body.txt", "a b=c d"])),
    ("", "--json", one_of('{"a":1}', "[1,", "2]", "@body.txt")),
    *[("-F", "--form", one_of(*PARTS))] * 4,
    ("-F", "--form", lambda random: "a=z" + word(random, LETTERS)),
    ("", "--form-string", lambda random: "a=" + word(random, LETTERS)),
    ("-u", "--user", lambda random: random.choice(["maren:made-up", "maren:", "odile:a:b", word(random, "abé:%@ ") + ":x"])),
    *[("-b", "--cookie", lambda random: random.choice(["a=1", "b=2; c=3", "c=" + word(random, 'ab"%,é '), "=x", "a=1;"]))] * 2,
    ("-A", "--user-agent", lambda random: random.choice(["harbour/8", "", word(random, LETTERS)])),
    ("-e", "--referer", one_of("https://x.example/", "", ";auto", "https://x.example/;auto")),
    ("-r", "--range", one_of("0-9", "5-", "-3", "0-1,4-5")),
    ("-T", "--upload-file", one_of("body.txt", "d/up.json", "body.bin")),
    ("", "--oauth2-bearer", one_of("made-up")),
    ("", "--url-query", one_of("a=b", "q=a b&c", "+x=y", "b c", "=z", "n@body.txt")),
    ("-z", "--time-cond", one_of("2031-01-01", "-1 Jan 2031 10:00:00 GMT", "Wed, 01 Jan 2031 00:00:00 GMT", "no date")),
    ("", "--request-target", one_of("/x", "/y?z")),
]  # fmt: skip


def option_of(random: Random) -> str:
    if random.random() < 0.35:
        return random.choice(FLAGS)
    short, long, value = random.choice(VALUES)
    text = value(random)
    if short and text and random.random() < 0.2:
        return short + quoted(random, text)
    return f"{random.choice([short or long, long])} {quoted(random, text)}"


def url_of(random: Random, authority: str) -> str:
    scheme = random.choice(["http://", "http://", "", "HTTP://"])
    user = random.choice(["", "", "maren:made-up@", "odile@", "a%20b:c%40d@"])
    whole = (
        scheme + user + authority + random.choice(PATHS) + random.choice(QUERIES) + random.choice(["", "", "#f", "#"])
    )
    return random.choice(["", "", "--url "]) + quoted(random, whole)


def command_of(random: Random, authority: str) -> str:
    words = [option_of(random) for _ in range(random.randrange(5))]
    words += [url_of(random, authority) for _ in range(random.choice([1] * 8 + [2]))]
    held = random.random() < 0.1
    if held:
        words.append(random.choice(INPUTS))
    random.shuffle(words)
    command = f"curl {' '.join(words)}"
    if not held or "{" in command or "[" in command:  # of several requests only the first would have the input
        return command.replace("@-", "@body.txt")
    return random.choice([f"{command} <<'EOF'\nheld \"x\" é\n two\nEOF\n", f"cat <<EOF | {command}\na=b\nEOF\n"])


REFUSED_BY_BOTH = re.compile("different methods|is no media type|holds|may be any of|of a URL for a set|names no URL")
"""Of some commands curl itself sends nothing; of some, what they ask besides isn't read, which is told."""
OF_CURL_ONLY = re.compile("header field name|-C of what|form within a form|several files in one part")


def quirky(command: str) -> bool:
    """What this curl does otherwise than it says: a URL to which parameters are added loses its dots though they
    should stay, and of two options that add some only one does.
    """
    adds = ["-G" in command or "--get" in command, "--url-q" in command]
    return any(adds) and ("--path-as-is" in command or all(adds))


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    made = tmp_path_factory.mktemp("curl")
    (made / "d").mkdir()
    (made / "body.txt").write_text("one\ntwo é&=\n")
    (made / "d" / "up.json").write_text('{"a": 1}')
    (made / "body.html").write_text("<p>")
    (made / "body.bin").write_bytes(b"\x00\xff\xfe\r\n")
    (made / "heads.txt").write_text("X-Of: file\nX-Two:  b \n")
    return made


@needs_that_curl
@pytest.mark.parametrize("seed", range(int(os.environ.get("USHER_CURL_LAWS", 2))))
def test_commands_at_random_are_read_as_curl_sends_them(receiver: Receiver, folder: Path, seed: int) -> None:
    sent_at_all = 0
    for number in range(100):
        command = command_of(Random(seed * 1_000 + number), receiver.authority)
        if quirky(command):
            continue
        sent = sent_by_curl(receiver, command, folder)
        try:
            ours = read(command, receiver.authority, folder)
        except Unusable as error:
            what = str(error)
            nothing_sent = not sent or "--next" in command  # curl sends what it may
            assert OF_CURL_ONLY.search(what) or (nothing_sent and REFUSED_BY_BOTH.search(what)), (command, what)
            continue
        if len(sent) == len(ours):
            pairs = [alike(*pair) for pair in zip(sent, ours, strict=True)]
            assert [one for one, _ in pairs] == [other for _, other in pairs], command
            sent_at_all += len(pairs)
        else:
            assert (sent, ours) == ([], []), command
    assert sent_at_all > 60


@needs_curl
def test_every_option_of_curl_is_known_with_its_value_or_without() -> None:
    told = subprocess.run(["curl", "--help", "all"], capture_output=True, text=True, check=True).stdout
    listed = re.findall(r"^ *(?:-\S, )?--(\S+)( <| \[)?", told, re.MULTILINE)
    assert len(listed) > 200
    assert len({name for name, _ in listed} - KNOWN) < 10  # of a newer curl's
    assert {name for name, value in listed if value} & KNOWN == {name for name, _ in listed} & TAKES_VALUE


# By hand.

CURL = [
    "curl URL/a", "curl 'URL/a?b=c&d=e'", "curl -XPUT URL/a", "curl URL/a -H'X-One: 1' -H 'X-Two: 2'", 'curl URL/a -H "X-Quoted: a \\"b\\""', "curl URL/a -H 'X-Empty;'",
    "curl URL/a -H 'Accept:'", "curl URL/a -d a=b -d c=d", "curl URL/a --data-raw '@not-a-file'", "curl URL/a --data-binary 'one\ntwo'", "curl -X POST URL/a -d ''",
    "curl $'URL/a' --data-raw $'it\\'s \\u0041'", "curl URL/a \\\n  -H 'X-Next: line'", "curl URL/a -H 'X-Dollar: $HOME'", "curl URL/a --data-raw 'a=${b}'", "curl URL/a -d 'a=b' -H 'Content-Type:'",
    "curl URL/a -H 'X: 1' -H 'x: 2'", "curl URL/a -b a=1 -b b=2", "curl URL/a | cat", "curl URL/a > out; curl URL/b", "A=b curl URL/a && curl URL/c", "for a in 1; do curl URL/a; done",
    "curl URL/{a,b}/[1-2]", "curl URL/a URL/b -d x", "curl URL/a -d x --next URL/b", "curl --noproxy a.example URL/a", "curl -d @- URL/a <<E\nx\ny\nE", "curl -T body.txt URL/d/", "curl -T - URL/a <<E\nx\nE", "curl URL/a/../b --digest -u a:b",
]  # fmt: skip


@needs_curl
@pytest.mark.parametrize("command", CURL)
def test_a_command_is_read_as_curl_sends_it(receiver: Receiver, folder: Path, command: str) -> None:
    whole = command.replace("URL", f"http://{receiver.authority}")
    sent, ours = sent_by_curl(receiver, whole, folder), read(whole, receiver.authority, folder)
    pairs = [alike(*pair) for pair in zip(sent, ours, strict=True)]
    assert pairs
    assert [one for one, _ in pairs] == [other for _, other in pairs]


READ = [
    ("curl https://api.example/a", "GET /a", {}), ("curl -XPOST https://api.example/a", "POST /a", {}), ("curl -u a:b https://api.example/", "GET /", {"Authorization": "Basic YTpi"}),
    ("curl api.example/a", "GET /a", {}), ("curl https://api.example/a --compressed", "GET /a", {"Accept-Encoding": "deflate, gzip, br, zstd"}),
    ('curl ^"https://api.example/a?b=c^&d=e^" ^\r\n  -H ^"A: \\^"b\\^"^"\r\n', "GET /a?b=c&d=e", {"A": '"b"'}), ("curl.exe https://api.example/a", "GET /a", {}), ("/usr/bin/curl -s https://api.example/a", "GET /a", {}),
]  # fmt: skip


@pytest.mark.parametrize(("command", "send", "headers"), READ)
def test_what_a_command_means(command: str, send: str, headers: dict[str, str]) -> None:
    (found,) = commands(command, "c", None, SecretKeeper(keeps=True))
    assert (found.request["send"], found.request.get("headers", {})) == (send, headers)


COPIED = [json.loads(line) for line in (Path(__file__).parent / "copied.jsonl").read_text().splitlines()]
"""What the developer tools of a Firefox and a Chromium write for requests at random, for sh and for cmd."""


@pytest.mark.parametrize("row", COPIED)
def test_what_a_browser_copies_is_what_it_sent(row: dict[str, Any]) -> None:
    (sent,) = read(row["command"], "api.ternharbour.example", Path())
    headers = [(name.lower(), value) for name, value in row["headers"].items()]
    assert (sent.method, sent.fields, sent.body.decode()) == (row["method"], headers, row["body"])
    assert target_of(sent.target) == target_of(row["target"])


REFUSED = [
    ("curl", "names no URL"), ("curl https://a.example/ -d", "-d has no value"), ("curl -I -d x https://a.example/", "-I and -d ask for different methods"), ("curl https://a.example/ --data-b x --dat x", "may be any of"),
    ("curl 'https://a.example/?filter[name]=x'", "%5B"), ("curl 'https://a.example/[1-99999]'", "over 10,000"), ("curl 'https://a.example/[9-1]'", "is no range"), ("curl 'https://a.example/a b'", "%20"), ("curl https://a.example/ -X 'A B'", "is no method"),
    ("curl https://a.example/ -d @-", "standard input"), ("curl https://a.example/ -F x", "has no value"), ("curl https://a.example/ -F 'a=@b,c'", "one -F for each"), ("curl https://a.example/ -F 'a=b;type=x'", "no media type"),
    ("curl https://a.example/ --expand-data x", "variables of curl's own"), ("curl https://a.example/ -d @x", "--trust files"), ("curl https://a.example/ -F 'a=(b'", "form within a form"), ("curl https://a.example/ -F 'a=b;headers=x'", "headers="),
    ("curl -C 5 -d x https://a.example/", "-C of what is sent"), ("echo\ncurl 'https://a.example/", "c:2:1"), ("curl ftp://a.example/", "https"), ("curl https://a.example/ -H 'A b: c'", "field name"),
]  # fmt: skip


@pytest.mark.parametrize(("command", "why"), REFUSED)
def test_a_command_that_cannot_be_read_is_told(command: str, why: str) -> None:
    with pytest.raises(Unusable) as error:
        list(commands(command, "c", None, SecretKeeper(keeps=True)))
    assert why in str(error.value)


def test_a_command_that_stands_for_more_than_there_is_room_for_is_refused() -> None:
    text = f"curl 'https://a.example/[1-9999]' -d {'x' * (MOST_OCTETS // 5_000)}"
    with pytest.raises(Unusable, match="write fewer"):
        list(commands(text, "c", None, SecretKeeper(keeps=True)))


def test_what_is_left_out_or_not_filled_in_is_told(usher: Usher) -> None:
    text = 'curl https://api.example/a --digest -u a:b --aws-sigv4 x -H "X-Trip: $TRIP" --made-up-option --request-target "*"\n'
    outcome = usher("import", "c.txt", "--into", "t.yaml", c__txt=text)
    assert outcome.status == 0
    for told in (
        "--digest",
        "--aws-sigv4",
        "--made-up-option",
        "--request-target",
        "not filled in, as a shell would: $TRIP",
    ):
        assert told in outcome.out, outcome.out


def test_what_is_not_filled_in_gives_nothing_away(usher: Usher) -> None:
    text = 'curl "https://api.example/a?b=${B:-hunter22hunter}" -H "X-C: $(echo hunter22hunter) `echo hunter22hunter` $D"\n'
    outcome = usher("import", "c.txt", "--into", "t.yaml", c__txt=text)
    assert (outcome.status, "a shell would: $B, $(...), $D" in outcome.out, "hunter22" in outcome.out) == (
        0,
        True,
        False,
    )


def test_commands_become_a_trace_with_their_secrets_hidden(usher: Usher, tmp_path: Path) -> None:
    text = "curl https://api.example/a -H 'Authorization: Bearer made-up-token' -b 's=1' --made-up-option\n# a note\n$ curl -L https://api.example/b\n"
    outcome = usher("import", "c.txt", "--into", "t.yaml", c__txt=text)
    trace = YAML(typ="safe", pure=True).load(tmp_path / "t.yaml")
    assert (outcome.status, "--made-up-option" in outcome.out) == (0, True)
    assert [entry["send"] for entry in trace["requests"]] == ["GET /a", "GET /b"]
    assert "made-up-token" not in str(trace)
    assert trace["requests"][1]["caller"] == "follower"


@pytest.mark.parametrize("allowed", [False, True])
def test_files_are_read_only_where_that_is_allowed(usher: Usher, tmp_path: Path, allowed: bool) -> None:
    text = "curl https://api.example/a -d @body.txt\n"
    outcome = usher(
        "import", "c.txt", "--into", "t.yaml", *(["--trust", "files"] if allowed else []), c__txt=text, body__txt="a=b"
    )
    assert outcome.status == (0 if allowed else 2)
    assert ("a=b" in (tmp_path / "t.yaml").read_text()) if allowed else ("--trust", "files" in outcome.err)
