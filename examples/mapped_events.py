"""Map the events of different logs onto one model and read them as one story.

python examples/mapped_events.py
"""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import kinglet
from kinglet.demo.writing import write_demo


def mapped(folder: Path) -> Iterator[dict[str, Any]]:
    """All events of the demo's logs as events of the model."""
    for item in write_demo(folder):
        yield from kinglet.load(item.parser).parse(item.log).to_model()


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        events = sorted(mapped(Path(folder)), key=lambda event: int(event["time"]))
    night = [
        event for event in events if datetime.fromtimestamp(event["time"] / 1000, UTC).strftime("%d %H") == "05 01"
    ]
    for event in night[-9:]:
        who = event.get("user") or event.get("actor", {}).get("user", {})
        source = event.get("src_endpoint", {}).get("ip", "")
        moment = datetime.fromtimestamp(event["time"] / 1000, UTC)
        status = event.get("status", "")
        print(f"{moment:%H:%M:%S}  {event['type_name']:<28} {status:<8} {who.get('name', ''):<10} {source}")


if __name__ == "__main__":
    main()
