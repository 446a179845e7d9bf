"""Baseline (a): the per-line script that any engineer would write.

python baseline_python.py LOG OUT      OUT ends in .ndjson or .parquet
"""

from __future__ import annotations

import json
import re
import sys
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from typing import Any

from shared import PATTERN, STAMP, fingerprint


def events(path: Path) -> Iterator[dict[str, Any]]:
    line_regex = re.compile(PATTERN)
    name = fingerprint(path)
    offset = 0
    with path.open("rb") as log:
        for data in log:
            line = data.decode().rstrip("\n")
            match = line_regex.match(line)
            if match is None:
                raise ValueError(f"no match: {line}")
            field = match.groupdict()
            event: dict[str, Any] = {
                "class_uid": 4002,
                "class_name": "HTTP Activity",
                "category_uid": 4,
                "category_name": "Network Activity",
                "type_uid": 400203,
                "type_name": "HTTP Activity: Get",
                "activity_id": 3,
                "activity_name": "Get",
                "severity_id": 1,
                "severity": "Informational",
                "time": int(datetime.strptime(field["stamp"], STAMP).timestamp() * 1000),
                "metadata": {
                    "version": "1.8.0",
                    "product": {"vendor_name": "Marram Ferries", "name": "Time-table site"},
                    "transformation_info_list": [{"name": "web-access", "uid": "web-access 1.0.0"}],
                    "profiles": ["host"],
                    "uid": f"{name}-{offset}",
                    "original_time": field["stamp"],
                },
                "timezone_offset": offset_of(field["stamp"]),
                "raw_data": line,
                "src_endpoint": {"ip": field["client"]},
                "http_request": {
                    "http_method": field["method"],
                    "url": {"path": field["target"]},
                    "version": field["protocol"],
                    "referrer": field["referrer"],
                    "user_agent": field["agent"],
                },
                "http_response": {"code": int(field["status"]), "length": int(field["size"])},
                "unmapped": {"ident": field["ident"]},
            }
            if field["user"] != "-":
                event["actor"] = {"user": {"name": field["user"]}}
            yield event
            offset += len(data)


def offset_of(stamp: str) -> int:
    """The minutes that the clock of a stamp was ahead of UTC."""
    minutes = int(stamp[-4:-2]) * 60 + int(stamp[-2:])
    return -minutes if stamp[-5] == "-" else minutes


def main() -> None:
    path, out = Path(sys.argv[1]), Path(sys.argv[2])
    if out.suffix == ".ndjson":
        with out.open("w") as stream:
            for event in events(path):
                stream.write(json.dumps(event) + "\n")
        return
    import pyarrow as pa
    import pyarrow.parquet as pq

    writer = None
    rows: list[dict[str, Any]] = []

    def flush() -> None:
        nonlocal writer
        if rows:
            table = pa.Table.from_pylist(rows, schema=writer.schema if writer else None)
            writer = writer or pq.ParquetWriter(out, table.schema, compression="zstd", compression_level=1)
            writer.write_table(table)
            rows.clear()

    for event in events(path):
        rows.append(event)
        if len(rows) == 50_000:
            flush()
    flush()
    if writer:
        writer.close()


if __name__ == "__main__":
    main()
