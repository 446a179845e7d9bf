"""HAProxy on loopback, driven by good and bad requests; its log as it is, and field by field.

    python tools/real/haproxy.py FOLDER

Needs Debian's package haproxy. Writes `haproxy.log` in the form of syslog, and of the same requests once more
`haproxy.fields`, where the server itself sets a bar between the fields.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

from sending import send

PORT = 8190
CLOSE = b"Connection: close\r\n\r\n"
CONFIG = """
global
  log stdout format {form} local0
defaults
  mode http
  log global
  {http}
  timeout client 1s
  timeout server 1s
  timeout connect 300ms
  retries 1
frontend quay
  bind 127.0.0.1:{port}
  bind ::1:{port}
  capture request header Host len 40
  capture request header User-Agent len 60
  capture response header X-Berth len 20
  http-request deny if {{ path /closed }}
  http-request tarpit if {{ path /slow }}
  http-request redirect location /tide if {{ path /moved }}
  http-request auth realm quay if {{ path /secret }}
  use_backend gone if {{ path_beg /gone }}
  default_backend stills
backend stills
  cookie BERTH insert indirect
  server berth1 127.0.0.1:{inner} cookie b1
backend gone
  server berth9 127.0.0.1:1
frontend tide
  no log
  bind 127.0.0.1:{inner}
  http-request return status 200 content-type text/plain string low hdr X-Berth "4 | {{low}}"
frontend pumps
  mode tcp
  {tcp}
  bind 127.0.0.1:{raw}
  default_backend pumphouse
backend pumphouse
  mode tcp
  server berth9 127.0.0.1:1 check inter 200ms fall 1
"""
HTTP = "log-format %ci|%f|%b|%s|%TR|%Tw|%Tc|%ST|%B|%CC|%CS|%tsc|%hrl|%hsl|%r"
TCP = "log-format %ci|%f|%b|%s|%B|%ts|tcp"
REQUESTS: tuple[bytes, ...] = (
    b"GET / HTTP/1.1\r\nHost: tide.example\r\nUser-Agent: harbour/1.0\r\n",
    b"GET /tide?x='or'1=1-- HTTP/1.1\r\nHost: a\r\nCookie: BERTH=b1\r\n",
    b"GET /tide HTTP/1.1\r\nHost: a\r\nCookie: BERTH=none\r\n",
    b"HEAD / HTTP/1.0\r\n",
    b'GET /a HTTP/1.1\r\nHost: a\r\nUser-Agent: say "low" | {tide} \\ 1 2\r\n',
    b"GET /b HTTP/1.1\r\nHost: a\r\nUser-Agent: \xc3\xa5\xce\xb2\xe5\xad\x97\r\n",
    b"POST /a HTTP/1.1\r\nHost: a\r\nContent-Length: 0\r\n",
    b"GET /closed HTTP/1.1\r\nHost: a\r\n",
    b"GET /slow HTTP/1.1\r\nHost: a\r\n",
    b"GET /moved HTTP/1.1\r\nHost: a\r\n",
    b"GET /secret HTTP/1.1\r\nHost: a\r\n",
    b"GET /gone/1 HTTP/1.1\r\nHost: a\r\n",
    b"BREW /pot HTTP/1.1\r\nHost: a\r\n",
    b"hello\r\n",
    b"\x16\x03\x01\x02\x00\x01\x00\x01\xfc\x03\x03\r\n",
    b"GET /\xe5\xad\x97/\x7f HTTP/1.1\r\nHost: a\r\n",
    b"GET / HTTP/9.9\r\nHost: a\r\n",
    b"GET /" + b"x" * 300 + b" HTTP/1.1\r\nHost: a\r\n",
)


def _run(log: Path, form: str, http: str, tcp: str) -> None:
    with tempfile.TemporaryDirectory() as name, log.open("wb") as out:
        config = Path(name) / "haproxy.cfg"
        config.write_text(CONFIG.format(form=form, http=http, tcp=tcp, port=PORT, inner=PORT + 1, raw=PORT + 2))
        server = subprocess.Popen(["/usr/sbin/haproxy", "-f", str(config)], stdout=out, stderr=subprocess.DEVNULL)
        time.sleep(1)
        for request in REQUESTS:
            for host in ("127.0.0.1", "::1"):
                send(host, PORT, request + CLOSE)
                time.sleep(0.05)
        send("127.0.0.1", PORT, b"GET / HTT")
        send("127.0.0.1", PORT + 2, b"low tide\n")
        time.sleep(0.5)
        server.terminate()
        server.wait()


def main() -> None:
    folder = Path(sys.argv[1]).resolve()
    folder.mkdir(parents=True, exist_ok=True)
    _run(folder / "haproxy.log", "rfc3164", "option httplog", "option tcplog")
    _run(folder / "haproxy.fields", "raw", HTTP, TCP)


if __name__ == "__main__":
    main()
