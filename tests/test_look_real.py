"""What `look` says of logs that programs wrote, held against the parsers that were made for them."""

from __future__ import annotations

import unittest

import kinglet
from kinglet.parser_set import load_set_to_parse
from tests.helpers import suggestion
from tests.records import REAL
from tests.test_library import OWNERS

AT = "2026-11-30"
OTHERWISE = {
    "apache/error.log": "what programs write between has no stamp, and goes on with the event before",
    "containers/cri.log": "a long line comes in parts, each with a stamp",
    "haproxy/haproxy.log": "the time of syslog and not the one at which a client was accepted",
    "journal/journal.export": "when the journal had an entry and not when its program sent it",
    "journal/journal.json": "when the journal had an entry and not when its program sent it",
    "mariadb/general.log": "most lines have no stamp, and begin with blanks",
    "mariadb/slow.log": "events begin with one of two lines, of which few logs have the first",
    "postgres/postgresql.log": "lines about an event have its stamp too",
    "postgres-hosted/postgresql.log": "lines about an event have its stamp too",
    "postgres-named/postgresql.log": "lines about an event have its stamp too",
    "redis/replica.log": "a line without a stamp goes on with the event before",
}
"""Logs of which an engineer has to say more, and what."""


class Real(unittest.TestCase):
    def test_events_and_times_are_those_of_the_parser_that_was_made_for_it(self) -> None:
        for log, owner in OWNERS.items():
            if log in OTHERWISE:
                continue
            with self.subTest(log):
                owners = (owner,) if isinstance(owner, str) else owner
                wanted = load_set_to_parse(*owners, maps=False).parse(REAL / log, reference_time=AT).events
                found = kinglet.load(suggestion(REAL / log))
                read = found.parse(REAL / log, reference_time=AT).events
                self.assertEqual(wanted["line"].to_list(), read["line"].to_list())
                times = dict(zip(wanted["line"], wanted["time"], strict=True))
                wrong = [row for row in read.select("line", "time", "state").rows() if times[row[0]] != row[1]]
                # what is not read is said
                self.assertEqual([], [row for row in wrong if row[2] == "complete"])
                self.assertLessEqual(len(wrong), 0.05 * read.height, wrong[:3])

    def test_it_is_what_look_prints(self) -> None:
        for log in ("nginx/access.log", "audit/named.log", "postgres/postgresql.log"):
            looked, bare = kinglet.look(REAL / log)[0].suggestion.splitlines(), suggestion(REAL / log).splitlines()
            self.assertEqual(
                [line for line in looked if not line.startswith("parser:")],
                [line for line in bare if not line.startswith("parser:")],
            )


if __name__ == "__main__":
    unittest.main()
