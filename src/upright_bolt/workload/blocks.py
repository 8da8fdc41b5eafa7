"""Blocks of the ``steady`` mix: four kinds of work whose results are known to the bit on every machine.

Each block returns bytes; their digest is compared with ``KNOWN``. Results are exact by construction, so one table
serves all processors and library versions: the matrix product is of whole numbers small enough that no sum is
rounded, whatever the order of additions; the compressed form is not compared, only what comes back out of it.
One work unit is one round of all four blocks.
"""

import hashlib
import lzma
import zlib
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

VECTOR_SIZE = 320
HASH_BYTES = 1 << 16
TEXT_BYTES = 96 * 1024
MEMORY_WORDS = 1 << 20

KNOWN = {
    "vector": "af5eaf0982124c94e2f9c23bce059e8ac19dfa40bfd27eea58c26b888136858a",
    "integer": "d660d0dce3f55932023341b01b837d471e34d31eb936b7f1548a259329c983b7",
    "compression": "7c5424f577212a013b3e2e785d6ff9fe5cc8bd221ccd58a770aeb09a1108595c",
    "memory": "0ec4be1fe488729439d29761795ae1dab498b774e41ca3ebff1ade71c537d1ab",
    "task": "901be798104557349e9b4481284ab70e314471c4099cfdf564f7aff65dd61650",
    "frame": "4152e9ae98b8f71f5934ae97a54921f247b020f691f54e540722e2d422244d3a",
}
"""SHA-256 of each block's result. Since results are exact, this is the digest of every machine at stock."""


def _counting(count: int, multiplier: int, modulus: int) -> NDArray[np.int64]:
    """Return ``i·multiplier mod modulus`` for i below count: whole numbers without a random generator."""
    return (np.arange(count, dtype=np.int64) * multiplier) % modulus


class Mix:
    """The four blocks with their inputs, made once per worker."""

    def __init__(self) -> None:
        size = VECTOR_SIZE * VECTOR_SIZE
        self._left = _counting(size, 7919, 509).astype(np.float64).reshape(VECTOR_SIZE, VECTOR_SIZE)
        self._right = _counting(size, 6007, 503).astype(np.float64).reshape(VECTOR_SIZE, VECTOR_SIZE)
        self._text = bytes(_counting(TEXT_BYTES // 2, 31, 97).astype(np.uint8)) + bytes(
            (_counting(TEXT_BYTES // 2, 48271, 2147483647) >> 7).astype(np.uint8)
        )
        self._hashed = self._text[:HASH_BYTES]
        # 5 is prime to a power of two, so the walk visits every word once before it returns
        self._next = (_counting(MEMORY_WORDS, 5, MEMORY_WORDS) + 12345) % MEMORY_WORDS
        self._blocks: tuple[tuple[str, Callable[[], bytes]], ...] = (
            ("vector", self._vector),
            ("integer", self._integer),
            ("compression", self._compression),
            ("memory", self._memory),
        )

    def blocks(self) -> tuple[tuple[str, Callable[[], bytes]], ...]:
        """Return the blocks by name, in the order of a round."""
        return self._blocks

    def task(self) -> bytes:
        """Return the result of a short task, as light use asks for: a thread of numbers, a little packing."""
        return self._digits(40_000) + zlib.decompress(zlib.compress(self._hashed, 6))[-32:]

    def frame(self) -> bytes:
        """Return the result of one processor's part of a frame: mostly vectors, some numbers."""
        return self._product(3) + self._digits(1_500)

    def _vector(self) -> bytes:
        return self._product(14)

    def _product(self, rounds: int) -> bytes:
        product = self._left
        for _ in range(rounds):
            product = product @ self._right
            # Reduced by hand: whole numbers below 2^53 stay exact in floating point, so every processor gets the same
            # bits.
            product -= 509.0 * np.floor(product / 509.0)
        return _folded(product)

    def _integer(self) -> bytes:
        return self._digits(44_000)

    def _digits(self, count: int) -> bytes:
        value = 0x9E3779B97F4A7C15
        seen = bytearray()
        for _ in range(count):
            value ^= (value << 13) & 0xFFFFFFFFFFFFFFFF
            value ^= value >> 7
            value ^= (value << 17) & 0xFFFFFFFFFFFFFFFF
            seen.append(value & 0xFF)
        digest = hashlib.sha256(seen)
        for _ in range(60):
            digest.update(self._hashed)
        return digest.digest()

    def _compression(self) -> bytes:
        digest = hashlib.sha256()
        # Different parts of the text each time, or the caches would hold it all.
        for i in range(36):
            start = i * 2311 % (TEXT_BYTES - TEXT_BYTES // 6)
            part = self._text[start : start + TEXT_BYTES // 6]
            digest.update(lzma.decompress(lzma.compress(part, preset=0)))
            digest.update(zlib.decompress(zlib.compress(part, 9)))
        return digest.digest()

    def _memory(self) -> bytes:
        place = np.arange(0, MEMORY_WORDS, 8, dtype=np.int64)
        for _ in range(11):
            place = self._next[place]
        copy = self._next.copy()
        copy ^= 0x55AA
        place *= 2 * np.arange(place.size, dtype=np.int64) + 1  # so that the order of the walk counts too
        return _folded(place) + int(copy.sum()).to_bytes(8, "little")


def _folded(values: NDArray[np.generic]) -> bytes:
    """Return all 64-bit words of an array folded into 64 by exclusive or: any wrong bit shows."""
    return bytes(np.bitwise_xor.reduce(values.view(np.uint64).reshape(-1, 64), axis=0))


def digest_of(result: bytes) -> str:
    """Return the digest that ``KNOWN`` holds."""
    return hashlib.sha256(result).hexdigest()
