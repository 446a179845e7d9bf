"""Squid on loopback, driven by good and bad requests; its access log as it is, and as JSON of its own.

    python tools/real/squid.py FOLDER

Needs Debian's packages squid and apache2-utils. The server writes both of each request: `access.log`, `access.json`.
"""

from __future__ import annotations

import base64
import shutil
import sys
import tempfile
import threading
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

from running import ask, keep, started
from sending import send

PORT, INNER = 3188, 3189
CONFIG = """
http_port 127.0.0.1:{port}
http_port [::1]:{port}
pid_filename {inner}/squid.pid
cache_log {inner}/cache.log
coredump_dir {inner}
cache_effective_user proxy
logformat apart {{"time":%ts.%03tu,"took":%tr,"client":"%>a","outcome":"%Ss","code":%>Hs,"bytes":%<st,"method":"%rm","url":"%"ru","user":"%"un","hierarchy":"%Sh","server":"%<a","type":"%"mt"}}
access_log stdio:{inner}/access.log squid
access_log stdio:{inner}/access.json apart
auth_param basic program /usr/lib/squid/basic_ncsa_auth {inner}/users
acl closed urlpath_regex ^/closed
acl private urlpath_regex ^/secret
acl known proxy_auth REQUIRED
acl tls port 443
http_access deny closed
http_access deny private !known
http_access deny CONNECT !tls
http_access allow all
shutdown_lifetime 1 seconds
visible_hostname tide.example
"""
CLOSE = b"Connection: close\r\n\r\n"


def _with(user: bytes) -> bytes:
    return b"Proxy-Authorization: Basic " + base64.b64encode(user) + b"\r\n"


SITE = b"http://127.0.0.1:%d" % INNER
REQUESTS: tuple[bytes, ...] = (
    b"GET " + SITE + b"/tide HTTP/1.1\r\nHost: a\r\n",
    b"GET " + SITE + b"/tide HTTP/1.1\r\nHost: a\r\n",
    b"GET " + SITE + b"/a%20b?x='or'1=1-- HTTP/1.1\r\nHost: a\r\n",
    b"HEAD " + SITE + b"/tide HTTP/1.0\r\n",
    b"POST " + SITE + b"/up HTTP/1.1\r\nHost: a\r\nContent-Length: 4\r\n",
    b"GET " + SITE + b"/closed HTTP/1.1\r\nHost: a\r\n",
    b"GET " + SITE + b"/secret HTTP/1.1\r\nHost: a\r\n",
    b"GET " + SITE + b"/secret HTTP/1.1\r\nHost: a\r\n" + _with(b"m.okoro:low tide"),
    b"GET " + SITE + b"/secret HTTP/1.1\r\nHost: a\r\n" + _with(b"m.okoro:high tide"),
    b"GET " + SITE + b"/secret HTTP/1.1\r\nHost: a\r\n" + _with(b'x " [1] - HIER:x'),
    b"GET http://127.0.0.1:1/gone HTTP/1.1\r\nHost: a\r\n",
    b"GET http://none.quay.example/ HTTP/1.1\r\nHost: a\r\n",
    b"CONNECT 127.0.0.1:22 HTTP/1.1\r\nHost: a\r\n",
    b"CONNECT 127.0.0.1:443 HTTP/1.1\r\nHost: a\r\n",
    b"BREW " + SITE + b"/pot HTTP/1.1\r\nHost: a\r\n",
    b"GET " + SITE + b"/\xe5\xad\x97/\x7f HTTP/1.1\r\nHost: a\r\n",
    b"hello\r\n",
    b"GET /plain HTTP/1.1\r\nHost: a\r\n",
    b"GET " + SITE + b"/missing HTTP/1.1\r\nHost: a\r\n",
)


class _Site(BaseHTTPRequestHandler):
    def do_GET(self) -> None:
        self.send_response(404 if self.path == "/missing" else 200)
        self.send_header("Content-Type", "text/plain; charset=utf-8")
        self.send_header("Cache-Control", "max-age=60")
        self.send_header("Content-Length", "4")
        self.end_headers()
        self.wfile.write(b"low\n")

    do_POST = do_HEAD = do_GET  # noqa: N815

    def log_message(self, *_: object) -> None:
        pass


def main() -> None:
    folder = Path(sys.argv[1]).resolve()
    site = ThreadingHTTPServer(("127.0.0.1", INNER), _Site)
    threading.Thread(target=site.serve_forever, daemon=True).start()
    with tempfile.TemporaryDirectory() as name:
        inner = Path(name)
        shutil.chown(inner, "proxy")
        ask("htpasswd", "-bc", inner / "users", "m.okoro", "low tide")
        (inner / "users").chmod(0o644)
        config = inner / "squid.conf"
        config.write_text(CONFIG.format(port=PORT, inner=inner))
        with started("/usr/sbin/squid", "-N", "-f", config, wait=3):
            for request in REQUESTS:
                for host in ("127.0.0.1", "::1"):
                    send(host, PORT, request + CLOSE + (b"low\n" if request.startswith(b"POST") else b""))
        for log in ("access.log", "access.json"):
            keep(inner / log, folder / log, name)


if __name__ == "__main__":
    main()
