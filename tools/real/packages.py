"""apt, update-alternatives and unattended-upgrade, as they log what they do to the packages of a machine.

    python tools/real/packages.py FOLDER

Needs to be root, and Debian's packages unattended-upgrades and those of apt. Installs, changes and removes one small package.
Writes `apt-history.log`, `apt-term.log`, `alternatives.log`, `unattended-upgrades.log`.
"""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

from running import ask, keep

PACKAGE = "hello"


def main() -> None:
    folder = Path(sys.argv[1]).resolve()
    with tempfile.TemporaryDirectory() as name:
        inner = Path(name)
        for part in ("log", "upgrades"):
            (inner / part).mkdir()
        apt = ("apt-get", "-y", "-o", f"Dir::Log={inner}/log")
        quiet = {"DEBIAN_FRONTEND": "noninteractive"}
        ask(*apt, "install", PACKAGE, people=quiet)
        ask(*apt, "install", "--reinstall", PACKAGE, people=quiet)
        ask(*apt, "remove", PACKAGE, people={**quiet, "SUDO_USER": "m.okoro", "SUDO_UID": "1007"})
        ask(*apt, "purge", PACKAGE, people=quiet)
        ask(*apt, "install", "no-such-package", people=quiet)
        log = inner / "alternatives.log"
        for order in (
            ("--install", f"{inner}/tide", "tide", "/bin/true", "10"), ("--install", f"{inner}/tide", "tide", "/bin/false", "20"),
            ("--set", "tide", "/bin/true"), ("--auto", "tide"), ("--remove", "tide", "/bin/false"), ("--remove-all", "tide"),
        ):  # fmt: skip
            ask(
                "update-alternatives",
                "--log",
                log,
                "--altdir",
                f"{inner}/upgrades",
                "--admindir",
                f"{inner}/upgrades",
                *order,
            )
        config = inner / "apt.conf"
        config.write_text(
            f'Unattended-Upgrade::LogDir "{inner}/upgrades";\nAPT::UnattendedUpgrades::LogDir "{inner}/upgrades";\n'
        )
        ask("unattended-upgrade", "--dry-run", "-v", people={"APT_CONFIG": str(config)})
        keep(inner / "log" / "history.log", folder / "apt-history.log", name)
        keep(inner / "log" / "term.log", folder / "apt-term.log", name)
        keep(log, folder / "alternatives.log", name)
        found = [
            *(inner / "upgrades").glob("unattended-upgrades.log"),
            Path("/var/log/unattended-upgrades/unattended-upgrades.log"),
        ]
        keep(found[0], folder / "unattended-upgrades.log", name)


if __name__ == "__main__":
    main()
