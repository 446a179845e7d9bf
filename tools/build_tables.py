"""Writes the tables of the documents that are made from the code.

python tools/build_tables.py
"""

from __future__ import annotations

from pathlib import Path

from kinglet import faults
from kinglet.lint import documents

DOCS = Path(__file__).parent.parent / "docs"
TABLES = {"parser-file.md": faults.table, "lint.md": documents.table}
MARK, END = "<!-- made by tools/build_tables.py -->\n", "\n<!-- end -->"


def main() -> None:
    for name, table in TABLES.items():
        path = DOCS / name
        before = path.read_text(encoding="utf-8")
        head, _, tail = before.partition(MARK)
        path.write_text(f"{head}{MARK}{table()}{END}{tail.partition(END)[2]}", encoding="utf-8")


if __name__ == "__main__":
    main()
