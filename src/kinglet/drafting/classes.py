"""Classes of the common model that a message may be of: by its words and by what it has."""

from __future__ import annotations

import re
from typing import NamedTuple

from kinglet.drafting.patterns import Slot
from kinglet.mining.levels import LETTERS, MEANINGS, some_are_levels


class _Class(NamedTuple):
    """A class: words that speak for it, fields that do, and its activities by their words."""

    caption: str
    words: str
    fields: tuple[str, ...]
    activities: tuple[tuple[str, str], ...]


_CLASSES = (
    _Class(
        "Authentication",
        r"log(?:ged)?[ -]?(?:in|on|off|out)|password|publickey|authenticat\w*|auth|"
        r"credentials?|passcode|sign(?:ed)?[ -]?in",
        ("user",),
        (("Logoff", r"log(?:ged)?[ -]?(?:off|out)|logoff|logout|session closed"), ("Logon", r".")),
    ),
    _Class(
        "Account Change",
        r"(?:user|account|group|password|role)s? (?:was |has been )?"
        r"(?:created|added|deleted|removed|changed|locked|unlocked|enabled|disabled|modified|reset)|"
        r"(?:creat|add|delet|remov|chang|lock|unlock|enabl|disabl)\w* (?:user|account|group)",
        ("user",),
        (
            ("Create", r"creat|add"),
            ("Delete", r"delet|remov"),
            ("Lock", r"\block"),
            ("Unlock", r"unlock"),
            ("Enable", r"enabl"),
            ("Disable", r"disabl"),
            ("Password Reset", r"reset"),
            ("Password Change", r"password"),
        ),
    ),
    _Class(
        "Network Activity",
        r"connect(?:ion|ed|ing)?|disconnect\w*|traffic|flow|packet|tcp|udp|icmp|listening|session|tunnel|firewall|"
        r"(?:block|dropp|allow|permitt?|reject|deni)ed",
        ("src_ip", "dst_ip", "src_port", "dst_port", "ip"),
        (
            ("Close", r"clos|disconnect|terminat|end"),
            ("Refuse", r"refus|reject|den(?:y|ied)|block|drop"),
            ("Fail", r"fail|timed? ?out"),
            ("Open", r"connect|open|accept|allow|establish|start|permit"),
            ("Traffic", r"."),
        ),
    ),
    _Class(
        "HTTP Activity",
        r"https?|request|GET|POST|PUT|DELETE|HEAD|url",
        ("url", "method", "status", "path", "agent"),
        (),
    ),
    _Class(
        "DNS Activity",
        r"dns|quer(?:y|ies)|resolv\w+|nxdomain|lookup",
        ("query", "host"),
        (("Response", r"repl|respon|answer"), ("Query", ".")),
    ),
    _Class(
        "File System Activity",
        r"file|folder|director(?:y|ies)|(?:creat|delet|renam|writ|read|upload|download|sav)\w* ",
        ("path", "file"),
        (
            ("Create", r"creat|add|upload|sav"),
            ("Delete", r"delet|remov"),
            ("Rename", r"renam"),
            ("Update", r"writ|chang|modif|updat"),
            ("Read", r"read|open|download"),
        ),
    ),
    _Class(
        "Process Activity",
        r"process|exec\w*|command|pid|spawn\w*|fork\w*|launch\w*",
        ("command", "process", "cmd", "pid"),
        (("Terminate", r"exit|terminat|kill|stop|end"), ("Launch", r"start|exec|launch|spawn|run|command")),
    ),
    _Class(
        "Email Activity", r"e?mail|smtp|recipient|sender|message-id", ("mail", "to", "from", "sender", "recipient"), ()
    ),
    _Class(
        "Application Lifecycle",
        r"(?:re)?start(?:ed|ing|up)?|stop(?:ped|ping)?|shut(?:ting)? ?down|ready|initiali[sz]\w+|upgrad\w+|"
        r"install\w*|remov\w+",
        ("version",),
        (
            ("Install", r"install"),
            ("Update", r"upgrad|updat"),
            ("Remove", r"remov|uninstall"),
            ("Restart", r"restart"),
            ("Stop", r"stop|shut"),
            ("Start", r"start|ready|initiali"),
        ),
    ),
)
_SUCCESS = re.compile(r"\b(?:accept|succe|grant|allow|permit|opened|complet|ok\b|authenticated|established)", re.I)
_FAILURE = re.compile(
    r"\b(?:fail|den(?:y|ied)|reject|refus|invalid|error|unable|cannot|could not|timed? ?out|abort|block|bad\b|unknown)",
    re.I,
)


class Suggested(NamedTuple):
    """A class that a message may be of, its mapping as the file has it, and why."""

    caption: str
    score: int
    reasons: str
    mapping: dict[str, object]


def suggested(words: str, slots: list[Slot], outer: list[Slot]) -> list[Suggested]:
    """Classes that fit a message, the likeliest first. words: its fixed text; outer: slots of the envelope."""
    slots = [slot for slot in slots if _base(slot) != "query" or slot.type in _ONE_WORD]
    names = {_base(slot) for slot in slots if slot.name}
    found: list[Suggested] = []
    for item in _CLASSES:
        said = [match[0].strip() for match in re.finditer(rf"\b(?:{item.words})\b", words, re.IGNORECASE)]
        have = [name for name in item.fields if name in names]
        if not said:
            continue
        score = 2 * min(len(said), 2) + 2 * bool(have)
        reasons = f"`{'`, `'.join(dict.fromkeys(said[:3]))}`" + (f" and {', '.join(have)}" if have else "")
        mapping: dict[str, object] = {"class": item.caption}
        activity = next((name for name, regex in item.activities if re.search(regex, words, re.IGNORECASE)), None)
        if activity is not None:
            mapping["activity"] = activity
        if _FAILURE.search(words):
            mapping["status"] = "Failure"
        elif _SUCCESS.search(words):
            mapping["status"] = "Success"
        if paths := _paths(item.caption, slots, outer):
            mapping["set"] = paths
        found.append(Suggested(item.caption, score, reasons, mapping))
    return sorted(found, key=lambda one: -one.score)[:3]


_ENDPOINTS = {
    "src_ip": "src_endpoint.ip", "ip": "src_endpoint.ip", "src_port": "src_endpoint.port", "port": "src_endpoint.port",
    "src_host": "src_endpoint.hostname", "dst_ip": "dst_endpoint.ip", "dst_port": "dst_endpoint.port",
    "dst_host": "dst_endpoint.hostname", "mac": "src_endpoint.mac",
}  # fmt: skip
_BY_CLASS = {
    "Authentication": {**_ENDPOINTS, "user": "user.name", "service": "service.name"},
    "Account Change": {"user": "user.name"},
    "Network Activity": {**_ENDPOINTS, "bytes": "traffic.bytes", "packets": "traffic.packets"},
    "HTTP Activity": {**_ENDPOINTS, "url": "http_request.url.url_string", "method": "http_request.http_method",
                      "status": "http_response.code", "agent": "http_request.user_agent"},
    "DNS Activity": {**_ENDPOINTS, "query": "query.hostname", "host": "query.hostname"},
    "File System Activity": {"path": "file.path", "file": "file.name", "user": "actor.user.name"},
    "Process Activity": {"pid": "process.pid", "command": "process.cmd_line", "user": "actor.user.name"},
    "Email Activity": {"from": "email.from", "to": "email.to", "subject": "email.subject"},
    "Application Lifecycle": {"version": "app.version"},
}  # fmt: skip


def _base(slot: Slot) -> str:
    return slot.alias or re.sub(r"_[0-9]+$", "", slot.name)


_ONE_WORD = ("host", "word")
"""What a query for a name is; that of a database is text."""
_WORDS_OF_SQL = (
    "ALL AND ANY AS ASC BY CASE DESC ELSE END FROM GROUP IN INTO IS LEFT LIKE LIMIT NOT NULL ON OR ORDER RIGHT SET TO"
)
_SQL = frozenset(_WORDS_OF_SQL.split())
"""Words of SQL, which expressions quote where they are fields."""


def _paths(caption: str, slots: list[Slot], outer: list[Slot]) -> dict[str, str]:
    out: dict[str, str] = {}
    table = _BY_CLASS.get(caption, {})
    for slot in [*slots, *outer]:
        base = _base(slot)
        path = table.get(base)
        if path is None and base == "host" and slot in outer:
            path = "device.hostname"
        if path is not None and path not in out:
            out[path] = f'"{slot.name}"' if slot.name.upper() in _SQL else slot.name
    return out


_MEANINGS = {**MEANINGS, "ok": "Informational"}
"""What words mean where others beside them tell that they are levels: `ok` alone is none."""


def severities(slot: Slot) -> dict[str, str]:
    """What the words of a level mean, as far as they are known; nothing where they are none."""
    out: dict[str, str] = {}
    words = sorted({text for text in slot.values if text is not None})
    of_letters = all(len(word) == 1 for word in words) and set(words) & {"E", "W"}
    for text in words:
        word = LETTERS.get(text, text) if of_letters else text
        if word.lower() in _MEANINGS:
            out[text] = _MEANINGS[word.lower()]
    return out if len(out) == len(words) or some_are_levels(words) else {}
