"""Baseline (b): a Polars script written by hand for this one log, that makes the same output.

python baseline_polars.py LOG OUT      OUT ends in .ndjson or .parquet
"""

from __future__ import annotations

import sys
from pathlib import Path

import polars as pl
from shared import PATTERN, STAMP, fingerprint


def query(path: Path) -> pl.LazyFrame:
    lines = pl.scan_csv(path, has_header=False, separator="\x01", quote_char=None, schema={"raw": pl.String})
    sizes = pl.col("raw").str.len_bytes().cast(pl.Int64) + 1
    fields = (
        lines.with_columns(offset=sizes.cum_sum() - sizes, groups=pl.col("raw").str.extract_groups(PATTERN))
        .unnest("groups")
        .with_columns(user=pl.when(pl.col("user") != "-").then("user"))
    )
    info = pl.lit(pl.Series([[{"name": "web-access", "uid": "web-access 1.0.0"}]])).first()
    return fields.select(
        class_uid=pl.lit(4002),
        class_name=pl.lit("HTTP Activity"),
        category_uid=pl.lit(4),
        category_name=pl.lit("Network Activity"),
        type_uid=pl.lit(400203),
        type_name=pl.lit("HTTP Activity: Get"),
        activity_id=pl.lit(3),
        activity_name=pl.lit("Get"),
        severity_id=pl.lit(1),
        severity=pl.lit("Informational"),
        time=pl.col("stamp").str.to_datetime(STAMP, time_unit="us").dt.epoch("ms"),
        metadata=pl.struct(
            version=pl.lit("1.8.0"),
            product=pl.struct(vendor_name=pl.lit("Marram Ferries"), name=pl.lit("Time-table site")),
            transformation_info_list=info,
            profiles=pl.lit(pl.Series([["host"]])).first(),
            uid=pl.concat_str(pl.lit(f"{fingerprint(path)}-"), "offset"),
            original_time="stamp",
        ),
        timezone_offset=(
            pl.col("stamp").str.slice(-4, 2).cast(pl.Int64) * 60 + pl.col("stamp").str.slice(-2).cast(pl.Int64)
        )
        * pl.when(pl.col("stamp").str.slice(-5, 1) == "-").then(-1).otherwise(1),
        raw_data="raw",
        src_endpoint=pl.struct(ip="client"),
        actor=pl.struct(user=pl.struct(name="user")),
        http_request=pl.struct(
            http_method="method",
            url=pl.struct(path="target"),
            version="protocol",
            referrer="referrer",
            user_agent="agent",
        ),
        http_response=pl.struct(code=pl.col("status").cast(pl.Int64), length=pl.col("size").cast(pl.Int64)),
        unmapped=pl.struct(ident="ident"),
    )


def main() -> None:
    path, out = Path(sys.argv[1]), Path(sys.argv[2])
    frame = query(path)
    if out.suffix == ".parquet":
        frame.sink_parquet(out, compression="zstd", compression_level=1)
        return
    # The writer of NDJSON writes nulls; only the user's name can be null here.
    text = pl.struct(pl.all()).struct.json_encode()
    lines = frame.select(text.str.replace(',"actor":{"user":{"name":null}}', "", literal=True))
    lines.sink_csv(out, include_header=False, quote_style="never")


if __name__ == "__main__":
    main()
