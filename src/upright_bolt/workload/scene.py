"""What a frame of the workload ``graphics`` is, and what it has to come to: the same whole numbers on every chip.

A frame is a number of passes, each a picture and a computation, and one slice of memory that is checked and filled
anew. The picture is drawn as 512 triangles whose corners lie on borders of pixels, so that every chip covers the same
pixels; its shader works with whole numbers of 32 bits alone, which every chip has to compute alike (OpenGL 4.3,
"Integer arithmetic"), and so does the computation. What comes out of both is folded on the chip, a tile of 32 by 32
pixels or 1024 numbers at a time, into an exclusive or and a sum; those are compared with what NumPy makes of the same
rules. Folding goes in two steps, strips of 32 first: no step waits for its neighbours, which a software renderer
does slowly.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

SIDE = 256
"""Pixels along each side of the picture."""
TILE = 32
TILES = (SIDE // TILE) ** 2
NUMBERS = 1024 * TILES
"""Numbers of the computation: a tile of 1024 for each of the picture's."""
SEEDS = 8
"""Frames go round through so many different ones, so that a frame left standing shows."""
STRIPS = TILE * TILES
"""Columns of 32 pixels in the tiles of a picture."""
FOLDED = 4 * TILES
"""What a block of a pass is folded into: exclusive or and sum of each tile of its picture, then of its numbers."""


@dataclass(frozen=True, slots=True)
class Size:
    """How much a frame is, by what renders it: a chip does in a moment what takes a processor long.

    Attributes:
        blocks: along each side: so many times the picture of ``SIDE`` pixels, and their square the numbers.
        passes: of a frame.
        light, heavy: steps of arithmetic for each pixel and number, by weight.
        memory_words: that are checked and filled, a sixteenth with each frame.
    """

    blocks: int
    passes: int
    light: int
    heavy: int
    memory_words: int

    def rounds(self, weight: str) -> int:
        """Return the steps of a weight."""
        return self.light if weight == "light" else self.heavy


GROUP = 64
"""Invocations of a shader that run together: a multiple of what the drivers' hardware runs at a time (32 or 64)."""
EACH_CHECKS = 16
"""Words of memory that one invocation checks and fills."""
SLICES = 16
"""Parts of the memory, one of which is checked and filled with each frame."""
SOFTWARE = Size(blocks=1, passes=1, light=8, heavy=48, memory_words=1 << 18)
CHIP = Size(blocks=4, passes=6, light=64, heavy=384, memory_words=1 << 24)

_STEP = """
uint stepped(uint x) { x ^= x << 13; x ^= x >> 17; x ^= x << 5; return x * 1664525u + 1013904223u; }
"""
VERTICES = """
#version 430
void main() {
    int cell = gl_VertexID / 6, corner = gl_VertexID % 6;
    ivec2 at = ivec2(cell % 16, cell / 16) + ivec2(int(corner == 1 || corner == 2 || corner == 4),
                                                   int(corner == 2 || corner == 4 || corner == 5));
    gl_Position = vec4(vec2(at) / 8.0 - 1.0, 0.0, 1.0);
}
"""
PIXELS = (
    """
#version 430
layout(location = 0) out uint pixel;
layout(binding = 0) uniform usampler2D pattern;
uniform uint seed;
uniform int rounds;
"""
    + _STEP
    + """
void main() {
    uvec2 at = uvec2(gl_FragCoord.xy) & 255u;
    uint x = texelFetch(pattern, ivec2((at.x * 7u + seed) & 255u, (at.y * 3u + seed * 5u) & 255u), 0).r;
    x ^= at.x * 0x9E3779B1u + at.y * 0x85EBCA77u + seed * 0xC2B2AE3Du;
    for (int i = 0; i < rounds; i++) x = stepped(x);
    pixel = x;
}
"""
)
_GROUP = f"\nlayout(local_size_x = {GROUP}) in;\n"
_PARTS = f"""{_GROUP}layout(std430, binding = 1) buffer Parts {{ uint parts[]; }};
"""
COMPUTATION = (
    "#version 430"
    + _PARTS
    + "uniform uint seed;\nuniform int rounds;\nuniform uint strips;\n"
    + _STEP
    + """
void main() {
    uint strip = gl_GlobalInvocationID.x, first = (strip / 32u) * 1024u + strip % 32u, ors = 0u, sum = 0u;
    for (uint k = 0u; k < 1024u; k += 32u) {
        uint x = (((first + k) & 65535u) + 1u) * 0x27D4EB2Fu ^ seed * 0x165667B1u;
        for (int i = 0; i < rounds; i++) x = stepped(x);
        ors ^= x;
        sum += x;
    }
    uint at = 2u * (strips + strip);
    parts[at] = ors;
    parts[at + 1u] = sum;
}
"""
)
FOLDING = (
    "#version 430"
    + _PARTS
    + """
layout(binding = 1, r32ui) readonly uniform uimage2D picture;
uniform uint blocks;
void main() {
    uint strip = gl_GlobalInvocationID.x, tile = strip / 32u, block = tile / 64u, within = tile % 64u;
    uvec2 at = uvec2(block % blocks, block / blocks) * 256u + uvec2(within % 8u, within / 8u) * 32u;
    uint ors = 0u, sum = 0u;
    for (uint k = 0u; k < 32u; k++) {
        uint pixel = imageLoad(picture, ivec2(at + uvec2(strip % 32u, k))).r;
        ors ^= pixel;
        sum += pixel;
    }
    parts[2u * strip] = ors;
    parts[2u * strip + 1u] = sum;
}
"""
)
JOINING = (
    "#version 430"
    + _PARTS
    + """
layout(std430, binding = 2) buffer Folded { uint folded[]; };
uniform uint offset;
void main() {
    uint tile = gl_GlobalInvocationID.x, ors = 0u, sum = 0u;
    for (uint k = 64u * tile; k < 64u * tile + 64u; k += 2u) {
        ors ^= parts[k];
        sum += parts[k + 1u];
    }
    folded[offset + 2u * tile] = ors;
    folded[offset + 2u * tile + 1u] = sum;
}
"""
)
MEMORY = (
    "#version 430"
    + _GROUP
    + f"const uint EACH_CHECKS = {EACH_CHECKS}u;\n"
    + """layout(std430, binding = 2) buffer Folded { uint folded[]; };
layout(std430, binding = 3) buffer Memory { uint memory[]; };
uniform uint first;
uniform uint apart;
uniform uint held;
uniform uint next;
uniform uint wrong;
void main() {
    uint found = 0u;
    for (uint k = 0u; k < EACH_CHECKS; k++) {
        uint i = first + k * apart + gl_GlobalInvocationID.x, mark = i * 0x9E3779B1u;
        found += uint(memory[i] != (mark ^ held));
        memory[i] = mark ^ next;
    }
    if (found != 0u) atomicAdd(folded[wrong], found);
}
"""
)

Words = NDArray[np.uint32]


def pattern() -> Words:
    """Return the picture's pattern, shape (SIDE, SIDE)."""
    with np.errstate(over="ignore"):
        numbers = np.arange(SIDE * SIDE, dtype=np.uint32) * np.uint32(0x6C8E9CF5) + np.uint32(12345)
    return (numbers ^ (numbers >> np.uint32(15))).reshape(SIDE, SIDE)


def _stepped(x: Words, rounds: int) -> Words:
    for _ in range(rounds):
        x ^= x << np.uint32(13)
        x ^= x >> np.uint32(17)
        x ^= x << np.uint32(5)
        x *= np.uint32(1664525)
        x += np.uint32(1013904223)
    return x


def picture(seed: int, rounds: int) -> Words:
    """Return the picture that a pass has to draw, shape (SIDE, SIDE), rows from the bottom."""
    y, x = np.indices((SIDE, SIDE), dtype=np.uint32)
    s = np.uint32(seed)
    with np.errstate(over="ignore"):
        found = pattern()[
            (y * np.uint32(3) + s * np.uint32(5)) & np.uint32(255), (x * np.uint32(7) + s) & np.uint32(255)
        ]
        found ^= x * np.uint32(0x9E3779B1) + y * np.uint32(0x85EBCA77) + s * np.uint32(0xC2B2AE3D)
        return _stepped(found, rounds)


def numbers(seed: int, rounds: int) -> Words:
    """Return the numbers that a pass has to compute, shape (NUMBERS,)."""
    with np.errstate(over="ignore"):
        found = np.arange(1, NUMBERS + 1, dtype=np.uint32) * np.uint32(0x27D4EB2F)
        found ^= np.uint32(seed) * np.uint32(0x165667B1)
        return _stepped(found, rounds)


def folded(seed: int, rounds: int) -> Words:
    """Return what every block of a pass has to be folded into, shape (2, 2 × TILES): its picture, and its numbers."""
    across = SIDE // TILE
    tiles = picture(seed, rounds).reshape(across, TILE, across, TILE).swapaxes(1, 2).reshape(TILES, TILE * TILE)
    rows = np.concatenate([tiles, numbers(seed, rounds).reshape(TILES, TILE * TILE)])
    both: Any = np.stack([np.bitwise_xor.reduce(rows, axis=1), rows.sum(axis=1, dtype=np.uint32)], axis=1)
    shaped: Words = both.astype(np.uint32).reshape(2, 2 * TILES)
    return shaped


def wrong_places(found: Words, known: Words) -> list[str]:
    """Return which parts of a frame are not as known, in words; empty if all is right.

    Args:
        found: what the frame was folded into, shape (passes, 2, blocks, 2 × TILES).
        known: what each block has to come to, shape (2, 2 × TILES).
    """
    wrong = (found != known[None, :, None, :]).reshape(*found.shape[:3], TILES, 2).any(axis=-1)
    return [
        f"{'picture' if part == 0 else 'numbers'} {block * TILES + tile + 1}"
        for _, part, block, tile in np.argwhere(wrong)
    ]
