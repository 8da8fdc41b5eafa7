"""The pictures of a report, as SVG: drawn without a screen, words kept as words."""

from collections.abc import Mapping, Sequence
from io import StringIO
from itertools import pairwise
from typing import Any

import matplotlib as mpl
import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from numpy.typing import NDArray

from upright_bolt.analysis.comparison.compare import Compared
from upright_bolt.analysis.phases import at_most
from upright_bolt.model.constraint import ORDER, Constraint
from upright_bolt.model.run import LETTERS, RunRecord
from upright_bolt.session.numbers import HELD_BY

Floats = NDArray[np.float64]
Telemetry = tuple[Floats, Mapping[str, Floats]]

INK, MUTED, LINE, SHEET = "#24302f", "#6b736c", "#d8d0bd", "#fffdf7"
RUNS = (INK, "#1f6f8b", "#b0741c", "#6d4f9a", "#3d7a52", "#b5483c")
STYLES = ("-", "-", "--", ":", "-.", "-")
CURVES = (("clock.mean", 1e-3, "Clock, GHz"), ("power.package", 1.0, "Power, W"),
          ("temperature.package", 1.0, "Temperature, °C"))  # fmt: skip
FILLS = {
    Constraint.SUSTAINED: ("#b0741c", ""), Constraint.BURST: ("#d9b57c", "//"), Constraint.HEAT: ("#b5483c", ""),
    Constraint.CURRENT: ("#8a6d3b", "xx"), Constraint.HOT_SIGNAL: ("#d48a80", "//"),
    Constraint.TURBO_TABLE: ("#1f6f8b", ""), Constraint.CLOCK_CAP: ("#8bb8c6", "//"),
    Constraint.PEAK: ("#b0741c", "--"), Constraint.BOARD: ("#d9b57c", "||"),
    Constraint.POWER: ("#b0741c", "\\\\"), Constraint.VOLTAGE: ("#6d4f9a", ""),
    Constraint.NO_WORK: (LINE, ""), Constraint.UNKNOWN: (SHEET, ".."),
}  # fmt: skip
MOST_POINTS = 1200
LOOKS: Any = {"svg.fonttype": "none", "svg.hashsalt": "upright-bolt", "font.family": "sans-serif", "font.size": 9.0,
         "axes.edgecolor": LINE, "axes.labelcolor": INK, "xtick.color": MUTED, "ytick.color": MUTED,
         "text.color": INK, "axes.facecolor": SHEET, "figure.facecolor": SHEET, "hatch.linewidth": 0.6,
         "text.parse_math": False}  # fmt: skip


def overlay(runs: Sequence[RunRecord], telemetry: Sequence[Telemetry]) -> str:
    """Return clock, power, temperature and what held each run back, over time from load start."""
    with mpl.rc_context(LOOKS):
        figure = Figure(figsize=(10.0, 6.6 + 0.22 * len(runs)), layout="constrained")
        heights = (1.0, 1.0, 1.0, 0.16 + 0.16 * len(runs))
        rows = figure.subplots(4, 1, sharex=True, gridspec_kw={"height_ratios": heights})
        for axes, (name, scale, title) in zip(rows[:3], CURVES, strict=True):
            _curve(axes, runs, telemetry, name, scale)
            axes.set_ylabel(title)
        _bands(rows[3], telemetry)
        rows[3].set_xlabel("Seconds from load start")
        end = max((run.end.duration_s for run in runs), default=60.0)
        rows[3].set_xlim(-0.01 * end, 1.03 * end)
        return _svg(figure)


def _under_load(telemetry: Telemetry) -> Telemetry:
    """Leave out what was watched before the load, but for the last second."""
    time_s, columns = telemetry
    shown = time_s >= -1.0
    return time_s[shown], {name: column[shown] for name, column in columns.items()}


def _curve(axes: Axes, runs: Sequence[RunRecord], telemetry: Sequence[Telemetry], name: str, scale: float) -> None:
    drawn = False
    for i, (run, (time_s, columns)) in enumerate(zip(runs, map(_under_load, telemetry), strict=True)):
        column = columns.get(name)
        if column is None or not time_s.size or np.isnan(column).all():
            continue
        step = max(1, time_s.size // MOST_POINTS)
        drawn = True
        words = f"{LETTERS[i]}  {run.name}" if name == CURVES[0][0] else None
        axes.plot(time_s[::step], column[::step] * scale, STYLES[i], color=RUNS[i], linewidth=1.2, label=words)
    axes.grid(color=LINE, linewidth=0.5)
    axes.spines[["top", "right"]].set_visible(False)
    if not drawn:
        axes.text(0.5, 0.5, "Not measured in these runs", transform=axes.transAxes, ha="center", color=MUTED)
        axes.set_yticks([])
    elif name == CURVES[0][0]:
        axes.legend(frameon=False, loc="lower right", ncols=2)


def _bands(axes: Axes, telemetry: Sequence[Telemetry]) -> None:
    seen: dict[Constraint, None] = {}
    for i, (times, columns) in enumerate(map(_under_load, telemetry)):
        if HELD_BY not in columns or times.size < 2:
            continue
        time_s, held = at_most(MOST_POINTS, times, columns[HELD_BY])
        cuts = [0, *(np.flatnonzero(np.diff(held)) + 1), time_s.size - 1]
        for a, b in pairwise(cuts):
            constraint = ORDER[int(held[a])]
            colour, hatch = FILLS[constraint]
            seen[constraint] = None
            span = (float(time_s[a]), float(time_s[b] - time_s[a]))
            axes.broken_barh([span], (-i - 0.4, 0.8), facecolors=colour, hatch=hatch, edgecolor=MUTED, linewidth=0.0)
    axes.set_yticks([-i for i in range(len(telemetry))], [LETTERS[i] for i in range(len(telemetry))])
    axes.set_ylim(-len(telemetry) + 0.4, 0.6)
    axes.spines[["top", "right", "left"]].set_visible(False)
    axes.tick_params(left=False)
    handles = [
        mpl.patches.Patch(facecolor=FILLS[c][0], hatch=FILLS[c][1], edgecolor=MUTED, linewidth=0.3, label=c.value)
        for c in seen
    ]
    if handles:
        axes.legend(handles=handles, frameon=False, ncols=5, loc="upper left", bbox_to_anchor=(0.0, -0.55 / 1.0))


def watts(rows: Sequence[Compared]) -> str:
    """Return settled score over settled watts, a dot per run without errors; empty if fewer than two have both."""
    known = [
        (i, power, score)
        for i, row in enumerate(rows)
        if not row.run.broke
        and (power := row.values["power_sustained_w"]) is not None
        and (score := row.values["score_settled"]) is not None
    ]
    if len(known) < 2:
        return ""
    with mpl.rc_context(LOOKS):
        figure = Figure(figsize=(10.0, 3.4), layout="constrained")
        axes = figure.subplots()
        for i, power, score in known:
            axes.plot([power], [score], "o", color=RUNS[i])
            axes.annotate(LETTERS[i], (power, score), xytext=(6, 4), textcoords="offset points")
        axes.set_xlabel("Settled power, W")
        axes.set_ylabel("Settled score")
        axes.set_ylim(bottom=0)
        axes.margins(0.12)
        axes.grid(color=LINE, linewidth=0.5)
        axes.spines[["top", "right"]].set_visible(False)
        return _svg(figure)


def _svg(figure: Figure) -> str:
    out = StringIO()
    figure.savefig(out, format="svg", metadata={"Date": None, "Creator": None, "Format": None, "Type": None})
    text = out.getvalue()
    return text[text.index("<svg") :]
