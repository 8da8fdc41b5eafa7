"""A renderer without a window: OpenGL 4.3 by EGL, on a chosen graphics chip or in software.

Which of EGL's devices belongs to which chip is told by the name of its device file
(``EGL_EXT_device_enumeration``, ``EGL_EXT_device_drm``).
"""

import ctypes
import ctypes.util
from pathlib import Path
from typing import Any

import moderngl
import numpy as np

from upright_bolt.errors import BoltError
from upright_bolt.kernel import paths
from upright_bolt.workload import scene

SOFTWARE = ("llvmpipe", "softpipe", "swrast")
"""Names that software renderers give themselves."""
DRM_DEVICE_FILE = 0x3233
MOST_DEVICES = 16
VERSION = 430
HELD = 3
"""Frames that are under way at a time: what a frame came to is read while the next ones are being rendered."""


class NoRendererError(BoltError):
    """Nothing here renders."""


def device_index(place: str) -> int:
    """Return the number of EGL's device for the chip at ``place``; for none, of the one that is no chip.

    Raises:
        NoRendererError: EGL offers no such device.
    """
    files = _device_files()
    if not place:
        return next((index for index, file in enumerate(files) if not file), 0)
    cards = {path.name for path in Path(f"{paths.PCI_DEVICES}/{place}/drm").glob("card*")}
    for index, file in enumerate(files):
        if Path(file).name in cards:
            return index
    raise NoRendererError(
        f"No renderer is offered for the chip at {place}: its Mesa or vendor driver is not installed."
    )


def _device_files() -> list[str]:
    """Return the device file of each of EGL's devices; empty for one without."""
    name = ctypes.util.find_library("EGL")
    if name is None:
        raise NoRendererError("There is no EGL library (libegl1) here, so nothing can be rendered without a window.")
    egl = ctypes.CDLL(name)
    egl.eglGetProcAddress.restype = ctypes.c_void_p
    egl.eglGetProcAddress.argtypes = [ctypes.c_char_p]
    query, text = (egl.eglGetProcAddress(word) for word in (b"eglQueryDevicesEXT", b"eglQueryDeviceStringEXT"))
    if not query or not text:
        return []
    pointer = ctypes.c_void_p
    query_devices = ctypes.CFUNCTYPE(ctypes.c_uint, ctypes.c_int, ctypes.POINTER(pointer), ctypes.POINTER(ctypes.c_int))
    query_text = ctypes.CFUNCTYPE(ctypes.c_char_p, pointer, ctypes.c_int)
    devices, count = (pointer * MOST_DEVICES)(), ctypes.c_int(0)
    if not query_devices(query)(MOST_DEVICES, devices, ctypes.byref(count)):
        return []
    tell = query_text(text)
    return [(tell(devices[i], DRM_DEVICE_FILE) or b"").decode(errors="replace") for i in range(count.value)]


class Renderer:
    """Renders frames and hands back what they were folded into.

    Args:
        place: of the chip on the bus; empty for the software renderer.
        size: of a frame; None for the one that fits what renders.

    Attributes:
        name: what the renderer calls itself.
        software: whether it computes on the processor.
        size: of a frame.

    Raises:
        NoRendererError: there is none, or not for this chip.
    """

    def __init__(self, place: str, size: scene.Size | None = None) -> None:
        settings: dict[str, Any] = {"backend": "egl", "device_index": device_index(place)}
        try:
            made = moderngl.create_context(standalone=True, require=VERSION, **settings)
        except Exception as fault:  # the library raises bare exceptions
            raise NoRendererError(f"OpenGL 4.3 cannot be had here: {fault}.") from fault
        self._gl: Any = made
        self.name = str(made.info["GL_RENDERER"])
        self.software = any(word in self.name.lower() for word in SOFTWARE)
        # Mesa falls back to the software renderer without a word; its frames would be counted as the GPU's.
        if place and self.software:
            raise NoRendererError(f"For the chip at {place} there is only the software renderer ({self.name}).")
        self.size = size or (scene.SOFTWARE if self.software else scene.CHIP)
        self._slice = self.size.memory_words // scene.SLICES
        self._prepare()

    def _prepare(self) -> None:
        gl = self._gl
        self._draw = gl.program(vertex_shader=scene.VERTICES, fragment_shader=scene.PIXELS)
        self._compute, self._fold, self._join, self._check = (
            gl.compute_shader(text) for text in (scene.COMPUTATION, scene.FOLDING, scene.JOINING, scene.MEMORY)
        )
        side, squared = self.size.blocks * scene.SIDE, self.size.blocks**2
        self._pattern = gl.texture((scene.SIDE, scene.SIDE), 1, scene.pattern().tobytes(), dtype="u4")
        self._picture = gl.texture((side, side), 1, dtype="u4")
        for texture, unit in ((self._pattern, 0), (self._picture, 1)):
            texture.filter = (gl.NEAREST, gl.NEAREST)
            texture.use(unit)
        self._target = gl.framebuffer([self._picture])
        self._vertices = gl.vertex_array(self._draw, [])
        self._strips = scene.STRIPS * squared
        self._parts = gl.buffer(reserve=2 * 2 * 4 * self._strips)
        marks = np.arange(self.size.memory_words, dtype=np.uint32) * np.uint32(0x9E3779B1)
        self._memory = gl.buffer(marks.tobytes())
        self._held = [0] * scene.SLICES
        self._folded = scene.FOLDED * squared
        words = self.size.passes * self._folded + 1
        self._results = [gl.buffer(reserve=4 * words) for _ in range(HELD)]
        self._parts.bind_to_storage_buffer(1)
        self._memory.bind_to_storage_buffer(3)
        self._picture.bind_to_image(1, read=True, write=False)
        self._fold["blocks"], self._compute["strips"] = self.size.blocks, self._strips
        self._check["apart"] = self._slice // scene.EACH_CHECKS

    def begin(self, number: int, seed: int, rounds: int, *, checked: bool = True) -> None:
        """Ask for frame ``number``; of one that is not ``checked`` a corner alone is folded.

        A renderer leaves out what nobody asks for: a frame of which nothing is read would cost nothing.
        """
        gl, result = self._gl, self._results[number % HELD]
        # Results are folded into it by exclusive or and sum, so it has to begin with nothing.
        result.clear()
        result.bind_to_storage_buffer(2)
        self._target.use()
        for program in (self._draw, self._compute):
            program["seed"], program["rounds"] = seed, rounds
        for each in range(self.size.passes):
            # 256 cells of two triangles: enough for the rasteriser to have work, few enough for pixels to be most of
            # it.
            self._vertices.render(gl.TRIANGLES, 6 * 256)
            self._compute.run(self._strips // scene.GROUP)
            # Shaders of the next dispatch see what this one has written only after a barrier (OpenGL 4.3, 7.12.2).
            gl.memory_barrier()
            if checked:
                self._fold_pass(each * self._folded, self._strips // scene.GROUP)
        if checked:
            self._remember(number)
        else:
            self._fold_pass(0, 1)

    def _fold_pass(self, offset: int, groups: int) -> None:
        """Fold so many groups of strips of the picture, and as many of the numbers, into a frame's result."""
        self._fold.run(groups)
        self._gl.memory_barrier()
        self._join["offset"] = offset
        self._join.run(max(1, 2 * groups // scene.TILE))
        self._gl.memory_barrier()

    def _remember(self, number: int) -> None:
        """Check a slice of memory for what it was filled with, and fill it anew."""
        part = number % scene.SLICES
        following = (number * 0x85EBCA77 + 1) & 0xFFFFFFFF
        check = self._check
        check["first"], check["held"], check["next"] = part * self._slice, self._held[part], following
        check["wrong"] = self.size.passes * self._folded
        check.run(self._slice // scene.EACH_CHECKS // scene.GROUP)
        self._held[part] = following
        self._gl.memory_barrier()

    def result(self, number: int) -> tuple["scene.Words", int]:
        """Return what a frame was folded into, shape (passes, 2, blocks, 2 × TILES), and its wrong words of memory.

        It waits until the frame is done. Of the last ``HELD`` frames alone there is a result.
        """
        words = np.frombuffer(self._results[number % HELD].read(), dtype=np.uint32)
        return words[:-1].reshape(self.size.passes, 2, self.size.blocks**2, 2 * scene.TILES), int(words[-1])

    def spoil(self, x: int, y: int) -> None:
        """Flip one bit of the pattern at a pixel: what is drawn from it is wrong from now on, until it is mended."""
        self._pattern.write((scene.pattern()[y, x] ^ np.uint32(1)).tobytes(), viewport=(x, y, 1, 1))

    def mend(self) -> None:
        """Put the pattern right."""
        self._pattern.write(scene.pattern().tobytes())

    def lost(self) -> bool:
        """Tell whether the driver has reset the chip, so that this context is lost."""
        return bool(self._gl.error == "GL_CONTEXT_LOST")
