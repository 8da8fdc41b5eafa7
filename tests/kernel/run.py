"""Boots the emulated machines, runs the checks in them, and prints a table of what held."""

import sys
import time
from pathlib import Path

from rig.build import build
from rig.machine import Machine

rig = build(Path("/tmp/rig2"))
t = time.monotonic()
m = Machine(rig, sys.argv[1], tuple(sys.argv[3].split(",")) if len(sys.argv) > 3 else ("laptop",), sys.argv[2] if len(sys.argv) > 2 else "EPYC-Rome", systemd="systemd" in sys.argv)
try:
    for d in m.told(120):
        print(round(time.monotonic() - t, 1), d.get("name", d["what"]), d.get("held"), d.get("s"))
        for k in ("said",):
            if d.get(k): print(d[k])
        for n in d.get("notes", []): print("  ", n)
        if d["what"] == "end": break
finally:
    m.cut()
