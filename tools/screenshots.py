"""Makes docs/screenshots anew from the demo data: terminals under Xvfb, a page in headless Chromium.

    python tools/screenshots.py [NAME…]

Needs the programs Xvfb, xterm, import (ImageMagick) and chromium; Debian has them all.
"""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from datetime import UTC, datetime
from pathlib import Path

import kinglet
from kinglet.demo.writing import write_demo
from kinglet.insight import matrix as filled

ROOT = Path(__file__).parent.parent
SHOTS = ROOT / "docs" / "screenshots"
DISPLAY = ":97"
SIZE = (1280, 800)
NIGHT = datetime(2026, 10, 24, 23, 41, 7, tzinfo=UTC).timestamp()
KINGLET = f"{shlex.quote(sys.executable)} -m kinglet"

PUMP = "kinglet-demo/parsers/pump-panel.yaml kinglet-demo/bench/pump-bench.log"
TERMINALS = {
    "look": "look kinglet-demo/logs/slipway-vpn.log --shapes 3 | head -n 29",
    "look-columns": "look kinglet-demo/logs/slipway-vpn.log --shapes 3 | tail -n +38 | head -n 29",
    "draft": "draft kinglet-demo/logs/jump-host.log -o jump-host.yaml --zone Europe/Lisbon --product OpenSSH/sshd",
    "teach": "teach kinglet-demo/parsers/jump-host.yaml kinglet-demo/logs/jump-host.log "
    "--mark 1:fingerprint=p7qyv2rrmrffv7rmawcueydyp58uted35scyh5hkg2g",
    "try": f"try {PUMP} --show 9 | head -n 29",
    "try-faults": f"try {PUMP} --show 9 | tail -n 29",
    "watch": "try --watch watched.yaml kinglet-demo/logs/pump-panel.log --only partial --show 2",
    "trace": "try kinglet-demo/parsers/winch-audit.yaml kinglet-demo/logs/winch-audit.log --trace 25 | head -n 29",
    "explain": "explain kinglet-demo/parsers/jump-host.yaml | head -n 29",
    "check": "check next",
    "rules": "check kinglet-demo/parsers/slipway-vpn.yaml kinglet-demo/parsers/jump-host.yaml "
    "kinglet-demo/parsers/pump-panel.yaml --rules kinglet-demo/rules",
    "compare": "compare kinglet-demo/parsers/jump-host.yaml newer.yaml kinglet-demo/logs/jump-host.log --at 2026-03-08",
    "run-several": "run -p kinglet-demo/parsers kinglet-demo/logs -o events.parquet --as model --at 2026-03-08",
    "model": "model Authentication | head -n 29",
    "demo": "demo | tail -n 28",
    "errors": "try wrong.yaml kinglet-demo/logs/pump-panel.log",
}


def prepare(folder: Path) -> None:
    """The demo, and beside it a parser with cases that fail, one with errors, and a newer version."""
    write_demo(folder / "kinglet-demo")
    pump = (folder / "kinglet-demo/parsers/pump-panel.yaml").read_text()
    (folder / "next").mkdir()
    (folder / "next" / "pump-panel.yaml").write_text(
        pump.replace("ran_s: 12}", "ran_s: '12'}").replace("{user:word}[[ from", "{user:text}[[ from")
        .replace("  - name: tank-level", "  - name: tank\n    kind: 4300\n    pattern: 'tank {tank:word} {rest:text}'\n"
                 "    event: {activity: Read, set: {entity.name: tank}}\n\n  - name: tank-level")
    )  # fmt: skip
    jump = (folder / "kinglet-demo/parsers/jump-host.yaml").read_text()
    (folder / "newer.yaml").write_text(
        jump.replace("Invalid user {user:word}", "Invalid usr {user:word}")
        .replace("auth_protocol: method", "metadata.log_level: method")
    )  # fmt: skip
    (folder / "wrong.yaml").write_text(

        pump.replace("{new:num}", "{new:nmu}").replace("(?P<pump>\\d+)", "(?P<pump>\\d+")
        .replace("Atlantic/Azores", "Atlantic/Azore").replace("actor.user.name", "actor.usr.name")
    )  # fmt: skip
    (folder / "watched.yaml").write_text(pump.replace("kind: 4300", "kind: 4301").replace("{ran_s:int}", "{ran_s:ip}"))


def terminal(name: str, command: str, folder: Path) -> None:
    """A terminal of 100 columns in which a command has run, or still runs."""
    done = folder / f"{name}.done"
    prompt = command.partition(" |")[0].replace("'", "'\\''")
    forced = f"{KINGLET} {command}"
    script = (
        f"clear; printf '\\033[1m$ kinglet %s\\033[0m\\n' '{prompt}'; FORCE_COLOR=1 COLUMNS=100 {forced}; "
        f"touch {done}; sleep 30"
    )
    look = ["-fa", "DejaVu Sans Mono", "-fs", "14", "-bg", "#fbfbf8", "-fg", "#202020", "-b", "12"]
    look += ["-tn", "xterm-256color", "-xrm", "XTerm*cursorColor: #fbfbf8", "-geometry", "102x31+0+0"]
    environment = {**os.environ, "DISPLAY": DISPLAY, "TERM": "xterm-256color"}
    xterm = subprocess.Popen(["xterm", *look, "-e", "bash", "-c", script], cwd=folder, env=environment)
    limit = time.monotonic() + {"watch": 9}.get(name, 30)
    while not done.exists() and time.monotonic() < limit:
        time.sleep(0.1)
        if name == "watch" and limit - time.monotonic() < 4:  # a save
            saved = (folder / "watched.yaml").read_text().replace("{ran_s:ip}", "{ran_s:int}")
            (folder / "watched.yaml").write_text(saved)
            name = "watch "
    name = name.strip()
    time.sleep(0.5)
    picture = SHOTS / f"{name}.png"
    subprocess.run(["import", "-display", DISPLAY, "-window", "root", str(picture)], check=True)
    xterm.terminate()
    xterm.wait()


def page(folder: Path) -> None:
    """A result as a notebook shows it."""
    result = kinglet.load(folder / "kinglet-demo/parsers/slipway-vpn.yaml").parse(
        folder / "kinglet-demo/logs/slipway-vpn.log"
    )
    pump = kinglet.load(folder / "kinglet-demo/parsers/pump-panel.yaml").parse(
        folder / "kinglet-demo/logs/pump-panel.log"
    )
    html = folder / "notebook.html"
    html.write_text(
        "<!doctype html><meta charset=utf-8><body style='font-family:sans-serif;margin:24px;width:1200px'>"
        + result._repr_html_() + "<hr style='margin:24px 0'>" + pump._repr_html_()
    )  # fmt: skip
    browse(html, SHOTS / "notebook.png", folder)


def report(folder: Path) -> None:
    """The page of a log of which a parser does not read all."""
    path = folder / "kinglet-demo/parsers/pump-panel.yaml"
    (folder / "less.yaml").write_text(path.read_text().replace("kind: 4300", "kind: 4301"))
    command = [
        sys.executable,
        "-m",
        "kinglet",
        "try",
        "less.yaml",
        "kinglet-demo/logs/pump-panel.log",
        "-o",
        "page.html",
    ]
    subprocess.run(command, cwd=folder, check=True, capture_output=True)
    browse(folder / "page.html", SHOTS / "page.png", folder)


def browse(html: Path, picture: Path, folder: Path) -> None:
    """A picture of a page in a browser."""
    subprocess.run(
        ["chromium", "--headless", "--no-sandbox", "--disable-gpu", "--disable-background-networking",
         "--disable-component-update", "--disable-sync", "--no-first-run", f"--user-data-dir={folder / 'chromium'}",
         f"--window-size={SIZE[0]},{SIZE[1]}", "--hide-scrollbars", f"--screenshot={picture}", html.as_uri()],
        check=True, capture_output=True,
    )  # fmt: skip


def matrix(folder: Path) -> None:
    """Which message of the demo fills which attribute."""
    parsers = kinglet.load_set(folder / "kinglet-demo/parsers").parsers.values()
    filled.write(filled.matrix(parsers), SHOTS / "matrix.png")


def main() -> None:
    missing = [program for program in ("Xvfb", "xterm", "import", "chromium") if not shutil.which(program)]
    if missing:
        raise SystemExit(f"needs {', '.join(missing)}; on Debian: apt-get install xvfb xterm imagemagick chromium")
    wanted = [name for name in sys.argv[1:] if not name.startswith("-")] or [*TERMINALS, "notebook", "matrix", "page"]
    SHOTS.mkdir(exist_ok=True)
    screen = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", f"{SIZE[0]}x{SIZE[1]}x24"], stderr=subprocess.DEVNULL)
    time.sleep(1)
    try:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            prepare(folder)
            for shot, command in TERMINALS.items():
                if shot in wanted:
                    terminal(shot, command, folder)
            if "notebook" in wanted:
                page(folder)
            if "matrix" in wanted:
                matrix(folder)
            if "page" in wanted:
                report(folder)
    finally:
        screen.terminate()
        screen.wait()


if __name__ == "__main__":
    main()
