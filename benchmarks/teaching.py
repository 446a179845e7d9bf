"""How many marks a field needs: the share of fields that one, two or three examples teach exactly.

    python benchmarks/teaching.py [--formats N] [--fields N] [--lines N] [--seed N] [--worst]

The formats are those that `benchmarks/drafting.py` makes up, whose values are known. Of each, some fields are taught
to a parser that is begun for the log. A mark is put on an event in which the field was wrong or missing, as a person
would, or where nothing is to be taken; a field counts as taught where its value is right in every other event that
has it, and missing in all others.
"""

from __future__ import annotations

import argparse
import random
import tempfile
import time
from collections import Counter
from pathlib import Path
from typing import Any

from drafting import Truth, _plain, truth

import kinglet

MARKS = 3


def shown(value: str, raw: str) -> bool:
    """Whether a value can be marked: its text stands in the event."""
    return value != "" and value in raw


def taught(log: Truth, field: str, rng: random.Random) -> tuple[int | None, list[str]]:
    """After how many marks a field was right everywhere, none if after no number; and what was done, or said."""
    wanted = [values.get(field) for values in log.values]
    rows = [row for row, value in enumerate(wanted) if value is not None and shown(value, log.lines[row])]
    marks: list[int] = [rng.choice(rows)]
    said: list[str] = []
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "taught.yaml"
        for number in range(1, MARKS + 1):
            try:
                lesson = kinglet.teach(
                    str(path),
                    "\n".join(log.lines) + "\n",
                    [kinglet.Mark(row + 1, "taught", wanted[row] or None) for row in marks],
                    at="2026-05-06",
                    zone="UTC",
                )
            except kinglet.UsageError as error:
                said = [str(error).splitlines()[0]]
                wrong = [row for row in rows if row not in marks]
            else:
                said = lesson.how
                events = lesson.parser.parse("\n".join(log.lines) + "\n", reference_time="2026-05-06").events
                got = [_plain(item) for item in events["taught"].to_list()]
                wrong = [row for row, value in enumerate(wanted) if _unlike(got[row], value)]
                if not wrong:
                    return number, said
            wrong = [row for row in wrong if row not in marks and (row in rows or not wanted[row])]
            if not wrong:
                break
            marks.append(rng.choice(wrong))
    return None, said


def _unlike(got: Any, value: str | None) -> bool:
    return got != (_plain(value) if value is not None else None) and str(got) != value


def main() -> None:
    """Prints a line a format, and the shares."""
    arguments = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    arguments.add_argument("--formats", type=int, default=20)
    arguments.add_argument("--fields", type=int, default=6, help="of each format, drawn at random")
    arguments.add_argument("--lines", type=int, default=1000)
    arguments.add_argument("--seed", type=int, default=0, help="of the first format")
    arguments.add_argument("--worst", action="store_true", help="show what was not taught")
    given = arguments.parse_args()
    total: Counter[int | None] = Counter()
    for seed in range(given.seed, given.seed + given.formats):
        log = truth(seed, given.lines)
        rng = random.Random(seed)
        counts = Counter(name for values in log.values for name, text in values.items() if text)
        fields = rng.sample(
            sorted(name for name, count in counts.items() if count >= 5), k=min(given.fields, len(counts))
        )
        begun = time.perf_counter()
        found = {field: taught(log, field, rng) for field in fields}
        seconds = (time.perf_counter() - begun) / len(fields)
        marks = " ".join(str(number or "-") for number, _ in found.values())
        total.update(number for number, _ in found.values())
        print(f"{seed:6}  {marks}  {seconds:.2f} s a field  {log.about}")
        for field, (number, said) in found.items() if given.worst else ():
            if number != 1:
                print(f"        {field}: {number or 'never'}; {'; '.join(said)[:160]}")
    every = sum(total.values())
    right = 0
    for number in range(1, MARKS + 1):
        right += total[number]
        print(f"{number} mark{'s' if number > 1 else ' '}  {right / every:.3f} of {every} fields")


if __name__ == "__main__":
    main()
