"""Look at raw logs before there is a parser, and go on with what it suggests.

python examples/look_at_a_log.py
"""

from __future__ import annotations

import tempfile
from pathlib import Path

import kinglet
from kinglet.demo.writing import write_demo


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        for item in write_demo(Path(folder)):
            found = kinglet.look(item.log)[0]
            form = found.container.name if found.container else "lines of text"
            time = found.stamps[0]
            print(f"{item.name:<15} {found.basics.encoding:<10} {form:<16} {found.events:>4} events; {time.format}")
            for pair in found.pairs:
                for example in pair.examples[:1]:
                    print(f"{'':<15} {example}")
            result = kinglet.load(found.suggestion).parse(item.log)
            assert result.counts["complete"] == found.events


if __name__ == "__main__":
    main()
