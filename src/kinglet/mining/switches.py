"""Words that are values rather than messages, in the language of most devices."""

from __future__ import annotations

_WORDS = "yes no on off true false up down enabled disabled open closed in out tcp udp ok fail success failure low high"
SWITCHES = frozenset(_WORDS.split())
