"""The ready parsers: against what the programs themselves wrote, in two forms, and as one shelf."""

from __future__ import annotations

import html
import json
import re
import unittest
from datetime import UTC, datetime
from pathlib import Path

import kinglet as package
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


class Real(unittest.TestCase):
    def test_requests_are_read_as_the_server_recorded_them(self) -> None:
        events = package.load("nginx-access").parse(REAL / "nginx" / "access.log").events
        records = [
            json.loads(line)
            for line in (REAL / "nginx" / "access.json").read_text("utf-8", "surrogateescape").splitlines()
        ]
        self.assertEqual(len(records), events.height)
        compared = 0
        for event, record in zip(events.iter_rows(named=True), records, strict=True):
            self.assertEqual("complete", event["state"], event["raw"])
            self.assertLess(abs(event["time"].timestamp() - float(record["time"])), 1)
            wanted = {
                "client": record["ip"], "user": record["user"] or None, "status": int(record["status"]),
                "bytes": int(record["bytes"]), "referrer": record["referrer"] or None, "agent": record["agent"] or None,
            }  # fmt: skip
            if event["variant"] == "request":
                method, _, rest = record["request"].partition(" ")
                target, _, protocol = rest.rpartition(" ")
                wanted |= {"method": method, "target": target, "http_version": protocol.removeprefix("HTTP/")}
            elif record["request"].isprintable():
                wanted |= {"request": record["request"]}
            compared += len(wanted)
            self.assertEqual(wanted, {name: event[name] for name in wanted})
        self.assertGreater(compared, 300)

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
            own = {key: html.unescape(found[1]) for key, found in values.items() if found is not None}
            self.assertEqual(
                (own["level"], own["class"], own["method"]), (event["level"], event["source"], event["method"])
            )
            self.assertEqual(own["message"].replace("{0}", "字 åβ"), event["said"])
            self.assertEqual(int(own["millis"]) // 1000, int(event["time"].timestamp()))
            self.assertEqual("<exception>" in record, event["exception"] is not None)
        node = package.load("node-json").parse(folder / "node.json").events
        items = [json.loads(line) for line in (folder / "node.json").read_text("utf-8").splitlines()]
        for event, item in zip(node.iter_rows(named=True), items, strict=True):
            own = (item["level"], item["time"], item.get("msg"), item.get("err", {}).get("stack"), item.get("user"))
            at = round(event["time"].timestamp() * 1000)
            self.assertEqual(own, (event["level"], at, event["msg"], event["trace"], event["user"]))

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
