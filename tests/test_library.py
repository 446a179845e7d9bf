"""The ready parsers: against what the programs themselves wrote, in two forms, and as one shelf."""

from __future__ import annotations

import functools
import itertools
import json
import re
import unittest
from collections import Counter
from pathlib import Path
from typing import Any

import polars as pl

import kinglet as package
from kinglet.errors import ParserFileError
from kinglet.parser_set import load_set_to_parse
from kinglet.spec.ready import ready_parsers
from tests.helpers import ROOT, InFolder, kinglet
from tests.records import REAL, RECORDS

_ACCOUNTS = "useradd usermod userdel groupadd groupmod groupdel gpasswd passwd chpasswd chage"
TAGS = {
    "sshd": "openssh",
    "sudo": "sudo",
    "su": "su",
    "runuser": "su",
    **dict.fromkeys(_ACCOUNTS.split(), "linux-accounts"),
}
NOT_OF_BOTH = (
    "id", "file", "offset", "line", "raw", "time", "stamp", "host", "priority", "data_text", "msgid", "pid",
    "time_notes", "time_rule", "body",
)  # fmt: skip


OWNERS = {
    "accounts/traditional.log": ("openssh", "su", "linux-accounts", "sudo"),
    "accounts/rfc5424.log": ("openssh", "su", "linux-accounts", "sudo"),
    "chrony/chrony.log": "chrony",
    "kubernetes/klog.log": "klog",
    "audit/kernel.log": "audit", "audit/raw.log": "audit", "audit/named.log": "audit",
    "netfilter/kernel.log": "netfilter", "containers/cri.log": "cri", "containers/docker.json": "docker-json",
    "apache/access.log": "apache-access", "apache/vhosts.log": "apache-access",
    "apache/error.log": "apache-error", "bind/named.log": "bind", "bind/queries.log": "bind",
    "directory/kadmin.log": "kerberos", "directory/krb5kdc.log": "kerberos", "directory/radius.log": "freeradius",
    "directory/slapd.log": "openldap", "ftp/proftpd-xferlog": "xferlog", "ftp/proftpd.log": "proftpd",
    "ftp/vsftpd-xferlog": "xferlog", "ftp/vsftpd.log": "vsftpd", "haproxy/haproxy.log": "haproxy",
    "jobs/traditional.log": ("cron", "su"), "jobs/rfc5424.log": ("cron", "su"),
    "journal/journal.export": "journal-export", "journal/journal.json": "journal-json",
    "mail/dovecot.log": "dovecot", "mail/exim.log": "exim",
    "mail/postfix.log": "postfix", "mariadb/error.log": "mariadb-error", "mariadb/general.log": "mariadb-general",
    "mariadb/slow.log": "mariadb-slow", "nginx/access.log": "nginx-access", "nginx/error.log": "nginx-error",
    "nginx/timed.log": "nginx-access", "nginx/timed-pairs.log": "nginx-access",
    "packages/alternatives.log": "alternatives", "packages/apt-history.log": "apt-history",
    "packages/apt-term.log": "apt-term", "packages/unattended-upgrades.log": "unattended-upgrades",
    "postgres/postgresql.csv": "postgresql-csv", "postgres/postgresql.json": "postgresql-json",
    "postgres/postgresql.log": "postgresql", "postgres-named/postgresql.log": "postgresql-named",
    "postgres-hosted/postgresql.log": "postgresql-hosted",
    "redis/redis.log": "redis", "redis/replica.log": "redis",
    "resolvers/dnsmasq.log": "dnsmasq", "resolvers/unbound.log": "unbound", "resolvers/unbound-dated.log": "unbound",
    "runtimes/java.log": "java-logging", "runtimes/node.json": "node-json", "runtimes/python.log": "python-logging",
    "samba/traditional.log": ("samba-audit", "syslog-rfc3164"), "samba/rfc5424.log": ("samba-audit", "syslog-rfc5424"),
    "strongswan/charon.log": "strongswan", "strongswan/road.log": "strongswan",
    "strongswan/traditional.log": "strongswan",
    "squid/access.log": "squid-access", "squid/access.json": "json-lines", "tunnels/openvpn.log": "openvpn",
    "versions/git.log": "git-log",
}  # fmt: skip
"""The samples, and the parsers that read them."""


@functools.cache
def library() -> package.ParserSet:
    return package.load_set("library")


class Mixed(InFolder):
    def test_a_form_that_several_programs_write_is_that_of_one_by_its_path_only(self) -> None:
        text = (REAL / "nginx" / "access.log").read_bytes()
        shelf = library()
        for name, parser in (
            ("nginx-access.1", "nginx-access"),
            ("httpd_access", "apache-access"),
            ("web.log", "ncsa"),
        ):
            Path(name).write_bytes(text)
            self.assertEqual([parser], list(shelf.parse(name).by_parser), name)

    def test_each_log_of_a_folder_goes_to_the_parser_of_its_program(self) -> None:
        shelf = library()
        result = shelf.parse(REAL, reference_time="2026-11-30")
        for name, owners in OWNERS.items():
            owners = owners if isinstance(owners, tuple) else (owners,)
            self.assertEqual(set(owners), set(result.by_log[str(REAL / name)]), name)
        events = result.events.filter(result.events["file"].is_in([str(REAL / name) for name in OWNERS]))
        self.assertEqual({"complete"}, set(events["state"]) - {"dropped"})
        self.assertGreater(events.height, 2000)

    def test_it_is_the_same_one_log_at_a_time(self) -> None:
        shelf = library()
        names = [name for name in OWNERS if not name.startswith("squid/access.json")][::4]
        for number, name in enumerate(names):
            Path("logs").mkdir(exist_ok=True)
            Path(f"logs/{9 - number % 10}-{name.replace('/', '-')}").write_bytes((REAL / name).read_bytes())
        together = shelf.parse(Path("logs"), reference_time="2026-11-30").events
        for log in sorted(Path("logs").iterdir()):
            alone = shelf.parse(log, reference_time="2026-11-30").events
            mine = together.filter(together["file"] == str(log))
            columns = [column for column in alone.columns if not alone[column].is_null().all() and column != "id"]
            self.assertTrue(alone.select(columns).equals(mine.select(columns)), log)

    def test_events_of_many_lines_between_those_of_another_device(self) -> None:
        torn = (REAL / "runtimes" / "python.log").read_text("utf-8").splitlines()
        starts = [i for i, line in enumerate(torn) if re.match(r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d,\d{3} [A-Z]+ ", line)]
        traces = ["\n".join(torn[a:b]).rstrip("\n") for a, b in itertools.pairwise([*starts, len(torn)])]
        lines = (REAL / "mail" / "postfix.log").read_text("utf-8").splitlines()[: 3 * len(traces)]
        mixed = [text for i, line in enumerate(lines) for text in (line, *([traces[i // 3]] if i % 3 == 0 else []))]
        Path("mixed.log").write_text("\n".join(mixed) + "\n", "utf-8")
        shelf = library()
        events = shelf.parse("mixed.log", reference_time="2026-11-30").events
        self.assertEqual([text.rstrip() for text in mixed], [raw.rstrip() for raw in events["raw"]])
        self.assertEqual({"complete"}, set(events["state"]))
        owners = ["python-logging" if text in traces else "postfix" for text in mixed]
        self.assertEqual(owners, events["parser"].to_list())
        self.assertEqual({}, shelf.mixer.torn)

    def test_where_events_cannot_be_told_apart_it_is_said(self) -> None:
        base = "kinglet: 1\nversion: 1.0.0\nproduct: {vendor: Quayline, name: Tides}\n"
        Path("p").mkdir()
        own = "parser: a\nclaims: {contains: TIDE}\nenvelope: 'TIDE {body:rest}'\n"
        Path("p/a.yaml").write_text(base + own + "variants: [{name: any, pattern: 'is {n:int}'}]\n")
        own = "parser: b\nclaims: {contains: ebb}\nevents: json\n"
        Path("p/b.yaml").write_text(base + own + "variants: [{name: any, json: true, needs: ebb, types: {ebb: int}}]\n")
        Path("x.log").write_text("TIDE is 4\n" * 20 + '{\n  "ebb":\n  3\n}\n' + "TIDE is 5\n")
        called = kinglet("run", "-p", "p", "x.log", "-o", "out.ndjson")
        self.assertIn("x.log: events of b in it are cut as those of others; part such logs beforehand", called.err)
        told = kinglet("run", "-p", "p", "x.log", "-o", "out.ndjson", "--json").json()
        self.assertEqual({"x.log": ["b"]}, told["torn"])

    def test_lines_of_a_program_that_none_knows_are_nobodys(self) -> None:
        for head, reader in (
            ("Nov 30 03:55:19 quay-1 tidegauge[61]: ", "syslog-rfc3164"),
            ("<30>1 2026-11-30T03:55:19.016266+00:00 quay-1 tidegauge 61 - - ", "syslog-rfc5424"),
            ("2026-11-30T03:55:19.016266+00:00 quay-1 tidegauge[61]: ", "syslog-rfc3164"),
            ("2026-11-30T03:55:19Z INFO tidegauge: ", "unclaimed"),
            ("2026-11-30 03:55:19 ", "unclaimed"),
            ("2026-11-30 03:55:19,123 INFO tidegauge: ", "unclaimed"),
            ("2026-11-30T03:55:19Z ", "unclaimed"),
            ("Mon Nov 30 03:55:19 2026 ", "unclaimed"),
            ("[2026-11-30 03:55:19] ", "unclaimed"),
            ("1795973725 ", "unclaimed"),
            ("", "unclaimed"),
        ):
            lines = [f"{head}level at berth {i} is {i * 7} cm" for i in range(5)]
            with self.subTest(head):
                events = library().parse(lines, reference_time="2026-11-30").events
                self.assertEqual({reader}, set(events["parser"]))
                self.assertEqual({"unmatched" if reader == "unclaimed" else "complete"}, set(events["state"]))

    def test_what_no_parser_reads_is_named(self) -> None:
        Path("logs").mkdir()
        Path("logs/a.log").write_bytes((REAL / "redis" / "redis.log").read_bytes())
        Path("logs/b.log").write_text("door 7 is open\ndoor 8 is shut\n")
        called = kinglet("run", "-p", "library", "logs", "-o", "out.ndjson")
        self.assertIn("1 log that no parser reads: logs/b.log", called.err)
        told = kinglet("run", "-p", "library", "logs", "-o", "out.ndjson", "--json").json()
        self.assertEqual({"logs/a.log": {"redis": 73}, "logs/b.log": {"unclaimed": 2}}, told["logs"])

    def test_a_claim_by_path_is_none_where_nothing_is_read(self) -> None:
        # the name is that of an access log, the events are JSON
        Path("nginx-access.json").write_text('{"time":"2026-11-29T17:22:50Z","msg":"low"}\n')
        events = library().parse("nginx-access.json").events
        self.assertEqual([("json-lines", "complete")], events.select("parser", "state").rows())

    def test_of_equals_the_one_that_knows_the_message_reads_it(self) -> None:
        base = "kinglet: 1\nversion: 1.0.0\nproduct: {vendor: Quayline, name: Tides}\nenvelope: 'TIDE {body:rest}'\n"
        Path("p").mkdir()
        Path("p/a.yaml").write_text(base + "parser: a\nvariants: [{name: any, pattern: '{what:rest}'}]\n")
        known = "variants: [{name: low, pattern: 'is {n:int}'}, {name: any, pattern: '{what:rest}'}]\n"
        Path("p/b.yaml").write_text(base + "parser: b\n" + known)
        events = package.load_set("p").parse(["TIDE is 4", "TIDE is low"]).events
        self.assertEqual([("b", "low"), ("a", "any")], events.select("parser", "variant").rows())

    def test_a_set_has_its_cases_but_where_it_only_parses_and_says_problems_at_their_lines(self) -> None:
        head = "kinglet: 1\nparser: a\nversion: 1.0.0\nproduct: {vendor: a, name: b}\n"
        text = head + "cases:\n  - raw: x\n    expect: {state: complete}\n"
        Path("a.yaml").write_text(text + "variants: [{name: any, pattern: 'x'}]\n")
        for load, count in ((package.load_set, 1), (load_set_to_parse, 0)):
            self.assertEqual(count, len(load("a.yaml").parsers["a"]._definition.cases))
        Path("a.yaml").write_text(text + "variants: [{name: any, patern: 'x'}]\n")
        for load in (package.load_set, load_set_to_parse):
            with self.assertRaisesRegex(ParserFileError, "a.yaml:8:24: variants"):
                load("a.yaml")


class Real(unittest.TestCase):
    def test_values_are_those_that_the_programs_recorded_themselves(self) -> None:
        for name, least in (
            ("apache-access", 1700), ("apache-error", 400), ("audit", 21000), ("netfilter", 900),
            ("cri", 50), ("docker-json", 60), ("git-log", 40), ("haproxy", 600), ("java-logging", 40),
            ("journal-export", 100), ("journal-json", 30), ("mariadb-general", 240), ("mariadb-slow", 10),
            ("nginx-access", 1900), ("node-json", 35), ("postgresql", 2400), ("postgresql-csv", 2400),
            ("postgresql-json", 2400), ("postgresql-named", 2400), ("postgresql-hosted", 2400),
            ("python-logging", 30), ("squid-access", 400),
        ):  # fmt: skip
            with self.subTest(name):
                compared = 0
                for one in RECORDS[name]():
                    self.assertEqual(one.recorded, one.read, one.raw)
                    compared += len(one.recorded)
                self.assertGreaterEqual(compared, least)
        self.assertEqual(23, len(RECORDS))

    def test_errors_of_the_server_name_their_requests(self) -> None:
        result = package.load("nginx-error").parse(REAL / "nginx" / "error.log")
        self.assertEqual(result.counts["events"], result.counts["complete"])
        asked = {
            json.loads(line)["request"]
            for line in (REAL / "nginx" / "access.json").read_text("utf-8", "surrogateescape").splitlines()
        }
        of_requests = result.events.filter(result.events["target"].is_not_null())
        self.assertGreater(of_requests.height, 10)
        for event in of_requests.iter_rows(named=True):
            self.assertIn(f"{event['method']} {event['target']} HTTP/{event['http_version']}", asked)

    def test_users_with_odd_names_are_whole(self) -> None:
        for parser, log, users in (
            ("apache-error", "apache/error.log", {"m.okoro", "t.varela", 'x " [1]'}),
            ("squid-access", "squid/access.log", {'x " %5b1%5d - hier'}),
        ):
            found = {user for user in package.load(parser).parse(REAL / log).events["user"] if user is not None}
            self.assertLessEqual(users, found)

    def test_what_stands_between_events_is_its_own(self) -> None:
        # a message of two lines of which the second reads like the head of an event is torn: the form does not tell
        events = package.load("python-logging").parse(REAL / "runtimes" / "python.log").events
        whole = (REAL / "runtimes" / "python.json").read_text("utf-8").splitlines()
        self.assertGreaterEqual(sum(1 for _ in RECORDS["python-logging"]()), len(whole) - 2)
        self.assertLessEqual(len(whole), events.height)
        apache = package.load("apache-error").parse(REAL / "apache" / "error.log").events
        self.assertGreater(apache["level"].null_count(), 1)
        self.assertEqual({"complete"}, set(apache["state"]))
        # the text form of the database knows of a session what its first event said
        sessions = package.load("postgresql").parse(REAL / "postgres" / "postgresql.log").events
        self.assertGreater(sessions["client"].is_not_null().sum(), 130)

    def test_each_line_of_a_mixed_log_goes_to_the_parser_of_its_program(self) -> None:
        shelf = package.load_set(*ready_parsers().values())
        for name in ("traditional.log", "rfc5424.log"):
            events = shelf.parse(REAL / "accounts" / name, reference_time="2026-11-30").events
            self.assertEqual({"complete"}, set(events["state"]))
            for event in events.iter_rows(named=True):
                raw = event["raw"]
                tag = raw.split()[3] if raw.startswith("<") else raw.split()[4].partition("[")[0].rstrip(":")
                self.assertEqual(TAGS[tag], event["parser"], raw)

    def test_both_forms_of_an_event_are_read_alike(self) -> None:
        old, new = (REAL / "accounts" / name for name in ("traditional.log", "rfc5424.log"))
        for name in sorted(set(TAGS.values())):
            parser = package.load(name)
            frames = [parser.parse(log, reference_time="2026-11-30").events for log in (old, new)]
            own = [frame.filter(frame["variant"].is_not_null()) for frame in frames]
            self.assertGreater(own[0].height, 20)
            same = [column for column in own[0].columns if column not in NOT_OF_BOTH]
            self.assertEqual(*(frame.select(same).rows() for frame in own))
            # the traditional form with the stamp that daemons write today
            dated = re.sub(r"(?m)^<\d+>1 (\S+ \S+) (\S+) (\S+) - - ", r"\1 \2[\3]: ", new.read_text("utf-8"))
            other = parser.parse(dated.replace("[-]: ", ": ").encode(), reference_time="2026-11-30").events
            self.assertEqual(
                own[1].select(*same, "time", "host", "pid").rows(),
                other.filter(pl.col("variant").is_not_null()).select(*same, "time", "host", "pid").rows(),
            )

    def test_what_was_done_to_files_is_what_the_log_says(self) -> None:
        events = package.load("samba-audit").parse(REAL / "samba" / "rfc5424.log", reference_time="2026-11-30").events
        good = events.filter(pl.col("outcome") == "ok")

        def paths(user: str, *operations: str) -> list[str]:
            mine = good.filter((pl.col("user") == user) & pl.col("operation").is_in(operations))
            return [path.removeprefix("/srv/quay/tides/") for path in mine["path"]]

        self.assertEqual(["spring"], paths("mokoro", "mkdirat"))
        self.assertEqual(["spring/high.txt", "spring/neap 'tide'.txt", "spring"], paths("mokoro", "unlinkat"))
        self.assertEqual(["spring/low.txt", "spring/neap 'tide'.txt"], paths("mokoro", "pwrite_send"))
        self.assertEqual(["flut ebbe Ä 潮.txt", "  two  blanks .txt"], paths("tvarela", "pwrite_send"))
        renamed = good.filter(pl.col("variant") == "renamed").select("path", "new_path").rows()
        tides = "/srv/quay/tides"
        self.assertEqual(
            [
                (f"{tides}/spring/low.txt", f"{tides}/spring/high.txt"),
                (f"{tides}/flut ebbe Ä 潮.txt", f"{tides}/neu Ä.txt"),
            ],
            renamed,
        )
        opened = events.filter(pl.col("variant") == "opened")
        self.assertEqual({"r", "w"}, set(opened["mode"]))
        self.assertTrue(all(path.startswith("/srv/quay/") for path in opened["path"]))

    def test_programs_that_were_started_are_those_of_the_audit(self) -> None:
        """Each with its arguments, its parent and the person who had logged on, as the audit library knows them."""
        records = [json.loads(line) for line in (REAL / "audit" / "named.fields").read_text("utf-8").splitlines()]
        started, calls = {}, {record["id"]: record for record in records if record["type"] == "SYSCALL"}
        for record in records:
            fields = dict(record["fields"])
            if record["type"] == "EXECVE" and "argc" in fields:
                words = [text for name, text in record["fields"] if re.fullmatch(r"a\d+(?:\[0\])?", name)]
                call = dict(calls[record["id"]]["fields"])
                person = calls[record["id"]]["known"]["auid"]
                known = None if "(" in person else person
                started[record["id"]] = (" ".join(words), int(call["pid"]), int(call["ppid"]), call["exe"], known)
        events = package.load("audit").parse(REAL / "audit" / "named.log").to_model()
        found = {
            int(event["metadata"]["correlation_uid"]): (
                event["process"]["cmd_line"], event["process"]["pid"], event["actor"]["process"]["pid"],
                event["process"]["file"]["path"], event["actor"]["user"].get("name"),
            )
            for event in events if event["class_name"] == "Process Activity" and event["status"] == "Success"
        }  # fmt: skip
        self.assertEqual(started, found)
        # what the kernel says to syslog has numbers for types, and is the same else
        kernel = (REAL / "audit" / "kernel.log").read_text("utf-8")
        kinds = {"1300": "SYSCALL", "1302": "PATH", "1306": "SOCKADDR", "1307": "CWD", "1309": "EXECVE"}
        kinds["1327"] = "PROCTITLE"
        asked = re.sub(r"(?m)^.*? audit: type=(\d+) ", lambda head: f"type={kinds.get(head[1], head[1])} msg=", kernel)
        said, written = (package.load("audit").parse(text.encode()).events for text in (kernel, asked))
        self.assertEqual({"quay-1"}, set(said["machine"]))
        other = {*NOT_OF_BOTH, "type", "host", "machine", "act"}
        same = [name for name in said.columns if name not in other]
        self.assertEqual(written.select(same).rows(), said.select(same).rows())
        self.assertEqual({"create", "delete", "launch"}, {*said["act"].drop_nulls()})
        self.assertEqual(0, len(written["act"].drop_nulls()))
        # without the name of a machine no class of a deed is complete
        unnamed = package.load("audit").parse(REAL / "audit" / "raw.log").to_model()
        self.assertNotIn("Process Activity", {event["class_name"] for event in unnamed})

    def test_tunnels_that_were_refused_and_made_are_those_of_both_ends(self) -> None:
        parser = package.load("strongswan")
        gate, road, syslog = (
            parser.parse(REAL / "strongswan" / log, reference_time="2026-11-30").events
            for log in ("charon.log", "road.log", "traditional.log")
        )
        made = gate.filter(pl.col("variant") == "established")["remote_id"].to_list()
        # ids with brackets, braces and commas too
        self.assertIn("C=PT, O=Sandwick Quay, CN=tide [1] {2}", made)
        refused = road.filter(pl.col("variant") == "wrong-key")["local_id"].to_list()
        self.assertEqual(2, len(refused))
        both = road.filter(pl.col("variant") == "established")["local_id"].to_list()
        self.assertEqual(Counter(made), Counter([*both, *refused]))
        self.assertEqual(1, gate.filter(pl.col("variant") == "wrong-key").height)
        same = ["variant", "body", "thread", "part", "remote", "local", "remote_id", "local_id", "why", "time"]
        self.assertEqual(gate.select(same).rows(), syslog.select(same).rows())

        def packets(events: pl.DataFrame, direction: str) -> Counter[tuple[Any, ...]]:
            found = events.filter(pl.col("direction") == direction)
            return Counter(found.select("source", "source_port", "target", "target_port", "bytes").rows())

        for ends in ((gate, road), (road, gate)):
            # what is sent to the other arrives there
            arrived = packets(ends[1], "received")
            self.assertEqual(arrived, arrived & packets(ends[0], "sending"))
            self.assertGreater(arrived.total(), 30)

    def test_who_writes_into_a_log_does_not_choose_where_it_came_from(self) -> None:
        events = (
            package.load("openssh").parse(REAL / "accounts" / "traditional.log", reference_time="2026-11-30").events
        )
        forged = events.filter(events["raw"].str.contains("192.0.2.1", literal=True) & events["src_ip"].is_not_null())
        self.assertGreater(forged.height, 5)
        self.assertEqual({"127.0.0.1"}, set(forged["src_ip"]))
        self.assertEqual({"x from 192.0.2.1 port 1 ssh2"}, set(forged["user"]))


class Shelf(InFolder):
    def test_it_is_listed_searched_and_copied(self) -> None:
        told = kinglet("library", "--json").json()["parsers"]
        self.assertEqual(list(ready_parsers()), [one["name"] for one in told])
        for one in told:
            self.assertTrue(one["about"] and one["samples"] and one["classes"], one["name"])
        found = kinglet("library", "--search", "SSH activity", "--json").json()["parsers"]
        self.assertEqual(["openssh"], [one["name"] for one in found])
        shown = kinglet("library", "openssh").out
        for said in ("accepted", "Authentication", "src_ip", "$ kinglet try openssh LOG"):
            self.assertIn(said, shown)
        self.assertLessEqual(max(map(len, shown.splitlines())), 100)
        rules = ROOT / "src" / "kinglet" / "demo" / "rules"
        self.assertIn("night-jump", kinglet("library", "openssh", "--rules", rules).out)
        self.assertEqual(0, kinglet("library", "sudo", "--copy", "sudo.yaml").status)
        self.assertEqual(ready_parsers()["sudo"].read_bytes(), Path("sudo.yaml").read_bytes())
        for arguments, said in (
            (["sudoo"], "no ready parser is called `sudoo`; did you mean `sudo`?"),
            (["sudo", "--copy", "sudo.yaml"], "sudo.yaml: is there already"),
            (["--copy", "x.yaml"], "which parser is to be copied is not said"),
            (["sudo", "--copy", "none/x.yaml"], "none/x.yaml: cannot be written"),
        ):
            called = kinglet("library", *arguments)
            self.assertEqual(2, called.status)
            self.assertIn(said, called.err)

    def test_look_names_those_that_read_a_log(self) -> None:
        told = kinglet("look", REAL / "accounts", "--json").json()["logs"][0]["ready"]
        shares = {one["parser"]: (one["complete"], one["claims"]) for one in told}
        self.assertLessEqual({"sudo", "su", "linux-accounts"}, set(shares))
        self.assertNotIn("nginx-error", shares)
        self.assertGreater(sum(share for share, _ in shares.values()), 0.5)
        shown = kinglet("look", REAL / "nginx" / "error.log").out
        self.assertIn("nginx-error  reads 100 % of it", shown)
        self.assertIn("$ kinglet try nginx-error ", shown)
        Path("own.log").write_text("door 7 opened\ndoor 8 closed\n")
        self.assertEqual([], kinglet("look", "own.log", "--json").json()["logs"][0]["ready"])

    def test_all_of_them_run_together(self) -> None:
        logs = (REAL / "accounts", REAL / "nginx" / "error.log", REAL / "apache" / "error.log", REAL / "haproxy")
        called = kinglet("run", "-p", "library", *logs, "-o", "out.ndjson", "--as", "model", "--at", "2026-11-30")
        self.assertEqual(0, called.status, called.err)
        classes = {json.loads(line)["class_name"] for line in Path("out.ndjson").read_text().splitlines()}
        wanted = {"Authentication", "Account Change", "Group Management", "HTTP Activity", "SSH Activity"}
        self.assertLessEqual(wanted, classes)
        for name in ("apache-error", "nginx-error", "haproxy", "sudo"):
            self.assertRegex(called.out + called.err, rf"(?m)^ *{name} +\d+ +\d+ +0$")


if __name__ == "__main__":
    unittest.main()
