"""Drafts of invented logs, held against what their generator knows.

    python benchmarks/drafting.py [--formats N] [--draws N] [--lines N] [--seed N] [--worst]

Each format has a language, a head, separators and messages of its own; nothing of it stands in the code that drafts.
"""

from __future__ import annotations

import argparse
import json
import random
import statistics
import string
import tempfile
import time
from collections import Counter, defaultdict
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import kinglet

_SYLLABLES = {
    "signs": ["阀", "门", "关", "闭", "打", "开", "用", "户", "登", "录", "成", "功", "失", "败", "队", "列"],
    "latin": ["ka", "ro", "mi", "ten", "su", "lor", "ve", "pan", "di", "gu", "sel", "tor", "ni", "bra", "qu", "es"],
    "marks": ["lä", "ör", "ñu", "çe", "vå", "ší", "tel", "mó", "ré", "dün", "kø", "pa", "ži", "ran"],
    "cyrillic": ["ва", "ро", "ми", "тен", "су", "лор", "пан", "ди", "гу", "сел", "ни", "бра", "кот"],
    "greek": ["κα", "ρο", "μι", "τεν", "σου", "λορ", "πα", "δι", "γε", "σελ", "νι", "θα"],
}
_ENGLISH = [
    "door",
    "pump",
    "valve",
    "lock",
    "panel",
    "lift",
    "drive",
    "motor",
    "relay",
    "sensor",
    "batch",
    "order",
    "crate",
    "label",
    "scale",
    "queue",
    "link",
    "lease",
    "route",
    "opened",
    "closed",
    "started",
    "stopped",
    "reached",
    "failed",
    "accepted",
    "refused",
    "queued",
    "printed",
    "moved",
    "loaded",
    "cleared",
    "raised",
    "lowered",
    "changed",
    "removed",
    "added",
    "entered",
    "left",
    "checked",
    "sent",
    "received",
    "expired",
    "renewed",
    "granted",
    "denied",
    "timed",
    "out",
]
_BETWEEN = ["from", "to", "by", "for", "on", "at", "in", "of", "with", "after"]


@dataclass
class Slot:
    """A value that varies: makes texts, and knows what it is called in the truth."""

    name: str
    make: Callable[[], str]


Make = Callable[[], str]
Piece = str | Slot | list["Piece"]


@dataclass
class Format:
    """An invented log format."""

    rng: random.Random
    head: list[Piece] = field(default_factory=list)
    messages: list[list[Piece]] = field(default_factory=list)
    about: str = ""


@dataclass
class Truth:
    """Lines, and of each its message, its values and its time."""

    lines: list[str]
    message: list[int]
    values: list[dict[str, str]]
    times: list[datetime]
    about: str


def _word(rng: random.Random, syllables: list[str], most: int = 3) -> str:
    return "".join(rng.choice(syllables) for _ in range(rng.randint(2, most)))


def _pool(rng: random.Random, make: Callable[[], str], low: int, high: int) -> Callable[[], str]:
    values = list(dict.fromkeys(make() for _ in range(rng.randint(low, high))))
    weights = [1 / (i + 1) ** rng.choice((0, 0.5, 1)) for i in range(len(values))]
    return lambda: rng.choices(values, weights)[0]


def _kinds(rng: random.Random, word: Callable[[], str]) -> dict[str, Callable[[], str]]:
    """Makers of values by sort."""

    def digits(count: int) -> str:
        return "".join(rng.choice("0123456789abcdef") for _ in range(count))

    ascii_word: Make = lambda: _word(rng, _SYLLABLES["latin"])  # noqa: E731
    names = rng.choice(
        (lambda: f"{rng.choice('abcdefghklmnprstw')}.{ascii_word()}", word, lambda: word() + str(rng.randint(1, 30)))
    )
    listed = [word() for _ in range(12)]
    net = rng.choice(("192.0.2", "198.51.100", "203.0.113"))
    phrases = _pool(rng, lambda: " ".join(word() for _ in range(rng.randint(1, 5))), 6, 25)
    return {
        "user": _pool(rng, names, 12, 50),
        "ip": _pool(rng, lambda: f"{net}.{rng.randint(1, 254)}", 8, 150),
        "ip6": _pool(rng, lambda: f"2001:db8::{rng.randint(1, 65535):x}", 8, 60),
        "port": lambda: str(rng.randint(1024, 65535)),
        "int": lambda: str(rng.randint(0, 10 ** rng.randint(1, 6))),
        "num": lambda: f"{rng.uniform(0, 500):.{2}f}",
        "signed": lambda: str(rng.randint(-90, 90)),
        "hex": lambda: "0x" + digits(rng.choice((4, 8))),
        "id": lambda: digits(12),
        "uuid": lambda: f"{digits(8)}-{digits(4)}-4{digits(3)}-a{digits(3)}-{digits(12)}",
        "path": _pool(
            rng,
            lambda: "/" + "/".join(ascii_word() for _ in range(rng.randint(1, 4))) + rng.choice(("", ".db", ".log")),
            10,
            60,
        ),
        "host": _pool(rng, lambda: f"{ascii_word()}-{rng.randint(1, 20)}.quay.example", 5, 30),
        "mail": _pool(rng, lambda: f"{ascii_word()}@{ascii_word()}.example", 5, 30),
        "duration": lambda: f"{rng.randint(1, 5000)}ms",
        "seconds": lambda: f"{rng.uniform(0, 90):.1f}s",
        "size": lambda: f"{rng.randint(1, 900)} {rng.choice(('KiB', 'MiB'))}",
        "percent": lambda: f"{rng.randint(0, 100)}%",
        "code": _pool(rng, lambda: f"{rng.choice(string.ascii_uppercase)}{rng.randint(10, 99)}", 8, 40),
        "state": _pool(rng, word, 2, 4),
        "name": _pool(rng, word, 10, 60),
        "phrase": phrases,
        "mac": lambda: ":".join(digits(2) for _ in range(6)),
        "switch": rng.choice(
            (
                lambda: rng.choice(("on", "off")),
                lambda: rng.choice(("yes", "no")),
                lambda: rng.choice(("true", "false")),
            )
        ),
        "list": lambda: ",".join(rng.choice(listed) for _ in range(rng.randint(1, 4))),
        "range": lambda: f"{rng.randint(0, 99)}-{rng.randint(100, 999)}",
        "clock": lambda: f"{rng.randint(0, 23):02}:{rng.randint(0, 59):02}:{rng.randint(0, 59):02}",
        "date": lambda: f"2026-{rng.randint(1, 12):02}-{rng.randint(1, 28):02}",
        "windows": lambda: "C:\\" + "\\".join(ascii_word() for _ in range(rng.randint(1, 3))) + ".exe",
        "url": lambda: f"https://{ascii_word()}.example/{ascii_word()}?{ascii_word()}={rng.randint(1, 99)}",
        "account": lambda: f"QUAY\\{ascii_word()}",
        "version": lambda: f"{rng.randint(1, 9)}.{rng.randint(0, 20)}.{rng.randint(0, 9)}",
    }


def _formats(rng: random.Random) -> Format:
    """A format, drawn."""
    script = rng.choice(("english", "english", "latin", "latin", "marks", "cyrillic", "greek", "signs"))
    if script == "english":
        vocabulary = list(_ENGLISH)
        joints = _BETWEEN
        word: Make = lambda: _word(rng, _SYLLABLES["latin"])  # noqa: E731
    else:
        word = lambda: _word(rng, _SYLLABLES[script], 4)  # noqa: E731
        vocabulary = [word() for _ in range(rng.randint(40, 120))]
        joints = [rng.choice(_SYLLABLES[script]) for _ in range(6)]
    kinds = _kinds(rng, word)
    if rng.random() < 0.2:
        vocabulary = [text.upper() for text in vocabulary]
    elif rng.random() < 0.2:
        vocabulary = [text.capitalize() for text in vocabulary]
    made = Format(rng)
    rich = rng.random() < 0.5
    style = rng.choice(("words", "words", "words", "labels", "pairs", "mixed"))
    count = rng.randint(6, 24)
    codes = rng.sample(range(100, 9999), 2 * count)
    coded = rng.random() < 0.3
    units = [word() for _ in range(rng.randint(2, 5))]
    seen: set[str] = set()
    number = 0

    def slot(kind: str | None = None) -> Slot:
        nonlocal number
        number += 1
        chosen = kind or rng.choice([name for name in kinds if name != "phrase"])
        return Slot(f"{chosen}{number}", kinds[chosen])

    def value(before: str) -> list[Piece]:
        if rng.random() < 0.15:
            return [before + rng.choice(("from ", "") if script == "english" else ("",)), slot("ip"), ":", slot("port")]
        wrap = rng.choice((("", ""),) * 6 + (('"', '"'), ("'", "'"), ("[", "]"), ("(", ")"), ("<", ">")))
        return [before + wrap[0], slot(), wrap[1]]

    def phrase(low: int, high: int) -> str:
        return " ".join(rng.choice(vocabulary) for _ in range(rng.randint(low, high)))

    for i in range(count):
        while True:
            lead = phrase(1, 4)
            if lead not in seen:
                seen.add(lead)
                break
        pieces: list[Piece] = [lead]
        keys = rng.sample(vocabulary, 6)
        kind = rng.choice(("words", "labels", "pairs")) if style == "mixed" else style
        for j in range(rng.choice((0, 1, 1, 2, 2, 3, 4))):
            match kind:
                case "pairs":
                    quoted = rng.random() < 0.2
                    pieces += [
                        f" {keys[j]}=" + '"' * quoted,
                        slot("phrase")
                        if quoted
                        else slot(rng.choice(("user", "ip", "int", "num", "state", "path", "hex"))),
                        '"' * quoted,
                    ]
                case "labels":
                    pieces += value((", " if j else " ") + f"{keys[j]}: ")
                case _:
                    pieces += value(
                        f" {rng.choice(joints) if rng.random() < 0.6 else phrase(1, 2)} "
                        if j or rng.random() < 0.5
                        else " "
                    )
                    if rng.random() < 0.2:
                        pieces.append(" " + phrase(1, 2))
        if rng.random() < 0.3:
            inner = value(
                f" {rng.choice(joints)} "
                if kind == "words"
                else f" {keys[5]}="
                if kind == "pairs"
                else f", {keys[5]}: "
            )
            pieces.append(inner)
        tail = rng.random()
        if tail < 0.2:
            pieces += [": ", slot("phrase")]
        elif tail < 0.3 and rich:
            pieces += [" ", Slot(f"json{i}", _json(rng, kinds, rng.sample(vocabulary, 4)))]
        elif tail < 0.45 and rich:
            for key in rng.sample(vocabulary, rng.randint(2, 5)):
                pair: list[Piece] = [
                    f" {key}=",
                    slot(rng.choice(("user", "ip", "int", "num", "state", "path", "switch"))),
                ]
                pieces += [pair] if rng.random() < 0.4 else pair
        made.messages.append(pieces)
        if rich and rng.random() < 0.06 and len(made.messages) < count:  # the same message, but for one word
            twin = list(pieces)
            twin[0] = " ".join([*lead.split()[:-1], rng.choice(vocabulary)])
            if twin[0] not in seen:
                seen.add(str(twin[0]))
                made.messages.append(twin)
    count = len(made.messages)
    hosts, levels = (
        kinds["host"],
        ["INFO", "WARN", "ERROR", "DEBUG"] if rng.random() < 0.6 else [word() for _ in range(3)],
    )
    wraps = rng.choice((("", ""), ("[", "]"), ("<", ">"), ("(", ")")))
    between = rng.choice((" ", " ", " ", "\t", " | ", "; ", " - "))
    parts: list[list[Piece]] = []
    if rng.random() < 0.5:
        parts.append([wraps[0], Slot("level", lambda: ""), wraps[1]])
    if rng.random() < 0.4:
        parts += [[Slot("host", hosts)]]
    if rng.random() < 0.5:
        unit: list[Piece] = [Slot("unit", lambda: "")]
        unit += ["[", Slot("pid", lambda: str(rng.randint(100, 30000))), "]"] if rng.random() < 0.5 else []
        parts.append(unit)
    if coded:
        parts.append([rng.choice(("", "#", "E")), Slot("kind", lambda: "")])
    rng.shuffle(parts)
    around = rng.choice((("", ""),) * 4 + (("[", "]"), ("<", ">"))) if rich else ("", "")
    made.head = [around[0], Slot("stamp", lambda: ""), around[1]] if around[0] else [Slot("stamp", lambda: "")]
    first = rich and len(parts) > 1 and rng.random() < 0.3
    if first:
        made.head = [*parts.pop(), between, *made.head]
    for part in parts:
        made.head += [between, *part]
    made.head.append(rng.choice((between, ": ", " ")) if between != "\t" else "\t")
    made.about = f"{script}, {style}, {len(made.head)} pieces of head, {count} messages" + (", coded" if coded else "")
    own_level = [rng.choice(levels) if rng.random() < 0.6 else "" for _ in range(count)]
    own_unit = [rng.choice(units) if rng.random() < 0.7 else "" for _ in range(count)]
    made.levels, made.units = (levels, own_level), (units, own_unit)  # type: ignore[attr-defined]
    made.codes = codes  # type: ignore[attr-defined]
    return made


_STAMPS = (
    "%Y-%m-%d %H:%M:%S", "%Y-%m-%dT%H:%M:%S.%fZ", "%d/%b/%Y:%H:%M:%S", "%Y/%m/%d %H:%M:%S", "%b %d %H:%M:%S",
    "%d.%m.%Y %H:%M:%S", "epoch", "%m/%d/%Y %I:%M:%S %p", "%Y%m%dT%H%M%SZ", "%H:%M:%S",
)  # fmt: skip


def _json(rng: random.Random, kinds: dict[str, Callable[[], str]], keys: list[str]) -> Callable[[], str]:
    sorts = [rng.choice(("user", "ip", "int", "path", "phrase")) for _ in keys]
    return lambda: json.dumps(
        {key: int(kinds[sort]()) if sort == "int" else kinds[sort]() for key, sort in zip(keys, sorts, strict=True)},
        ensure_ascii=False,
    )


def _texts(pieces: list[Piece], given: dict[str, str], rng: random.Random, values: dict[str, str]) -> Iterator[str]:
    for piece in pieces:
        if isinstance(piece, str):
            yield piece
        elif isinstance(piece, Slot):
            values[piece.name] = text = given.get(piece.name) or piece.make()
            yield text
        elif rng.random() < 0.5:
            yield from _texts(piece, given, rng, values)


def truth(seed: int, count: int, draw: int = 0) -> Truth:
    """A log of so many lines of the format of this seed; another draw has other values."""
    made = _formats(random.Random(seed))
    rng = made.rng
    rng.seed(f"{seed}/{draw}")
    weights = [1 / (i + 1) ** rng.choice((0.3, 0.7, 1)) for i in range(len(made.messages))]
    stamp = _STAMPS[seed % len(_STAMPS)]
    now = datetime(2026, 5, 6, 7, 8, 9, tzinfo=UTC)
    out = Truth([], [], [], [], made.about + f", stamp {stamp}")
    levels, units = made.levels, made.units  # type: ignore[attr-defined]
    for which in rng.choices(range(len(made.messages)), weights, k=count):
        now += timedelta(seconds=rng.choice((0, 1, 1, 2, 5, 60)))
        given = {
            "stamp": str(int(now.timestamp())) if stamp == "epoch" else now.strftime(stamp),
            "level": levels[1][which] or rng.choice(levels[0]),
            "unit": units[1][which] or rng.choice(units[0]),
            "kind": str(made.codes[which]),  # type: ignore[attr-defined]
        }
        values: dict[str, str] = {}  # of slots that are there
        line = "".join(_texts([*made.head, *made.messages[which]], given, rng, values))
        del values["stamp"]
        for name in [name for name in values if name.startswith("json")]:
            values |= {f"{name}.{key}": str(item) for key, item in json.loads(values.pop(name)).items()}
        out.lines.append(line)
        out.message.append(which)
        out.values.append(values)
        out.times.append(now)
    return out


@dataclass
class Score:
    """How near a draft came to the truth; shares, but for seconds."""

    about: str
    seed: int
    grouped: float
    fields: float
    complete: float
    times: float
    variants: float
    purity: float
    clean: bool
    seconds: float
    missed: list[str] = field(default_factory=list)


def score(seed: int, count: int, draw: int = 0) -> Score:
    """Drafts a parser for a log and holds it against the truth."""
    log = truth(seed, count, draw)
    begun = time.perf_counter()
    drafted = kinglet.draft(log.lines, zone="UTC", at="2026-05-06", product="Quayline/Bench")
    seconds = time.perf_counter() - begun
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "drafted.yaml"
        path.write_text(drafted.text, encoding="utf-8")
        parser = kinglet.load(path)
        clean = all(outcome.good for outcome in kinglet.check_cases(parser))
    result = parser.parse(log.lines, reference_time="2026-05-06")
    events = result.events
    variants = events["variant"].to_list()
    of_message, of_variant = defaultdict(set), defaultdict(set)
    for row, (message, variant) in enumerate(zip(log.message, variants, strict=True)):
        of_message[message].add(row)
        if variant is not None:
            of_variant[variant].add(row)
    found = {frozenset(rows) for rows in of_variant.values()}
    missed = [min(rows) for rows in of_message.values() if frozenset(rows) not in found]
    pure = sum(max(Counter(log.message[row] for row in rows).values()) for rows in of_variant.values())
    stamps = events["time"].dt.replace_time_zone(None).dt.truncate("1s").to_list()
    good = sum(a == b.replace(tzinfo=None) for a, b in zip(stamps, log.times, strict=True))
    right, total = _fields(events, of_message, log)
    return Score(
        log.about,
        seed,
        1 - len(missed) / len(of_message),
        right / max(total, 1),
        result.counts["complete"] / count,
        good / count,
        len(of_variant) / len(of_message),
        pure / max(sum(map(len, of_variant.values())), 1),
        clean,
        seconds,
        [log.lines[row] for row in missed[:3]],
    )


def _fields(events: Any, of_message: dict[int, set[int]], log: Truth) -> tuple[int, int]:
    """Values of the truth that a field of the draft has, and how many there are; a slot has one field in a message."""
    own = [
        name for name in events.columns if name not in ("raw", "variant", "faults", "state", "line", "stamp", "body")
    ]
    columns = {name: [_plain(item) for item in events[name].to_list()] for name in own}
    right = total = 0
    for rows in of_message.values():
        for name in {name for row in rows for name in log.values[row]}:
            wanted = [(row, _plain(log.values[row][name])) for row in rows if name in log.values[row]]
            total += len(wanted)
            right += max(sum(column[row] == text for row, text in wanted) for column in columns.values())
    return right, total


_SIZES = {"KiB": 1024, "MiB": 1024**2}


def _plain(item: Any) -> Any:
    """A value as it is compared: numbers as numbers, without the unit that stands behind them."""
    if item is None or isinstance(item, int | float):
        return item if item is None else float(item)
    text = str(item)
    number, _, unit = text.partition(" ")
    try:
        return float(number) * _SIZES[unit] if unit in _SIZES else float(text.rstrip("ms%"))
    except ValueError:
        return text


def main() -> None:
    """Prints a table of drafts, and the means."""
    arguments = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    arguments.add_argument("--formats", type=int, default=24)
    arguments.add_argument("--draws", type=int, default=1)
    arguments.add_argument("--lines", type=int, default=2000)
    arguments.add_argument("--seed", type=int, default=0, help="of the first format")
    arguments.add_argument("--worst", action="store_true", help="show lines of messages that were not grouped")
    given = arguments.parse_args()
    scores = []
    print("  seed grouped fields complete  times variants purity clean seconds")
    for seed in range(given.seed, given.seed + given.formats):
        for draw in range(given.draws):
            found = score(seed, given.lines, draw)
            scores.append(found)
            print(
                f"{seed:6} {found.grouped:7.3f} {found.fields:6.3f} {found.complete:8.4f} {found.times:6.3f}"
                f" {found.variants:8.2f} {found.purity:6.3f} {'yes' if found.clean else 'NO':>5} {found.seconds:7.2f}"
                f"  {found.about}"
            )
            for line in found.missed if given.worst else ():
                print("       ", line[:150])
    means = {
        name: statistics.mean(getattr(item, name) for item in scores)
        for name in ("grouped", "fields", "complete", "times", "variants", "purity", "seconds")
    }
    print("means ", ", ".join(f"{name} {value:.4f}" for name, value in means.items()))


if __name__ == "__main__":
    main()
