"""nftables on loopback, with rules that log packets, and the packets themselves as they went by.

    python tools/real/netfilter.py FOLDER

Needs to be root, a kernel with nf_tables, and Debian's package nftables. Writes `kernel.log`, and `packets.hex` with each
packet that a rule logged in hexadecimal digits, as a socket beside it saw them. Addresses of documentation are put on the
loopback device for a while, and so are rules of a table of their own.
"""

from __future__ import annotations

import contextlib
import socket
import struct
import sys
import time
from pathlib import Path

from kernel import kernel_log
from running import ask

FOUR, SIX = "192.0.2.77", "2001:db8::77"
RULES = f"""
table inet quay {{
  chain out {{
    type filter hook output priority 0;
    ip daddr {FOUR} log prefix "QUAY-OUT ACCEPT " flags all
    ip6 daddr {SIX} log prefix "quay out: " flags tcp options flags skuid
  }}
  chain in {{
    type filter hook input priority 0;
    ip daddr {FOUR} udp dport 69 log prefix "QUAY-DROP " drop
    ip6 daddr {SIX} tcp dport 23 log prefix "REJECT=" reject
    ip daddr {FOUR} log
  }}
}}
"""


def main() -> None:
    folder = Path(sys.argv[1]).resolve()
    folder.mkdir(parents=True, exist_ok=True)
    for address in (f"{FOUR}/32", f"{SIX}/128"):
        ask("ip", "addr", "add", address, "dev", "lo")
    time.sleep(2)  # until an address of IPv6 may be used
    ask("nft", "-f", "-", given=RULES)
    seen = socket.socket(socket.AF_PACKET, socket.SOCK_DGRAM, socket.htons(3))
    seen.bind(("lo", 0))
    seen.settimeout(0.3)
    try:
        with kernel_log(folder / "kernel.log"):
            _send()
        packets = []
        with contextlib.suppress(TimeoutError):
            while True:
                data, about = seen.recvfrom(65_536)
                if about[2] == socket.PACKET_OUTGOING:
                    packets.append(data)
    finally:
        ask("nft", "delete", "table", "inet", "quay")
        for address in (f"{FOUR}/32", f"{SIX}/128"):
            ask("ip", "addr", "del", address, "dev", "lo")
    (folder / "packets.hex").write_text("".join(f"{data[:80].hex()}\n" for data in packets), encoding="ascii")


def _send() -> None:
    """Connections that are taken and refused, datagrams, large and in pieces, echoes, and protocols of no program."""
    with socket.create_server((FOUR, 8080)) as server, socket.create_connection((FOUR, 8080)) as client:
        client.sendall(b"low tide" * 500)
        server.accept()[0].close()
    for family, address, port in (
        (socket.AF_INET, FOUR, 9), (socket.AF_INET6, SIX, 9), (socket.AF_INET6, SIX, 23),
    ):  # fmt: skip
        with socket.socket(family, socket.SOCK_STREAM) as client:
            client.settimeout(0.5)
            client.connect_ex((address, port))
    for family, address, port, size in (
        (socket.AF_INET, FOUR, 53, 9), (socket.AF_INET, FOUR, 69, 1), (socket.AF_INET, FOUR, 514, 65_000),
        (socket.AF_INET6, SIX, 53, 30), (socket.AF_INET, FOUR, 123, 0),
    ):  # fmt: skip
        with socket.socket(family, socket.SOCK_DGRAM) as client:
            client.setsockopt(socket.IPPROTO_IP, socket.IP_TOS, 0x2E << 2) if family == socket.AF_INET else None
            client.sendto(b"x" * size, (address, port))
    with socket.socket(socket.AF_INET, socket.SOCK_RAW, socket.IPPROTO_ICMP) as raw:
        raw.sendto(_echo(8), (FOUR, 0))
        raw.sendto(b"\x05\x01\x00\x00" + socket.inet_aton("192.0.2.1") + b"E" + bytes(27), (FOUR, 0))
    with socket.socket(socket.AF_INET6, socket.SOCK_RAW, socket.IPPROTO_ICMPV6) as raw:
        raw.sendto(_echo(128), (SIX, 0))
    for protocol in (47, 50, 51, 132, 253):
        with socket.socket(socket.AF_INET, socket.SOCK_RAW, protocol) as raw:
            raw.sendto(struct.pack(">IIII", 0x04040000, 0x1234, 1, 0), (FOUR, 0))
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as client:
        client.setsockopt(socket.IPPROTO_IP, socket.IP_OPTIONS, b"\x07\x07\x04\x00\x00\x00\x00\x00")
        client.sendto(b"route", (FOUR, 5353))


def _echo(kind: int) -> bytes:
    head = struct.pack(">BBHHH", kind, 0, 0, 7, 1)
    total = sum(struct.unpack(">4H", head))
    return head[:2] + struct.pack(">H", ~(total + (total >> 16)) & 0xFFFF) + head[4:]


if __name__ == "__main__":
    main()
