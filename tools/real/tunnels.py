"""OpenVPN on loopback: tunnels that come up, and those that may not.

    python tools/real/tunnels.py FOLDER

Needs to be root, openssl, and Debian's package openvpn. Writes `openvpn.log`.
"""

from __future__ import annotations

import sys
import tempfile
import time
from pathlib import Path

from running import ask, keep, started
from sending import send

PORT = "1199"


def _keys(inner: Path) -> None:
    ask("openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", inner / "ca.key", "-out", inner / "ca.crt", "-days", "30",
        "-subj", "/CN=Quay CA")  # fmt: skip
    for name, usage in (("gate", "serverAuth"), ("m.okoro", "clientAuth")):
        ask(
            "openssl",
            "req",
            "-newkey",
            "rsa:2048",
            "-nodes",
            "-keyout",
            inner / f"{name}.key",
            "-out",
            inner / f"{name}.csr",
            "-subj",
            f"/CN={name}",
        )
        (inner / "ext").write_text(f"extendedKeyUsage={usage}\nkeyUsage=digitalSignature,keyEncipherment\n")
        ask("openssl", "x509", "-req", "-in", inner / f"{name}.csr", "-CA", inner / "ca.crt", "-CAkey", inner / "ca.key", "-CAcreateserial",
            "-out", inner / f"{name}.crt", "-days", "30", "-extfile", inner / "ext")  # fmt: skip
    ask("openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", inner / "evil.key", "-out", inner / "evil.crt", "-days", "30",
        "-subj", "/CN=evil")  # fmt: skip


def _client(inner: Path, name: str, *more: str) -> None:
    with started(
        "/usr/sbin/openvpn", "--client", "--dev", "tun8", "--proto", "tcp-client", "--remote", "127.0.0.1", PORT, "--ca", inner / "ca.crt",
        "--cert", inner / f"{name}.crt", "--key", inner / f"{name}.key", "--ifconfig-noexec", "--route-noexec", "--nobind",
        "--remote-cert-tls", "server", *more, wait=4,
    ):  # fmt: skip
        pass


def main() -> None:
    folder = Path(sys.argv[1]).resolve()
    with tempfile.TemporaryDirectory() as name:
        inner = Path(name)
        _keys(inner)
        (inner / "check").write_text('#!/bin/sh\n[ "$username" = m.okoro ] && [ "$password" = "low tide" ]\n')
        (inner / "check").chmod(0o755)
        for user, password in (("m.okoro", "low tide"), ("m.okoro", "high tide"), ("x' (1)", "x")):
            (inner / f"login-{password}").write_text(f"{user}\n{password}\n")
        with started(
            "/usr/sbin/openvpn", "--server", "198.51.100.0", "255.255.255.0", "--dev", "tun7", "--proto", "tcp-server", "--port", PORT,
            "--local", "127.0.0.1", "--ca", inner / "ca.crt", "--cert", inner / "gate.crt", "--key", inner / "gate.key", "--dh", "none",
            "--ifconfig-noexec", "--route-noexec", "--script-security", "3", "--auth-user-pass-verify", f"{inner}/check", "via-env",
            "--log", inner / "openvpn.log", "--verb", "3", "--keepalive", "1", "4",
        ):  # fmt: skip
            _client(inner, "m.okoro", "--auth-user-pass", f"{inner}/login-low tide")
            _client(inner, "m.okoro", "--auth-user-pass", f"{inner}/login-high tide")
            _client(inner, "m.okoro", "--auth-user-pass", f"{inner}/login-x")
            _client(inner, "evil", "--auth-user-pass", f"{inner}/login-low tide")
            send("127.0.0.1", int(PORT), b"GET / HTTP/1.1\r\n\r\n")
            time.sleep(1)
        keep(inner / "openvpn.log", folder / "openvpn.log", name)


if __name__ == "__main__":
    main()
