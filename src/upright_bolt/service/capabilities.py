"""Giving up a capability of this process for good. Python has no wrapper of the call, so it goes through the C library.

The manual's pages: capabilities(7), capset(2), prctl(2).
"""

import ctypes

CAP_SYS_ADMIN = 21
VERSION = 0x20080522
PR_CAPBSET_DROP = 24


class _Header(ctypes.Structure):
    _fields_ = (("version", ctypes.c_uint32), ("pid", ctypes.c_int))


class _Data(ctypes.Structure):
    _fields_ = (("effective", ctypes.c_uint32), ("permitted", ctypes.c_uint32), ("inheritable", ctypes.c_uint32))


def drop(capability: int) -> bool:
    """Give up a capability; tell whether this process is without it now."""
    library = ctypes.CDLL(None, use_errno=True)
    library.prctl(PR_CAPBSET_DROP, capability, 0, 0, 0)
    header, data = _Header(VERSION, 0), (_Data * 2)()
    if library.capget(ctypes.byref(header), data) != 0:
        return False
    word, mask = data[capability // 32], ~(1 << capability % 32) & 0xFFFFFFFF
    word.effective &= mask
    word.permitted &= mask
    word.inheritable &= mask
    return bool(library.capset(ctypes.byref(header), data) == 0)
