"""What programs in Python, Java and Node.js log by themselves: each event as text and once more as JSON or XML.

    python tools/real/runtimes.py FOLDER NODE

Needs a JDK of 17 or newer and Node.js; NODE is a folder in which npm can install pino. Writes `python.log` and `python.json`,
`java.log` and `java.xml`, `node.json`.
"""

from __future__ import annotations

import json
import logging
import sys
import tempfile
import time
import warnings
from pathlib import Path

from running import ask, keep

JAVA = """
import java.util.logging.*;
public class Tide {
  static class Berth {
    static void moor(int i) { if (i == 0) throw new IllegalStateException("no \\"berth\\"\\n2026-11-29 low", new java.io.IOException("tide: none")); moor(i - 1); }
  }
  public static void main(String[] a) throws Exception {
    Logger log = Logger.getLogger("example.quay.Tide");
    log.setUseParentHandlers(false);
    log.setLevel(Level.ALL);
    for (Formatter form : new Formatter[] {new SimpleFormatter(), new XMLFormatter()}) {
      FileHandler out = new FileHandler(a[0] + (form instanceof XMLFormatter ? ".xml" : ".log"));
      out.setFormatter(form);
      out.setEncoding("UTF-8");
      out.setLevel(Level.ALL);
      log.addHandler(out);
    }
    log.info("started");
    log.warning("tide is low: \\"3.2\\" [1]");
    log.fine("two lines\\nSEVERE: not a level");
    log.log(Level.SEVERE, "cannot moor {0}", "\\u5b57 åβ");
    try { Berth.moor(2); } catch (Exception e) { log.log(Level.SEVERE, "moored not", e); }
    log.entering("example.quay.Berth", "moor");
    log.config("");
    for (Handler h : log.getHandlers()) h.close();
  }
}
"""
NODE = """
const pino = require('pino');
const log = pino({name: 'tide', level: 'trace'}, pino.destination({dest: process.argv[2], sync: true}));
log.info('started');
log.warn({berth: 4, user: 'm.okoro'}, 'tide is low: "3.2"');
log.error(new TypeError('no "berth"\\nhere'), 'moored not');
log.fatal({err: new Error('storm')}, 'gone');
log.debug({req: {method: 'GET', url: '/tide?x=1', remoteAddress: '192.0.2.7', remotePort: 5}, res: {statusCode: 200}, responseTime: 4}, 'request completed');
log.child({module: 'pump'}).trace('a\\tb 字');
log.info({deep: {er: [1, {x: 2}]}});
"""


class _Apart(logging.Formatter):
    def format(self, record: logging.LogRecord) -> str:
        return json.dumps({
            "at": record.created, "level": record.levelname, "logger": record.name, "said": record.getMessage(),
            "trace": self.formatException(record.exc_info) if record.exc_info else None,
        })  # fmt: skip


def _berth(depth: int) -> None:
    if depth == 0:
        raise LookupError('no "berth"\n2026-11-29 10:00:00,000 ERROR tide: none')
    _berth(depth - 1)


def _python(inner: Path) -> None:
    time.tzset()
    log = logging.getLogger("quay.tide")
    log.setLevel(logging.DEBUG)
    for ending, form in (
        ("log", logging.Formatter("%(asctime)s %(levelname)s %(name)s: %(message)s")),
        ("json", _Apart()),
    ):
        handler = logging.FileHandler(inner / f"python.{ending}", encoding="utf-8")
        handler.setFormatter(form)
        for name in ("quay.tide", "py.warnings"):
            logging.getLogger(name).addHandler(handler)
    logging.captureWarnings(capture=True)
    log.info("started")
    log.warning('tide is low: "%s" [1]', 3.2)
    log.debug("two lines\n  of it\nERROR tide: not one")
    log.critical("字 åβ \t tab")
    log.info("")
    for _ in range(2):
        try:
            try:
                _berth(2)
            except LookupError as error:
                raise RuntimeError("moored not") from error
        except RuntimeError:
            log.exception("while mooring")
    try:
        eval("1 +")
    except SyntaxError:
        log.error("cannot read", exc_info=True)
    try:
        raise ExceptionGroup("several", [ValueError("a"), KeyError("b")])
    except ExceptionGroup:
        log.exception("group")
    warnings.warn("old tide", DeprecationWarning, stacklevel=1)


def main() -> None:
    folder = Path(sys.argv[1]).resolve()
    node = Path(sys.argv[2]).resolve()
    with tempfile.TemporaryDirectory() as name:
        inner = Path(name)
        _python(inner)
        (inner / "Tide.java").write_text(JAVA, "utf-8")
        ask("javac", "-encoding", "UTF-8", "Tide.java", cwd=name)
        ask(
            "java",
            "-Duser.timezone=UTC",
            "-Duser.language=en",
            "-Dfile.encoding=UTF-8",
            "Tide",
            f"{name}/java",
            cwd=name,
        )
        node.mkdir(parents=True, exist_ok=True)
        (node / "tide.js").write_text(NODE, "utf-8")
        ask("npm", "install", "--silent", "pino@9", cwd=str(node))
        ask("node", "tide.js", f"{name}/node.json", cwd=str(node))
        for log in ("python.log", "python.json", "java.log", "java.xml", "node.json"):
            keep(inner / log, folder / log, name, Path(__file__).parent, node)


if __name__ == "__main__":
    main()
