"""Drafts of logs of structure, of many forms: pairs, rows, blocks, times in two fields; values and times are known."""

from __future__ import annotations

import csv
import io
import json
import random
import re
import unittest
from collections.abc import Callable, Iterator, Mapping
from datetime import UTC, datetime, timedelta
from typing import Any, NamedTuple

import kinglet
from kinglet.discover.pair_signs import pair_signs
from kinglet.insight.cases import check_cases

Values = dict[str, str]
USERS = ("m.okoro", "h.fontaine", "s.amadi", "t.varela", "a.pires")
NOTES = ("held open", "ok", 'said "no" twice', "late; see log", "gate a=b shut")
RULES = ("R-1", "R-2", "deny all", "r 77")
PATHS = ("/srv/m/7.json", r"C:\Feeds\in 1.csv", r"D:\temp\new.txt")
START = datetime(2026, 3, 14, 20, 30, 5, 250000, tzinfo=UTC)
AT = "2026-11-30"


class Log(NamedTuple):
    """A log, and of each event the time and the values."""

    text: str
    times: list[datetime]
    values: list[Values]


def made(seed: int, write: Callable[[datetime, Values], str], *, lacks: float = 0.15, count: int = 40) -> Log:
    """A log of events in which most keys come and go."""
    rng = random.Random(seed)
    lines, times, each, now = [], [], [], START
    for _ in range(count):
        now += timedelta(milliseconds=rng.randint(20, 300_000))
        values = {
            "user": rng.choice(USERS),
            "src": rng.choice((f"192.0.2.{rng.randint(1, 99)}", f"2001:db8::{rng.randint(1, 99):x}")),
            "rule": rng.choice(RULES),
            "bytes": str(rng.randint(0, 999_999)),
            "id": f"{rng.getrandbits(32):08x}",
            "path": rng.choice(PATHS),
            "note": rng.choice(NOTES),
        }
        values = {key: value for key, value in values.items() if rng.random() >= lacks}
        lines.append(write(now, values))
        times.append(now)
        each.append(values)
    return Log("\n".join(lines) + "\n", times, each)


def quoted(value: str, sign: str) -> str:
    if not any(char in value for char in " \t'\"=,;|:[]"):
        return value
    return sign + value.replace("\\", "\\\\").replace(sign, f"\\{sign}") + sign


def texts(value: Any) -> Iterator[str]:
    if isinstance(value, dict | list):
        for item in value.values() if isinstance(value, dict) else value:
            yield from texts(item)
    elif isinstance(value, str) and value[:1] in "{[":
        try:
            yield from texts(json.loads(value))
        except ValueError:
            yield value
    elif value is not None:
        yield str(value)


class Drafted(unittest.TestCase):
    def hold(self, log: Log, *, whole: bool = True, seconds: bool = True) -> Mapping[str, Any]:
        """Drafts a log, reads it, and compares every time and value with those that were written."""
        draft = kinglet.draft(log.text, at=AT)
        events = draft.parser.parse(log.text, reference_time=AT).events
        self.assertEqual(len(log.values), events.height, draft.text)
        for row, time, values in zip(events.to_dicts(), log.times, log.values, strict=True):
            wanted = time.replace(microsecond=0) if seconds else time
            self.assertEqual(wanted, row["time"], f"{row['raw']}\n{draft.text[:600]}")
            if whole:
                self.assertEqual("complete", row["state"], f"{row['raw']} {row['faults']}\n{draft.text[:600]}")
            found = {text for name, item in row.items() if name not in ("raw", "line") for text in texts(item)}
            numbers = {float(text) for text in found if text.replace(".", "", 1).isdigit()}
            for value in values.values():
                known = value in found or (value.isdigit() and float(value) in numbers)
                self.assertTrue(known, f"{value} of {row['raw']}\n{draft.text[:900]}")
        return {"text": draft.text}

    def test_pairs_behind_heads_and_between_any_signs(self) -> None:
        ways = (
            (" ", "="),
            (", ", "="),
            ("; ", "="),
            (" | ", " = "),
            ("|", ":"),
            ("\t", ": "),
            (", ", ": "),
            ("&", "="),
        )
        heads = ("", "gate7 ", "feed[7]: ")
        for i, (between, equals) in enumerate(ways):
            quote, head = "\"'"[i % 2], heads[i % 3]
            with self.subTest(between=between, equals=equals, quote=quote, head=head):

                def line(
                    time: datetime, values: Values, between: str = between, equals: str = equals, quote: str = quote,
                    head: str = head,
                ) -> str:  # fmt: skip
                    pairs = between.join(f"{key}{equals}{quoted(value, quote)}" for key, value in values.items())
                    return f"{time:%Y-%m-%d %H:%M:%S} {head}{pairs}"

                self.hold(made(i, line, lacks=0.1))

    def test_pairs_in_brackets(self) -> None:
        for i, (open_, close, gap) in enumerate((("[", "]", " "), ("(", ")", " "), ("[", "]", ""))):
            with self.subTest(gap=gap, bracket=open_):

                def line(time: datetime, values: Values, open_: str = open_, close: str = close, gap: str = gap) -> str:
                    pairs = (f"{open_}{key}={quoted(value, chr(34))}{close}" for key, value in values.items())
                    return f"{time:%Y-%m-%dT%H:%M:%SZ} gate7 {gap.join(pairs)}"

                self.hold(made(i, line))

    def test_keys_of_several_words(self) -> None:
        names = {"user": "User name", "src": "Source address", "bytes": "Bytes sent", "id": "Id", "rule": "Rule"}

        def line(time: datetime, values: Values) -> str:
            own = {names[key]: value for key, value in values.items() if key in names}
            return f"{time:%Y-%m-%d %H:%M:%S} gate7: " + "; ".join(f"{key}: {value}" for key, value in own.items())

        log = made(3, line)
        own = [{key: value for key, value in values.items() if key in names} for values in log.values]
        found = self.hold(log._replace(values=own))
        self.assertIn("Source address", found["text"])

    def test_prose_with_an_equals_sign_is_no_list_of_pairs(self) -> None:
        prose = ["gate shut by m.okoro n=5", "tide low, wind=3 and rising", "user a.pires left (shift=2)"] * 9
        self.assertIsNone(pair_signs(prose))
        self.assertIsNone(pair_signs(prose, behind_heads=True))
        self.assertIsNone(pair_signs(["", "a", "=", "a=", "=b"]))
        self.assertIsNone(pair_signs([]))

    def test_a_date_and_a_time_of_day_in_two_fields(self) -> None:
        dates = ("%Y-%m-%d", "%d/%m/%Y", "%Y%m%d", "%d.%m.%Y", "%d %b %Y", "%b %d %Y")
        clocks = ("%H:%M:%S", "%H%M%S", "%I:%M:%S %p", "%H:%M:%S.%f")
        for i, date in enumerate(dates):
            clock = clocks[i % 4]
            with self.subTest(date=date, clock=clock):

                def halves(time: datetime, date: str = date, clock: str = clock) -> Values:
                    return {"date": f"{time:{date}}", "time": f"{time:{clock}}"}

                def line(time: datetime, values: Values, halves: Any = halves) -> str:
                    own = {**halves(time), **values}
                    return " ".join(f"{key}={quoted(value, chr(34))}" for key, value in own.items())

                def headed(time: datetime, values: Values, line: Any = line) -> str:
                    return f"<13>{line(time, values)}"

                def record(time: datetime, values: Values, halves: Any = halves) -> str:
                    return json.dumps({"user": "", **halves(time), **values})

                for k, write in enumerate((line, headed, record)):
                    self.hold(made(10 * i + k, write), seconds="%f" not in clock)

    def test_columns_of_date_and_time_and_a_zone_beside_them(self) -> None:
        for header in (True, False):
            for delimiter in ",;\t|":
                with self.subTest(header=header, delimiter=delimiter):

                    def row(time: datetime, values: Values, delimiter: str = delimiter) -> str:
                        out = io.StringIO()
                        keys = ("user", "src", "bytes", "id")
                        local = time + timedelta(hours=2)
                        own = [
                            f"{local:%d/%m/%Y}",
                            f"{local:%H:%M:%S}",
                            "+0200",
                            *(values.get(key, "") for key in keys),
                        ]
                        csv.writer(out, delimiter=delimiter, lineterminator="").writerow(own)
                        return out.getvalue()

                    log = made(4, row)
                    names = ["Date", "Time", "TZ", "User", "Source", "Bytes", "Id"]
                    own = [{k: v for k, v in values.items() if k in ("user", "src", "id")} for values in log.values]
                    if not header:  # the zone has no name there
                        log = log._replace(times=[time + timedelta(hours=2) for time in log.times])
                    text = f"{delimiter.join(names)}\n{log.text}" if header else log.text
                    self.hold(log._replace(text=text, values=own))

    def test_the_parser_that_look_prints_reads_both_fields(self) -> None:
        log = made(
            5, lambda time, values: f"date={time:%Y/%m/%d} time={time:%H:%M:%S} user={values.get('user', 'x')} n=1"
        )
        look = kinglet.look(log.text.encode())[0]
        self.assertEqual(("in `date` and `time`", True), (look.stamps[0].place, look.stamps[0].is_time))
        self.assertEqual([False], sorted({place.is_time for place in look.stamps[1:]}))
        parser = kinglet.load(look.suggestion)
        found = parser.parse(log.text, reference_time=AT).events["time"].to_list()
        self.assertEqual([time.replace(microsecond=0) for time in log.times], found)

    def test_rows_behind_heads(self) -> None:
        heads = ("gate7 ", "gate7 quay[77]: ", "<13>1 ", "")
        for i, sign in enumerate(("^", "~", "|", ";", ",", "\t", "::", "||", "¦")):
            head = heads[i % 4]
            with self.subTest(sign=sign, head=head):

                def line(time: datetime, values: Values, sign: str = sign, head: str = head) -> str:
                    row = [values[key] for key in ("id", "user", "rule", "bytes")] + [values["path"].replace(" ", "_")]
                    return f"{time:%Y-%m-%dT%H:%M:%SZ} {head}AUD{sign}{sign.join(row)}"

                log = made(i, line, lacks=0)
                keys = ("id", "user", "rule", "bytes")
                self.hold(log._replace(values=[{key: values[key] for key in keys} for values in log.values]))

    def test_values_put_below_each_other(self) -> None:
        def line(time: datetime, values: Values) -> str:
            own = f"{values['id']:<12}  {values['user']:<14}  {values['src']:<18}  {values['bytes']}"
            return f"{time:%b %e %H:%M:%S}  {own}"

        log = made(6, line, lacks=0)
        header = f"{'When':<17}{'Batch':<14}{'Who':<16}{'Address (IP)':<20}Size\n{'-' * 70}\n"
        for sign, table in ((" ", header + log.text), ("^", "When^Batch^Who^Address (IP)^Size\n" + log.text)):
            text = table if sign == " " else re.sub(" {2,}", "^", table.replace("Mar  ", "Mar 0"))
            draft = kinglet.draft(text, at=AT)
            result = draft.parser.parse(text, reference_time=AT)
            self.assertEqual((40, len(text.splitlines()) - 40), (result.counts["complete"], result.counts["dropped"]))
            events = result.events.filter(result.events["state"] == "complete")
            keys = {"batch": "id", "who": "user", "address_ip": "src"}
            found = [dict(zip(keys.values(), row, strict=True)) for row in events.select(*keys).rows()]
            self.assertEqual([{key: values[key] for key in keys.values()} for values in log.values], found)
            self.assertTrue(all(outcome.good for outcome in check_cases(draft.parser)))
        self.hold(
            log._replace(values=[{k: values[k] for k in ("id", "user", "src", "bytes")} for values in log.values])
        )

    def test_blocks_of_any_frame(self) -> None:
        frames: dict[str, Callable[[list[str], int], list[str]]] = {
            "blank": lambda lines, _: [*lines, ""],
            "begin, end": lambda lines, _: ["BEGIN EVENT", *lines, "END EVENT"],
            "drawn": lambda lines, _: [*lines, "-" * 20],
            "numbered": lambda lines, i: [f"Record #{i}", *lines],
        }
        ways = [(": ", ""), (" = ", "  "), ("=", "\t"), (":\t", " "), (" : ", "    ")]
        for n, (frame, around) in enumerate(frames.items()):
            for equals, indent in [ways[n], ways[n + 1]]:
                with self.subTest(frame=frame, equals=equals, indent=indent):
                    count = iter(range(100, 1000))

                    def block(
                        time: datetime,
                        values: Values,
                        around: Any = around,
                        equals: str = equals,
                        indent: str = indent,
                        count: Iterator[int] = count,
                    ) -> str:
                        own = {"When": f"{time:%d/%b/%Y:%H:%M:%S +0000}", **values}
                        lines = [f"{indent}{key.capitalize()}{equals}{value}" for key, value in own.items()]
                        return "\n".join(around(lines, next(count)))

                    self.hold(made(7, block))

    def test_messages_of_a_key_that_some_events_lack(self) -> None:
        log = made(8, lambda time, values: json.dumps({"time": f"{time:%Y-%m-%dT%H:%M:%SZ}", **values}))
        self.assertIn("- name: other", self.hold(log)["text"])

    def test_messages_of_a_column_or_a_key_with_labels_in_their_further_lines(self) -> None:
        rng = random.Random(5)
        rows, truth = [], []
        for i in range(120):
            at, user, port = START + timedelta(seconds=97 * i), rng.choice(USERS), rng.randint(1024, 65_000)
            ip = f"192.0.2.{rng.randint(1, 250)}"
            labels = (
                f"Subject:\n\tAccount Name:\t\t{user}\n\nNetwork:\n\tSource Address:\t{ip}\n\tSource Port:\t\t{port}"
            )
            said = f"Someone came in by gate {i % 9}.\n\n{labels}" if i % 3 else f"Gate {i % 9} was closed."
            rows.append({"Time": f"{at:%Y-%m-%dT%H:%M:%SZ}", "Level": "INFO", "Message": said.replace("\n", "\r\n")})
            truth.append((i % 9, *((user, ip, port) if i % 3 else (None, None, None))))
        table = io.StringIO(newline="")
        writer = csv.DictWriter(table, [*rows[0]])
        writer.writeheader()
        writer.writerows(rows)
        for text in (table.getvalue(), "".join(json.dumps(row) + "\n" for row in rows)):
            draft = kinglet.draft(text, at=AT)
            events = draft.parser.parse(text, reference_time=AT).events
            names = ("gate", "subject.account_name", "network.source_address", "network.source_port")
            self.assertEqual({"complete"}, {*events["state"]}, draft.text)
            self.assertEqual(truth, events.select(names).rows(), draft.text)

    def test_keys_called_like_columns_of_every_event(self) -> None:
        def line(time: datetime, values: Values) -> str:
            own = {"id": 5, "file": values["path"], "state": "x", "user": values["user"]}
            return f"{time:%Y-%m-%d %H:%M:%S} [app] {json.dumps(own)}"

        log = made(9, line, lacks=0)
        self.hold(log._replace(values=[{"path": v["path"], "user": v["user"]} for v in log.values]))

    def test_each_line_that_ends_with_a_stamp_is_an_event(self) -> None:
        for i, (before, after) in enumerate(((" at ", ""), (" (", ")"), (" [", "]"))):
            with self.subTest(before=before):

                def line(time: datetime, values: Values, before: str = before, after: str = after) -> str:
                    said = (
                        f"user {values['user']} came from {values['src']}"
                        if len(values) % 2
                        else f"feed {values['bytes']} late"
                    )
                    return f"{said}{before}{time:%a %b %d %H:%M:%S %Y}{after}"

                def whole(time: datetime, values: Values, line: Any = line) -> str:
                    return str(line(time, {"user": "", "src": "", "bytes": "0", **values}))

                log = made(i, whole)
                self.hold(log._replace(values=[{} for _ in log.values]))

    def test_rows_below_a_line_of_fields(self) -> None:
        rng = random.Random(5)
        for sign in (" ", "\t"):
            lines, times, each, now = ["#Version: 1.0"], [], [], START
            lines.append("#Fields: " + sign.join(("date", "time", "c-ip", "cs-bytes", "cs(User-Agent)", "sc-status")))
            for i in range(40):
                now += timedelta(seconds=rng.randint(1, 900))
                row = [rng.choice((f"192.0.2.{rng.randint(1, 9)}", "-")), rng.choice(("-", "17", "4")), "a+b", "200"]
                if i == 25:  # from here on the columns stand in another order
                    lines.append(
                        "#Fields: " + sign.join(("sc-status", "cs-bytes", "time", "cs(User-Agent)", "date", "c-ip"))
                    )
                day, clock = f"{now:%Y-%m-%d}", f"{now:%H:%M:%S}"
                turned = [row[3], row[1], clock, row[2], day, row[0]]
                lines.append(sign.join([day, clock, *row] if i < 25 else turned))
                times.append(now.replace(microsecond=0))
                each.append(row)
            text = "\n".join(lines) + "\n"
            draft = kinglet.draft(text, at=AT)
            for parser in (draft.parser, kinglet.load(kinglet.look(text.encode())[0].suggestion)):
                with self.subTest(sign=sign, parser=parser.name):
                    result = parser.parse(text)
                    self.assertEqual((40, 1), (result.counts["complete"], result.counts["dropped"]))
                    events = result.events.filter(result.events["state"] == "complete")
                    self.assertEqual(times, events["time"].to_list())
                    names = ("c_ip", "cs_bytes", "cs_User_Agent", "sc_status")
                    found = [
                        [str(row[name] if row[name] is not None else "-") for name in names]
                        for row in events.to_dicts()
                    ]
                    self.assertEqual(each, found)
            self.assertEqual([], [doubt.text for doubt in draft.doubts])
            self.assertIn("expect: {variant: directive, state: dropped}", draft.text)
            self.assertTrue(all(outcome.good for outcome in check_cases(draft.parser)))

    def test_blocks_whose_values_are_in_quotes(self) -> None:
        def block(time: datetime, values: Values) -> str:
            lines = [
                f"--- {time:%a %b %d %H:%M:%S %Y}",
                f'User-Name = "{values["user"]}"',
                f"Bytes = {values['bytes']}",
            ]
            return "\n".join([*lines, f'Session-Id = "{values["id"]}"', ""])

        log = made(4, block, lacks=0)
        draft = kinglet.draft(log.text, at=AT)
        events = draft.parser.parse(log.text).events.select("user_name", "bytes", "session_id").rows()
        self.assertEqual([(one["user"], int(one["bytes"]), one["id"]) for one in log.values], events)

    def test_names_of_columns_may_have_signs_and_digits(self) -> None:
        rows = [[f"2026-11-03 07:00:{i:02}", "m.okoro", str(i)] for i in range(30)]
        for sign, names, is_header in (
            (",", ["@timestamp", "user", "n"], True),
            ("\t", ["src_ip4_addr", "95th pct", "Time (UTC)"], True),
            (";", ["%cpu", "$amount", "col 12"], True),
            (",", ["Время", "Кто", "Номер"], True),
            (";", ["2026-11-03 07:00:00", "m.okoro", "7"], False),
            (",", ["gate 7", "m.okoro", "7"], False),
            ("\t", ["192.0.2.1", "a", "b"], False),
        ):
            out = io.StringIO()
            csv.writer(out, delimiter=sign).writerows([names, *rows])
            draft = kinglet.draft(out.getvalue(), at=AT)
            self.assertEqual(30 if is_header else 31, draft.events, (names, sign, draft.text))

    def test_rows_between_colons(self) -> None:
        def row(time: datetime, values: Values) -> str:
            return ":".join([f"{time:%Y%m%d%H%M%S}", values["user"], values["id"], values["bytes"], "granted"])

        log = made(7, row, lacks=0)
        events = kinglet.draft(log.text, at=AT).parser.parse(log.text).events
        self.assertEqual(
            [(one["user"], one["id"], int(one["bytes"])) for one in log.values],
            events.select("column_2", "column_3", "column_4").rows(),
        )
        for line in (
            lambda time, values: f"{time:%Y-%m-%d %H:%M:%S} left [2001:db8::{values['bytes'][:4]}]:22 by tcp",
            lambda time, values: f"{time:%Y%m%d}:02:00:5e:10:00:{int(values['bytes']) % 90 + 10}:{values['user']}:ok",
        ):
            self.assertNotIn("delimiter: ':'", kinglet.draft(made(8, line, lacks=0).text, at=AT).text)

    def test_a_text_that_stands_for_no_value(self) -> None:
        def row(time: datetime, values: Values) -> str:
            keys = ("src", "bytes", "user")
            return ",".join([f"{time:%Y-%m-%dT%H:%M:%SZ}", *(values.get(key, "N/A") for key in keys)])

        log = made(12, row)
        text = "time,src,bytes,user\n" + log.text
        draft = kinglet.draft(text, at=AT)
        self.assertIn("nothing: 'N/A'", draft.text)
        events = draft.parser.parse(text).events.to_dicts()
        for values, event in zip(log.values, events, strict=True):
            self.assertEqual("complete", event["state"])
            found = {key: str(event[key]) for key in ("src", "bytes", "user") if event[key] is not None}
            self.assertEqual({key: values[key] for key in found}, found)
            self.assertEqual({"src", "bytes", "user"} & values.keys(), found.keys())

    def test_what_no_pattern_reads_is_still_a_parser(self) -> None:
        for text in ("\n".join("[a=b]" * 2500 for _ in range(12)), "\n".join('a="' * 3000 for _ in range(12))):
            draft = kinglet.draft(text.encode())
            self.assertEqual(12, draft.parser.parse(text.encode()).counts["events"])

    def test_a_date_apart_from_the_time_of_day_is_said(self) -> None:
        log = made(
            3, lambda time, values: f"day 2026-03-14, gate 7 shut at {time:%H:%M:%S} by {values['user']}", lacks=0
        )
        doubts = [doubt.text for doubt in kinglet.draft(log.text, at=AT).doubts]
        self.assertTrue(any("a date stands" in text and "2026-03-14" in text for text in doubts), doubts)

    def test_lines_that_are_dropped_are_masked_too(self) -> None:
        lines = ["#Remark: asked by 192.0.2.77", "#Fields: date time c-ip cs-bytes"]
        lines += [f"2026-03-14 20:{i:02}:05 192.0.2.{i} {i * 17}" for i in range(1, 40)]
        draft = kinglet.draft("\n".join(lines) + "\n", at=AT, mask=True)
        self.assertIn("variant: directive", draft.text)
        self.assertNotIn("192.0.2.77", draft.text)

    def test_a_level_in_brackets_is_no_host(self) -> None:
        log = made(
            2, lambda time, values: f"{time:%b %d %H:%M:%S} [WARN] quay.Store: user {values['user']} left", lacks=0
        )
        found = self.hold(log._replace(values=[{"user": values["user"]} for values in log.values]))
        self.assertNotIn("syslog", found["text"])
        # an address of IPv6 may begin what an application says
        log = made(
            2, lambda time, values: f"{time:%b %d %H:%M:%S} quay-1 gate[7]: ::1:443 told {values['user']}", lacks=0
        )
        found = self.hold(log._replace(values=[{"user": values["user"]} for values in log.values]))
        self.assertIn("envelope: {syslog: rfc3164}", found["text"])


if __name__ == "__main__":
    unittest.main()
