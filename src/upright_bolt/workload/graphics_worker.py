"""The worker of ``graphics``: ``python -m upright_bolt.workload.graphics_worker PLACE WEIGHT RATE PLANT CHECKED``.

It renders on the chip at PLACE (empty: in software), as fast as it goes or RATE frames a second, and compares what each
frame came to with what NumPy has computed before. It prints ``renderer NAME``, a line ``warming …`` for each thing it
gets ready, ``ready``, and waits for a line with the moment of the load start. Then a line per frame::

    b WEIGHT START END OK [PLACE …]

with times of the system's monotonic clock in s. OK is 1 or 0; of a wrong one the places follow, with ``_`` for blanks.
``p frame END CAUGHT`` tells whether the checker noticed one planted wrong bit; frame number PLANT is drawn from a
pattern with one wrong bit (−1: none). ``lost`` is the last line if the driver has reset the chip.
"""

import itertools
import os
import sys
import time
from collections.abc import Iterator

import numpy as np

from upright_bolt.workload import scene
from upright_bolt.workload.plan import graphics_stage_at
from upright_bolt.workload.renderer import NoRendererError, Renderer
from upright_bolt.workload.worker import parent_gone, sleep_until

PROVED_AT = 0
AHEAD = 2
"""So many frames are asked for before the first of them is waited for."""
LOOKS_EVERY = 64
"""After so many frames it is asked whether the driver has reset the chip."""
MOST_PLACES = 4


def say(*words: object) -> None:
    """Print a line at once."""
    sys.stdout.write(" ".join(map(str, words)) + "\n")
    sys.stdout.flush()


class Frames:
    """Renders and checks frames for ever.

    Args:
        renderer: where.
        known: what the frames of each weight have to come to, by seed.
        inject_fault_at: number of the frame that is drawn wrong; −1 for none.
        checked: whether they are checked.
    """

    def __init__(
        self, renderer: Renderer, known: dict[str, list[scene.Words]], inject_fault_at: int, *, checked: bool
    ) -> None:
        self._renderer = renderer
        self._known = known
        self._inject_fault_at = inject_fault_at
        self._checked = checked
        self._under_way: list[tuple[int, str, float]] = []

    def render(self, number: int, weight: str) -> None:
        """Ask for a frame, and tell of the one that is due."""
        renderer = self._renderer
        if number == self._inject_fault_at:
            renderer.spoil(7, 9)
        begun = time.monotonic()
        renderer.begin(number, number % scene.SEEDS, renderer.size.rounds(weight), checked=self._checked)
        if number == self._inject_fault_at:
            renderer.mend()
        self._under_way.append((number, weight, begun))
        # The GPU is kept busy with the next frames while this one is read back; a wait after each would starve it.
        if len(self._under_way) > AHEAD:
            self._tell()

    def finish(self) -> None:
        """Wait for the frames that are under way."""
        while self._under_way:
            self._tell()

    def _tell(self) -> None:
        number, weight, begun = self._under_way.pop(0)
        found, forgotten = self._renderer.result(number)
        known = self._known[weight][number % scene.SEEDS]
        wrong = scene.wrong_places(found, known) if self._checked else []
        if forgotten and self._checked:
            wrong.append(f"{forgotten} words of memory")
        places = [place.replace(" ", "_") for place in wrong[:MOST_PLACES]]
        say("b", weight, f"{begun:.6f}", f"{time.monotonic():.6f}", int(not wrong), *places)
        if number == PROVED_AT:
            # The checker is shown a frame with one wrong bit: it has to notice it on this machine, at this moment.
            spoilt = found.copy()
            spoilt.flat[0] ^= np.uint32(1)
            say("p", "frame", f"{time.monotonic():.6f}", int(bool(scene.wrong_places(spoilt, known))))


def weights(weight: str, start_s: float) -> Iterator[str]:
    """Yield the weight of each frame: always the same, or by the stages of ``steps``, with their rests."""
    while True:
        if weight != "steps":
            yield weight
            continue
        now, left_s = graphics_stage_at(time.monotonic() - start_s)
        if now:
            yield now
        else:
            time.sleep(left_s)


def work(place: str, weight: str, rate_fps: float, inject_fault_at: int, *, checked: bool) -> None:
    """Render for ever."""
    say("warming", "renderer")
    renderer = Renderer(place)
    say("renderer", renderer.name.replace(" ", "_"))
    known: dict[str, list[scene.Words]] = {}
    for name in ("light", "heavy") if weight == "steps" else (weight,):
        known[name] = []
        for seed in range(scene.SEEDS):
            known[name].append(scene.folded(seed, renderer.size.rounds(name)))
            say("warming", name)
    frames = Frames(renderer, known, inject_fault_at, checked=checked)
    say("ready")
    begin = sys.stdin.readline()
    if not begin:
        return
    due = start_s = float(begin)
    for number, now in zip(itertools.count(), weights(weight, start_s), strict=False):
        frames.render(number, now)
        if number % LOOKS_EVERY == 0:
            if parent_gone():
                return
            if renderer.lost():
                say("lost")
                return
        if rate_fps:
            frames.finish()
            due = max(due + 1.0 / rate_fps, time.monotonic())
            sleep_until(due)


if __name__ == "__main__":
    try:
        work(sys.argv[1], sys.argv[2], float(sys.argv[3]), int(sys.argv[4]), checked=sys.argv[5] == "1")
    except NoRendererError as fault:
        sys.stderr.write(f"{fault}\n")
        os._exit(1)
    except (BrokenPipeError, KeyboardInterrupt):
        os._exit(0)  # the parent is gone or ends us; there is nobody to tell and nothing to flush
