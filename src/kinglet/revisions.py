"""Files as they were in a revision, read through `git`."""

from __future__ import annotations

import subprocess
from pathlib import Path

from kinglet.errors import UsageError

_SECONDS = 30


def _git(folder: Path, *arguments: str) -> subprocess.CompletedProcess[bytes] | None:
    """The outcome of a command of git; None where there is no git."""
    try:
        return subprocess.run(
            ["git", "-C", str(folder), "-c", "core.quotePath=false", *arguments],
            capture_output=True, timeout=_SECONDS, check=False, stdin=subprocess.DEVNULL,
        )  # fmt: skip
    except (OSError, subprocess.TimeoutExpired):
        return None


def former_text(file: Path, revision: str = "HEAD") -> str | None:
    """The text of a file in a revision; None where it is not under version control, was not there, or is the same.

    Raises:
        UsageError: the revision is given and is none.
    """
    folder = file.parent if file.parent != Path() else Path()
    changed = _git(folder, "diff", "--name-only", "--relative", revision, "--", file.name)
    if changed is None or changed.returncode != 0:
        if revision != "HEAD":
            raise UsageError(f"`{revision}` is no revision of {folder}", "name a branch, a tag or a commit")
        return None
    if not changed.stdout.strip():
        return None
    found = _git(folder, "show", f"{revision}:./{file.name}")
    return found.stdout.decode("utf-8-sig", "replace") if found is not None and found.returncode == 0 else None


def changed_files(folder: Path, revision: str = "HEAD") -> set[str] | None:
    """The names of the files of a folder that differ from a revision; None where it is not under version control."""
    changed = _git(folder, "diff", "--name-only", "--relative", revision, "--", ".")
    if changed is None or changed.returncode != 0:
        return None
    return set(changed.stdout.decode("utf-8", "surrogateescape").split("\n"))


def text_at(revision: str, path: str, folder: Path | None = None) -> str:
    """The text of a file of a repository in a revision; path is relative to the folder, the current one unless given.

    Raises:
        UsageError: there is no such revision, or no such file in it.
    """
    where = folder or Path()
    found = _git(where, "show", f"{revision}:./{path}")
    if found is None:
        raise UsageError("there is no `git` here", "install it, or name two files")
    if found.returncode != 0:
        known = _git(where, "rev-parse", "--verify", "--quiet", f"{revision}^{{commit}}")
        if known is None or known.returncode != 0:
            raise UsageError(
                f"`{revision}` is no revision here", "name a branch, a tag or a commit: `main:parsers/x.yaml`"
            )
        raise UsageError(f"{revision} has no file {path}", "paths are relative to the current folder")
    return found.stdout.decode("utf-8-sig", "replace")


def files_at(revision: str, path: str, folder: Path | None = None) -> list[str]:
    """The parser files of a folder in a revision; empty where it is no folder."""
    found = _git(folder or Path(), "ls-tree", "--name-only", revision, f"./{path.rstrip('/')}/")
    if found is None or found.returncode != 0:
        return []
    return [name for name in found.stdout.decode("utf-8", "surrogateescape").splitlines() if name.endswith(".yaml")]
