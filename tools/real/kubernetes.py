"""kubectl against a small stand-in for a cluster, which keeps what it was asked.

    python tools/real/kubernetes.py FOLDER

Needs kubectl. Writes `klog.log`, what the client logged of its work, and `requests.json`: each request that the stand-in
answered, in its order.
"""

from __future__ import annotations

import json
import sys
import tempfile
import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path

from running import ask, keep

PORT = 18080
ANSWERS = {
    "/api/v1/namespaces/berths/pods/low": (404, {"kind": "Status", "status": "Failure", "code": 404, "reason": "NotFound",
                                                 "message": 'pods "low" not found'}),
    "/api/v1/namespaces/berths/pods/locked": (403, {"kind": "Status", "status": "Failure", "code": 403,
                                                    "reason": "Forbidden", "message": 'user "m.okoro" may not'}),
    "/api/v1/namespaces/berths/pods/broken": (500, {"kind": "Status", "status": "Failure", "code": 500}),
    "/api": (200, {"kind": "APIVersions", "versions": ["v1"]}),
    "/apis": (200, {"kind": "APIGroupList", "apiVersion": "v1", "groups": []}),
    "/api/v1": (200, {"kind": "APIResourceList", "groupVersion": "v1", "resources": [
        {"name": "pods", "singularName": "pod", "namespaced": True, "kind": "Pod", "verbs": ["get", "list", "delete"]}]}),
}  # fmt: skip
ASKED: list[dict[str, object]] = []


class Cluster(BaseHTTPRequestHandler):
    """Answers as a cluster would, if little."""

    def _answer(self) -> None:
        if length := int(self.headers.get("Content-Length") or 0):
            self.rfile.read(length)
        path = self.path.partition("?")[0]
        status, body = ANSWERS.get(path, (200, {"kind": "PodList", "apiVersion": "v1", "items": []}))
        if self.path != "/version?timeout=5s":  # what chooses a version of the client asks so, and logs nothing
            url = f"http://{self.headers['Host']}{self.path}"
            ASKED.append({"method": self.command, "url": url, "status": status})
        data = json.dumps(body).encode()
        self.send_response(status)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)

    do_GET = do_POST = do_DELETE = do_PATCH = _answer  # noqa: N815

    def log_message(self, *_: object) -> None:
        """Nothing: what was asked is kept."""


def _logged(lines: list[str]) -> Iterator[str]:
    """The lines of the log, with those that a value goes on over; what a person is told stands between them."""
    goes_on = ""
    for line in lines:
        if line[:1] in "IWEF" and line[1:5].isdigit():
            goes_on = " >" if line.endswith("=<") else ""
            yield line
        elif goes_on:
            yield line
            goes_on = "" if line.startswith(goes_on) else goes_on


def main() -> None:
    folder = Path(sys.argv[1])
    server = HTTPServer(("127.0.0.1", PORT), Cluster)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    with tempfile.TemporaryDirectory() as place:
        config = Path(place) / "config"
        settings = {"clusters": [{"name": "quay", "cluster": {"server": f"http://127.0.0.1:{PORT}"}}],
                    "users": [{"name": "m.okoro", "user": {"token": "tide"}}],
                    "contexts": [{"name": "q", "context": {"cluster": "quay", "user": "m.okoro", "namespace": "berths"}}],
                    "current-context": "q", "apiVersion": "v1", "kind": "Config"}  # fmt: skip
        config.write_text(json.dumps(settings), encoding="utf-8")
        said = ""
        for level, *words in (
            ("6", "get", "pods"), ("8", "get", "pod", "low"), ("8", "get", "pod", "locked"), ("6", "get", "pod", "broken"),
            ("8", "delete", "pod", "low"), ("9", "get", "pods", "-l", 'berth in ("a b",c)'), ("6", "get", "pods", "-A"),
            ("8", "get", "pod", "潮-ä"), ("6", "get", "--raw", "/healthz"), ("6", "get", "pods", "--server", "http://127.0.0.1:1"),
            ("9", "get", "ships"), ("6", "get", "pods", "--kubeconfig", f"{place}/none"), ("8", "version"),
        ):  # fmt: skip
            said += ask(
                "kubectl", f"--cache-dir={place}/cache", f"--kubeconfig={config}", f"-v={level}", *words, cwd=place
            )
        raw = Path(place) / "all.log"
        raw.write_text("".join(f"{line}\n" for line in _logged(said.split("\n"))), encoding="utf-8")
        keep(raw, folder / "klog.log", place)
    asked = "".join(json.dumps(one) + "\n" for one in ASKED)
    (folder / "requests.json").write_text(asked, encoding="utf-8")


if __name__ == "__main__":
    main()
