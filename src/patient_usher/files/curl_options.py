"""The options of curl: which take a value, which change what a service is sent, and what their words come to."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator


def _words(text: str) -> frozenset[str]:
    return frozenset(text.split())


_SEEN = _words(
    "request header data data-ascii data-raw data-binary data-urlencode json form form-string user cookie user-agent "
    "referer upload-file range continue-at time-cond url url-query request-target oauth2-bearer"
)
"""What takes a value that the service sees."""
_SEEN_FLAGS = _words("head get location location-trusted follow compressed path-as-is globoff form-escape basic next")
_VALUES = _words(
    "abstract-unix-socket alt-svc cacert capath cert cert-type ciphers connect-timeout connect-to cookie-jar "
    "create-file-mode crlfile curves delegation dns-interface dns-ipv4-addr dns-ipv6-addr dns-servers doh-url "
    "dump-header ech egd-file engine etag-save expect100-timeout ftp-account ftp-alternative-to-user ftp-method "
    "ftp-port ftp-ssl-ccc-mode happy-eyeballs-timeout-ms haproxy-clientip help hostpubmd5 hostpubsha256 hsts interface "
    "ip-tos ipfs-gateway keepalive-cnt keepalive-time key key-type knownhosts krb libcurl limit-rate local-port "
    "login-options mail-auth mail-from mail-rcpt max-filesize max-redirs max-time netrc-file noproxy output output-dir "
    "parallel-max parallel-max-host pass pinnedpubkey preproxy proto proto-default proto-redir proxy proxy-cacert "
    "proxy-capath proxy-cert proxy-cert-type proxy-ciphers proxy-crlfile proxy-header proxy-key proxy-key-type "
    "proxy-pass proxy-pinnedpubkey proxy-service-name proxy-tls13-ciphers proxy-tlsauthtype proxy-tlspassword "
    "proxy-tlsuser proxy-user proxy1.0 pubkey quote random-file rate resolve retry retry-delay retry-max-time "
    "sasl-authzid service-name sigalgs socks4 socks4a socks5 socks5-gssapi-service socks5-hostname speed-limit "
    "speed-time stderr telnet-option tftp-blksize tls-max tls13-ciphers tlsauthtype tlspassword tlsuser trace "
    "trace-ascii trace-config unix-socket upload-flags vlan-priority write-out"
)
"""What takes a value that no service sees, or of which a model knows nothing."""
_FLAGS = _words(
    "append ca-native cert-status compressed-ssh create-dirs crlf disable disable-eprt disable-epsv "
    "disallow-username-in-url doh-cert-status doh-insecure dump-ca-embed fail fail-early fail-with-body false-start "
    "ftp-create-dirs ftp-pasv ftp-pret ftp-skip-pasv-ip ftp-ssl-ccc ftp-ssl-control haproxy-protocol http0.9 http1.0 "
    "http1.1 http2 http2-prior-knowledge http3 http3-only ignore-content-length include insecure ipv4 ipv6 "
    "junk-session-cookies list-only mail-rcpt-allowfails manual metalink mptcp netrc netrc-optional no-alpn no-buffer "
    "no-clobber no-keepalive no-npn no-progress-meter no-sessionid out-null parallel parallel-immediate post301 "
    "post302 post303 progress-bar proxy-anyauth proxy-basic proxy-ca-native proxy-digest proxy-http2 proxy-insecure "
    "proxy-negotiate proxy-ntlm proxy-ssl-allow-beast proxy-ssl-auto-client-cert proxy-tlsv1 proxytunnel raw "
    "remote-header-name remote-name remote-name-all remote-time remove-on-error retry-all-errors retry-connrefused "
    "sasl-ir show-error show-headers silent skip-existing socks5-basic socks5-gssapi socks5-gssapi-nec ssl "
    "ssl-allow-beast ssl-auto-client-cert ssl-no-revoke ssl-reqd ssl-revoke-best-effort sslv2 sslv3 styled-output "
    "suppress-connect-headers tcp-fastopen tcp-nodelay tftp-no-options tls-earlydata tlsv1 tlsv1.0 tlsv1.1 tlsv1.2 "
    "tlsv1.3 trace-ids trace-time use-ascii verbose version xattr"
)
CHALLENGED = _words("anyauth digest negotiate ntlm ntlm-wb")
"""By these a user is named only when the service has asked for it: the first request carries no credential."""
_TOLD = _words("aws-sigv4 config etag-compare variable")
"""With a value: what is sent would depend on what isn't known here."""
_TOLD_FLAGS = CHALLENGED | _words("tr-encoding")
_SHORT = {
    "0": "http1.0", "1": "tlsv1", "2": "sslv2", "3": "sslv3", "4": "ipv4", "6": "ipv6", "#": "progress-bar",
    ":": "next", "a": "append", "A": "user-agent", "b": "cookie", "B": "use-ascii", "c": "cookie-jar",
    "C": "continue-at", "d": "data", "D": "dump-header", "e": "referer", "E": "cert", "f": "fail", "F": "form",
    "g": "globoff", "G": "get", "h": "help", "H": "header", "i": "include", "I": "head", "j": "junk-session-cookies",
    "J": "remote-header-name", "k": "insecure", "K": "config", "l": "list-only", "L": "location", "m": "max-time",
    "M": "manual", "n": "netrc", "N": "no-buffer", "o": "output", "O": "remote-name", "p": "proxytunnel",
    "P": "ftp-port", "q": "disable", "Q": "quote", "r": "range", "R": "remote-time", "s": "silent", "S": "show-error",
    "t": "telnet-option", "T": "upload-file", "u": "user", "U": "proxy-user", "v": "verbose", "V": "version",
    "w": "write-out", "x": "proxy", "X": "request", "Y": "speed-limit", "y": "speed-time", "z": "time-cond",
    "Z": "parallel",
}  # fmt: skip
TAKES_VALUE = _SEEN | _VALUES | _TOLD
KNOWN = TAKES_VALUE | _SEEN_FLAGS | _FLAGS | _TOLD_FLAGS
_LISTED = {
    **dict.fromkeys(("data", "data-ascii", "data-raw", "data-binary", "data-urlencode", "json"), "data"),
    "form": "form",
    "form-string": "form",
}


class Transfer:
    """What the words up to ``--next`` ask for. Of options that aren't lists the last value counts.

    ``data`` and ``form``: pieces with the options that they were given by; ``unknown``: what is left out, by how often.
    """

    def __init__(self) -> None:
        self.values: dict[str, str] = {}
        self.lists: dict[str, list[str]] = {}
        self.data: list[tuple[str, str]] = []
        self.form: list[tuple[str, str]] = []
        self.flags: set[str] = set()
        self.unknown: Counter[str] = Counter()

    def all_of(self, name: str) -> list[str]:
        """Every value of an option that may be given several times."""
        return self.lists.get(name, [])

    def take(self, name: str, value: str) -> None:
        """An option with a value."""
        if name in _TOLD:
            self.unknown[f"--{name}"] += 1
        elif name in _LISTED:
            getattr(self, _LISTED[name]).append((name, value))
        elif name in _SEEN:
            self.values[name] = value
            self.lists.setdefault(name, []).append(value)

    def flag(self, name: str) -> None:
        """An option without."""
        if name in _TOLD_FLAGS:
            self.unknown[f"--{name}"] += 1
        self.flags.add(name)


def transfers(words: Iterable[str]) -> Iterator[Transfer]:
    """What each part of a command between ``--next`` asks for. Raises ValueError where a value is missing."""
    found = Transfer()
    rest = iter(words)
    plain = False
    for word in rest:
        if plain or word[:1] != "-" or word == "-":
            found.take("url", word)
            continue
        if word == "--":
            plain = True
            continue
        for name, value in _long(word, rest) if word[:2] == "--" else _short(word, rest):
            if name == "next":
                if found.all_of("url"):  # of a part that names no URL curl takes the next for more
                    yield found
                    found = Transfer()
            elif value is not None:
                found.take(name, value)
            elif name in KNOWN:
                found.flag(name)
            elif name.startswith("no-"):
                found.flags.discard(name[3:])
            else:
                found.unknown[f"--{name}" if len(name) > 1 else f"-{name}"] += 1
    if found.all_of("url"):
        yield found


def _long(word: str, rest: Iterator[str]) -> Iterator[tuple[str, str | None]]:
    name = word[2:]
    if name.startswith("expand-"):
        raise ValueError(f"{word} fills in variables of curl's own; write --{name[7:]}, and what it comes to")
    if name not in KNOWN and not name.startswith("no-"):
        longer = sorted(known for known in KNOWN if known.startswith(name))
        if len(longer) > 1:
            raise ValueError(f"{word} may be any of --{', --'.join(longer[:3])}; write it whole")
        name = longer[0] if longer else name
    yield name, _value(word, rest) if name in TAKES_VALUE else None


def _short(word: str, rest: Iterator[str]) -> Iterator[tuple[str, str | None]]:
    """One or several letters; what stands behind one that takes a value is the value."""
    for at, letter in enumerate(word[1:], 2):
        name = _SHORT.get(letter, letter)
        if name in TAKES_VALUE:
            yield name, word[at:] or _value(f"-{letter}", rest)
            return
        yield name, None


def _value(option: str, rest: Iterator[str]) -> str:
    value = next(rest, None)
    if value is None:
        raise ValueError(f"{option} has no value; write one behind it")
    return value
