"""What a person feels of a machine's speed: latencies of short tasks, and frame times. Numbers only."""

from collections.abc import Sequence

import numpy as np

LATE_MS = 1.0
"""A frame that comes this much after its beat is late: timers wake a sleeper within some tenths of a millisecond."""


def latencies(waits_s: Sequence[float]) -> dict[str, float]:
    """Return ``latency_median_ms``, ``latency_p95_ms`` and ``latency_p99_ms``; empty without tasks.

    Args:
        waits_s: for each task, from the moment it was due to its end; so waking up counts.
    """
    if not len(waits_s):
        return {}
    median, p95, p99 = np.percentile(np.asarray(waits_s) * 1000.0, (50.0, 95.0, 99.0))
    return {"latency_median_ms": float(median), "latency_p95_ms": float(p95), "latency_p99_ms": float(p99)}


def frame_numbers(frame_s: Sequence[float], rate_fps: float | None = None) -> dict[str, float]:
    """Return ``rate_fps``, ``low_1_fps``, ``low_01_fps`` and, with a pace, ``late_share`` in %; empty without frames.

    The average rate is frames over their whole time, not the mean of each frame's rate, which would count quick frames
    for more time than they took. The 1 % low is the average rate over the slowest hundredth of the frames (at least
    one frame), that is their number over their time; the 0.1 % low the same of the slowest thousandth.

    Args:
        frame_s: time from one finished frame to the next.
        rate_fps: the pace; None if there was none.
    """
    times = np.sort(np.asarray(frame_s, dtype=float))[::-1]
    if not times.size or times.sum() <= 0:
        return {}
    found = {
        "rate_fps": float(times.size / times.sum()),
        "low_1_fps": _rate_of_slowest(times, 0.01),
        "low_01_fps": _rate_of_slowest(times, 0.001),
    }
    if rate_fps is not None:
        late = times > 1.0 / rate_fps + LATE_MS / 1000.0
        found["late_share"] = float(100.0 * late.mean())
    return found


def _rate_of_slowest(falling: "np.ndarray[tuple[int], np.dtype[np.float64]]", part: float) -> float:
    count = max(1, round(falling.size * part))
    return float(count / falling[:count].sum())
