"""git: commits of odd people with odd messages, as `git log` prints them, and field by field.

    python tools/real/versions.py FOLDER

Needs git. Writes `git.log`, and of the same commits `git.fields`, where git itself ends each field with a zero byte.
"""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

from running import ask

COMMITS = (
    ("m.okoro", "m.okoro@marram.example", "2026-11-20T08:00:00+01:00", "Start\n"),
    (
        "Tomás Varela",
        "t.varela@marram.example",
        "2026-11-20T09:30:00-03:30",
        "Low tide\n\nCloses nothing.\n\ncommit 0123456789012345678901234567890123456789\nAuthor: x <y>\n",
    ),
    ('x "y" [1] commit', "a b@c", "2026-02-28T23:59:59+00:00", "字 åβ \t tab"),
    ("A", "a@b.example", "1999-12-31T23:59:59+1245", "    indented\n\n\n  twice"),
    (
        "a.pires",
        "a.pires@marram.example",
        "2026-11-21T08:00:00+00:00",
        "Signed\n\nSigned-off-by: a.pires <a.pires@marram.example>\n",
    ),
)


def main() -> None:
    folder = Path(sys.argv[1]).resolve()
    folder.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as name:
        git = ("git", "-C", name, "-c", "core.quotePath=false")
        ask(*git, "init", "-q", "-b", "main")
        for i, (person, mail, at, message) in enumerate(COMMITS):
            (Path(name) / f"tide {i}.txt").write_text("low\n" * i)
            ask(*git, "add", ".")
            people = {"GIT_AUTHOR_NAME": person, "GIT_AUTHOR_EMAIL": mail, "GIT_AUTHOR_DATE": at, "GIT_COMMITTER_NAME": "quay",
                      "GIT_COMMITTER_EMAIL": "quay@marram.example", "GIT_COMMITTER_DATE": at}  # fmt: skip
            ask(
                *git,
                "commit",
                "-q",
                "--allow-empty-message",
                "--cleanup=verbatim",
                "-F",
                "-",
                given=message,
                people=people,
            )
            if i == 2:
                ask(*git, "tag", "v1")
                ask(*git, "checkout", "-q", "-b", "side", "HEAD~1")
                (Path(name) / "side").write_text("x")
                ask(*git, "add", ".")
                ask(*git, "commit", "-q", "-m", "side", people=people)
                ask(*git, "checkout", "-q", "main")
                ask(*git, "merge", "-q", "--no-edit", "side", people=people)
        (folder / "git.log").write_text(ask(*git, "log", "--decorate=short", "--stat"), "utf-8")
        (folder / "git.fields").write_text(
            ask(*git, "log", "--format=%H%x00%an%x00%ae%x00%aI%x00%P%x00%B%x00%x01"), "utf-8"
        )


if __name__ == "__main__":
    main()
