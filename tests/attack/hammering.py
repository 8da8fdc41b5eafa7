"""Generated and mutated input by the thousand, with an eye on tracebacks, on time and on memory."""

import asyncio
import copy
import gc
import json
import math
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

from hypothesis import HealthCheck, Phase, given, seed, settings
from hypothesis import strategies as st

from upright_bolt.errors import BoltError
from upright_bolt.service.connection import Connection, Incoming

LONGEST_S = 1.0
BATCH = 1000
MOST_GROWTH_KB = 48_000
ODD = [
    None, True, False, 0, -1, 1, 2**31, 2**63, -(2**63) - 1, 10**400, 0.0, -0.0, 1e308, -1e308, 1e-320,
    math.nan, math.inf, "", "x", "\0", "\x1b[2J", "\u202e", "\ud800", "$x^2$", "=1+1", "NaN", "1e999",
    "../../etc/passwd", "x" * 5000, "🙂",
    "2026-13-45T99:99:99", "epp", "sustained", [], [[]], [None], {}, {"": ""}, {"a": {"b": {}}}, [1] * 2000, ["a"] * 50,
]  # fmt: skip
PIECES = [
    b"",
    b"\0",
    b"\xff" * 8,
    b"\n",
    b"{",
    b"[" * 3000,
    b'"',
    b"9" * 400,
    b"\x1f\x8b",
    b"NaN",
    b"1e999",
    b"-",
    b" ",
]


def memory_kb() -> int:
    """Return what this process has in memory now."""
    return int(Path("/proc/self/statm").read_text().split()[1]) * 4


def hammer(
    count: int,
    strategy: st.SearchStrategy[Any],
    check: Callable[[Any], None],
    record_property: Any,
    longest_s: float = LONGEST_S,
) -> None:
    """Give ``count`` inputs to ``check``, which must raise nothing, take less than a second of work, and leave nothing.

    They come in batches, since the generator remembers what it has made.
    """
    worst_s, done, early_kb = 0.0, 0, 0
    for batch in range(-(-count // BATCH)):

        @seed(batch)
        @settings(
            max_examples=min(count, BATCH), deadline=None, database=None, suppress_health_check=list(HealthCheck),
            phases=[Phase.generate, Phase.shrink],
        )  # fmt: skip
        @given(strategy)
        def hit(value: Any) -> None:
            nonlocal worst_s, done
            begun = time.process_time()  # what others do to this computer meanwhile does not count
            check(value)
            worst_s = max(worst_s, time.process_time() - begun)
            done += 1

        hit()
        gc.collect()
        early_kb = early_kb or memory_kb()
    record_property("cases", done)
    assert worst_s < longest_s
    assert memory_kb() - early_kb < MOST_GROWTH_KB


_numbers = st.integers(0, 1 << 20)
mutations = st.lists(st.tuples(st.integers(0, 6), _numbers, _numbers), min_size=1, max_size=6)
"""What is done to good input: an operation, where, and with what."""


def mutated(good: bytes, operations: list[tuple[int, int, int]]) -> bytes:
    """Return bytes with flipped bits, lost, doubled, moved and foreign parts, or cut off."""
    data = bytearray(good)
    for kind, where, what in operations:
        at = where % (len(data) + 1)
        end = min(len(data), at + 1 + what % 64)
        if kind <= 1 and at < len(data):
            data[at] ^= 1 << (what % 8)
        elif kind == 2:
            del data[at:end]
        elif kind == 3:
            data[at:at] = data[at:end]
        elif kind == 4:
            data[at:at] = PIECES[what % len(PIECES)]
        elif kind == 5:
            del data[at:]
        elif kind == 6:
            other = what % (len(data) + 1)
            data[at:end] = data[other : other + end - at]
    return bytes(data)


def altered(good: Any, operations: list[tuple[int, int, int]]) -> Any:
    """Return plain data with parts of it replaced, left out, doubled or renamed."""
    data = copy.deepcopy(good)
    for kind, where, what in operations:
        places = list(_places(data))
        if not places:
            break
        holder, key = places[where % len(places)]
        if kind <= 3:
            holder[key] = copy.deepcopy(ODD[what % len(ODD)])
        elif kind == 4:
            del holder[key]
        elif isinstance(holder, dict):
            holder[f"{key}{what}" if kind == 5 else str(ODD[what % len(ODD)])[:40]] = holder[key]
        else:
            holder.insert(key, copy.deepcopy(holder[key]))
    return data


def _places(data: Any):
    """Yield every place in plain data that could be replaced; of long lists, the first few."""
    stack = [data]
    while stack:
        holder = stack.pop()
        keys = list(holder) if isinstance(holder, dict) else range(min(len(holder), 6))
        for key in keys:
            yield holder, key
            if isinstance(holder[key], dict | list):
                stack.append(holder[key])


def as_json(data: Any) -> bytes:
    """Return data as JSON, or as near to it as it can be written."""
    return json.dumps(data).encode("utf-8", "surrogatepass")


async def fed(data: bytes) -> None:
    """Let a connection to the bus read bytes to their end, and decode what it hands on."""
    handed: list[Incoming] = []
    connection = Connection(4096, handed.append, handed.append)
    connection.refuse = lambda *_: None
    connection._reader = asyncio.StreamReader()
    connection._reader.feed_data(data)
    connection._reader.feed_eof()
    await connection._read_all()
    for message in handed:
        with suppress(BoltError):
            message.contents()
