"""Parse a log, look at what came out, and ask a question of it.

python examples/parse_a_log.py
"""

from __future__ import annotations

import tempfile
from pathlib import Path

import polars as pl

import kinglet
from kinglet.demo.writing import write_demo


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        vpn = next(item for item in write_demo(Path(folder)) if item.name == "slipway-vpn")
        parser = kinglet.load(vpn.parser)
        result = parser.parse(vpn.log)
    print(parser)
    print(result.counts)

    failures = (
        result.events.filter((pl.col("variant") == "login") & (pl.col("result") == "fail"))
        .group_by("user", "src")
        .agg(pl.len().alias("failures"), pl.col("time").min().alias("first"), pl.col("time").max().alias("last"))
        .sort("failures", "user", descending=[True, False])
    )
    print("most failed logins:")
    for row in failures.head(3).iter_rows(named=True):
        print(f"  {row['user']:<12} from {row['src']:<16} {row['failures']:>3} times, last {row['last']:%a %H:%M} UTC")


if __name__ == "__main__":
    main()
