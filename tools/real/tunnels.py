"""OpenVPN and strongSwan on loopback: tunnels that come up, and those that may not.

    python tools/real/tunnels.py FOLDER

Needs to be root, openssl, and Debian's packages openvpn, strongswan-charon and strongswan-swanctl. Writes `openvpn.log`, `charon.log`.
"""

from __future__ import annotations

import sys
import tempfile
import time
from pathlib import Path

from running import ask, keep, started
from sending import send

PORT = "1199"
CHARON = """
charon {{
  load_modular = no
  port = 5500
  port_nat_t = 4501
  install_routes = no
  plugins {{
    vici {{
      socket = unix://{inner}/vici
    }}
  }}
  filelog {{
    log {{
      path = {inner}/charon.log
      time_format = %b %e %T
      default = 1
      flush_line = yes
    }}
  }}
}}
"""


def _keys(inner: Path) -> None:
    ask("openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", inner / "ca.key", "-out", inner / "ca.crt", "-days", "30",
        "-subj", "/CN=Quay CA")  # fmt: skip
    for name, usage in (("gate", "serverAuth"), ("m.okoro", "clientAuth")):
        ask("openssl", "req", "-newkey", "rsa:2048", "-nodes", "-keyout", inner / f"{name}.key", "-out", inner / f"{name}.csr", "-subj", f"/CN={name}")
        (inner / "ext").write_text(f"extendedKeyUsage={usage}\nkeyUsage=digitalSignature,keyEncipherment\n")
        ask("openssl", "x509", "-req", "-in", inner / f"{name}.csr", "-CA", inner / "ca.crt", "-CAkey", inner / "ca.key", "-CAcreateserial",
            "-out", inner / f"{name}.crt", "-days", "30", "-extfile", inner / "ext")  # fmt: skip
    ask("openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", inner / "evil.key", "-out", inner / "evil.crt", "-days", "30",
        "-subj", "/CN=evil")  # fmt: skip


def _client(inner: Path, name: str, *more: str) -> None:
    with started(
        "/usr/sbin/openvpn", "--client", "--dev", "null", "--proto", "tcp-client", "--remote", "127.0.0.1", PORT, "--ca", inner / "ca.crt",
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
            "/usr/sbin/openvpn", "--server", "198.51.100.0", "255.255.255.0", "--dev", "null", "--proto", "tcp-server", "--port", PORT,
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
        config = inner / "strongswan.conf"
        config.write_text(CHARON.format(inner=inner))
        (inner / "swan").mkdir()
        for secret, known in (("low tide", True), ("high tide", False)):
            (inner / "swan" / "swanctl.conf").write_text(
                "connections {\n own {\n local_addrs = 127.0.0.1\n remote_addrs = 127.0.0.2\n remote_port = 4501\n local {\n auth = psk\n id = m.okoro@quay.example\n }\n"
                " remote {\n auth = psk\n id = gate@quay.example\n }\n children {\n net {\n local_ts = 192.0.2.0/25\n remote_ts = 192.0.2.128/25\n }\n }\n }\n}\n"
                f"secrets {{\n ike {{\n secret = {secret}\n id = gate@quay.example\n }}\n}}\n"
            )
            with started("/usr/lib/ipsec/charon", people={"STRONGSWAN_CONF": str(config)}, wait=2):
                swan = ("swanctl", "--uri", f"unix://{inner}/vici")
                ask(*swan, "--load-all", "--file", inner / "swan" / "swanctl.conf")
                ask(*swan, "--initiate", "--child", "net", "--timeout", "4")
                ask(*swan, "--initiate", "--child", "none")
                ask(*swan, "--terminate", "--ike", "own")
        keep(inner / "charon.log", folder / "charon.log", name)


if __name__ == "__main__":
    main()
