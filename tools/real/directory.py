"""OpenLDAP, FreeRADIUS and a Kerberos KDC on loopback: who may come in, and who may not.

    python tools/real/directory.py FOLDER

Needs to be root, and Debian's packages slapd, ldap-utils, freeradius, freeradius-utils, krb5-kdc, krb5-admin-server, krb5-user.
Writes `slapd.log` (traditional form), `radius.log`, `krb5kdc.log`, `kadmin.log`.
"""

from __future__ import annotations

import re
import shutil
import sys
import tempfile
import time
from pathlib import Path

from collector import collected
from running import ask, keep, started
from sending import send

SLAPD = """
include /etc/ldap/schema/core.schema
pidfile {inner}/slapd.pid
moduleload back_mdb
modulepath /usr/lib/ldap
loglevel stats
database mdb
suffix "dc=quay,dc=example"
rootdn "cn=admin,dc=quay,dc=example"
rootpw low-tide
directory {inner}/ldap
access to attrs=userPassword by anonymous auth by * none
access to * by users read by anonymous none
"""
TREE = """dn: dc=quay,dc=example
objectClass: dcObject
objectClass: organization
dc: quay
o: Quay

dn: cn=m.okoro,dc=quay,dc=example
objectClass: person
cn: m.okoro
sn: okoro
userPassword: low tide
"""
KDC = """
[kdcdefaults]
 kdc_listen = 127.0.0.1:8888
 kdc_tcp_listen = 127.0.0.1:8888
[realms]
 QUAY.EXAMPLE = {{
  database_name = {inner}/principal
  key_stash_file = {inner}/stash
  acl_file = {inner}/acl
  kadmind_listen = 127.0.0.1:8749
 }}
[logging]
 kdc = FILE:{inner}/krb5kdc.log
 admin_server = FILE:{inner}/kadmin.log
"""
KRB5 = """
[libdefaults]
 default_realm = QUAY.EXAMPLE
 dns_lookup_kdc = false
 dns_lookup_realm = false
[realms]
 QUAY.EXAMPLE = {{
  kdc = 127.0.0.1:8888
  admin_server = 127.0.0.1:8749
 }}
"""


def _ldap(inner: Path, folder: Path) -> None:
    (inner / "ldap").mkdir()
    (inner / "slapd.conf").write_text(SLAPD.format(inner=inner))
    url = "ldap://127.0.0.1:3899"
    logs = inner / "syslog"
    logs.mkdir()
    with collected(logs), started("/usr/sbin/slapd", "-d0", "-f", inner / "slapd.conf", "-h", url, "-l", "LOCAL4"):
        admin = ("-x", "-H", url, "-D", "cn=admin,dc=quay,dc=example", "-w", "low-tide")
        ask("ldapadd", *admin, given=TREE)
        person = ("-x", "-H", url, "-D", "cn=m.okoro,dc=quay,dc=example")
        ask("ldapsearch", *person, "-w", "low tide", "-b", "dc=quay,dc=example", '(cn=x" err=0)', "cn", "sn")
        ask("ldapsearch", *person, "-w", "high tide", "-b", "dc=quay,dc=example")
        ask("ldapsearch", "-x", "-H", url, "-D", 'cn=none\\, "x" method=128,dc=quay,dc=example', "-w", "x")
        ask("ldapsearch", "-x", "-H", url, "-b", "dc=quay,dc=example")
        ask("ldapcompare", *admin, "cn=m.okoro,dc=quay,dc=example", "sn:okoro")
        ask("ldapmodify", *admin, given="dn: cn=m.okoro,dc=quay,dc=example\nchangetype: modify\nreplace: sn\nsn: 字\n")
        ask("ldappasswd", *admin, "-s", "x", "cn=m.okoro,dc=quay,dc=example")
        ask("ldapmodrdn", *admin, "cn=m.okoro,dc=quay,dc=example", "cn=okoro")
        ask("ldapdelete", *admin, "cn=okoro,dc=quay,dc=example")
        ask("ldapdelete", *admin, "cn=okoro,dc=quay,dc=example")
        send("127.0.0.1", 3899, b"GET / HTTP/1.1\r\n\r\n")
    keep(logs / "traditional.log", folder / "slapd.log", inner)
    log = folder / "slapd.log"
    log.write_text(re.sub(r"<[^>]+@[^>]+>", "<builder@quay.example>", log.read_text("utf-8")), "utf-8")


def _radius(inner: Path, folder: Path) -> None:
    config = inner / "radius"
    shutil.copytree("/etc/freeradius/3.0", config, symlinks=False)
    text = (config / "radiusd.conf").read_text()
    for before, after in (("logdir = /var/log/freeradius", f"logdir = {inner}"), ("auth = no", "auth = yes"),
                          ("auth_badpass = no", "auth_badpass = no"), ("user = freerad", "user = root"), ("group = freerad", "group = root"),
                          ("raddbdir = /etc/freeradius/3.0", f"raddbdir = {config}")):  # fmt: skip
        text = text.replace(before, after)
    (config / "radiusd.conf").write_text(text)
    users = config / "mods-config" / "files" / "authorize"
    users.write_text('m.okoro Cleartext-Password := "low tide"\n' + users.read_text())
    with started("/usr/sbin/freeradius", "-f", "-d", config, wait=4):
        for user, password in (
            ("m.okoro", "low tide"),
            ("m.okoro", "high tide"),
            ('x" [1] (from client y port 0)', "x"),
            ("", "x"),
        ):
            ask("radtest", user, password, "127.0.0.1", "7", "testing123")
        ask("radtest", "m.okoro", "low tide", "127.0.0.1", "7", "wrong-secret")
    keep(inner / "radius.log", folder / "radius.log", inner)


def _kerberos(inner: Path, folder: Path) -> None:
    (inner / "kdc.conf").write_text(KDC.format(inner=inner))
    (inner / "krb5.conf").write_text(KRB5.format(inner=inner))
    (inner / "acl").write_text("admin/admin@QUAY.EXAMPLE *\n")
    people = {
        "KRB5_CONFIG": str(inner / "krb5.conf"),
        "KRB5_KDC_PROFILE": str(inner / "kdc.conf"),
        "KRB5CCNAME": f"{inner}/cc",
    }
    ask("kdb5_util", "create", "-s", "-P", "low tide", people=people)
    for name in ("m.okoro", "admin/admin", "host/tide.example"):
        ask("kadmin.local", "-q", f"addprinc -pw lowtide +requires_preauth {name}", people=people)
    with started("/usr/sbin/krb5kdc", "-n", people=people), started("/usr/sbin/kadmind", "-nofork", people=people):
        for name, password in (
            ("m.okoro", "lowtide"),
            ("m.okoro", "wrong"),
            ("nobody", "x"),
            ("m.okoro@OTHER.EXAMPLE", "x"),
        ):
            ask("kinit", name, given=password + "\n", people=people)
        ask("kinit", "m.okoro", given="lowtide\n", people=people)
        ask("kvno", "host/tide.example", people=people)
        ask("kvno", "host/none.example", people=people)
        ask("kadmin", "-p", "admin/admin", "-w", "lowtide", "-q", "addprinc -pw x tide", people=people)
        ask("kadmin", "-p", "admin/admin", "-w", "lowtide", "-q", "cpw -pw y tide", people=people)
        ask("kadmin", "-p", "admin/admin", "-w", "wrong", "-q", "listprincs", people=people)
        ask("kadmin", "-p", "m.okoro", "-w", "lowtide", "-q", "delprinc -force tide", people=people)
        send("127.0.0.1", 8888, b"GET / HTTP/1.1\r\n\r\n")
        time.sleep(1)
    for log in ("krb5kdc.log", "kadmin.log"):
        keep(inner / log, folder / log, inner)


def main() -> None:
    folder = Path(sys.argv[1]).resolve()
    folder.mkdir(parents=True, exist_ok=True)
    for part in (_ldap, _radius, _kerberos):
        with tempfile.TemporaryDirectory() as name:
            part(Path(name), folder)


if __name__ == "__main__":
    main()
