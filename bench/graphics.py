"""What checking every frame costs: frames of this computer's renderer, checked and not, and the comparison's share."""

import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

from bench.measures import Measured, alternating
from upright_bolt.workload import scene
from upright_bolt.workload.renderer import Renderer

FRAMES = 120
ROUNDS = 15
AHEAD = 2


def checked(_folder: Path) -> Measured:
    """Checked frames a second against the same frames rendered and thrown away, in turn, the heavy scene."""
    renderer = Renderer("")
    known = [scene.folded(seed, renderer.size.heavy) for seed in range(scene.SEEDS)]
    with_check, without = alternating(
        partial(_rate, lambda: _checked_frames(renderer, known)), partial(_rate, lambda: _bare_frames(renderer)), ROUNDS
    )
    return with_check / without, f"{with_check:.0f} and {without:.0f} frames/s on {renderer.name}"


def checker_share(_folder: Path) -> Measured:
    """The share of a core that comparing takes, at the rate that the heavy scene reaches here."""
    renderer = Renderer("")
    known = [scene.folded(seed, renderer.size.heavy) for seed in range(scene.SEEDS)]
    rate = _rate(lambda: _checked_frames(renderer, known))
    renderer.begin(0, 0, renderer.size.heavy)
    found, _ = renderer.result(0)
    begun = time.perf_counter()
    for _ in range(FRAMES):
        scene.wrong_places(found, known[0])
    each_s = (time.perf_counter() - begun) / FRAMES
    return 100.0 * each_s * rate, f"{each_s * 1e6:.0f} µs a frame, {rate:.0f} frames/s"


def _rate(frames: Callable[[], None]) -> float:
    begun = time.perf_counter()
    frames()
    return FRAMES / (time.perf_counter() - begun)


def _checked_frames(renderer: Renderer, known: list[scene.Words]) -> None:
    for number in range(FRAMES + AHEAD):
        if number < FRAMES:
            renderer.begin(number, number % scene.SEEDS, renderer.size.heavy)
        if number >= AHEAD:
            found, _ = renderer.result(number - AHEAD)
            scene.wrong_places(found, known[(number - AHEAD) % scene.SEEDS])


def _bare_frames(renderer: Renderer) -> None:
    for number in range(FRAMES + AHEAD):
        if number < FRAMES:
            renderer.begin(number, number % scene.SEEDS, renderer.size.heavy, checked=False)
        if number >= AHEAD:
            renderer.result(number - AHEAD)
