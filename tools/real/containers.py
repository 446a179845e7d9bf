"""Containers of Docker and of Podman, whose program says lines of every kind on both of its streams.

    python tools/real/containers.py FOLDER

Needs to be root, and Debian's packages docker.io, podman and busybox-static. Writes `docker.json` (log driver
`json-file`), `cri.log` (log driver `k8s-file`), and `said.json`: what the program said on each stream.
"""

from __future__ import annotations

import json
import shutil
import sys
import tempfile
import time
from pathlib import Path

from running import ask, started

LINES = (
    "low tide at 06:12", "", "  two  blanks, and a tab\tand one at the end ", 'a "quote" and it\'s', "C:\\tide\\new",
    "Flut Ä 潮 🐦", "\x1b[31mred\x1b[0m", "back\rover", "%41 &amp; <b> {{x}} ${HOME}", '{"level":"info","berth":4}',
    "stdout F no head of a line", "x" * 16_383, "y" * 16_384, "z" * 20_000, "2026-11-30T10:00:00Z stdout P of a program",
)  # fmt: skip
ORDINARY = tuple(f"gate {n % 7} moved to {n * 13 % 100} % in {n * 37 % 900} ms" for n in range(200))


def main() -> None:
    folder = Path(sys.argv[1]).resolve()
    folder.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as place:
        inner = Path(place)
        root = inner / "root"
        (root / "bin").mkdir(parents=True)
        shutil.copy("/bin/busybox", root / "bin" / "busybox")
        (root / "out").write_bytes("".join(f"{line}\n" for line in (*LINES, *ORDINARY)).encode() + b"no end of a line")
        (root / "err").write_bytes("".join(f"error: {line}\n" for line in LINES[:12]).encode() + b"latin \xe9\n")
        ask("tar", "-C", root, "-cf", inner / "root.tar", ".")
        command = ("/bin/busybox", "sh", "-c", "busybox cat /out; busybox sleep 1; busybox cat /err >&2")
        socket = f"unix://{inner}/docker.sock"
        with started(
            "dockerd", "--data-root", inner / "docker", "--exec-root", inner / "run", "-H", socket, "--bridge", "none",
            "--iptables=false", "--pidfile", inner / "docker.pid", wait=12,
        ):  # fmt: skip
            ask("docker", "-H", socket, "import", inner / "root.tar", "quay")
            told = ask("docker", "-H", socket, "run", "-d", "--network", "none", "--log-driver", "json-file",
                       "--label", "tide=low", "--log-opt", "labels=tide", "quay", *command)  # fmt: skip
            time.sleep(6)
            (log,) = (inner / "docker" / "containers" / told.split()[-1]).glob("*-json.log")
            shutil.copy(log, folder / "docker.json")
        # an end that is missing, and bytes of no text, would make one event of lines of both streams
        whole = (
            *command[:3],
            f"busybox head -n {len(LINES) + len(ORDINARY)} /out; busybox sleep 1; busybox head -n 12 /err >&2",
        )
        podman = ("podman", "--root", inner / "podman", "--runroot", inner / "podman-run", "--runtime", "runc",
                  "--cgroup-manager", "cgroupfs")  # fmt: skip
        ask(*podman, "import", inner / "root.tar", "quay")
        ask(*podman, "run", "-d", "--ulimit", "nofile=1024:1024", "--ulimit", "nproc=512:512", "--network", "none",
            "--log-driver", "k8s-file", "--log-opt", f"path={folder}/cri.log", "localhost/quay", *whole)  # fmt: skip
        time.sleep(6)
        ask(*podman, "rm", "-af")
        said = {name: (root / name[3:]).read_bytes().decode("utf-8", "replace") for name in ("stdout", "stderr")}
    (folder / "said.json").write_text(json.dumps(said, ensure_ascii=False) + "\n", encoding="utf-8")


if __name__ == "__main__":
    main()
