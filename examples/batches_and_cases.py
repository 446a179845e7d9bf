"""What a CI job does: run the cases, then parse batch by batch and stop where too little is understood.

python examples/batches_and_cases.py
"""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

import kinglet
from kinglet.demo.writing import write_demo


def main() -> int:
    with tempfile.TemporaryDirectory() as folder:
        pump = write_demo(Path(folder))[0]
        parser = kinglet.load(pump.parser)
        outcomes = kinglet.check_cases(parser)
        print(f"{sum(outcome.good for outcome in outcomes)} of {len(outcomes)} cases good")

        total = dict.fromkeys(("events", "complete", "partial", "unmatched", "dropped"), 0)
        for batch in parser.parse_batches(pump.log):
            for state, count in batch.counts.items():
                total[state] += count
            for fault, count in batch.faults.items():
                print(f"  {fault}: {count}")
    share = total["complete"] / total["events"]
    print(f"{share:.1%} complete")
    return 0 if share > 0.95 and all(outcome.good for outcome in outcomes) else 1


if __name__ == "__main__":
    sys.exit(main())
