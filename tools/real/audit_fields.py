"""The records of an audit log as the audit library takes them apart, an object a line.

    /usr/bin/python3 tools/real/audit_fields.py LOG

`fields` are a name and a text each; a text that the log has as hexadecimal digits is decoded, as the library knows
which fields may be written so. `known` are the names that the log has for numbers of people and calls.
"""

import json
import sys

import auparse  # type: ignore[import-not-found]

DECODED = {
    auparse.AUPARSE_TYPE_ESCAPED, auparse.AUPARSE_TYPE_ESCAPED_FILE, auparse.AUPARSE_TYPE_ESCAPED_KEY,
    auparse.AUPARSE_TYPE_PROCTITLE, auparse.AUPARSE_TYPE_SOCKADDR,
}  # fmt: skip

KNOWN = {auparse.AUPARSE_TYPE_UID, auparse.AUPARSE_TYPE_GID, auparse.AUPARSE_TYPE_SYSCALL}

library = auparse.AuParser(auparse.AUSOURCE_FILE, sys.argv[1])
library.set_escape_mode(auparse.AUPARSE_ESC_RAW)
while library.parse_next_event():
    library.first_record()
    while True:
        stamp = library.get_timestamp()
        fields, known = [], {}
        library.first_field()
        while True:
            decoded = library.get_field_type() in DECODED
            fields.append((library.get_field_name(), library.interpret_field() if decoded else library.get_field_str()))
            if library.get_field_type() in KNOWN:
                known[library.get_field_name()] = library.interpret_field()
            if not library.next_field():
                break
        print(json.dumps({
            "type": library.get_type_name(), "id": stamp.serial, "time": f"{stamp.sec}.{stamp.milli:03}",
            "node": stamp.host, "fields": fields, "known": known,
        }))  # fmt: skip
        if not library.next_record():
            break
