"""A connection to the system bus that bounds what it takes in: nothing is decoded before its size is known and small.

Messages are put together and taken apart by jeepney; reading, matching replies and waiting are here. File descriptors
are never asked for, so none can be sent.
"""

import asyncio
import struct
from collections.abc import Callable
from contextlib import suppress
from typing import Any

from jeepney import DBusAddress, HeaderFields, Message, MessageFlag, MessageType, new_error, new_method_call
from jeepney.auth import BEGIN, Authenticator
from jeepney.bus import find_system_bus
from jeepney.low_level import Header, parse_signature
from jeepney.wrappers import new_method_return, new_signal

from upright_bolt.errors import BoltError
from upright_bolt.service.names import LIMITS_EXCEEDED

BUS = DBusAddress("/org/freedesktop/DBus", "org.freedesktop.DBus", "org.freedesktop.DBus")
FIXED_BYTES = 16
"""Of every message: its kind, and the lengths of the rest."""
MOST_HEADER_BYTES = 4096
MOST_REPLY_BYTES = 16 << 20
"""A client's: a description of the largest machine has some hundred kB."""
CHUNK_BYTES = 64 << 10
UNSENT_BYTES = 8 << 20
"""The bus itself has stopped reading if so much waits to be sent."""
OPEN_S = 10.0
CLOSE_S = 2.0
_KINDS = {kind.value for kind in MessageType}
_ENDS = {ord("l"): "<", ord("B"): ">"}

Heard = Callable[["Incoming"], None]


class BusFault(BoltError):
    """The bus, or a program on it, answered with an error.

    Attributes:
        name: the error's name on the bus.
    """

    def __init__(self, name: str, text: str) -> None:
        self.name = name
        super().__init__(text or name)


class BusGone(BoltError):
    """There is no bus any more."""


class Incoming:
    """A message whose body has not been decoded yet.

    Attributes:
        header: its header, decoded.
        oversize: its body was too large and has been thrown away.
    """

    def __init__(self, header: Header, body: bytes, *, oversize: bool) -> None:
        self.header = header
        self.oversize = oversize
        self._body = body

    def field(self, which: HeaderFields) -> str:
        """Return a text of the header; empty if it has none."""
        return str(self.header.fields.get(which, ""))

    @property
    def sender(self) -> str:
        """Who sent it: its name on the bus, as the bus says."""
        return self.field(HeaderFields.sender)

    @property
    def member(self) -> str:
        """The method or signal."""
        return self.field(HeaderFields.member)

    @property
    def signature(self) -> str:
        """The form of its body."""
        return self.field(HeaderFields.signature)

    @property
    def wants_answer(self) -> bool:
        """Whether it is a call to be answered."""
        return (
            self.header.message_type is MessageType.method_call
            and not self.header.flags & MessageFlag.no_reply_expected
        )

    def contents(self) -> tuple[Any, ...]:
        """Return its body, decoded. Raises BoltError if it does not have the form that it says."""
        if not self.signature:
            return ()
        try:
            form = parse_signature(list(f"({self.signature})"))
            found: tuple[Any, ...] = form.parse_data(self._body, 0, self.header.endianness)[0]
        except Exception as fault:
            raise BoltError("The message does not have the form that it says.") from fault
        return found


class Connection:
    """One connection to the system bus; everything happens in one asyncio loop.

    Args:
        most_bytes: the longest body that is taken in; a longer call is answered with an error, anything else left out.
        on_call: called with each call that comes in; without it calls are refused.
        on_signal: called with each signal.

    Attributes:
        name: its own name on the bus.
        over: done once the bus has gone.
    """

    def __init__(self, most_bytes: int, on_call: Heard | None = None, on_signal: Heard | None = None) -> None:
        self._most_bytes = most_bytes
        self.on_call = on_call
        self.on_signal = on_signal
        self.name = ""
        self.over = asyncio.Event()
        self._serial = 0
        self._answers: dict[int, asyncio.Future[Incoming]] = {}
        self._reading: asyncio.Task[None] | None = None

    async def open(self) -> None:
        """Connect. Raises BoltError if there is no bus, or it does not let this process in."""
        try:
            await asyncio.wait_for(self._open(), OPEN_S)
        except BoltError:
            raise
        except TimeoutError as fault:
            raise BoltError("The system bus cannot be reached: it does not answer.") from fault
        except Exception as fault:
            raise BoltError(f"The system bus cannot be reached: {fault}.") from fault

    async def _open(self) -> None:
        self._reader, self._writer = await asyncio.open_unix_connection(find_system_bus())
        conversation = Authenticator()
        for line in conversation:
            self._writer.write(line)
            conversation.feed(await self._reader.read(1024))
        self._writer.write(BEGIN)
        self._reading = asyncio.create_task(self._read_all())
        self.name = (await self.call(BUS, "Hello"))[0]

    async def close(self) -> None:
        """Leave the bus; it has been left when this returns, whether or not the bus still reads."""
        if self._reading is not None:
            self._reading.cancel()
            with suppress(asyncio.CancelledError):
                await self._reading
            self._writer.close()
            with suppress(OSError, TimeoutError):
                await asyncio.wait_for(self._writer.wait_closed(), CLOSE_S)
            self._writer.transport.abort()

    async def listen(self, rule: str) -> None:
        """Hear signals that match a rule. Raises BoltError."""
        await self.call(BUS, "AddMatch", "s", rule)

    async def call(
        self, to: DBusAddress, member: str, form: str = "", *data: object, patience_s: float = OPEN_S
    ) -> tuple[Any, ...]:
        """Call a method and return what it answers.

        Raises:
            BusFault: it answers with an error.
            BusGone: the bus has gone.
            TimeoutError: no answer came within ``patience_s``.
        """
        if self.over.is_set():
            raise BusGone("The system bus has gone.")
        serial = self._send(new_method_call(to, member, form or None, data))
        answer: asyncio.Future[Incoming] = asyncio.get_running_loop().create_future()
        self._answers[serial] = answer
        try:
            got = await asyncio.wait_for(answer, patience_s)
        finally:
            self._answers.pop(serial, None)
        if got.oversize:
            raise BusFault(LIMITS_EXCEEDED, "The answer is too long.")
        if got.header.message_type is MessageType.error:
            said = got.contents()
            text = said[0] if said and isinstance(said[0], str) else ""
            raise BusFault(got.field(HeaderFields.error_name), text)
        return got.contents()

    def answer(self, call: Incoming, form: str, *data: object) -> None:
        """Answer a call."""
        if call.wants_answer:
            self._send(new_method_return(Message(call.header, ()), form or None, data))

    def refuse(self, call: Incoming, name: str, text: str) -> None:
        """Answer a call with an error."""
        if call.wants_answer:
            self._send(new_error(Message(call.header, ()), name, "s", (text,)))

    def signal(self, path: str, interface: str, member: str, form: str, *data: object) -> None:
        """Tell everybody who listens."""
        self._send(new_signal(DBusAddress(path, interface=interface), member, form, data))

    def _send(self, message: Message) -> int:
        # The specification forbids serial 0.
        self._serial = self._serial % 0xFFFFFFFF + 1
        # A bus that takes nothing would have this process hold every message sent since; without the bus it ends
        # instead.
        if self._writer.transport.get_write_buffer_size() > UNSENT_BYTES:
            self._writer.transport.abort()
        self._writer.write(message.serialise(self._serial))
        return self._serial

    async def _read_all(self) -> None:
        try:
            while True:
                await self._read_one()
        except (asyncio.IncompleteReadError, OSError, ValueError):
            pass  # the bus has gone, or what comes is no message any more: there is no way on from either
        finally:
            self.over.set()
            for answer in self._answers.values():
                if not answer.done():
                    answer.set_exception(BusGone("The system bus has gone."))

    async def _read_one(self) -> None:
        # The header is read by hand, since the library's parser first takes the whole message into memory, however long
        # it is.
        fixed = await self._reader.readexactly(FIXED_BYTES)
        order = _ENDS.get(fixed[0])
        if order is None or fixed[1] not in _KINDS:
            raise ValueError("no message of the bus")
        (body_bytes,) = struct.unpack_from(f"{order}I", fixed, 4)
        (field_bytes,) = struct.unpack_from(f"{order}I", fixed, 12)
        # Fields are padded to eight bytes (D-Bus specification, message format).
        header_bytes = field_bytes + -field_bytes % 8
        if header_bytes > MOST_HEADER_BYTES:
            # The bus itself allows 64 MiB of header. Nobody can be answered: the sender's name is somewhere in it.
            await self._throw_away(header_bytes + body_bytes)
            return
        rest = await self._reader.readexactly(header_bytes)
        oversize = body_bytes > self._most_bytes
        if oversize:
            await self._throw_away(body_bytes)
        body = b"" if oversize else await self._reader.readexactly(body_bytes)
        try:
            header = Header.from_buffer(fixed + rest)[0]
        except Exception:  # noqa: BLE001 - whatever is wrong with it, it is none that could be answered
            return
        self._hand_on(Incoming(header, body, oversize=oversize))

    async def _throw_away(self, count: int) -> None:
        while count > 0:
            got = await self._reader.read(min(count, CHUNK_BYTES))
            if not got:
                raise asyncio.IncompleteReadError(b"", count)
            count -= len(got)

    def _hand_on(self, message: Incoming) -> None:
        kind = message.header.message_type
        if kind is MessageType.signal:
            if self.on_signal is not None and not message.oversize:
                with suppress(BoltError):  # a signal that is none tells nothing
                    self.on_signal(message)
        elif kind is MessageType.method_call:
            self._take_call(message)
        else:
            answer = self._answers.get(message.header.fields.get(HeaderFields.reply_serial, 0))
            if answer is not None and not answer.done():
                answer.set_result(message)

    def _take_call(self, message: Incoming) -> None:
        if self.on_call is None:
            self.refuse(message, "org.freedesktop.DBus.Error.UnknownMethod", "This program takes no calls.")
        elif message.oversize:
            self.refuse(message, LIMITS_EXCEEDED, f"A call may have {self._most_bytes} bytes at most.")
        else:
            self.on_call(message)
