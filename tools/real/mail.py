"""Postfix, Dovecot and Exim on loopback: letters that arrive and letters that do not, and boxes that are opened.

    python tools/real/mail.py FOLDER [EXIM]

Needs to be root, and Debian's packages postfix and dovecot-imapd; EXIM is the program of exim4-daemon-light, which does
not stand beside Postfix. Writes `postfix.log`, `dovecot.log` and `exim.log`.
"""

from __future__ import annotations

import contextlib
import imaplib
import shutil
import smtplib
import sys
import tempfile
import time
from pathlib import Path

from running import ask, keep, started
from sending import send

PORT, BOXES = 2588, 1488
POSTFIX = """
compatibility_level = 3.6
queue_directory = {inner}/queue
data_directory = {inner}/data
command_directory = /usr/sbin
daemon_directory = /usr/lib/postfix/sbin
mail_owner = postfix
setgid_group = postdrop
myhostname = mail.quay.example
mydestination = quay.example
inet_interfaces = loopback-only
mynetworks = 198.51.100.0/24
maillog_file = {inner}/postfix.log
maillog_file_prefixes = {inner}
local_recipient_maps = inline:{{ {{m.okoro=x}} {{ root=x }} {{ full=x }} }}
local_transport = discard
smtpd_recipient_restrictions = permit_mynetworks, reject_unauth_destination
smtpd_helo_required = yes
smtpd_sasl_auth_enable = yes
smtpd_sasl_type = dovecot
smtpd_sasl_path = {inner}/auth
transport_maps = inline:{{ {{full@quay.example=error:5.2.2 the box is full}} {{gone.example=smtp:[127.0.0.1]:1}} }}
message_size_limit = 5000
alias_maps =
"""
MASTER = """
{port} inet n - n - - smtpd
pickup unix n - n 60 1 pickup
cleanup unix n - n - 0 cleanup
qmgr unix n - n 300 1 qmgr
rewrite unix - - n - - trivial-rewrite
bounce unix - - n - 0 bounce
defer unix - - n - 0 bounce
trace unix - - n - 0 bounce
verify unix - - n - 1 verify
smtp unix - - n - - smtp
error unix - - n - - error
retry unix - - n - - error
discard unix - - n - - discard
local unix - n n - - local
anvil unix - - n - 1 anvil
scache unix - - n - 1 scache
proxymap unix - - n - - proxymap
postlog unix-dgram n - n - 1 postlogd
"""
DOVECOT = """
base_dir = {inner}/run
log_path = {inner}/dovecot.log
auth_verbose = yes
protocols = imap
listen = 127.0.0.1
ssl = no
disable_plaintext_auth = no
default_internal_user = dovecot
default_login_user = dovenull
mail_location = maildir:{inner}/boxes/%u
first_valid_uid = 1
passdb {{
  driver = passwd-file
  args = scheme=PLAIN {inner}/users
}}
userdb {{
  driver = static
  args = uid=mail gid=mail home={inner}/boxes/%u allow_all_users=yes
}}
service imap-login {{
  inet_listener imap {{
    port = {boxes}
  }}
  inet_listener imaps {{
    port = 0
  }}
}}
service auth {{
  unix_listener {inner}/auth {{
    mode = 0666
  }}
}}
"""
EXIM = """
primary_hostname = mail.quay.example
domainlist local_domains = quay.example
daemon_smtp_ports = {port}
local_interfaces = <; 127.0.0.1 ; ::1
keep_environment =
tls_advertise_hosts =
spool_directory = {inner}/spool
log_file_path = {inner}/exim-%slog
exim_user = mail
exim_group = mail
acl_smtp_rcpt = check
acl_smtp_data = data
log_selector = +smtp_syntax_error
begin acl
check:
  accept domains = +local_domains
         local_parts = m.okoro : root : full
  deny message = no relaying
data:
  deny condition = ${{if match{{$h_subject:}}{{storm}}}}
       message = no storms
  accept
begin routers
full:
  driver = redirect
  local_parts = full
  allow_fail
  data = :fail: the box is full
all:
  driver = accept
  transport = none
begin transports
none:
  driver = appendfile
  file = /dev/null
  user = mail
begin authenticators
plain:
  driver = plaintext
  public_name = PLAIN
  server_condition = ${{if eq{{$auth3}}{{low tide}}}}
  server_set_id = $auth2
"""
LETTERS = (
    ("t.varela@tide.example", "m.okoro@quay.example", "tide"), ("t.varela@tide.example", "nobody@quay.example", "tide"),
    ("t.varela@tide.example", "x@other.example", "relay"), ('"x <y> to=<z@quay.example>"@tide.example', "m.okoro@quay.example", "odd"),
    ("t.varela@tide.example", "full@quay.example", "full"), ("t.varela@tide.example", "m.okoro@quay.example", "storm"),
    ("", "m.okoro@quay.example", "bounce"),
)  # fmt: skip


def _write() -> None:
    for sender, to, subject in LETTERS:
        with (
            contextlib.suppress(smtplib.SMTPException, OSError),
            smtplib.SMTP("127.0.0.1", PORT, "tide.example", timeout=10) as smtp,
        ):
            smtp.sendmail(sender, to, f"Message-ID: <{subject}.7@tide.example>\r\nSubject: {subject}\r\n\r\nlow\r\n")
    for user, password in (("m.okoro", "low tide"), ("m.okoro", "high tide"), ('x" [1]', "x")):
        with (
            contextlib.suppress(smtplib.SMTPException, OSError),
            smtplib.SMTP("127.0.0.1", PORT, "tide.example", timeout=10) as smtp,
        ):
            smtp.login(user, password)
            smtp.sendmail("m.okoro@quay.example", "m.okoro@quay.example", "Subject: in\r\n\r\n" + "low\r\n" * 2000)
    send("127.0.0.1", PORT, b"GET / HTTP/1.1\r\nHost: tide.example\r\n\r\n")
    send(
        "127.0.0.1",
        PORT,
        b"EHLO x\r\nMAIL FROM:<a\x01b>\r\nRCPT TO:<\xe5\xad\x97@quay.example>\r\nVRFY root\r\nQUIT\r\n",
    )
    send("127.0.0.1", PORT, b"HELO\r\nMAIL FROM:<>\r\nQUIT\r\n")


def _open() -> None:
    for user, password in (
        ("m.okoro", "low tide"),
        ("m.okoro", "high tide"),
        ('x" [1]', "x"),
        ("t.varela", "low tide"),
    ):
        with contextlib.suppress(imaplib.IMAP4.error, OSError):
            box = imaplib.IMAP4("127.0.0.1", BOXES)
            box.login(user, password)
            box.select("INBOX")
            box.logout()
    send("127.0.0.1", BOXES, b"GET / HTTP/1.1\r\n\r\n")
    send("127.0.0.1", BOXES, b"a LOGOUT\r\n")


def main() -> None:
    folder = Path(sys.argv[1]).resolve()
    with tempfile.TemporaryDirectory() as name:
        inner = Path(name)
        inner.chmod(0o755)
        for part in ("queue", "data", "boxes", "etc"):
            (inner / part).mkdir()
        shutil.chown(inner / "data", "postfix")
        shutil.chown(inner / "boxes", "mail")
        (inner / "users").write_text("m.okoro:low tide\n")
        config = inner / "dovecot.conf"
        config.write_text(DOVECOT.format(inner=inner, boxes=BOXES))
        with started("/usr/sbin/dovecot", "-F", "-c", config):
            (inner / "etc" / "main.cf").write_text(POSTFIX.format(inner=inner))
            (inner / "etc" / "master.cf").write_text(MASTER.format(port=PORT))
            ask("postfix", "-c", inner / "etc", "start")
            time.sleep(2)
            _write()
            ask(
                "sendmail",
                "-C",
                inner / "etc",
                "-f",
                "root@quay.example",
                "x@gone.example",
                given="Subject: out\n\nlow\n",
            )
            _open()
            time.sleep(4)
            ask("postfix", "-c", inner / "etc", "stop")
        for log in ("postfix.log", "dovecot.log"):
            keep(inner / log, folder / log, name)
        if len(sys.argv) > 2:
            config = inner / "exim.conf"
            (inner / "spool").mkdir()
            shutil.chown(inner / "spool", "mail", "mail")
            shutil.chown(inner, "mail")
            config.write_text(EXIM.format(port=PORT, inner=inner))
            with started(sys.argv[2], "-bdf", "-q1m", "-C", config):
                _write()
                time.sleep(2)
            keep(inner / "exim-mainlog", folder / "exim.log", name)


if __name__ == "__main__":
    main()
