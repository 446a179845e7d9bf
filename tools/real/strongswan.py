"""Two charons, each in a network of its own with a cable between: tunnels that are made, refused, renewed and ended.

    python tools/real/strongswan.py FOLDER

Needs to be root, and Debian's packages strongswan-charon, strongswan-swanctl, libstrongswan-extra-plugins and iproute2.
Writes `charon.log` and `traditional.log` of the gate, and `road.log` of who comes to it.
"""

from __future__ import annotations

import contextlib
import os
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from collector import collected
from running import ask, started

GATE, ROAD = "192.0.2.1", "192.0.2.7"
DAEMON = """
charon {{
  load = random nonce gmp pem pkcs1 x509 revocation constraints pubkey kdf hmac aes sha1 sha2 kernel-netlink socket-default vici
  retransmit_tries = 1
  retransmit_timeout = 1
  filelog {{ own {{
    path = {inner}/{name}.log
    time_format = {stamp}
    {names}
    default = 1
    flush_line = yes
  }} }}
  syslog {{ daemon {{ default = {syslog} }} }}
  plugins {{ vici {{ socket = unix://{inner}/{name}.vici }} }}
}}
"""
GATE_SIDE = """
connections {
  own {
    version = 2
    proposals = aes128-sha256-modp2048
    local_addrs = 192.0.2.1
    remote_addrs = 192.0.2.7
    local { auth = psk
      id = gate@sandwick.example }
    remote { auth = psk
      id = %any }
    children { net { local_ts = 198.51.100.0/25
      remote_ts = 192.0.2.7/32
      esp_proposals = aes128-sha256 } }
  }
}
secrets {
  ike-a { id-1 = gate@sandwick.example
    id-2 = m.okoro@sandwick.example
    secret = ebb-and-flow }
  ike-b { id-1 = gate@sandwick.example
    id-2 = t.varela@sandwick.example
    secret = slack-water }
}
"""
ROAD_SIDE = """
connections {{
  {name} {{
    version = {version}
    proposals = {proposals}
    local_addrs = 192.0.2.7
    remote_addrs = {remote}
    local {{ auth = psk
      id = {who} }}
    remote {{ auth = psk
      id = {gate} }}
    children {{ {name} {{ local_ts = 192.0.2.7/32
      remote_ts = {net}
      esp_proposals = {esp} }} }}
  }}
}}
secrets {{ ike-a {{ secret = {secret} }} }}
"""
USUAL = {
    "name": "own", "version": "2", "proposals": "aes128-sha256-modp2048", "remote": GATE,
    "who": "m.okoro@sandwick.example", "gate": "gate@sandwick.example", "net": "198.51.100.0/25",
    "esp": "aes128-sha256", "secret": "ebb-and-flow",
}  # fmt: skip
UNUSUAL: tuple[dict[str, str], ...] = (
    {"secret": "wrong"},
    {"who": "nobody@sandwick.example"},
    {"who": "t.varela@sandwick.example", "secret": "slack-water"},
    {"who": '"C=PT, O=Sandwick Quay, CN=tide [1] {2}"'},
    {"proposals": "aes256-sha512-modp4096"},
    {"esp": "aes256-sha512"},
    {"net": "203.0.113.0/24"},
    {"gate": "other@sandwick.example"},
    {"version": "1"},
    {"remote": "192.0.2.99"},
)


def main() -> None:
    folder = Path(sys.argv[1]).resolve()
    folder.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as name, _cable(), collected(Path(name)):
        inner = Path(name)
        with _charon(inner, "charon", "quay-gate", "%b %e %T", "ike_name = yes", 1):
            _load(inner, "charon", GATE_SIDE)
            with _charon(inner, "road", "quay-road", "%Y-%m-%dT%H:%M:%S%z", "", -1):
                for change in ({}, *UNUSUAL, {}):
                    chosen = {**USUAL, **change}
                    _load(inner, "road", ROAD_SIDE.format(**chosen))
                    _swanctl(inner, "road", "--initiate", "--child", chosen["name"], "--timeout", "8")
                    if not change:
                        for rekey in (["--rekey", "--ike", "own"], ["--rekey", "--child", "own"]):
                            _swanctl(inner, "road", *rekey)
                            time.sleep(1)
                    _swanctl(inner, "road", "--terminate", "--ike", chosen["name"], "--timeout", "5")
                _load(inner, "road", ROAD_SIDE.format(**USUAL))
                _swanctl(inner, "road", "--initiate", "--child", "own", "--timeout", "8")
                _swanctl(inner, "charon", "--terminate", "--ike", "own", "--timeout", "5")
        time.sleep(1)
        for log in ("charon.log", "road.log", "traditional.log"):
            text = (inner / log).read_text().replace(str(inner), "/srv/quay")
            (folder / log).write_text(text.replace(f"Linux {os.uname().release}", "Linux 6.1.0"))


@contextlib.contextmanager
def _cable() -> Iterator[None]:
    ends = {"quay-gate": ("gate0", GATE), "quay-road": ("road0", ROAD)}
    for space in ends:
        ask("ip", "netns", "add", space)
    ask(
        "ip",
        "link",
        "add",
        "gate0",
        "netns",
        "quay-gate",
        "type",
        "veth",
        "peer",
        "name",
        "road0",
        "netns",
        "quay-road",
    )
    for space, (device, address) in ends.items():
        ask("ip", "-n", space, "addr", "add", f"{address}/24", "dev", device)
        ask("ip", "-n", space, "link", "set", device, "up")
        ask("ip", "-n", space, "link", "set", "lo", "up")
    ask("ip", "-n", "quay-gate", "addr", "add", "198.51.100.1/25", "dev", "lo")
    try:
        yield
    finally:
        for space in ends:
            ask("ip", "netns", "del", space)


@contextlib.contextmanager
def _charon(inner: Path, name: str, space: str, stamp: str, names: str, syslog: int) -> Iterator[None]:
    config = inner / f"{name}.conf"
    config.write_text(DAEMON.format(inner=inner, name=name, stamp=stamp, names=names, syslog=syslog))
    # each has a /run of its own, for the file of its process id has a fixed name
    command = "mount -t tmpfs none /run && exec /usr/lib/ipsec/charon"
    with started(
        "ip", "netns", "exec", space, "unshare", "-m", "sh", "-c", command, people={"STRONGSWAN_CONF": str(config)}
    ):
        yield


def _load(inner: Path, name: str, text: str) -> None:
    settings = inner / f"{name}.swanctl"
    settings.write_text(text)
    _swanctl(inner, name, "--load-all", "--clear", "--file", settings)


def _swanctl(inner: Path, name: str, *arguments: str | Path) -> None:
    said = ask("swanctl", *arguments, "--uri", f"unix://{inner}/{name}.vici")
    if os.environ.get("SHOW"):
        print(arguments, said)


if __name__ == "__main__":
    main()
