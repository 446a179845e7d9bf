"""One log, parsed as it comes, with a state by which another process can go on where this one stopped."""

from __future__ import annotations

import codecs
import hashlib
import io
import json
from collections.abc import Iterator
from datetime import UTC, datetime

import polars as pl
from pydantic import AwareDatetime, BaseModel, NonNegativeInt, PositiveInt, ValidationError

from kinglet.calls import ReferenceTime, call_options
from kinglet.cutting import state as cut_state
from kinglet.cutting.cutter import Cutter, EventBatch
from kinglet.cutting.header_lines import Headers
from kinglet.errors import UsageError
from kinglet.parser import Parser
from kinglet.plan.steps import Remembered
from kinglet.result import Result
from kinglet.runtime.parsed import Parsed
from kinglet.runtime.pipeline import LogState, parse_in_order
from kinglet.source.encodings import from_start, named
from kinglet.source.logs import Source
from kinglet.timestamps.order import Known

VERSION = 3
_HEAD_BYTES = 1024  # what of a log, up to its first line end, gives the names of its events


_PLACE = ("held", "offset", "line", "lone_returns", "began")
"""Where a cutter is in the log, whatever its rule."""
_UNDER_WAY = ("continued", "after_pause", "headers")
"""What it knows of the event under way, by its rule."""


class _Version(BaseModel):
    """What states of all versions have."""

    kinglet_session: int


class _State(_Version, cut_state.Stored):
    """What a session stores."""

    name: str
    reference: AwareDatetime
    reference_time: AwareDatetime | None
    zone: str | None
    fingerprint: str
    encoding: str | None
    bom: int
    decoder: tuple[bytes, int] | None
    head: bytes | None
    rule: str
    held: bytes
    offset: NonNegativeInt
    line: PositiveInt
    lone_returns: bool | None
    began: bool
    continued: str | None
    after_pause: bool
    headers: Headers
    boundary: str
    known: Known
    kept: dict[int, tuple[int, bytes | None]]
    checksum: str = ""

    def sealed(self) -> _State:
        """The same with its checksum: one that a disk has damaged would go on at another place without a word."""
        text = self.model_dump_json(exclude={"checksum"})
        return self.model_copy(update={"checksum": hashlib.blake2b(text.encode(), digest_size=16).hexdigest()})


class Session:
    """Raw bytes of one log in, events out, and a state.

    The events are those that the whole log would give, whatever pieces it comes in. `state` is small: what has come of
    an event that is not whole yet, the place in the log, and what its order has shown of times. It holds no part of the
    parser, so that a session can go on with another version of it, or with another parser.

    >>> session = Session(kinglet.load("pump-panel.yaml"), name="pump-panel.log")  # doctest: +SKIP
    >>> session.feed(first_bytes).events; kept = session.state  # doctest: +SKIP
    >>> Session(kinglet.load("pump-panel.yaml"), state=kept).feed(more_bytes).events  # doctest: +SKIP
    """

    def __init__(
        self,
        parser: Parser,
        *,
        name: str = "<session>",
        encoding: str | None = None,
        reference_time: ReferenceTime = None,
        zone: str | None = None,
        state: bytes | None = None,
    ) -> None:
        """
        name: what events say they come from. encoding: of the log; otherwise what the parser says, a mark at its start,
        or UTF-8. reference_time, zone: as for `Parser.parse`. state: of a session that went before, which has these.

        Raises:
            UsageError: an argument means nothing, or the state is none.
        """  # fmt: skip
        self._options = call_options(reference_time, zone)
        self._source = Source(name, datetime.now(UTC))
        self._log_state = LogState()
        self._head: bytes | None = b""
        self._cutter: Cutter
        self._decoder: codecs.IncrementalDecoder | None = None
        self._encoding = encoding or parser._plan.cut.encoding
        if self._encoding is not None:
            named(self._encoding)
        self._take(parser)
        if state is not None:
            self._restore(state)

    @property
    def parser(self) -> Parser:
        """The parser of what comes next; it may be changed at any time, also for one that cuts otherwise."""
        return self._parser

    @parser.setter
    def parser(self, parser: Parser) -> None:
        before = self._cutter
        self._take(parser)
        if before.rule == self._cutter.rule:
            self._cutter = before
        else:
            for name in _PLACE:
                setattr(self._cutter, name, getattr(before, name))

    def feed(self, data: bytes) -> Result:
        """Takes the next bytes of the log; gives the events that are whole by now."""
        return self._result(self._fed(data, final=False))

    def flush(self) -> Result:
        """Gives the event that is under way, as far as it has come; what is left of it later is an event of its own."""
        return self._result([*self._begin(b"", final=True), *self._cutter.flush()])

    def finish(self) -> Result:
        """Gives what is left; the log has come to its end."""
        return self._result(self._fed(b"", final=True))

    @property
    def state(self) -> bytes:
        """All that another session needs to go on, as JSON."""
        cutter, source = self._cutter, self._source
        kept = _State(
            kinglet_session=VERSION,
            name=source.name,
            reference=source.reference,
            reference_time=self._options.reference_time,
            zone=self._options.zone,
            fingerprint=source.fingerprint,
            encoding=self._encoding,
            bom=source.encoding.bom if source.encoding is not None else 0,
            decoder=self._decoder.getstate() if self._decoder is not None else None,
            head=self._head,
            rule=_rule_of(cutter),
            boundary=cut_state.stored(cutter.boundary),
            known=self._log_state.known,
            kept={number: _stored(one) for number, one in self._log_state.kept.items()},
            **{name: getattr(cutter, name) for name in (*_PLACE, *_UNDER_WAY)},
        )
        return kept.sealed().model_dump_json().encode()

    def _take(self, parser: Parser) -> None:
        self._parser = parser
        self._cutter = Cutter(self._source, parser._plan.cut)

    def _restore(self, state: bytes) -> None:
        """
        Raises:
            UsageError: it is no state, or one of another version.
        """  # fmt: skip
        try:
            version = _Version.model_validate_json(state).kinglet_session
            if version != VERSION:
                raise UsageError(f"the state is of form {version}", f"this Kinglet reads form {VERSION}")
            kept = _State.model_validate_json(state)
            if kept != kept.sealed():
                raise _no_state("its checksum is wrong")
            same = kept.rule == _rule_of(self._cutter)
            if same:
                cut_state.restore(self._cutter.boundary, kept.boundary)
        except ValidationError as error:
            first = error.errors()[0]
            raise _no_state(f"{'.'.join(map(str, first['loc']))} {first['msg']}") from None
        self._options = call_options(kept.reference_time, kept.zone)
        self._source.name, self._source.reference = kept.name, kept.reference
        self._source.fingerprint, self._encoding = kept.fingerprint, kept.encoding
        self._head = kept.head
        self._log_state = LogState(kept.known, {number: _remembered(one) for number, one in kept.kept.items()})
        if kept.head is None:
            self._source.encoding = named(kept.encoding or "utf-8")._replace(bom=kept.bom)
            self._decoder = self._new_decoder()
            if self._decoder is not None and kept.decoder is not None:
                self._decoder.setstate(kept.decoder)
        for name in (*_PLACE, *(_UNDER_WAY if same else ())):
            setattr(self._cutter, name, getattr(kept, name))

    def _fed(self, data: bytes, *, final: bool) -> list[EventBatch]:
        batches = list(self._begin(data, final=final))
        if final:
            if self._decoder is not None:
                batches += self._cutter.feed(self._decoder.decode(b"", True).encode())
            batches += self._cutter.end()
        return batches

    def _begin(self, data: bytes, *, final: bool = False) -> Iterator[EventBatch]:
        """Cuts the next bytes; holds the first ones until they tell the log's encoding mark and its name."""
        if self._head is not None:
            data = self._head + data
            self._head = data
            if b"\n" not in data and len(data) < _HEAD_BYTES and not final:
                return
            self._head = None
            encoding = named(self._encoding, data) if self._encoding else from_start(data)
            self._source.encoding = encoding or named("utf-8")
            self._encoding = self._source.encoding.name
            self._source.identify(data)
            data = data[self._source.encoding.bom :]
            self._decoder = self._new_decoder()
        if data:
            yield from self._cutter.feed(self._decoder.decode(data).encode() if self._decoder is not None else data)
            if b"\n" in self._cutter.held or b"\r" in self._cutter.held[:-1]:
                yield from self._cutter.pause()  # one line tells how lines end

    def _new_decoder(self) -> codecs.IncrementalDecoder | None:
        found = self._source.encoding
        if found is None or not found.width or self._cutter.by_bytes:
            return None
        return codecs.getincrementaldecoder(found.name)("replace")

    def _result(self, batches: list[EventBatch]) -> Result:
        parsed: list[Parsed] = []
        for batch in batches:
            one, self._log_state = parse_in_order(self._parser._plan, batch, self._options, self._log_state)
            parsed.append(one)
        return Result(self._parser, tuple(parsed))

    def __repr__(self) -> str:
        return f"<Session of {self._source.name} by {self._parser.name}, at byte {self._cutter.offset:,}>"


def _stored(one: Remembered) -> tuple[int, bytes | None]:
    """What a step has kept, its table in the Arrow IPC format."""
    if one.known is None:
        return one.events, None
    written = io.BytesIO()
    one.known.write_ipc(written)
    return one.events, written.getvalue()


def _remembered(stored: tuple[int, bytes | None]) -> Remembered:
    events, table = stored
    try:
        return Remembered(events, pl.read_ipc(io.BytesIO(table)) if table is not None else None)
    except pl.exceptions.PolarsError:
        raise _no_state("what a step has kept cannot be read") from None


def _no_state(why: str) -> UsageError:
    return UsageError(f"this is no state of a session: {why.strip()}", "give what `state` was")


def _rule_of(cutter: Cutter) -> str:
    """A short form of a cutting rule, by which two are told apart."""
    return hashlib.blake2b(json.dumps(list(cutter.rule)).encode(), digest_size=8).hexdigest()
