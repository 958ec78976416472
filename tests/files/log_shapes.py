"""Lines of logs as the run state writes them, each with what it means: written before the reader, by their formats' manuals.

Unless a row says otherwise, a line means GET /v1/tides?station=tern at 2031-05-01T08:00:00Z from 192.0.2.7, answered 200.
``took`` is in microseconds.
"""

from __future__ import annotations

import json
from typing import Any, NamedTuple

PLAIN: dict[str, Any] = {
    "at": "2031-05-01T08:00:00Z", "method": "GET", "target": "/v1/tides?station=tern", "status": 200, "address": "192.0.2.7",
}  # fmt: skip
T = "01/May/2031:08:00:00 +0000"
R = '"GET /v1/tides?station=tern HTTP/1.1"'
ISO = "2031-05-01T08:00:00Z"
EPOCH = 1935388800
AGENT = {"agent": "buoy/1 (page 8)"}


class Shape(NamedTuple):
    """A log of one sort: its text, and what differs from the plain meaning of its first line. ``more``: options."""

    name: str
    text: str
    means: dict[str, Any]
    more: tuple[str, ...] = ()


def js(**members: Any) -> str:
    return json.dumps(members)


SHAPES = [
    # Servers.
    Shape("common", f"192.0.2.7 - - [{T}] {R} 200 52", {}),
    Shape("combined", f'192.0.2.7 - maren [{T}] {R} 200 52 "https://boaters.example/" "buoy/1 (page 8)"', {"user": "maren", "referrer": "https://boaters.example/", **AGENT}),
    Shape("combined, no agent", f'192.0.2.7 - - [{T}] {R} 200 52 "-" "-"', {}),
    Shape("other zone", f"192.0.2.7 - - [01/May/2031:10:00:00 +0200] {R} 200 52", {}),
    Shape("fractions in brackets", f"192.0.2.7 - - [01/May/2031:08:00:00.250 +0000] {R} 200 52", {"at": "2031-05-01T08:00:00.250000Z"}),
    Shape("virtual host first", f'api.ternharbour.example:443 192.0.2.7 - - [{T}] {R} 200 52 "-" "buoy/1 (page 8)"', {"host": "api.ternharbour.example", **AGENT}),
    Shape("virtual host, no port", f"api.ternharbour.example 192.0.2.7 - - [{T}] {R} 200 52", {"host": "api.ternharbour.example"}),
    Shape("seconds behind", f'192.0.2.7 - - [{T}] {R} 200 52 "-" "buoy/1 (page 8)" 0.123', {"took": 123_000, **AGENT}),
    Shape("named seconds behind", f'192.0.2.7 - - [{T}] {R} 200 52 "-" "buoy/1 (page 8)" rt=0.123 urt="0.120"', {"took": 123_000, **AGENT}),
    Shape("milliseconds behind", f'192.0.2.7 - - [{T}] {R} 200 52 "-" "buoy/1 (page 8)" 123ms', {"took": 123_000, **AGENT}),
    Shape("forwarded behind", f'10.0.0.1 - - [{T}] {R} 200 52 "-" "buoy/1 (page 8)" "192.0.2.7"', AGENT),
    Shape("forwarded list behind", f'10.0.0.1 - - [{T}] {R} 200 52 "-" "buoy/1 (page 8)" "192.0.2.7, 10.0.0.2"', AGENT),
    Shape("forged list behind", f'10.0.0.1 - - [{T}] {R} 200 52 "-" "buoy/1 (page 8)" "203.0.113.9, 192.0.2.7"', AGENT),
    Shape("list first", f"192.0.2.7, 10.0.0.2 - - [{T}] {R} 200 52", {}),
    Shape("address with port", f"192.0.2.7:50123 - - [{T}] {R} 200 52", {}),
    Shape("version 6", f"2001:db8::7 - - [{T}] {R} 200 52", {"address": "2001:db8::7"}),
    Shape("version 6 with port", f"[2001:db8::7]:50123 - - [{T}] {R} 200 52", {"address": "2001:db8::7"}),
    Shape("mapped address", f"::ffff:192.0.2.7 - - [{T}] {R} 200 52", {}),
    Shape("time first", f'[{T}] 192.0.2.7 {R} 200 52 "-" "buoy/1 (page 8)"', AGENT),
    Shape("ISO time first", f"{ISO} 192.0.2.7 {R} 200 52", {}),
    Shape("ISO in brackets", f"192.0.2.7 - - [2031-05-01T08:00:00+00:00] {R} 200 52", {}),
    Shape("ISO with a blank", f"2031-05-01 08:00:00,250 INFO access 192.0.2.7 {R} 200", {"at": "2031-05-01T08:00:00.250000Z"}),
    Shape("epoch first", f"{EPOCH}.250 192.0.2.7 {R} 200 52", {"at": "2031-05-01T08:00:00.250000Z"}),
    Shape("epoch milliseconds", f"{EPOCH}250 192.0.2.7 {R} 200 52", {"at": "2031-05-01T08:00:00.250000Z"}),
    Shape("no version", f'192.0.2.7 - - [{T}] "GET /v1/tides?station=tern" 200 52', {}),
    Shape("single quotes", f"192.0.2.7 - - [{T}] 'GET /v1/tides?station=tern HTTP/1.1' 200 52", {}),
    Shape("no quotes", f"{ISO} 192.0.2.7 GET /v1/tides?station=tern HTTP/1.1 200 52 0.123", {"took": 123_000}),
    Shape("HTTP/2", f'192.0.2.7 - - [{T}] "GET /v1/tides?station=tern HTTP/2.0" 200 52', {}),
    Shape("whole URL", f'192.0.2.7 - - [{T}] "GET https://api.ternharbour.example/v1/tides?station=tern HTTP/1.1" 200 52', {"target": "https://api.ternharbour.example/v1/tides?station=tern"}),
    Shape("application server", f'INFO:     192.0.2.7:50123 - {R} 200 OK {ISO}', {}),
    Shape("Python application server", f'192.0.2.7 - - [{T}] {R} 200 52 "-" "buoy/1 (page 8)" 123456us', {"took": 123_456, **AGENT}),
    Shape("development server", f'192.0.2.7 - - [01/May/2031 08:00:00] {R} 200 -', {}),
    # Balancers and proxies.
    Shape("balancer: times and statuses first", f'https {ISO.replace("Z", ".250Z")} app/front/1 192.0.2.7:50123 10.0.0.5:80 0.001 0.120 0.002 200 200 34 366 "GET https://api.ternharbour.example:443/v1/tides?station=tern HTTP/1.1" "buoy/1 (page 8)" ECDHE TLSv1.2', {"at": "2031-05-01T08:00:00.250000Z", "target": "https://api.ternharbour.example:443/v1/tides?station=tern", "took": 123_000, **AGENT}),
    Shape("balancer: timers with slashes", f'May  1 08:00:00 front balancer[17]: 192.0.2.7:50123 [01/May/2031:08:00:00.250] http-in back/b1 1/0/2/120/123 200 366 - - ---- 1/1/0/0/0 0/0 {R}', {"at": "2031-05-01T08:00:00.250000Z", "took": 123_000}),
    Shape("proxy: bracketed time, durations in milliseconds", f'[{ISO.replace("Z", ".250Z")}] {R} 200 - 0 366 123 120 "192.0.2.7" "buoy/1 (page 8)" "req-1" "api.ternharbour.example" "10.0.0.5:80"', {"at": "2031-05-01T08:00:00.250000Z", **AGENT}),
    Shape("edge cache", f'{ISO} edge7 192.0.2.7 HIT {R} 200 52 "buoy/1 (page 8)"', AGENT),
    # Syslog and containers.
    Shape("syslog, old", f'<134>May  1 08:00:03 front web: 192.0.2.7 - - [{T}] {R} 200 52 "-" "buoy/1 (page 8)"', AGENT),
    Shape("syslog, old, no priority", f"May  1 08:00:03 front web[17]: 192.0.2.7 - - [{T}] {R} 200 52", {}),
    Shape("syslog, new", f'<134>1 2031-05-01T08:00:03.250Z front web 17 - - 192.0.2.7 - - [{T}] {R} 200 52', {}),
    Shape("syslog, new, its time alone", f'<134>1 {ISO.replace("Z", ".250Z")} front web 17 - [id@1 a="b"] 192.0.2.7 {R} 200 52', {"at": "2031-05-01T08:00:00.250000Z"}),
    Shape("journal", f"2031-05-01T08:00:03+0000 front web[17]: 192.0.2.7 - - [{T}] {R} 200 52", {}),
    Shape("container, text", f"2031-05-01T08:00:03.123456789Z stdout F 192.0.2.7 - - [{T}] {R} 200 52", {}),
    Shape("container, text, its time alone", f"2031-05-01T08:00:00.123456789Z stdout F 192.0.2.7 {R} 200 52", {"at": "2031-05-01T08:00:00.123456Z"}),
    Shape("container, JSON", js(log=f"192.0.2.7 - - [{T}] {R} 200 52\n", stream="stdout", time="2031-05-01T08:00:03.1Z"), {}),
    Shape("container, JSON, its time alone", js(log=f"192.0.2.7 {R} 200 52\n", stream="stdout", time="2031-05-01T08:00:00.25Z"), {"at": "2031-05-01T08:00:00.250000Z"}),
    Shape("shipped, message inside", js(message=f"192.0.2.7 - - [{T}] {R} 200 52", host={"name": "front"}, **{"@timestamp": "2031-05-01T08:00:03Z"}), {}),
    Shape("pod name in front", f"web-5d9c | 192.0.2.7 - - [{T}] {R} 200 52", {}),
    # JSON.
    Shape("JSON, flat", js(time=ISO, method="GET", uri="/v1/tides?station=tern", status=200, remote_addr="192.0.2.7", http_user_agent="buoy/1 (page 8)", request_time=0.123), {"took": 123_000, **AGENT}),
    Shape("JSON, strings", js(time_local=T, request="GET /v1/tides?station=tern HTTP/1.1", status="200", remote_addr="192.0.2.7", request_time="0.123", http_host="api.ternharbour.example"), {"took": 123_000, "host": "api.ternharbour.example"}),
    Shape("JSON, camel case", js(timestamp=ISO, httpMethod="GET", path="/v1/tides", queryString="station=tern", statusCode=200, sourceIp="192.0.2.7", userAgent="buoy/1 (page 8)"), AGENT),
    Shape("JSON, dotted", js(**{"@timestamp": ISO, "http.request.method": "GET", "url.path": "/v1/tides", "url.query": "station=tern", "http.response.status_code": 200, "client.ip": "192.0.2.7", "user_agent.original": "buoy/1 (page 8)", "event.duration": 123_000_000}), {"took": 123_000, **AGENT}),
    Shape("JSON, nested", js(**{"@timestamp": ISO, "http": {"request": {"method": "GET"}, "response": {"status_code": 200}}, "url": {"path": "/v1/tides", "query": "station=tern"}, "source": {"ip": "192.0.2.7"}, "event": {"duration": 123_000_000}}), {"took": 123_000}),
    Shape("JSON, request an object", js(ts=EPOCH + 0.25, request={"method": "GET", "uri": "/v1/tides?station=tern", "host": "api.ternharbour.example", "remote_ip": "192.0.2.7", "headers": {"User-Agent": ["buoy/1 (page 8)"]}}, duration=0.123, status=200), {"at": "2031-05-01T08:00:00.250000Z", "host": "api.ternharbour.example", "took": 123_000, **AGENT}),
    Shape("JSON, cloud balancer", js(timestamp=ISO, httpRequest={"requestMethod": "GET", "requestUrl": "https://api.ternharbour.example/v1/tides?station=tern", "status": 200, "remoteIp": "192.0.2.7", "userAgent": "buoy/1 (page 8)", "latency": "0.123s"}), {"target": "https://api.ternharbour.example/v1/tides?station=tern", "took": 123_000, **AGENT}),
    Shape("JSON, milliseconds named", js(time=EPOCH * 1000 + 250, level=30, req={"method": "GET", "url": "/v1/tides?station=tern", "remoteAddress": "192.0.2.7"}, res={"statusCode": 200}, responseTime=123, msg="request completed"), {"at": "2031-05-01T08:00:00.250000Z", "took": 123_000}),
    Shape("JSON, duration_ms", js(ts=ISO, verb="GET", path="/v1/tides?station=tern", code=200, ip="192.0.2.7", duration_ms=123.4), {"took": 123_400}),
    Shape("JSON, unit in the text", js(ts=ISO, method="GET", path="/v1/tides?station=tern", status=200, client="192.0.2.7:50123", latency="123.4ms"), {"took": 123_400}),
    Shape("JSON, forwarded", js(time=ISO, method="GET", path="/v1/tides?station=tern", status=200, remote_addr="10.0.0.1", http_x_forwarded_for="203.0.113.9, 192.0.2.7"), {}),
    Shape("JSON, an array", "[" + js(time=ISO, method="GET", path="/v1/tides?station=tern", status=200, ip="192.0.2.7") + ",\n" + js(time=ISO, method="GET", path="/x", status=200, ip="192.0.2.7") + "]", {}),
    Shape("JSON, query an object", js(time=ISO, method="GET", path="/v1/tides", query={"station": "tern"}, status=200, ip="192.0.2.7"), {}),
    # logfmt, CSV, W3C.
    Shape("logfmt", f'time={ISO} level=info method=GET path="/v1/tides?station=tern" status=200 remote=192.0.2.7 duration=123ms', {"took": 123_000}),
    Shape("logfmt, router", f'{ISO} front[router]: at=info method=GET path="/v1/tides?station=tern" host=api.ternharbour.example fwd="192.0.2.7" dyno=web.1 connect=1ms service=123ms status=200 bytes=52', {"host": "api.ternharbour.example", "took": 123_000}),
    Shape("CSV", f"timestamp,client_ip,method,path,status,duration_ms\n{ISO},192.0.2.7,GET,/v1/tides?station=tern,200,123", {"took": 123_000}),
    Shape("CSV, semicolons, quoted", f'time;request;status;remote_addr\n"{ISO}";"GET /v1/tides?station=tern HTTP/1.1";200;192.0.2.7', {}),
    Shape("TSV", f"time\tmethod\turl\tstatus\tip\n{ISO}\tGET\t/v1/tides?station=tern\t200\t192.0.2.7", {}),
    Shape("W3C", "#Version: 1.0\n#Fields: date time c-ip cs-method cs-uri-stem cs-uri-query sc-status time-taken cs(User-Agent)\n2031-05-01 08:00:00 192.0.2.7 GET /v1/tides station=tern 200 0.123 buoy/1+(page+8)", {"took": 123_000, **AGENT}),
    Shape("W3C, tabs", "#Version: 1.0\n#Fields: date\ttime\tc-ip\tcs-method\tcs-uri\tsc-status\n2031-05-01\t08:00:00\t192.0.2.7\tGET\t/v1/tides?station=tern\t200", {}),
    Shape("W3C, quoted strings", '#Version: 1.0\n#Fields: date time c-ip cs-method cs-uri sc-status cs(User-Agent)\n2031-05-01 08:00:00 192.0.2.7 GET /v1/tides?station=tern 200 "buoy/1 (page 8)"', AGENT),
    Shape("W3C, day of its own", "#Version: 1.0\n#Date: 2031-05-01 07:00:00\n#Fields: time c-ip cs-method cs-uri sc-status\n08:00:00 192.0.2.7 GET /v1/tides?station=tern 200", {}),
    Shape("W3C, fractions", "#Version: 1.0\n#Fields: date time c-ip cs-method cs-uri-stem cs-uri-query sc-status cs-host\n2031-05-01 08:00:00.25 192.0.2.7 GET /v1/tides station=tern 200 api.ternharbour.example", {"at": "2031-05-01T08:00:00.250000Z", "host": "api.ternharbour.example"}),
    # What the user names.
    Shape("named members", js(when=ISO, what={"how": "GET", "where": "/v1/tides?station=tern"}, answered=200, whom="192.0.2.7"), {}, ("--fields", "at=when,method=what.how,target=what.where,status=answered,address=whom")),
    Shape("a pattern", f"tide7|GET|/v1/tides?station=tern|{ISO}|200|192.0.2.7|123ms", {"took": 123_000}, ("--pattern", r"^\w+\|(?P<method>[A-Z]+)\|(?P<target>[^|]+)\|(?P<at>[^|]+)\|(?P<status>\d+)\|(?P<address>[^|]+)\|(?P<took>\S+)")),
]  # fmt: skip

NONE = [
    "nothing of a log", f"192.0.2.7 - - [{T}] \"-\" 408 0", f'192.0.2.7 - - [{T}] "\\x16\\x03\\x01" 400 0', f"192.0.2.7 - - [yesterday] {R} 200 52",
    f"{ISO} started worker 17", f'{ISO} 192.0.2.7 "OPTIONS * HTTP/1.1" 200 0', f"{ISO} error while answering 192.0.2.7", js(message="hello", time=ISO), js(time=ISO, method="GET"),
    f'{ISO} took 200 ms to read "GET"', f"time={ISO} msg=started", f'192.0.2.7 - - [99/May/2031:08:00:00 +0000] {R} 200 52',
]  # fmt: skip
"""Lines that say nothing of a request, or not when."""
