"""The ready parsers: against what the programs themselves wrote, in two forms, and as one shelf."""

from __future__ import annotations

import ast
import html
import itertools
import json
import re
import unittest
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import kinglet as package
from kinglet.errors import ParserFileError
from kinglet.spec.ready import ready_parsers
from tests.helpers import ROOT, InFolder, kinglet

REAL = ROOT / "tests" / "real"
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
    "postgres/postgresql.log": "postgresql", "redis/redis.log": "redis", "redis/replica.log": "redis",
    "resolvers/dnsmasq.log": "dnsmasq", "resolvers/unbound.log": "unbound", "resolvers/unbound-dated.log": "unbound",
    "runtimes/java.log": "java-logging", "runtimes/node.json": "node-json", "runtimes/python.log": "python-logging",
    "squid/access.log": "squid-access", "squid/access.json": "json-lines", "tunnels/openvpn.log": "openvpn",
    "versions/git.log": "git-log",
}  # fmt: skip
"""The samples, and the parsers that read them."""


class Mixed(InFolder):
    def test_a_form_that_several_programs_write_is_that_of_one_by_its_path_only(self) -> None:
        text = (REAL / "nginx" / "access.log").read_bytes()
        shelf = package.load_set("library")
        for name, parser in (
            ("nginx-access.1", "nginx-access"),
            ("httpd_access", "apache-access"),
            ("web.log", "ncsa"),
        ):
            Path(name).write_bytes(text)
            self.assertEqual([parser], list(shelf.parse(name).by_parser), name)

    def test_each_log_of_a_folder_goes_to_the_parser_of_its_program(self) -> None:
        shelf = package.load_set("library")
        result = shelf.parse(REAL, reference_time="2026-11-30")
        for name, owners in OWNERS.items():
            owners = owners if isinstance(owners, tuple) else (owners,)
            self.assertEqual(set(owners), set(result.by_log[str(REAL / name)]), name)
        events = result.events.filter(result.events["file"].is_in([str(REAL / name) for name in OWNERS]))
        self.assertEqual({"complete"}, set(events["state"]) - {"dropped"})
        self.assertGreater(events.height, 2000)

    def test_it_is_the_same_one_log_at_a_time(self) -> None:
        shelf = package.load_set("library")
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
        shelf = package.load_set("library")
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
        events = package.load_set("library").parse("nginx-access.json").events
        self.assertEqual([("json-lines", "complete")], events.select("parser", "state").rows())

    def test_of_equals_the_one_that_knows_the_message_reads_it(self) -> None:
        base = "kinglet: 1\nversion: 1.0.0\nproduct: {vendor: Quayline, name: Tides}\nenvelope: 'TIDE {body:rest}'\n"
        Path("p").mkdir()
        Path("p/a.yaml").write_text(base + "parser: a\nvariants: [{name: any, pattern: '{what:rest}'}]\n")
        known = "variants: [{name: low, pattern: 'is {n:int}'}, {name: any, pattern: '{what:rest}'}]\n"
        Path("p/b.yaml").write_text(base + "parser: b\n" + known)
        events = package.load_set("p").parse(["TIDE is 4", "TIDE is low"]).events
        self.assertEqual([("b", "low"), ("a", "any")], events.select("parser", "variant").rows())

    def test_a_set_is_loaded_without_cases_and_says_problems_at_their_lines(self) -> None:
        head = "kinglet: 1\nparser: a\nversion: 1.0.0\nproduct: {vendor: a, name: b}\n"
        text = head + "cases:\n  - raw: x\n    expect: {state: complete}\n"
        Path("a.yaml").write_text(text + "variants: [{name: any, pattern: 'x'}]\n")
        loaded = package.load_set("a.yaml").parsers["a"]
        self.assertEqual(([], 1), (loaded._definition.cases, len(package.load("a.yaml")._definition.cases)))
        Path("a.yaml").write_text(text + "variants: [{name: any, patern: 'x'}]\n")
        with self.assertRaisesRegex(ParserFileError, "a.yaml:8:24: variants"):
            package.load_set("a.yaml")


class Real(unittest.TestCase):
    def test_requests_are_read_as_the_server_recorded_them(self) -> None:
        records = [
            json.loads(line)
            for line in (REAL / "nginx" / "access.json").read_text("utf-8", "surrogateescape").splitlines()
        ]
        compared = 0
        for log, more in (
            ("access.log", ()),
            ("timed.log", ("forwarded", "took", "upstream_took")),
            ("timed-pairs.log", ("took", "upstream_connect", "upstream_header", "upstream_took")),
        ):
            events = package.load("nginx-access").parse(REAL / "nginx" / log).events
            self.assertEqual(len(records), events.height)
            for event, record in zip(events.iter_rows(named=True), records, strict=True):
                self.assertEqual("complete", event["state"], event["raw"])
                self.assertLess(abs(event["time"].timestamp() - float(record["time"])), 1)
                wanted = {
                    "client": record["ip"], "user": record["user"] or None, "status": int(record["status"]),
                    "bytes": int(record["bytes"]), "referrer": record["referrer"] or None,
                    "agent": record["agent"] or None,
                }  # fmt: skip
                if event["variant"] == "request":
                    method, _, rest = record["request"].partition(" ")
                    target, _, protocol = rest.rpartition(" ")
                    wanted |= {"method": method, "target": target, "http_version": protocol.removeprefix("HTTP/")}
                elif record["request"].isprintable():
                    wanted |= {"request": record["request"]}
                said = {name: None if record[name] in ("", "-") else record[name] for name in more}
                wanted |= said | ({"took": float(record["took"])} if "took" in more else {})
                compared += len(wanted)
                self.assertEqual(wanted, {name: event[name] for name in wanted})
        self.assertGreater(compared, 1300)

    def test_requests_are_read_as_another_server_recorded_them(self) -> None:
        names = ("micros", "client", "ident", "user", "request", "status", "bytes", "referrer", "agent", "host", "port")
        rows = (REAL / "apache" / "access.fields").read_text("utf-8").splitlines()
        records = [dict(zip(names, row.split("\t"), strict=True)) for row in rows]
        for log in ("access.log", "vhosts.log"):
            events = package.load("apache-access").parse(REAL / "apache" / log).events
            self.assertEqual(len(records), events.height)
            for event, record in zip(events.iter_rows(named=True), records, strict=True):
                self.assertEqual("complete", event["state"], event["raw"])
                self.assertLess(abs(event["time"].timestamp() - int(record["micros"]) / 1e6), 1)
                wanted: dict[str, Any] = {"client": record["client"]}
                for name in ("ident", "user", "referrer", "agent"):
                    # escapes as those of a literal of Python, whose bytes are UTF-8
                    text = ast.literal_eval('b"' + record[name] + '"').decode()
                    wanted[name] = None if record[name] == "-" else text
                for name in ("status", "bytes"):
                    wanted[name] = int(record[name])
                method, _, rest = record["request"].partition(" ")
                target, _, protocol = rest.rpartition(" ")
                if re.fullmatch(r"HTTP/\d\.\d", protocol) and target and " " not in method:
                    wanted |= {"variant": "request", "method": method, "http_version": protocol.removeprefix("HTTP/")}
                    wanted |= {"target": ast.literal_eval('b"' + target + '"').decode()}
                else:
                    wanted |= {"variant": "no-request"}
                    wanted |= {"request": None if record["request"] == "-" else record["request"]}
                if log == "vhosts.log":
                    wanted |= {"vhost": record["host"], "vhost_port": int(record["port"])}
                self.assertEqual(wanted, {name: event[name] for name in wanted}, event["raw"])

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

    def test_errors_are_read_as_the_server_set_them_apart(self) -> None:
        result = package.load("apache-error").parse(REAL / "apache" / "error.log")
        self.assertEqual({"complete"}, set(result.events["state"]))
        records = (REAL / "apache" / "error.fields").read_text("utf-8").splitlines()
        own = 0
        for event, record in zip(result.events.iter_rows(named=True), records, strict=True):
            if record.count("|") < 5:
                own += 1  # of a program, which has no time of its own
                self.assertEqual((record, None), (event["raw"], event["level"]))
                self.assertEqual(["time-of-previous"], [note for note in event["time_notes"] if "prev" in note])
                continue
            level, module, error, client, referrer, message = record.split("|", 5)
            self.assertEqual((level, module), (event["level"], event["module"]))
            number = f"({event['error']}){event['reason']}" if event["error"] is not None else "-"
            self.assertEqual((error, referrer), (number, event["referrer"] or "-"))
            self.assertEqual(client.rpartition(":")[0] or None, event["client"])
            code, _, rest = message.partition(": ") if message.startswith("AH") else (None, "", message)
            if not rest.startswith("Command line"):
                self.assertEqual(code, event["code"])
            for name in ("user", "target", "path", "why", "backend"):
                self.assertIn(event[name] or "", message)
            stamp = datetime.strptime(event["stamp"], "%a %b %d %H:%M:%S.%f %Y").replace(tzinfo=UTC)
            self.assertEqual(stamp, event["time"])
        self.assertGreater(own, 1)
        users = {user for user in result.events["user"] if user is not None}
        self.assertEqual({"m.okoro", "t.varela", 'x " [1]'}, users)

    def test_sessions_are_read_as_the_balancer_set_them_apart(self) -> None:
        log = REAL / "haproxy" / "haproxy.log"
        events = package.load("haproxy").parse(log, reference_time="2026-11-30").events
        self.assertEqual({"complete"}, set(events["state"]))
        records = (REAL / "haproxy" / "haproxy.fields").read_text("utf-8").splitlines()
        compared = 0
        for event, record in zip(events.iter_rows(named=True), records, strict=True):
            if "|" not in record:
                self.assertTrue(event["raw"].endswith(": " + record))
                continue
            told = record.split("|")
            own = [event[name] for name in ("client", "frontend", "backend", "server")]
            self.assertEqual(told[:4], own)
            if told[-1] == "tcp":
                self.assertEqual(told[4:6], [event["bytes"], event["ending"]])
                continue
            # times taken differ between the runs; that a step was never reached does not
            for place, name in ((4, "request_ms"), (5, "queue_ms"), (6, "connect_ms")):
                self.assertEqual(told[place] == "-1", event[name] == -1)
            answer = [str(event[name]) for name in ("status", "bytes", "request_cookie", "response_cookie", "ending")]
            self.assertEqual(told[7:12], answer)
            asked = event["request"] or f"{event['method']} {event['target']} HTTP/{event['http_version']}"
            self.assertEqual(told[14], asked)
            captured = " ".join(part or "-" for part in (event["captured"] or "").split("|")) if told[12] else "-"
            self.assertEqual((told[12] or "-", told[13] or "-"), (captured, event["captured_response"] or "-"))
            written = datetime.strptime(event["accepted"], "%d/%b/%Y:%H:%M:%S.%f").replace(tzinfo=UTC)
            self.assertEqual(written, event["time"])
            compared += len(told) + 1
        self.assertGreater(compared, 500)

    def test_a_database_writes_each_event_in_three_forms(self) -> None:
        folder = REAL / "postgres"
        records = [json.loads(line) for line in (folder / "postgresql.json").read_text("utf-8").splitlines()]
        names = {"text": "postgresql", "csv": "postgresql-csv", "json": "postgresql-json"}
        logs = {"text": "postgresql.log", "csv": "postgresql.csv", "json": "postgresql.json"}
        forms = {
            form: package.load(name).parse(folder / logs[form]).events.rows(named=True) for form, name in names.items()
        }
        compared = 0
        for record, text, row, item in zip(records, *forms.values(), strict=True):
            stamp = datetime.strptime(record["timestamp"], "%Y-%m-%d %H:%M:%S.%f UTC").replace(tzinfo=UTC)
            own = {
                "pid": record["pid"], "level": record["error_severity"], "user": record.get("user"),
                "database": record.get("dbname"), "detail": record.get("detail"), "hint": record.get("hint"),
                "context": record.get("context"), "time": stamp, "state": "complete",
            }  # fmt: skip
            for event in (text, row, item):
                self.assertEqual(own, {name: event.get(name) for name in own})
                self.assertEqual(text["variant"], event["variant"])
                self.assertEqual(text["login"], event["login"])
                self.assertEqual(text["sql"], event["sql"])
                self.assertEqual(record.get("statement"), event["statement"])
                # the text form knows of a session what its first event said
                self.assertIn(text["client"], (None, event["client"]))
            if record.get("remote_host") and text["client"]:
                self.assertEqual((record["remote_host"], record["remote_port"]), (text["client"], text["client_port"]))
            compared += len(own) + 6
        self.assertGreater(compared, 2000)
        self.assertGreater(sum(event["client"] is not None for event in forms["text"]), 130)

    def test_requests_through_a_proxy_are_read_as_it_set_them_apart(self) -> None:
        events = package.load("squid-access").parse(REAL / "squid" / "access.log").events
        records = [
            json.loads(line.replace("\\'", "'"))
            for line in (REAL / "squid" / "access.json").read_text("utf-8").splitlines()
        ]
        self.assertEqual({"complete"}, set(events["state"]))
        for event, record in zip(events.iter_rows(named=True), records, strict=True):
            own = {
                "took_ms": record["took"], "client": record["client"], "outcome": record["outcome"],
                "code": record["code"], "bytes": record["bytes"],
                "method": record["method"], "hierarchy": record["hierarchy"],
                "server": record["server"] if record["server"] != "-" else None,
                "type": record["type"] if record["type"] != "-" else None,
            }  # fmt: skip
            self.assertEqual(own, {name: event[name] for name in own})
            self.assertEqual(round(record["time"] * 1000), round(event["time"].timestamp() * 1000))
            self.assertEqual(record["url"].partition("?")[0], event["url"].partition("?")[0])
            if event["user"] is not None:
                self.assertIn(event["user"][:3], record["user"].replace("%22", '"').replace("%20", " "))
        self.assertIn('x " %5b1%5d - hier', set(events["user"]))

    def test_statements_are_read_as_the_tables_of_the_database_have_them(self) -> None:
        folder = REAL / "mariadb"
        records = [json.loads(line) for line in (folder / "general.json").read_text("utf-8").splitlines()]
        events = package.load("mariadb-general").parse(folder / "general.log").events
        events = events.filter(events["state"] == "complete")
        self.assertEqual([], [one for one in events["faults"].to_list() if one])
        for event, record in zip(events.iter_rows(named=True), records, strict=False):
            self.assertEqual((record["thread"], record["command"]), (event["thread"], event["command"]))
            said = event["raw"].split(f"{event['command']}\t", 1)[1]
            self.assertEqual(record["said"], said)
            self.assertIn(event["sql"], (None, said))
            stamp = datetime.fromisoformat(record["at"]).replace(tzinfo=UTC, microsecond=0)
            self.assertEqual(stamp, event["time"])
        self.assertGreater(events.height, 40)
        slow = package.load("mariadb-slow").parse(folder / "slow.log").events
        slow = slow.filter(slow["state"] == "complete")
        records = [json.loads(line) for line in (folder / "slow.json").read_text("utf-8").splitlines()]
        for event, record in zip(slow.iter_rows(named=True), records, strict=True):
            self.assertEqual(record["said"] + ";", event["sql"])
            told = (record["database"] or None, record["sent"], record["examined"])
            self.assertEqual(told, (event["database"], event["rows_sent"], event["rows_examined"]))
            self.assertAlmostEqual(float(record["took"].rpartition(":")[2]), event["took_s"])

    def test_what_programs_log_with_traces(self) -> None:
        folder = REAL / "runtimes"
        # a message of two lines of which the second reads like the head of an event is torn: the form does not tell
        events = package.load("python-logging").parse(folder / "python.log").events
        whole = [json.loads(line) for line in (folder / "python.json").read_text("utf-8").splitlines()]
        told = {(item["level"], item["logger"], item["said"]): item for item in whole}
        read = 0
        for event in events.iter_rows(named=True):
            item = told.get((event["level"], event["logger"], event["said"]))
            if item is None:
                continue
            read += 1
            self.assertLess(abs(item["at"] - event["time"].timestamp()), 0.05)
            if event["trace"] is not None and "2026-11-29 10:00" not in item["trace"]:
                self.assertEqual(item["trace"], event["trace"].rstrip("\n"))
        self.assertGreaterEqual(read, len(whole) - 2)
        java = package.load("java-logging").parse(folder / "java.log").events
        records = [
            one.split("<record>", 1)[1] for one in (folder / "java.xml").read_text("utf-8").split("</record>")[:-1]
        ]
        self.assertEqual(len(records), java.height)
        for event, record in zip(java.iter_rows(named=True), records, strict=True):
            values = {
                key: re.search(f"<{key}>(.*?)</{key}>", record, re.DOTALL)
                for key in ("level", "class", "method", "message", "millis")
            }
            said = {key: html.unescape(found[1]) for key, found in values.items() if found is not None}
            self.assertEqual(
                (said["level"], said["class"], said["method"]), (event["level"], event["source"], event["method"])
            )
            self.assertEqual(said["message"].replace("{0}", "字 åβ"), event["said"])
            self.assertEqual(int(said["millis"]) // 1000, int(event["time"].timestamp()))
            self.assertEqual("<exception>" in record, event["exception"] is not None)
        node = package.load("node-json").parse(folder / "node.json").events
        items = [json.loads(line) for line in (folder / "node.json").read_text("utf-8").splitlines()]
        for event, item in zip(node.iter_rows(named=True), items, strict=True):
            own = (item["level"], item["time"], item.get("msg"), item.get("err", {}).get("stack"), item.get("user"))
            at = round(event["time"].timestamp() * 1000)
            self.assertEqual(own, (event["level"], at, event["msg"], event["trace"], event["user"]))

    def test_commits_are_read_as_git_set_them_apart(self) -> None:
        events = package.load("git-log").parse(REAL / "versions" / "git.log").events
        records = [
            one.split("\0") for one in (REAL / "versions" / "git.fields").read_text("utf-8").split("\0\1\n")[:-1]
        ]
        self.assertEqual(len(records), events.height)
        for event, record in zip(events.iter_rows(named=True), records, strict=True):
            commit, author, mail, at, parents, message = record[:6]
            self.assertEqual((commit, author, mail), (event["commit"], event["author"], event["mail"]))
            self.assertEqual(datetime.fromisoformat(at), event["time"])
            self.assertEqual(len(parents.split()) > 1, event["parents"] is not None)
            # git puts blanks for tabs
            told = (event["message"] or "").rstrip("\n ").split("\n")
            own = message.rstrip("\n").split("\n")
            self.assertEqual([re.sub(r"\s*\t\s*| {4,}", "|", line) for line in own], [
                re.sub(r" {4,}", "|", line) for line in told
            ])  # fmt: skip

    def test_both_forms_of_the_journal_are_read_alike(self) -> None:
        folder = REAL / "journal"
        items = [json.loads(line) for line in (folder / "journal.json").read_text("utf-8").splitlines()]
        one = package.load("journal-json").parse(folder / "journal.json").events
        other = package.load("journal-export").parse(folder / "journal.export").events
        for item, event, again in zip(items, one.rows(named=True), other.rows(named=True), strict=True):
            stamp = int(item.get("_SOURCE_REALTIME_TIMESTAMP", item["__REALTIME_TIMESTAMP"]))
            self.assertEqual(stamp, round(event["time"].timestamp() * 1_000_000))
            self.assertEqual((item["_HOSTNAME"], int(item["_PID"])), (event["host"], event["pid"]))
            if again["variant"] == "entry":
                same = (
                    "app",
                    "priority",
                    "host",
                    "pid",
                    "uid",
                    "program",
                    "command",
                    "transport",
                    "boot",
                    "errno",
                    "time",
                )
                self.assertEqual([event[name] for name in same], [again[name] for name in same])
                self.assertEqual(item["MESSAGE"] or None, again["message"])

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
        self.assertIn("nginx-error  reads 100% of it", shown)
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
